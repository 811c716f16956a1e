-- The records of Agonometer, version 1. Facts about a bout are written once;
-- judgements are added, never changed.
CREATE TABLE contests (
    id TEXT PRIMARY KEY,
    name TEXT NOT NULL,
    title TEXT NOT NULL,
    state TEXT NOT NULL,
    seed INTEGER NOT NULL,
    seed_drawn INTEGER NOT NULL,
    repeats INTEGER NOT NULL,
    at_once INTEGER NOT NULL,
    path TEXT NOT NULL,
    bundle TEXT NOT NULL,
    created_at DATETIME NOT NULL,
    started_at DATETIME,
    ended_at DATETIME
);
CREATE INDEX contests_state ON contests (state, created_at);

CREATE TABLE contest_tasks (
    contest_id TEXT NOT NULL REFERENCES contests (id) ON DELETE CASCADE,
    position INTEGER NOT NULL,
    slug TEXT NOT NULL,
    title TEXT NOT NULL,
    repository TEXT NOT NULL,
    start_commit TEXT NOT NULL,
    digest TEXT NOT NULL,
    size TEXT NOT NULL,
    labels TEXT,
    checks TEXT,
    limits TEXT,
    "prepare" TEXT NOT NULL,
    brief TEXT NOT NULL,
    PRIMARY KEY (contest_id, slug)
);

CREATE TABLE contest_contenders (
    contest_id TEXT NOT NULL REFERENCES contests (id) ON DELETE CASCADE,
    position INTEGER NOT NULL,
    slug TEXT NOT NULL,
    title TEXT NOT NULL,
    digest TEXT NOT NULL,
    source TEXT NOT NULL,
    path TEXT NOT NULL,
    PRIMARY KEY (contest_id, slug)
);

CREATE TABLE bouts (
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
    UNIQUE (contest_id, task, contender, "repeat", rerun)
);
CREATE INDEX bouts_contest ON bouts (contest_id, state);

CREATE TABLE judgements (
    id TEXT PRIMARY KEY,
    bout_id TEXT NOT NULL REFERENCES bouts (id) ON DELETE CASCADE,
    at DATETIME NOT NULL,
    verdict TEXT NOT NULL,
    outcome TEXT NOT NULL,
    reason TEXT NOT NULL,
    copy_ms INTEGER
);
CREATE INDEX judgements_bout ON judgements (bout_id, id);

CREATE TABLE check_results (
    judgement_id TEXT NOT NULL REFERENCES judgements (id) ON DELETE CASCADE,
    position INTEGER NOT NULL,
    name TEXT NOT NULL,
    run TEXT NOT NULL,
    reads TEXT NOT NULL,
    outcome TEXT NOT NULL,
    exit_code INTEGER,
    signal TEXT NOT NULL,
    elapsed_ms INTEGER,
    detail TEXT NOT NULL,
    summary TEXT,
    tests TEXT NOT NULL,
    log TEXT NOT NULL,
    log_cut INTEGER NOT NULL,
    PRIMARY KEY (judgement_id, position)
);

CREATE TABLE events (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    contest_id TEXT NOT NULL REFERENCES contests (id) ON DELETE CASCADE,
    bout_id TEXT NOT NULL,
    at DATETIME NOT NULL,
    kind TEXT NOT NULL,
    data TEXT NOT NULL
);
CREATE INDEX events_contest ON events (contest_id, id);
