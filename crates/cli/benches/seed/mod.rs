//! A fleet made in the database itself: a million domains by the API would take hours.

use nomenta_world::World;

/// Rows made by one statement.
const BATCH: usize = 50_000;

/// Puts counts together, as the service does within moments of so few changes as there are.
const MERGE: &str = "
    INSERT INTO tally_sums (account_id, kind, key, n)
    SELECT account_id, kind, key, sum(n) FROM tallies GROUP BY account_id, kind, key
    ON CONFLICT (kind, account_id, key) DO UPDATE SET n = tally_sums.n + excluded.n;
    TRUNCATE tallies";

/// Accounts of a fleet.
pub(crate) fn accounts(domains: usize) -> usize {
    (domains / 10).max(20)
}

/// Fills a database whose schema is there.
pub(crate) async fn fill(world: &World, database: &str, domains: usize) -> anyhow::Result<()> {
    let accounts = accounts(domains);
    world.statement(database, &platform(accounts)).await?;
    for first in (1..=domains).step_by(BATCH) {
        let last = domains.min(first + BATCH - 1);
        eprintln!("{database}: {last} domains …");
        world.statement(database, &batch(first, last, accounts)).await?;
        world.statement(database, MERGE).await?;
    }
    for text in ["VACUUM ANALYZE", "CHECKPOINT"] {
        world.statement(database, text).await?;
    }
    Ok(())
}

/// Three ingresses, and accounts with three sites each.
fn platform(accounts: usize) -> String {
    format!(
        "INSERT INTO ingresses (id, name, revision, ipv4, ipv6, canonical)
         SELECT gen_random_uuid(), name, 1, '{{127.77.0.10}}', '{{}}', 'edge.quaymark.example'
         FROM unnest(ARRAY['harbour', 'quay', 'lock']) name;
         INSERT INTO accounts (id, name, title)
         SELECT gen_random_uuid(), 'a' || n, 'Ferries ' || n FROM generate_series(0, {accounts} - 1) n;
         INSERT INTO sites (id, account_id, ingress_id, name, label, default_host)
         SELECT gen_random_uuid(), a.id, i.id, a.name || '-' || k, a.name || '-' || k,
                a.name || '-' || k || '.quaymark.example'
         FROM accounts a CROSS JOIN generate_series(1, 3) k
         JOIN ingresses i ON i.name = (ARRAY['harbour', 'quay', 'lock'])[k];
         ANALYZE accounts; ANALYZE sites;"
    )
}

/// Four in five are live; one in twenty is of one large account.
fn batch(first: usize, last: usize, accounts: usize) -> String {
    let gates = r#"[{"name":"ownership","state":"passed","since":"2026-01-01T00:00:00Z","reason":"The token is there."},{"name":"routing","state":"passed","since":"2026-01-01T00:00:00Z","reason":"Traffic lands here."},{"name":"certificate","state":"passed","since":"2026-01-01T00:00:00Z","reason":"Held."},{"name":"serving","state":"waiting","since":"2026-01-01T00:00:00Z","reason":"Not looked at yet."}]"#;
    format!(
        "CREATE TEMP TABLE made AS
         SELECT gen_random_uuid() AS id, n, abs(hashint4(n)) AS h, abs(hashint4(n + 7)) AS g
         FROM generate_series({first}, {last}) n;
         INSERT INTO domains (id, host, sought, site_id, ingress_id, account_id, label, token, token_expires_at, zone,
             gates, stage, ownership, routing, certificate, serving, enrolled_at, moved_at, operator, codes, ended_at,
             ending, held_since, spread, looked_at)
         SELECT id, host, CASE WHEN host LIKE 'xn--%' THEN host || ' ' || replace(host, 'xn--fhre-loa', 'fU0000E4hre')
                               ELSE host END,
             site_id, ingress_id, account_id, label, md5(n::text), now() + interval '20 days', zone, '{gates}', stage,
             'passed', 'passed', 'passed', 'waiting',
             now() - make_interval(secs => h % 94608000), now() - make_interval(secs => g % 31536000),
             CASE WHEN h % 5 = 0 THEN zone ELSE 'op' || (h % 40) || '.example' END,
             CASE WHEN h % 9 = 0 THEN '{{address-foreign}}' WHEN h % 11 = 0 THEN '{{ipv6-stray,server-lame}}'
                  ELSE '{{}}' END::text[],
             CASE WHEN stage = 'released' THEN now() END, CASE WHEN stage = 'released' THEN 'released' END,
             CASE WHEN stage = 'live' THEN now() END, 1.0, now()
         FROM (SELECT m.*, s.id AS site_id, s.ingress_id, s.account_id, s.label,
                      CASE WHEN h % 5000 = 0 THEN 'xn--fhre-loa.' ELSE '' END || 'w' || n || '-'
                          || CASE WHEN h % 300 = 0 THEN 'fjord' ELSE substr(md5(n::text), 1, 6) END
                          || '.z' || (n / 3) || '.example' AS host,
                      'z' || (n / 3) || '.example' AS zone,
                      CASE WHEN h % 100 < 80 THEN 'live' WHEN h % 100 < 88 THEN 'ownership'
                           WHEN h % 100 < 94 THEN 'routing' WHEN h % 100 < 96 THEN 'certificate'
                           WHEN h % 100 < 97 THEN 'serving' WHEN h % 100 < 99 THEN 'paused' ELSE 'released' END AS stage
               FROM made m JOIN sites s
                   ON s.name = 'a' || CASE WHEN h % 20 = 0 THEN 0 ELSE g % {accounts} END || '-' || (1 + g % 3)) d;
         INSERT INTO findings (domain_id, code, severity, body, first_seen, last_seen, host, stage, enrolled_at, moved_at)
         SELECT d.id, code, 'blocker', '{{}}', now(), now(), d.host, d.stage, d.enrolled_at, d.moved_at
         FROM made m JOIN domains d ON d.id = m.id, unnest(d.codes) code;
         INSERT INTO tasks (domain_id, kind, due, quick)
         SELECT d.id, 'look', now() + make_interval(secs => 864000 + m.g % 1000000), 7
         FROM made m JOIN domains d ON d.id = m.id WHERE d.ended_at IS NULL;
         INSERT INTO certificates (id, account_id, domain_id, domain_ids, facts, chain_pem, sealed_key, not_after,
             issued_at, renew_at)
         SELECT gen_random_uuid(), d.account_id, d.id, ARRAY[d.id],
             jsonb_build_object('serial', m.h::text, 'issuer', 'CN=Stampworks R' || (m.h % 3), 'names', jsonb_build_array(d.host),
                 'not_before', now(), 'not_after', now() + make_interval(secs => m.g % 7776000)),
             'PEM', '\\x00', now() + make_interval(secs => m.g % 7776000), now(), now() + interval '40 days'
         FROM made m JOIN domains d ON d.id = m.id WHERE d.stage = 'live';
         DROP TABLE made;"
    )
}
