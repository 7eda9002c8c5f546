-- Accounts, sites and where their traffic lands.
CREATE TABLE accounts (
    id uuid PRIMARY KEY,
    name text NOT NULL UNIQUE,
    title text NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE ingresses (
    id uuid PRIMARY KEY,
    name text NOT NULL UNIQUE,
    revision integer NOT NULL,
    ipv4 text[] NOT NULL,
    ipv6 text[] NOT NULL,
    canonical text NOT NULL,
    revised_at timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE ingress_revisions (
    ingress_id uuid NOT NULL REFERENCES ingresses,
    revision integer NOT NULL,
    ipv4 text[] NOT NULL,
    ipv6 text[] NOT NULL,
    canonical text NOT NULL,
    revised_at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (ingress_id, revision)
);

CREATE TABLE sites (
    id uuid PRIMARY KEY,
    account_id uuid NOT NULL REFERENCES accounts,
    ingress_id uuid NOT NULL REFERENCES ingresses,
    name text NOT NULL UNIQUE,
    default_host text NOT NULL UNIQUE,
    created_at timestamptz NOT NULL DEFAULT now()
);

-- Keys of people and machines; only the hash of the secret is kept.
CREATE TABLE access_keys (
    id uuid PRIMARY KEY,
    name text NOT NULL,
    role text NOT NULL,
    hash bytea NOT NULL UNIQUE,
    hint text NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now(),
    used_at timestamptz,
    revoked_at timestamptz
);

CREATE TABLE domains (
    id uuid PRIMARY KEY,
    host text NOT NULL UNIQUE,
    site_id uuid NOT NULL REFERENCES sites,
    token text NOT NULL,
    token_expires_at timestamptz NOT NULL,
    zone text NOT NULL,
    gates jsonb NOT NULL,
    stage text NOT NULL,
    spread double precision,
    fingerprint bigint,
    quiet_looks integer NOT NULL DEFAULT 0,
    survey jsonb,
    enrolled_at timestamptz NOT NULL DEFAULT now(),
    looked_at timestamptz
);
CREATE INDEX domains_stage ON domains (stage);

CREATE TABLE findings (
    domain_id uuid NOT NULL REFERENCES domains ON DELETE CASCADE,
    code text NOT NULL,
    severity text NOT NULL,
    body jsonb NOT NULL,
    first_seen timestamptz NOT NULL,
    last_seen timestamptz NOT NULL,
    PRIMARY KEY (domain_id, code)
);

-- What happened, in the order in which it was committed.
CREATE TABLE events (
    seq bigserial PRIMARY KEY,
    id uuid NOT NULL UNIQUE,
    domain_id uuid REFERENCES domains ON DELETE CASCADE,
    host text,
    kind text NOT NULL,
    at timestamptz NOT NULL,
    data jsonb NOT NULL
);
CREATE INDEX events_domain ON events (domain_id, seq);

-- The leased queue: one row for each thing that a worker does again and again.
CREATE TABLE tasks (
    domain_id uuid NOT NULL REFERENCES domains ON DELETE CASCADE,
    kind text NOT NULL,
    due timestamptz NOT NULL,
    lease uuid,
    leased_until timestamptz,
    again boolean NOT NULL DEFAULT false,
    PRIMARY KEY (domain_id, kind)
);
CREATE INDEX tasks_due ON tasks (due);

CREATE TABLE acme_accounts (
    directory text PRIMARY KEY,
    sealed bytea NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE orders (
    id uuid PRIMARY KEY,
    domain_id uuid NOT NULL REFERENCES domains ON DELETE CASCADE,
    state text NOT NULL,
    url text,
    sealed_key bytea NOT NULL,
    problem jsonb,
    retry_at timestamptz,
    refusals integer NOT NULL DEFAULT 0,
    placed_at timestamptz NOT NULL,
    ended_at timestamptz
);
CREATE UNIQUE INDEX orders_one_open ON orders (domain_id) WHERE state = 'open';

CREATE TABLE challenges (
    token text PRIMARY KEY,
    order_id uuid NOT NULL REFERENCES orders ON DELETE CASCADE,
    key_authorization text NOT NULL
);

CREATE TABLE certificates (
    id uuid PRIMARY KEY,
    domain_id uuid NOT NULL REFERENCES domains ON DELETE CASCADE,
    order_id uuid NOT NULL UNIQUE REFERENCES orders,
    facts jsonb NOT NULL,
    chain_pem text NOT NULL,
    sealed_key bytea NOT NULL,
    not_after timestamptz NOT NULL,
    issued_at timestamptz NOT NULL
);
CREATE INDEX certificates_domain ON certificates (domain_id, issued_at DESC);
