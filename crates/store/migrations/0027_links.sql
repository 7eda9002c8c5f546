-- What whoever holds a handoff link has begun is theirs alone, and ends with the link.
SET LOCAL lock_timeout = '5s';
ALTER TABLE zone_keys ADD COLUMN handoff_id uuid;
ALTER TABLE publications ADD COLUMN handoff_id uuid;
-- How many mails go out for an account is counted.
ALTER TABLE handoffs ADD COLUMN is_mailed boolean NOT NULL DEFAULT false;
-- A mail leads its reader to a page of theirs: the hash of its secret, and the secret for the next mail.
ALTER TABLE receivers ADD COLUMN handoff_id uuid, ADD COLUMN reader bytea, ADD COLUMN sealed_reader bytea;
CREATE OR REPLACE TRIGGER receivers_recorded AFTER INSERT OR UPDATE OR DELETE ON receivers FOR EACH ROW
    WHEN (current_setting('nomenta.actor', true) <> '')
    EXECUTE FUNCTION record_change('receiver', 'target',
        'id handoff_id created_at due failures last_error lease leased_until asked_at',
        'sealed former sealed_link reader sealed_reader');
CREATE OR REPLACE TRIGGER zone_keys_recorded AFTER INSERT OR UPDATE OR DELETE ON zone_keys FOR EACH ROW
    WHEN (current_setting('nomenta.actor', true) <> '')
    EXECUTE FUNCTION record_change('zone-key', 'zone', 'id handoff_id given_at', 'sealed');
CREATE OR REPLACE TRIGGER publications_recorded AFTER INSERT OR UPDATE OR DELETE ON publications FOR EACH ROW
    WHEN (current_setting('nomenta.actor', true) <> '')
    EXECUTE FUNCTION record_change('publication', 'host', 'id domain_id handoff_id change created_at ended_at', '');
