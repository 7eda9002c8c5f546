-- no-transaction
CREATE INDEX CONCURRENTLY receivers_handoff ON receivers (handoff_id) WHERE handoff_id IS NOT NULL;
