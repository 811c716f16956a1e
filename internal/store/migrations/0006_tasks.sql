-- Version 6: further folders that a task's commands may read, and whether its brief is as
-- it was drafted.
ALTER TABLE contest_tasks ADD COLUMN reads TEXT;
ALTER TABLE contest_tasks ADD COLUMN drafted BOOLEAN NOT NULL DEFAULT FALSE;
