-- Version 4: every way to drive a contender, what it asked of a person, wordings.
ALTER TABLE contests ADD COLUMN hourly_rate TEXT NOT NULL DEFAULT '';

ALTER TABLE contest_tasks ADD COLUMN wordings TEXT;
ALTER TABLE contest_tasks ADD COLUMN attachments TEXT;
ALTER TABLE contest_contenders ADD COLUMN guidance TEXT NOT NULL DEFAULT '';

-- Bouts are told apart by their wording too: a table's constraint is changed by a
-- new table. Foreign keys are off while a version is applied (see store.apply).
CREATE TABLE bouts_new (
    id TEXT PRIMARY KEY,
    contest_id TEXT NOT NULL REFERENCES contests (id) ON DELETE CASCADE,
    position INTEGER NOT NULL,
    task TEXT NOT NULL,
    contender TEXT NOT NULL,
    "repeat" INTEGER NOT NULL,
    rerun INTEGER NOT NULL,
    seed INTEGER NOT NULL,
    state TEXT NOT NULL,
    replaced_by TEXT NOT NULL DEFAULT '',
    doing TEXT NOT NULL DEFAULT '',
    confinement TEXT NOT NULL DEFAULT '',
    confinement_why TEXT NOT NULL DEFAULT '',
    beside INTEGER NOT NULL DEFAULT 0,
    elapsed_ms INTEGER,
    exit_code INTEGER,
    signal TEXT NOT NULL DEFAULT '',
    timed_out INTEGER NOT NULL DEFAULT 0,
    workspace_ms INTEGER,
    home_ms INTEGER,
    home_bytes INTEGER,
    home_layered INTEGER NOT NULL DEFAULT 0,
    capture_ms INTEGER,
    start_tree TEXT NOT NULL DEFAULT '',
    result_tree TEXT NOT NULL DEFAULT '',
    diff TEXT NOT NULL DEFAULT '',
    shown TEXT NOT NULL DEFAULT '',
    log TEXT NOT NULL DEFAULT '',
    log_cut INTEGER NOT NULL DEFAULT 0,
    footprint TEXT,
    left_out TEXT,
    kept TEXT NOT NULL DEFAULT '',
    created_at DATETIME NOT NULL,
    preparing_at DATETIME,
    working_at DATETIME,
    captured_at DATETIME,
    done_at DATETIME,
    imported TEXT,
    rounds_used INTEGER NOT NULL DEFAULT 0,
    network TEXT NOT NULL DEFAULT '',
    metered INTEGER NOT NULL DEFAULT 0,
    "limit" TEXT NOT NULL DEFAULT '',
    timing TEXT,
    machine TEXT,
    reported TEXT,
    typed TEXT,
    scanned INTEGER NOT NULL DEFAULT 0,
    not_before DATETIME,
    driver TEXT NOT NULL DEFAULT '',
    wording TEXT NOT NULL DEFAULT '',
    version TEXT NOT NULL DEFAULT '',
    guidance_changed TEXT NOT NULL DEFAULT '',
    protocol TEXT,
    effort TEXT,
    hand TEXT,
    UNIQUE (contest_id, task, wording, contender, "repeat", rerun)
);
INSERT INTO bouts_new (id, contest_id, position, task, contender, "repeat", rerun, seed, state, replaced_by, doing, confinement, confinement_why, beside, elapsed_ms, exit_code, signal, timed_out, workspace_ms, home_ms, home_bytes, home_layered, capture_ms, start_tree, result_tree, diff, shown, log, log_cut, footprint, left_out, kept, created_at, preparing_at, working_at, captured_at, done_at, imported, rounds_used, network, metered, "limit", timing, machine, reported, typed, scanned, not_before, driver)
SELECT id, contest_id, position, task, contender, "repeat", rerun, seed, state, replaced_by, doing, confinement, confinement_why, beside, elapsed_ms, exit_code, signal, timed_out, workspace_ms, home_ms, home_bytes, home_layered, capture_ms, start_tree, result_tree, diff, shown, log, log_cut, footprint, left_out, kept, created_at, preparing_at, working_at, captured_at, done_at, imported, rounds_used, network, metered, "limit", timing, machine, reported, typed, scanned, not_before,
    CASE WHEN imported IS NULL OR imported = 'null' THEN 'command' ELSE 'elsewhere' END
FROM bouts;
DROP TABLE bouts;
ALTER TABLE bouts_new RENAME TO bouts;
CREATE INDEX bouts_contest ON bouts (contest_id, state);

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
