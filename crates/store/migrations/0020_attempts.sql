-- Whoever claims a call may not hear that it has it.
ALTER TABLE answers ADD COLUMN attempt uuid;
