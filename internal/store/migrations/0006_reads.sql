-- Further folders that a task's commands may read.
ALTER TABLE contest_tasks ADD COLUMN reads TEXT;
