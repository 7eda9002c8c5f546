-- no-transaction
CREATE UNIQUE INDEX CONCURRENTLY receivers_reader ON receivers (reader) WHERE reader IS NOT NULL;
