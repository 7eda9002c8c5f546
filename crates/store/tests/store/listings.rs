//! Listings and counts: every order and filter, a page at a time, beside the same fleet
//! sorted and counted in memory.

use std::collections::BTreeMap;

use chrono::{DateTime, Duration, Utc};
use nomenta_core::judge::code::Code;
use nomenta_core::judge::gate::{GateName, Stage};
use nomenta_core::name::sought;
use nomenta_store::{NameFilter, Order, Place, RosterFilter, RosterRow, Sort, Store, Whose};
use uuid::Uuid;

use crate::{databases, every_domain, every_name, run, store};

/// Makes a fleet of 240 domains of all kinds, past the code that would.
async fn fleet(name: &str) -> Store {
    store(name).await;
    let fill = "
        INSERT INTO accounts (id, name, title)
        SELECT gen_random_uuid(), 'acc' || n, 'Åccount ' || n FROM generate_series(1, 6) n;
        INSERT INTO ingresses (id, name, revision, ipv4, ipv6, canonical)
        VALUES (gen_random_uuid(), 'quay', 1, '{}', '{}', 'edge.quaymark.example');
        INSERT INTO sites (id, account_id, ingress_id, name, label, default_host)
        SELECT gen_random_uuid(), a.id, i.id, a.name || '-' || i.name, a.name || '-' || i.name,
               a.name || '-' || i.name || '.quaymark.example'
        FROM accounts a CROSS JOIN ingresses i;
        INSERT INTO domains (id, host, site_id, ingress_id, account_id, label, token, token_expires_at, zone, gates,
            stage, ownership, routing, certificate, serving, enrolled_at, moved_at, operator, codes, ended_at, ending,
            is_primary)
        SELECT gen_random_uuid(), CASE WHEN n % 7 = 0 THEN 'xn--fhre-loa.w' ELSE 'w' END || n || '.onswick.example',
            s.id, s.ingress_id, s.account_id, s.label, 't' || n, now(), 'onswick.example', '[]',
            (ARRAY['ownership','routing','certificate','serving','live','paused','released'])[1 + n % 7],
            'waiting', 'waiting', 'waiting', 'waiting',
            now() - make_interval(days => n % 50), now() - make_interval(hours => n * 31 % 97),
            (ARRAY['Harrow DNS','pinedns.example',NULL])[1 + n % 3],
            (ARRAY['{}','{address-foreign}','{address-foreign,server-lame}'])[1 + n % 3]::text[],
            CASE WHEN n % 7 = 6 THEN now() END, CASE WHEN n % 7 = 6 THEN 'released' END, n % 4 <> 0
        FROM generate_series(1, 240) n
        JOIN LATERAL (SELECT * FROM sites ORDER BY name OFFSET n % 13 LIMIT 1) s ON true;
        INSERT INTO findings (domain_id, code, severity, body, first_seen, last_seen, host, stage, enrolled_at, moved_at)
        SELECT d.id, code, 'blocker', '{}', now(), now(), d.host, d.stage, d.enrolled_at, d.moved_at
        FROM domains d, unnest(d.codes) code;";
    databases().await.statement(name, fill).await.expect("a fleet");

    // What a search looks through is written when the records are opened.
    let url = databases().await.database(name).await.expect("known");
    Store::open(&url, nomenta_core::claim::rules::Rules::default()).await.expect("opened")
}

/// Every line that a filter lets through, read a page of seven at a time.
async fn all(store: &Store, filter: &RosterFilter, by: &Sort, is_descending: bool) -> Vec<RosterRow> {
    const PAGE: i64 = 7;
    let mut order = Order { by: by.clone(), is_descending };
    let mut rows = Vec::new();
    loop {
        let page = store.roster(filter, &order, PAGE).await.expect("a page");
        let Some(last) = page.last() else { return rows };
        order.by = after(by, last);
        let is_last = page.len() < 7;
        rows.extend(page);
        if is_last {
            return rows;
        }
    }
}

fn after(by: &Sort, last: &RosterRow) -> Sort {
    let name = Place::after(last.host.clone(), last.id);
    match by {
        Sort::Name(_) => Sort::Name(Some(name)),
        Sort::Stage(_) => Sort::Stage(Some((last.stage, name))),
        Sort::Enrolled(_) => Sort::Enrolled(Some(Place::after(last.enrolled_at, last.id))),
        Sort::Moved(_) => Sort::Moved(Some(Place::after(last.moved_at, last.id))),
    }
}

/// The same order in memory.
fn sorted(mut rows: Vec<RosterRow>, by: &Sort, is_descending: bool) -> Vec<Uuid> {
    let rank = |stage: Stage| Stage::WORDS.iter().position(|one| *one == stage).expect("a stage");
    match by {
        Sort::Name(_) => rows.sort_by(|a, b| (&a.host, a.id).cmp(&(&b.host, b.id))),
        Sort::Enrolled(_) => rows.sort_by_key(|row| (row.enrolled_at, row.id)),
        Sort::Moved(_) => rows.sort_by_key(|row| (row.moved_at, row.id)),
        Sort::Stage(_) => {
            rows.sort_by(|a, b| (&a.host, a.id).cmp(&(&b.host, b.id)));
            // Within a stage names come in order, whichever stage is first.
            let sign = if is_descending { -1 } else { 1 };
            rows.sort_by_key(|row| rank(row.stage) as i64 * sign);
            return rows.iter().map(|row| row.id).collect();
        }
    }
    if is_descending {
        rows.reverse();
    }
    rows.iter().map(|row| row.id).collect()
}

/// A filter, and the same question asked of a row.
type Filter = (RosterFilter, fn(&RosterRow) -> bool);

fn filters(account: Uuid, now: DateTime<Utc>) -> Vec<Filter> {
    let none = every_domain;
    let code = Some(Code::ServerLame);
    let day = |days| Some(now - Duration::days(days));

    vec![
        (none(), |row| row.stage != Stage::Released),
        (RosterFilter { stage: Some(Stage::Live), ..none() }, |row| row.stage == Stage::Live),
        (RosterFilter { stage: Some(Stage::Released), ..none() }, |row| row.stage == Stage::Released),
        (RosterFilter { whose: Whose::Of(vec![account]), ..none() }, |row| {
            row.account == "acc3" && row.stage != Stage::Released
        }),
        (RosterFilter { whose: Whose::Of(Vec::new()), ..none() }, |_| false),
        (RosterFilter::default(), |_| false),
        (RosterFilter { site: Some("acc2-quay".into()), ..none() }, |row| {
            row.site == "acc2-quay" && row.stage != Stage::Released
        }),
        (RosterFilter { ingress: Some("quay".into()), ..none() }, |row| {
            row.site.ends_with("-quay") && row.stage != Stage::Released
        }),
        (RosterFilter { operator: Some("Harrow DNS".into()), ..none() }, |row| {
            row.operator.as_deref() == Some("Harrow DNS") && row.stage != Stage::Released
        }),
        (RosterFilter { finding: code, ..none() }, |row| row.findings.contains(&Code::ServerLame)),
        (RosterFilter { text: Some("FÄHRE.W1".into()), ..none() }, |row| {
            row.host.starts_with("xn--fhre-loa.w1") && row.stage != Stage::Released
        }),
        (RosterFilter { text: Some("3.ons".into()), ..none() }, |row| {
            row.host.contains("3.ons") && row.stage != Stage::Released
        }),
        (RosterFilter { text: Some("%".into()), ..none() }, |_| false),
        (RosterFilter { before: day(30), ..none() }, |row| {
            row.enrolled_at < Utc::now() - Duration::days(30) && row.stage != Stage::Released
        }),
        (RosterFilter { since: day(10), before: day(4), ..none() }, |row| {
            let age = Utc::now() - row.enrolled_at;
            age < Duration::days(10) && age >= Duration::days(4) && row.stage != Stage::Released
        }),
        (
            RosterFilter {
                finding: Some(Code::AddressForeign),
                operator: Some("pinedns.example".into()),
                text: Some("w".into()),
                stage: Some(Stage::At(GateName::Routing)),
                ..none()
            },
            |row| {
                row.findings.contains(&Code::AddressForeign)
                    && row.operator.as_deref() == Some("pinedns.example")
                    && row.host.contains('w')
                    && row.stage == Stage::At(GateName::Routing)
            },
        ),
        (
            RosterFilter {
                whose: Whose::Of(vec![account]),
                text: Some("1".into()),
                ingress: Some("harbour".into()),
                ..none()
            },
            |row| {
                row.account == "acc3"
                    && row.host.contains('1')
                    && row.site.ends_with("-harbour")
                    && row.stage != Stage::Released
            },
        ),
    ]
}

#[test]
fn every_filter_in_every_order_gives_each_line_once_a_page_at_a_time() {
    run(async {
        let store = fleet("shapes").await;
        let account = store.account("acc3").await.expect("an account").id;
        let everything = |stage| RosterFilter { stage, ..every_domain() };
        let mut rows = all(&store, &everything(None), &Sort::Name(None), false).await;
        rows.extend(all(&store, &everything(Some(Stage::Released)), &Sort::Name(None), false).await);
        assert_eq!(rows.len(), 240);

        for (filter, lets) in filters(account, Utc::now()) {
            let kept: Vec<_> = rows.iter().filter(|row| lets(row)).cloned().collect();
            for by in [Sort::Name(None), Sort::Stage(None), Sort::Enrolled(None), Sort::Moved(None)] {
                for is_descending in [false, true] {
                    let read = all(&store, &filter, &by, is_descending).await;
                    let read: Vec<_> = read.iter().map(|row| row.id).collect();
                    let want = sorted(kept.clone(), &by, is_descending);
                    assert_eq!(read, want, "{filter:?} {by:?} {is_descending}");
                }
            }
        }
    });
}

#[test]
fn counts_are_those_of_the_rows_whatever_has_happened_to_them() {
    run(async {
        let name = "tallies";
        let store = fleet(name).await;
        let database = databases().await;
        let account = store.account("acc1").await.expect("an account").id;

        for change in [
            "SELECT",
            "UPDATE domains SET stage = 'live', codes = '{server-lame}' WHERE stage = 'routing'",
            "UPDATE domains SET operator = 'Tidewell' WHERE operator IS NULL",
            "UPDATE domains SET looked_at = now()",
            "DELETE FROM domains WHERE stage = 'paused'",
            "UPDATE domains SET is_primary = NOT is_primary",
        ] {
            database.statement(name, change).await.expect(change);
            let mut seen = Vec::new();
            // Added up, and put together.
            for _ in 0..2 {
                for whose in [Whose::Everybodys, Whose::Of(vec![account])] {
                    seen.push(counted(&store, &whose).await);
                    assert_eq!(seen.last(), Some(&of_rows(name, &whose).await), "{change}");
                }
                while store.merge_tallies().await.expect("merged") {}
            }
            assert_eq!(seen[0], seen[2], "{change}");
        }
        let left = database.statement(name, "SELECT count(*) FROM tallies").await;
        assert_eq!(left.expect("a count").trim(), "0");
        let none = database.statement(name, "SELECT count(*) FROM tally_sums WHERE n = 0").await;
        assert_eq!(none.expect("a count").trim(), "0", "what there is none of is forgotten");
    });
}

type Counts = BTreeMap<String, i64>;

async fn counted(store: &Store, whose: &Whose) -> Counts {
    let mut counts = Counts::new();
    for one in store.stage_counts(whose).await.expect("counts") {
        counts.insert(format!("stage {}", one.of), one.count);
    }
    for one in store.finding_counts(whose).await.expect("counts") {
        counts.insert(format!("finding {}", one.of), one.count);
    }
    for one in store.operator_counts(whose, 100).await.expect("counts") {
        counts.insert(format!("operator {}", one.of), one.count);
    }
    if let Whose::Of(_) = whose {
        let used = store.account("acc1").await.expect("an account").domains;
        counts.insert("used ".into(), used);
    }
    counts
}

async fn of_rows(database: &str, whose: &Whose) -> Counts {
    let only = match whose {
        Whose::Everybodys => "true".to_owned(),
        Whose::Of(accounts) | Whose::PartOf(accounts) => format!("account_id = '{}'", accounts[0]),
    };
    let used = if whose.is_narrow() {
        format!(
            "UNION ALL SELECT 'used ', count(*) FROM domains WHERE {only} AND ended_at IS NULL AND is_primary"
        )
    } else {
        String::new()
    };
    let text = format!(
        "SELECT 'stage ' || stage, count(*) FROM domains WHERE {only} GROUP BY stage
         UNION ALL SELECT 'finding ' || code, count(*) FROM domains, unnest(codes) code WHERE {only} GROUP BY code
         UNION ALL SELECT 'operator ' || operator, count(*) FROM domains
                   WHERE {only} AND ended_at IS NULL AND operator IS NOT NULL GROUP BY operator
         {used}"
    );
    let rows = databases().await.statement(database, &text).await.expect("counts");
    rows.lines()
        .filter_map(|line| line.split_once('|'))
        .map(|(of, count)| (of.to_owned(), count.parse().expect("a number")))
        .collect()
}

#[test]
fn accounts_and_sites_are_found_by_a_part_of_either_name_in_pages() {
    run(async {
        let store = fleet("found").await;
        let accounts = async |filter: NameFilter, limit| {
            let page = store.accounts(&filter, limit).await.expect("accounts");
            page.rows.into_iter().map(|row| row.name).collect::<Vec<_>>()
        };
        let none = every_name;
        assert_eq!(accounts(none(), 3).await, ["acc1", "acc2", "acc3"]);
        assert_eq!(
            accounts(NameFilter { after: Some("acc4".into()), ..none() }, 3).await,
            ["acc5", "acc6", "onswick"]
        );
        assert_eq!(accounts(NameFilter { text: Some("ÅCCOUNT 2".into()), ..none() }, 9).await, ["acc2"]);
        assert_eq!(accounts(NameFilter { text: Some("ferries".into()), ..none() }, 9).await, ["onswick"]);
        assert_eq!(accounts(NameFilter { text: Some("a_c".into()), ..none() }, 9).await, [""; 0]);
        assert_eq!(accounts(NameFilter { whose: Whose::Of(Vec::new()), ..none() }, 9).await, [""; 0]);

        let account = store.account("acc2").await.expect("an account").id;
        let sites = async |filter: NameFilter, limit| {
            let page = store.sites(&filter, limit).await.expect("sites");
            page.rows.into_iter().map(|row| row.name).collect::<Vec<_>>()
        };
        assert_eq!(sites(none(), 2).await, ["acc1-harbour", "acc1-quay"]);
        let text = Some("2-quay.QUAYMARK".to_owned());
        assert_eq!(sites(NameFilter { text: text.clone(), ..none() }, 9).await, ["acc2-quay"]);
        let whose = Whose::Of(vec![account]);
        assert_eq!(sites(NameFilter { whose, ..none() }, 9).await, ["acc2-harbour", "acc2-quay"]);
        let whose = Whose::Of(vec![store.account("acc1").await.expect("an account").id]);
        assert_eq!(sites(NameFilter { whose, text, ..none() }, 9).await, [""; 0]);
    });
}

/// Names that a text finds, and how many a job over them would be about.
async fn named(store: &Store, filter: &RosterFilter) -> (Vec<String>, i64) {
    let rows = store.roster(filter, &Order::default(), 2_000).await.expect("a page");
    let selected = store.selected(filter, 2_000).await.expect("counted");
    (rows.into_iter().map(|row| row.host).collect(), selected.iter().map(|one| one.count).sum())
}

#[test]
fn a_name_is_found_by_any_part_of_it_until_it_leaves() {
    run(async {
        let store = fleet("parts").await;
        let of = |text: &str| RosterFilter { text: Some(text.into()), ..every_domain() };
        let (hosts, _) = named(&store, &every_domain()).await;

        let host = "xn--fhre-loa.w77.onswick.example";
        let shown = "fähre.w77";
        let mut parts = vec![host.to_owned(), shown.to_owned()];
        for name in [host, shown] {
            let letters: Vec<_> = name.chars().collect();
            parts.extend((1..=6).flat_map(|long| letters.windows(long).map(String::from_iter)));
        }
        for part in parts {
            let wanted = sought::text(&part);
            let want: Vec<_> =
                hosts.iter().filter(|host| sought::of(host).contains(&wanted)).cloned().collect();
            assert!(want.iter().any(|one| one == host), "{part}");
            assert_eq!(named(&store, &of(&part)).await, (want.clone(), want.len() as i64), "{part}");
        }
        for odd in ["'", "\\", "w7'", "\\'", "_", "w_7", "%", ":*", "w77 & w", "w77\u{1f6a2}"] {
            assert_eq!(named(&store, &of(odd)).await, (Vec::new(), 0), "{odd}");
        }

        for (change, want) in
            [("ended_at = now(), ending = 'released'", 0), ("ended_at = NULL, ending = NULL", 1)]
        {
            let change = format!("UPDATE domains SET {change} WHERE host = '{host}'");
            databases().await.statement("parts", &change).await.expect("changed");
            assert_eq!(named(&store, &of("loa.w77.")).await.1, want, "{change}");
        }
    });
}

#[test]
fn a_text_that_many_names_have_is_gone_along_and_every_page_leads_on() {
    run(async {
        let store = fleet("common").await;
        let rows = "INSERT INTO domains (id, host, zone, token, is_primary, site_id, token_expires_at, gates, stage,
                        ownership, routing, certificate, serving, account_id, label, ingress_id, sought, enrolled_at, moved_at)
                    SELECT gen_random_uuid(), d.host, 'many.example', d.host, true, s.id, now(), '[]', 'ownership',
                           'waiting', 'waiting', 'waiting', 'waiting', s.account_id, 'x', s.ingress_id, d.host,
                           now() - n * interval '1 minute', now() - (n * 7919 % 20000) * interval '1 second'
                    FROM (SELECT * FROM sites ORDER BY name LIMIT 1) s, generate_series(1, 20000) n,
                         LATERAL (SELECT CASE WHEN n % 15 = 0 THEN 'fjord' ELSE 'w' END || n || '.many.example' AS host) d;
                    ANALYZE domains";
        databases().await.statement("common", rows).await.expect("many rows");
        let filter = RosterFilter { text: Some("ORD".into()), ..every_domain() };

        for (by, is_descending) in [Sort::Name(None), Sort::Enrolled(None), Sort::Moved(None)]
            .into_iter()
            .flat_map(|by| [(by.clone(), false), (by, true)])
        {
            let want = all(&store, &filter, &by, is_descending).await;
            assert!(want.len() >= 1333, "{} lines", want.len());
            let mut found = Vec::new();
            let mut pages = 0;
            let mut order = Order { by, is_descending };
            loop {
                let page = store.roster_page(&filter, &order, 1000).await.expect("a page");
                pages += 1;
                assert!(page.rows.len() <= 1000);
                let full = page.rows.last().filter(|_| page.rows.len() == 1000);
                let next = full.map(|last| after(&order.by, last)).or(page.beyond);
                found.extend(page.rows.iter().map(|row| row.id));
                match next {
                    Some(next) => order.by = next,
                    None => break,
                }
            }
            assert!(pages >= 3, "{pages} pages: some are short");
            assert_eq!(found, want.iter().map(|row| row.id).collect::<Vec<_>>(), "{:?}", order.by);
        }

        // With a filter beside it, that is what is gone along.
        let staged = RosterFilter { stage: Some(Stage::At(GateName::Ownership)), ..filter.clone() };
        let since = RosterFilter { since: Some(Utc::now() - Duration::minutes(9_000)), ..filter };
        for (filter, most) in [(staged, 1_333), (since, 600)] {
            let (names, count) = named(&store, &filter).await;
            assert!((most - 5..=most).contains(&names.len()), "{} of {most}", names.len());
            assert!(names.iter().all(|name| name.contains("fjord")));
            assert_eq!(count, names.len() as i64);
        }
    });
}

#[test]
fn accounts_and_sites_of_a_text_that_many_have_are_gone_along_and_every_page_leads_on() {
    run(async {
        let store = fleet("titles").await;
        let rows = "INSERT INTO accounts (id, name, title)
                    SELECT gen_random_uuid(), 'many' || n, CASE WHEN n % 6 = 0 THEN 'Ferry ' ELSE 'Barge ' END || n
                    FROM generate_series(1, 9000) n;
                    INSERT INTO sites (id, account_id, ingress_id, name, label, default_host)
                    SELECT gen_random_uuid(), a.id, (SELECT id FROM ingresses ORDER BY name LIMIT 1), s.name, s.name,
                           s.name || '.quaymark.example'
                    FROM accounts a, LATERAL (SELECT replace(lower(a.title), ' ', '-') || '-' || a.name AS name) s
                    WHERE a.name LIKE 'many%';
                    ANALYZE accounts; ANALYZE sites";
        databases().await.statement("titles", rows).await.expect("many rows");

        for (text, limit) in [("FERRY", 1_000), ("many6", 700), ("y", 5_000)] {
            for table in ["accounts", "sites"] {
                let want =
                    format!("SELECT name FROM {table} WHERE sought LIKE lower('%{text}%') ORDER BY name");
                let want = databases().await.statement("titles", &want).await.expect("names");
                assert!(want.lines().count() >= 1_000, "{table}: {text}");
                let found = gone_through(&store, table, text, limit).await;
                assert_eq!(found, want.lines().collect::<Vec<_>>(), "{table}: {text}");
            }
        }
    });
}

/// Names of all that have a text, read a page of at most `limit` after the other; some are short.
async fn gone_through(store: &Store, table: &str, text: &str, limit: usize) -> Vec<String> {
    let most = i64::try_from(limit).expect("a limit");
    let mut filter = NameFilter { text: Some(text.into()), ..every_name() };
    let (mut found, mut short) = (Vec::new(), 0);
    loop {
        let (names, beyond): (Vec<_>, _) = if table == "accounts" {
            let page = store.accounts(&filter, most).await.expect("a page");
            (page.rows.into_iter().map(|row| row.name).collect(), page.beyond)
        } else {
            let page = store.sites(&filter, most).await.expect("a page");
            (page.rows.into_iter().map(|row| row.name).collect(), page.beyond)
        };

        assert!(names.len() <= limit);
        short += usize::from(beyond.is_some());
        filter.after = beyond.or_else(|| names.last().filter(|_| names.len() == limit).cloned());
        found.extend(names);
        if filter.after.is_none() {
            assert!(short > 0, "no page of {table} was short");
            return found;
        }
    }
}
