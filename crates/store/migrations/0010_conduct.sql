-- The version of what people change: it grows with each change of what they have set, and
-- with nothing that is found out. A change may be asked for of one version alone.
ALTER TABLE accounts ADD COLUMN version bigint NOT NULL DEFAULT 1;
ALTER TABLE sites ADD COLUMN version bigint NOT NULL DEFAULT 1;
ALTER TABLE ingresses ADD COLUMN version bigint NOT NULL DEFAULT 1;
ALTER TABLE access_keys ADD COLUMN version bigint NOT NULL DEFAULT 1;
ALTER TABLE contests ADD COLUMN version bigint NOT NULL DEFAULT 1;
ALTER TABLE domains ADD COLUMN version bigint NOT NULL DEFAULT 1;

CREATE FUNCTION next_version() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    NEW.version := OLD.version + 1;
    RETURN NEW;
END $$;

CREATE TRIGGER accounts_version BEFORE UPDATE ON accounts FOR EACH ROW
    WHEN ((OLD.title, OLD.contact, OLD.language, OLD.notes, OLD.allowance, OLD.suspended_at)
          IS DISTINCT FROM (NEW.title, NEW.contact, NEW.language, NEW.notes, NEW.allowance, NEW.suspended_at))
    EXECUTE FUNCTION next_version();
CREATE TRIGGER sites_version BEFORE UPDATE ON sites FOR EACH ROW
    WHEN ((OLD.name, OLD.entry_path, OLD.error_path) IS DISTINCT FROM (NEW.name, NEW.entry_path, NEW.error_path))
    EXECUTE FUNCTION next_version();
CREATE TRIGGER ingresses_version BEFORE UPDATE ON ingresses FOR EACH ROW
    WHEN (OLD.revision <> NEW.revision)
    EXECUTE FUNCTION next_version();
CREATE TRIGGER keys_version BEFORE UPDATE ON access_keys FOR EACH ROW
    WHEN (OLD.revoked_at IS DISTINCT FROM NEW.revoked_at)
    EXECUTE FUNCTION next_version();
CREATE TRIGGER contests_version BEFORE UPDATE ON contests FOR EACH ROW
    EXECUTE FUNCTION next_version();
CREATE TRIGGER domains_version BEFORE UPDATE ON domains FOR EACH ROW
    WHEN ((OLD.site_id, OLD.is_primary, OLD.entry_path, OLD.error_path, OLD.next_site_id, OLD.switch_at, OLD.paused_at,
           OLD.ended_at, OLD.token)
          IS DISTINCT FROM
          (NEW.site_id, NEW.is_primary, NEW.entry_path, NEW.error_path, NEW.next_site_id, NEW.switch_at, NEW.paused_at,
           NEW.ended_at, NEW.token))
    EXECUTE FUNCTION next_version();

-- Answers to calls that carried a key of their own (Idempotency-Key): whoever repeats the
-- call gets the answer of the first. Of one that is under way, none yet.
CREATE TABLE answers (
    caller uuid NOT NULL,
    key text COLLATE "C" NOT NULL,
    -- Of method, path and body.
    fingerprint bytea NOT NULL,
    asked_at timestamptz NOT NULL DEFAULT now(),
    -- Status, headers and body, sealed.
    answer bytea,
    PRIMARY KEY (caller, key)
);
CREATE INDEX answers_age ON answers (asked_at);
