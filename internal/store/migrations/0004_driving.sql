-- Version 4: every way to drive a contender, what it asked of a person, wordings.
ALTER TABLE contests ADD COLUMN hourly_rate TEXT NOT NULL DEFAULT '';

ALTER TABLE contest_tasks ADD COLUMN wordings TEXT;
ALTER TABLE contest_tasks ADD COLUMN attachments TEXT;
ALTER TABLE contest_contenders ADD COLUMN guidance TEXT NOT NULL DEFAULT '';

ALTER TABLE bouts ADD COLUMN driver TEXT NOT NULL DEFAULT '';
ALTER TABLE bouts ADD COLUMN wording TEXT NOT NULL DEFAULT '';
ALTER TABLE bouts ADD COLUMN version TEXT NOT NULL DEFAULT '';
ALTER TABLE bouts ADD COLUMN guidance_changed TEXT NOT NULL DEFAULT '';
ALTER TABLE bouts ADD COLUMN protocol TEXT;
ALTER TABLE bouts ADD COLUMN effort TEXT;
ALTER TABLE bouts ADD COLUMN hand TEXT;
UPDATE bouts SET driver = CASE WHEN imported IS NULL OR imported = 'null' THEN 'command' ELSE 'elsewhere' END;

ALTER TABLE rounds ADD COLUMN recording TEXT NOT NULL DEFAULT '';
ALTER TABLE rounds ADD COLUMN protocol TEXT;

CREATE TABLE marks (
    id TEXT PRIMARY KEY,
    bout_id TEXT NOT NULL REFERENCES bouts (id) ON DELETE CASCADE,
    mark TEXT NOT NULL,
    noted_at DATETIME NOT NULL,
    -- The mark that this one stands in the place of; empty for a first one.
    corrects TEXT NOT NULL DEFAULT '',
    -- Why a mark was taken back or corrected.
    reason TEXT NOT NULL DEFAULT '',
    taken_back INTEGER NOT NULL DEFAULT 0,
    -- The change as it stood when the person began to edit, and what the person did.
    before TEXT NOT NULL DEFAULT '',
    before_tree TEXT NOT NULL DEFAULT '',
    step TEXT NOT NULL DEFAULT ''
);
CREATE INDEX marks_bout ON marks (bout_id, id);

CREATE TABLE first_uses (
    id TEXT PRIMARY KEY,
    contest_id TEXT NOT NULL REFERENCES contests (id) ON DELETE CASCADE,
    contender TEXT NOT NULL,
    repository TEXT NOT NULL,
    start_commit TEXT NOT NULL,
    version TEXT NOT NULL,
    elapsed_ms INTEGER NOT NULL,
    exchanges TEXT NOT NULL,
    trouble TEXT NOT NULL,
    log TEXT NOT NULL,
    at DATETIME NOT NULL
);
CREATE INDEX first_uses_contest ON first_uses (contest_id);

CREATE TABLE readinesses (
    id TEXT PRIMARY KEY,
    contender TEXT NOT NULL,
    digest TEXT NOT NULL,
    ok INTEGER NOT NULL,
    version TEXT NOT NULL,
    findings TEXT NOT NULL,
    trial_ms INTEGER,
    at DATETIME NOT NULL
);
CREATE INDEX readinesses_contender ON readinesses (contender, digest, id);
