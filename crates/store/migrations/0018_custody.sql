-- Keys that answer challenges by TLS are sealed as all others are. What was not answered yet is
-- published again by whoever works on the order.
DELETE FROM challenges WHERE answer_key IS NOT NULL;
ALTER TABLE challenges DROP COLUMN answer_key, ADD COLUMN sealed_answer_key bytea;

-- The known secret under the key that the records are being changed to.
ALTER TABLE sealing ADD COLUMN next_box bytea;

-- Which processes work on these records, and whose boxes they open.
CREATE TABLE processes (
    id uuid PRIMARY KEY,
    opens text[] NOT NULL,
    seals_with text NOT NULL,
    seen_at timestamptz NOT NULL DEFAULT now()
);

-- Since when the account at the CA has its key; who changed it is recorded.
ALTER TABLE acme_accounts ADD COLUMN key_since timestamptz NOT NULL DEFAULT now();
UPDATE acme_accounts SET key_since = created_at;
CREATE TRIGGER acme_accounts_recorded AFTER INSERT OR UPDATE OR DELETE ON acme_accounts FOR EACH ROW
    WHEN (current_setting('nomenta.actor', true) <> '')
    EXECUTE FUNCTION record_change('issuer', 'directory', 'created_at throttled_until', 'sealed');

-- Whose domains an order is for: no account takes all that the CA grants.
ALTER TABLE orders ADD COLUMN account_id uuid;
UPDATE orders o SET account_id = d.account_id FROM domains d WHERE d.id = o.domain_id;
CREATE INDEX orders_of_account ON orders (account_id, placed_at);

-- Orders that the CA has and that nobody works on any more: what they bring is revoked.
CREATE TABLE strays (
    url text PRIMARY KEY,
    domain_id uuid NOT NULL,
    host text NOT NULL,
    try_at timestamptz NOT NULL,
    until timestamptz NOT NULL
);
CREATE INDEX strays_due ON strays (try_at);
