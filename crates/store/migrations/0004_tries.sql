-- How often in a row a task could not be done; each time it waits longer.
ALTER TABLE tasks ADD COLUMN tries integer NOT NULL DEFAULT 0;
