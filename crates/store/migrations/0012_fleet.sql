-- Lanes of the queue: new domains and people's looks, what comes by itself, bulk work, and
-- zones that do not answer. Each is taken from by itself, so none waits behind another.
ALTER TABLE tasks ADD COLUMN lane smallint NOT NULL DEFAULT 1;
DROP INDEX tasks_due;
CREATE INDEX tasks_due ON tasks (lane, due) WHERE quick IS NULL;

-- Bulk work: what is to be done to which domains, and how far it has come.
CREATE TABLE jobs (
    id uuid PRIMARY KEY,
    act jsonb NOT NULL,
    -- Which domains: as it was asked for, and as it is read.
    asked jsonb NOT NULL,
    filter jsonb NOT NULL,
    -- For whom it is done: what the changes are recorded under.
    actor jsonb,
    account_ids uuid[],
    state text NOT NULL,
    -- The domains are gathered by name, up to here.
    gathered_host text COLLATE "C",
    gathered_id uuid,
    total integer NOT NULL DEFAULT 0,
    changed integer NOT NULL DEFAULT 0,
    unchanged integer NOT NULL DEFAULT 0,
    refused integer NOT NULL DEFAULT 0,
    created_at timestamptz NOT NULL DEFAULT now(),
    ended_at timestamptz,
    lease uuid,
    leased_until timestamptz
);
CREATE INDEX jobs_open ON jobs (id) WHERE ended_at IS NULL;
CREATE INDEX jobs_ended ON jobs (ended_at) WHERE ended_at IS NOT NULL;

-- What a job does to each domain. A domain that is forgotten leaves its line.
CREATE TABLE job_items (
    job_id uuid NOT NULL REFERENCES jobs ON DELETE CASCADE,
    host text COLLATE "C" NOT NULL,
    domain_id uuid NOT NULL,
    result text,
    because text,
    done_at timestamptz,
    PRIMARY KEY (job_id, host, domain_id)
);
CREATE INDEX job_items_left ON job_items (job_id, host, domain_id) WHERE result IS NULL;
CREATE INDEX job_items_result ON job_items (job_id, result, host, domain_id) WHERE result IS NOT NULL;

-- A key may open several accounts alone, and for a time.
ALTER TABLE access_keys
    ADD COLUMN account_ids uuid[],
    ADD COLUMN expires_at timestamptz;
UPDATE access_keys SET account_ids = ARRAY[account_id] WHERE account_id IS NOT NULL;
ALTER TABLE access_keys DROP COLUMN account_id;

-- Sessions of the console, by the hash of what the cookie holds.
CREATE TABLE sessions (
    id uuid PRIMARY KEY,
    key_id uuid NOT NULL REFERENCES access_keys ON DELETE CASCADE,
    hash bytea NOT NULL UNIQUE,
    came_from text,
    created_at timestamptz NOT NULL DEFAULT now(),
    used_at timestamptz NOT NULL DEFAULT now(),
    expires_at timestamptz NOT NULL,
    ended_at timestamptz
);
CREATE INDEX sessions_expiry ON sessions (expires_at);

-- Every change that somebody asked for: who, from where, what was and what is.
CREATE TABLE audit (
    seq bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    at timestamptz NOT NULL DEFAULT clock_timestamp(),
    key_id uuid,
    who text NOT NULL,
    role text NOT NULL,
    session_id uuid,
    came_from text,
    call text NOT NULL,
    act text NOT NULL,
    kind text NOT NULL,
    record_id uuid,
    name text,
    account_id uuid,
    was jsonb,
    became jsonb
);
CREATE INDEX audit_account ON audit (account_id, seq);
CREATE INDEX audit_who ON audit (who, seq);
CREATE INDEX audit_name ON audit (name, seq);
CREATE INDEX audit_at ON audit (at);

-- What is told of a record: no secrets, and the names of what it refers to.
CREATE FUNCTION told_of(given jsonb) RETURNS jsonb LANGUAGE plpgsql STABLE AS $$
DECLARE
    told jsonb := given;
BEGIN
    IF given ? 'site_id' THEN
        told := told - 'site_id' || jsonb_build_object('site', (SELECT name FROM sites WHERE id = (given->>'site_id')::uuid));
    END IF;
    IF given ? 'next_site_id' THEN
        told := told - 'next_site_id'
            || jsonb_build_object('next_site', (SELECT name FROM sites WHERE id = (given->>'next_site_id')::uuid));
    END IF;
    IF given ? 'ingress_id' THEN
        told := told - 'ingress_id'
            || jsonb_build_object('ingress', (SELECT name FROM ingresses WHERE id = (given->>'ingress_id')::uuid));
    END IF;
    IF given ? 'account_id' THEN
        told := told - 'account_id'
            || jsonb_build_object('account', (SELECT name FROM accounts WHERE id = (given->>'account_id')::uuid));
    END IF;
    IF given ? 'account_ids' THEN
        told := told - 'account_ids' || jsonb_build_object('accounts', (
            SELECT jsonb_agg(name ORDER BY name) FROM accounts
            WHERE id::text IN (SELECT jsonb_array_elements_text(nullif(given->'account_ids', 'null')))));
    END IF;
    IF given ? 'key_id' THEN
        told := told - 'key_id'
            || jsonb_build_object('key', (SELECT name FROM access_keys WHERE id = (given->>'key_id')::uuid));
    END IF;
    RETURN told;
END $$;

-- Records a change under whoever the transaction is for. Arguments: the kind of record, the
-- column that names it, columns that nobody sets, and columns that are secret.
CREATE FUNCTION record_change() RETURNS trigger LANGUAGE plpgsql AS $$
DECLARE
    actor jsonb := current_setting('nomenta.actor')::jsonb;
    before jsonb := CASE WHEN TG_OP <> 'INSERT' THEN to_jsonb(OLD) END;
    after jsonb := CASE WHEN TG_OP <> 'DELETE' THEN to_jsonb(NEW) END;
    one jsonb := coalesce(after, before);
    unset text[] := string_to_array(TG_ARGV[2], ' ');
    secret text[] := string_to_array(TG_ARGV[3], ' ');
    was jsonb;
    became jsonb;
BEGIN
    SELECT jsonb_object_agg(key, CASE WHEN key = ANY(secret) THEN '"(hidden)"' ELSE value END) INTO was
    FROM jsonb_each(before) WHERE key <> ALL(unset) AND value IS DISTINCT FROM after->key;
    SELECT jsonb_object_agg(key, CASE WHEN key = ANY(secret) THEN '"(hidden)"' ELSE value END) INTO became
    FROM jsonb_each(after) WHERE key <> ALL(unset) AND value IS DISTINCT FROM before->key;
    IF was IS NULL AND became IS NULL THEN
        RETURN NULL;
    END IF;

    INSERT INTO audit (key_id, who, role, session_id, came_from, call, act, kind, record_id, name, account_id, was, became)
    VALUES ((actor->>'key_id')::uuid, actor->>'who', actor->>'role', (actor->>'session_id')::uuid,
            actor->>'came_from', actor->>'call',
            CASE TG_OP WHEN 'INSERT' THEN 'added' WHEN 'DELETE' THEN 'removed' ELSE 'changed' END,
            TG_ARGV[0], (one->>'id')::uuid,
            CASE TG_ARGV[0] WHEN 'certificate' THEN (SELECT host FROM domains WHERE id = (one->>'domain_id')::uuid)
                            ELSE one->>TG_ARGV[1] END,
            CASE TG_ARGV[0] WHEN 'account' THEN (one->>'id')::uuid
                            WHEN 'contest' THEN (SELECT account_id FROM domains WHERE id = (one->>'holder_id')::uuid)
                            ELSE (one->>'account_id')::uuid END,
            told_of(jsonb_strip_nulls(was)),
            told_of(CASE TG_OP WHEN 'INSERT' THEN jsonb_strip_nulls(became) ELSE became END));
    RETURN NULL;
END $$;

CREATE TRIGGER domains_recorded AFTER INSERT OR UPDATE OR DELETE ON domains FOR EACH ROW
    WHEN (current_setting('nomenta.actor', true) <> '')
    EXECUTE FUNCTION record_change('domain', 'host',
        'id version zone gates ownership routing certificate serving spread fingerprint quiet_looks survey baseline probe '
        'looked_at enrolled_at moved_at sought operator codes label is_at_work pair_id',
        'token superseded');
CREATE TRIGGER accounts_recorded AFTER INSERT OR UPDATE OR DELETE ON accounts FOR EACH ROW
    WHEN (current_setting('nomenta.actor', true) <> '')
    EXECUTE FUNCTION record_change('account', 'name', 'id version created_at', '');
CREATE TRIGGER sites_recorded AFTER INSERT OR UPDATE OR DELETE ON sites FOR EACH ROW
    WHEN (current_setting('nomenta.actor', true) <> '')
    EXECUTE FUNCTION record_change('site', 'name', 'id version created_at label', '');
CREATE TRIGGER ingresses_recorded AFTER INSERT OR UPDATE OR DELETE ON ingresses FOR EACH ROW
    WHEN (current_setting('nomenta.actor', true) <> '')
    EXECUTE FUNCTION record_change('ingress', 'name', 'id version revised_at', '');
CREATE TRIGGER contests_recorded AFTER INSERT OR UPDATE OR DELETE ON contests FOR EACH ROW
    WHEN (current_setting('nomenta.actor', true) <> '')
    EXECUTE FUNCTION record_change('contest', 'host', 'id version holder_id challenger_id opened_at', '');
CREATE TRIGGER certificates_recorded AFTER INSERT OR UPDATE OR DELETE ON certificates FOR EACH ROW
    WHEN (current_setting('nomenta.actor', true) <> '')
    EXECUTE FUNCTION record_change('certificate', 'id',
        'id order_id domain_id domain_ids called advice_at chain_pem', 'sealed_key');
CREATE TRIGGER keys_recorded AFTER INSERT OR UPDATE OR DELETE ON access_keys FOR EACH ROW
    WHEN (current_setting('nomenta.actor', true) <> '')
    EXECUTE FUNCTION record_change('key', 'name', 'id version created_at used_at hash', '');
CREATE TRIGGER sessions_recorded AFTER INSERT OR UPDATE OR DELETE ON sessions FOR EACH ROW
    WHEN (current_setting('nomenta.actor', true) <> '')
    EXECUTE FUNCTION record_change('session', 'id', 'id created_at used_at hash', '');
CREATE TRIGGER jobs_recorded AFTER INSERT OR UPDATE OR DELETE ON jobs FOR EACH ROW
    WHEN (current_setting('nomenta.actor', true) <> '')
    EXECUTE FUNCTION record_change('job', 'id',
        'id filter actor account_ids gathered_host gathered_id total changed unchanged refused created_at lease leased_until',
        '');

-- By age, for what is kept for a time.
CREATE INDEX events_at ON events (at);
CREATE INDEX spreads_at ON spreads (at);
CREATE INDEX order_steps_at ON order_steps (at);
CREATE INDEX orders_ended ON orders (ended_at) WHERE ended_at IS NOT NULL;

-- A certificate outlives the story of its order.
ALTER TABLE certificates
    DROP CONSTRAINT certificates_order_id_fkey,
    ADD CONSTRAINT certificates_order_id_fkey FOREIGN KEY (order_id) REFERENCES orders ON DELETE SET NULL;

-- How many rows a search would find, as the planner reckons: it decides by what is looked for
-- how to look for it, and so do we.
CREATE FUNCTION reckoned(query text) RETURNS bigint LANGUAGE plpgsql AS $$
DECLARE
    plan jsonb;
BEGIN
    EXECUTE 'EXPLAIN (FORMAT JSON) ' || query INTO plan;
    RETURN (plan->0->'Plan'->>'Plan Rows')::bigint;
END $$;
CREATE FUNCTION reckoned_domains(pattern text) RETURNS bigint LANGUAGE sql AS $$
    SELECT reckoned(format('SELECT FROM domains WHERE ended_at IS NULL AND sought LIKE %L', pattern))
$$;
CREATE FUNCTION reckoned_accounts(pattern text) RETURNS bigint LANGUAGE sql AS $$
    SELECT reckoned(format('SELECT FROM accounts WHERE sought LIKE %L', pattern))
$$;
CREATE FUNCTION reckoned_sites(pattern text) RETURNS bigint LANGUAGE sql AS $$
    SELECT reckoned(format('SELECT FROM sites WHERE sought LIKE %L', pattern))
$$;

-- What is looked through along an order has the names in that order.
DROP INDEX domains_by_age;
DROP INDEX domains_by_move;
CREATE INDEX domains_by_age ON domains (enrolled_at, id) INCLUDE (sought) WHERE ended_at IS NULL;
CREATE INDEX domains_by_move ON domains (moved_at, id) INCLUDE (sought) WHERE ended_at IS NULL;
CREATE INDEX accounts_by_name ON accounts (name, id) INCLUDE (sought);

-- An index that has the keys as well is taken for one that finds a key.
DROP INDEX tally_sums_most;
CREATE INDEX tally_sums_most ON tally_sums (kind, account_id, n DESC);
