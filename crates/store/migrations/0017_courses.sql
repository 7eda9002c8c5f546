-- How each domain's records came into the world, and what is drawn from that for each DNS
-- operator. `begun_at` stands beside the rest: whoever sends an edit writes it, and a look
-- that goes on meanwhile does not take it away.
CREATE TABLE courses (
    domain_id uuid PRIMARY KEY REFERENCES domains ON DELETE CASCADE,
    account_id uuid NOT NULL,
    operator text COLLATE "C",
    begun_at timestamptz,
    course jsonb NOT NULL,
    -- Whether the lessons of its operator count it as it stands.
    is_counted boolean NOT NULL DEFAULT false,
    changed_at timestamptz NOT NULL
) WITH (fillfactor = 85);
CREATE INDEX courses_latest ON courses (operator, changed_at DESC) WHERE operator IS NOT NULL;
CREATE INDEX courses_uncounted ON courses (operator) WHERE operator IS NOT NULL AND NOT is_counted;

CREATE TABLE lessons (
    operator text COLLATE "C" PRIMARY KEY,
    lessons jsonb NOT NULL,
    -- Domains with it when they were drawn, for the order of the listing.
    domains bigint NOT NULL,
    drawn_at timestamptz NOT NULL
);
CREATE INDEX lessons_most ON lessons (domains DESC, operator);

-- Budgets at the CA are counted from the latest orders, however many there have been.
CREATE INDEX orders_recent ON orders (placed_at);
