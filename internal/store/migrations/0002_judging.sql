-- Version 2: rounds, what is known of a task before any contender, provings,
-- bouts that were made elsewhere, and judging again.
ALTER TABLE contests ADD COLUMN kind TEXT NOT NULL DEFAULT 'contest';

ALTER TABLE contest_tasks ADD COLUMN kind TEXT NOT NULL DEFAULT 'change';
ALTER TABLE contest_tasks ADD COLUMN baseline TEXT NOT NULL DEFAULT '';
ALTER TABLE contest_tasks ADD COLUMN reference_fails TEXT NOT NULL DEFAULT '';
ALTER TABLE contest_tasks ADD COLUMN proved TEXT NOT NULL DEFAULT '';
ALTER TABLE contest_tasks ADD COLUMN proving_id TEXT NOT NULL DEFAULT '';

ALTER TABLE bouts ADD COLUMN imported TEXT;
ALTER TABLE bouts ADD COLUMN rounds_used INTEGER NOT NULL DEFAULT 0;

CREATE TABLE rounds (
    bout_id TEXT NOT NULL REFERENCES bouts (id) ON DELETE CASCADE,
    number INTEGER NOT NULL,
    stage INTEGER NOT NULL,
    kind TEXT NOT NULL,
    words TEXT NOT NULL,
    elapsed_ms INTEGER,
    exit_code INTEGER,
    signal TEXT NOT NULL,
    timed_out INTEGER NOT NULL,
    diff TEXT NOT NULL,
    shown TEXT NOT NULL,
    result_tree TEXT NOT NULL,
    log TEXT NOT NULL,
    log_cut INTEGER NOT NULL,
    answer TEXT NOT NULL,
    footprint TEXT,
    step TEXT,
    captured_at DATETIME NOT NULL,
    PRIMARY KEY (bout_id, number)
);
-- Bouts of version 1 had one round, which their row tells of.
INSERT INTO rounds (bout_id, number, stage, kind, words, elapsed_ms, exit_code, signal, timed_out, diff, shown, result_tree, log, log_cut, answer, footprint, step, captured_at)
    SELECT id, 1, 0, 'opening', '', elapsed_ms, exit_code, signal, timed_out, diff, shown, result_tree, log, log_cut, '', footprint, footprint, captured_at
    FROM bouts WHERE captured_at IS NOT NULL;
UPDATE bouts SET rounds_used = 1 WHERE captured_at IS NOT NULL;

ALTER TABLE judgements ADD COLUMN first TEXT;
ALTER TABLE judgements ADD COLUMN rounds TEXT;
ALTER TABLE judgements ADD COLUMN task_digest TEXT NOT NULL DEFAULT '';
ALTER TABLE judgements ADD COLUMN rejudging_id TEXT NOT NULL DEFAULT '';
UPDATE judgements SET first = verdict;

ALTER TABLE check_results ADD COLUMN round INTEGER NOT NULL DEFAULT 1;
ALTER TABLE check_results ADD COLUMN way TEXT NOT NULL DEFAULT 'deciding';

CREATE TABLE provings (
    id TEXT PRIMARY KEY,
    task TEXT NOT NULL,
    title TEXT NOT NULL,
    digest TEXT NOT NULL,
    start_commit TEXT NOT NULL,
    bundle TEXT NOT NULL,
    repeats INTEGER NOT NULL,
    state TEXT NOT NULL,
    doing TEXT NOT NULL DEFAULT '',
    steps_done INTEGER NOT NULL DEFAULT 0,
    steps INTEGER NOT NULL DEFAULT 0,
    result TEXT,
    tests TEXT NOT NULL DEFAULT '',
    created_at DATETIME NOT NULL,
    ended_at DATETIME
);
CREATE INDEX provings_task ON provings (task, id);
CREATE INDEX provings_digest ON provings (digest, id);

CREATE TABLE rejudgings (
    id TEXT PRIMARY KEY,
    contest_id TEXT NOT NULL REFERENCES contests (id) ON DELETE CASCADE,
    bundle TEXT NOT NULL,
    tasks TEXT,
    digests TEXT,
    state TEXT NOT NULL,
    done INTEGER NOT NULL DEFAULT 0,
    total INTEGER NOT NULL DEFAULT 0,
    problem TEXT NOT NULL DEFAULT '',
    created_at DATETIME NOT NULL,
    ended_at DATETIME
);
CREATE INDEX rejudgings_contest ON rejudgings (contest_id, id);
