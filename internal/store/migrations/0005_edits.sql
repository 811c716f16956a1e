-- Version 5: what people say of findings of the edit measures.
CREATE TABLE edit_marks (
    bout_id TEXT NOT NULL REFERENCES bouts (id) ON DELETE CASCADE,
    finding TEXT NOT NULL,
    mark TEXT NOT NULL,
    reason TEXT NOT NULL,
    "by" TEXT NOT NULL DEFAULT '',
    at DATETIME NOT NULL,
    PRIMARY KEY (bout_id, finding)
);
