-- A token that is read anywhere is looked up, to tell whose it is.
CREATE INDEX domains_token ON domains (token) WHERE released_at IS NULL;
