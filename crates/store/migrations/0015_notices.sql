-- Who is told what happens: hooks of the platform's own systems, and people by mail.
CREATE TABLE receivers (
    id uuid PRIMARY KEY,
    -- Of which account's domains, or of every one's; of which domain alone.
    account_id uuid REFERENCES accounts ON DELETE CASCADE,
    domain_id uuid REFERENCES domains ON DELETE CASCADE,
    way text NOT NULL,
    target text NOT NULL,
    kinds text[] NOT NULL,
    language text,
    quiet text,
    -- The secret that a hook's calls are signed with, and the one before while it still counts.
    sealed bytea,
    former bytea,
    former_until timestamptz,
    -- The link that leads its reader to what it is about.
    sealed_link bytea,
    created_at timestamptz NOT NULL DEFAULT now(),
    -- Somebody who asked to be told says so once more from their mailbox.
    asked_at timestamptz,
    confirmed_at timestamptz,
    ended_at timestamptz,
    because text,
    -- When there is something to be sent, and how often in a row nobody took it.
    due timestamptz,
    failures integer NOT NULL DEFAULT 0,
    last_error text,
    lease uuid,
    leased_until timestamptz
);
CREATE INDEX receivers_due ON receivers (due) WHERE due IS NOT NULL AND ended_at IS NULL;
CREATE INDEX receivers_way ON receivers (way, id) WHERE ended_at IS NULL;
CREATE INDEX receivers_account ON receivers (account_id, way, id) WHERE ended_at IS NULL;
CREATE INDEX receivers_over ON receivers (coalesce(ended_at, asked_at)) WHERE ended_at IS NOT NULL OR confirmed_at IS NULL;
CREATE INDEX receivers_asked ON receivers (target, asked_at) WHERE asked_at IS NOT NULL;
CREATE INDEX receivers_domain ON receivers (domain_id) WHERE domain_id IS NOT NULL;
CREATE TRIGGER receivers_recorded AFTER INSERT OR UPDATE OR DELETE ON receivers FOR EACH ROW
    WHEN (current_setting('nomenta.actor', true) <> '')
    EXECUTE FUNCTION record_change('receiver', 'target', 'id created_at due failures last_error lease leased_until asked_at',
        'sealed former sealed_link');

-- What is to be told, one line for each who is told.
CREATE TABLE deliveries (
    id uuid PRIMARY KEY,
    receiver_id uuid NOT NULL REFERENCES receivers ON DELETE CASCADE,
    account_id uuid,
    domain_id uuid,
    host text COLLATE "C" NOT NULL,
    seq bigint NOT NULL,
    event_id uuid NOT NULL,
    kind text NOT NULL,
    event_kind text NOT NULL,
    data jsonb NOT NULL,
    at timestamptz NOT NULL,
    state text NOT NULL,
    -- Since when it is tried.
    since timestamptz NOT NULL DEFAULT now(),
    due timestamptz NOT NULL,
    tries integer NOT NULL DEFAULT 0,
    last_error text,
    ended_at timestamptz,
    UNIQUE (receiver_id, event_id)
);
CREATE INDEX deliveries_due ON deliveries (receiver_id, due) WHERE state = 'due';
CREATE INDEX deliveries_turn ON deliveries (receiver_id, seq) WHERE state = 'due';
CREATE INDEX deliveries_order ON deliveries (receiver_id, host, seq) WHERE state = 'due';
CREATE INDEX deliveries_state ON deliveries (state, id);
CREATE INDEX deliveries_account ON deliveries (account_id, id);
CREATE INDEX deliveries_receiver ON deliveries (receiver_id, id);
CREATE INDEX deliveries_host ON deliveries (host, id);
CREATE INDEX deliveries_age ON deliveries (at);

-- Up to which event it is known who is told.
CREATE TABLE notice_place (one boolean PRIMARY KEY DEFAULT true CHECK (one), seq bigint NOT NULL);
INSERT INTO notice_place (seq) SELECT coalesce(max(seq), 0) FROM events;
