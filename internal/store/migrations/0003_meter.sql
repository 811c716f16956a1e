-- Version 3: exchanges with model services, timelines, price lists.
ALTER TABLE contests ADD COLUMN prices TEXT NOT NULL DEFAULT '';

ALTER TABLE bouts ADD COLUMN network TEXT NOT NULL DEFAULT '';
ALTER TABLE bouts ADD COLUMN metered INTEGER NOT NULL DEFAULT 0;
ALTER TABLE bouts ADD COLUMN "limit" TEXT NOT NULL DEFAULT '';
ALTER TABLE bouts ADD COLUMN timing TEXT;
ALTER TABLE bouts ADD COLUMN machine TEXT;
ALTER TABLE bouts ADD COLUMN reported TEXT;
ALTER TABLE bouts ADD COLUMN typed TEXT;
ALTER TABLE bouts ADD COLUMN scanned INTEGER NOT NULL DEFAULT 0;
ALTER TABLE bouts ADD COLUMN not_before DATETIME;
UPDATE bouts SET "limit" = 'time-limit' WHERE timed_out = 1;

ALTER TABLE rounds ADD COLUMN "limit" TEXT NOT NULL DEFAULT '';
ALTER TABLE rounds ADD COLUMN limit_detail TEXT NOT NULL DEFAULT '';
ALTER TABLE rounds ADD COLUMN reported TEXT;
UPDATE rounds SET "limit" = 'time-limit' WHERE timed_out = 1;

CREATE TABLE exchanges (
    bout_id TEXT NOT NULL REFERENCES bouts (id) ON DELETE CASCADE,
    number INTEGER NOT NULL,
    round INTEGER NOT NULL,
    began_at DATETIME NOT NULL,
    at_us INTEGER NOT NULL,
    paced_us INTEGER NOT NULL,
    first_us INTEGER,
    until_us INTEGER NOT NULL,
    method TEXT NOT NULL,
    path TEXT NOT NULL,
    status INTEGER NOT NULL,
    bytes_in INTEGER NOT NULL,
    bytes_out INTEGER NOT NULL,
    model_asked TEXT NOT NULL,
    effort_asked TEXT NOT NULL,
    model TEXT NOT NULL,
    effort TEXT NOT NULL,
    shape TEXT NOT NULL,
    fresh INTEGER,
    cached INTEGER,
    written INTEGER,
    output INTEGER,
    reasoning INTEGER,
    wanting INTEGER NOT NULL,
    "partial" INTEGER NOT NULL,
    strange INTEGER NOT NULL,
    refused INTEGER NOT NULL,
    cause TEXT NOT NULL,
    cause_words TEXT NOT NULL,
    retry_after TEXT NOT NULL,
    trouble TEXT NOT NULL,
    request_body TEXT NOT NULL,
    reply_body TEXT NOT NULL,
    bodies_cut INTEGER NOT NULL,
    PRIMARY KEY (bout_id, number)
);

CREATE TABLE timeline_events (
    bout_id TEXT NOT NULL REFERENCES bouts (id) ON DELETE CASCADE,
    seq INTEGER NOT NULL,
    event TEXT NOT NULL,
    PRIMARY KEY (bout_id, seq)
);
