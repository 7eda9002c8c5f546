//! The life of a domain and of an account: ended for good, moved, paused, suspended,
//! and all of it at once.

use std::sync::Mutex;
use std::time::Duration;

use chrono::{DateTime, Duration as Span, Utc};
use futures::future::join_all;
use nomenta_core::sheet::Sheet;
use nomenta_world::{customer, wait_for};
use serde_json::{Value, json};

use crate::own::{Own, own, own_setup, with};
use crate::stage::{self, EDGE_KEY, TIME_LIMIT, fresh_zone, stage};
use crate::turns;

async fn status(own: &Own, method: &str, path: &str, body: Option<Value>) -> (u16, Value) {
    let mut request = own.request(method, path, stage::ADMIN);
    if let Some(body) = body {
        request = request.json(&body);
    }
    let answer = stage::patiently(request).await;
    (answer.status().as_u16(), answer.json().await.unwrap_or_default())
}

/// What the edge is told of a host.
async fn route(own: &Own, host: &str) -> Value {
    let feed = own.request("GET", "edge/feed", EDGE_KEY).send().await.expect("an answer");
    let feed: Value = feed.json().await.expect("JSON");
    let routes = feed["routes"].as_array().expect("routes");
    routes.iter().find(|route| route["host"] == host).cloned().unwrap_or_default()
}

async fn until<F: Future<Output = bool>>(what: &str, is: impl FnMut() -> F) {
    wait_for(what, TIME_LIMIT, is).await.expect(what);
}

/// A single value that the database of a service answers.
async fn asked(database: &str, question: &str) -> String {
    stage().world.statement(database, question).await.expect("an answer")
}

#[test]
fn nothing_brings_a_domain_back_that_has_left_and_what_it_left_is_told() {
    stage();
    stage::run(async {
        let own = own(own_setup("final", 113).await, "final", 113).await;
        let host = format!("lines.{}", fresh_zone("final"));
        let sheet = own.enrol(&stage().world, &host).await;
        customer::publish(&stage().world.zones, &sheet, None).await.expect("published");
        own.live(&host).await;

        let path = format!("domains/{host}");
        let many = join_all((0..200).map(|_| status(&own, "DELETE", &path, None))).await;
        let done = many.iter().filter(|(status, _)| *status == 204).count();
        let refused = many.iter().filter(|(status, _)| *status == 409).count();
        assert_eq!((done, refused), (1, 199), "{many:?}");
        assert_eq!(own.count(&host, "domain.released").await, 1);

        let brought_back = [
            ("POST", format!("{path}/survey"), None),
            ("POST", format!("{path}/token"), None),
            ("POST", format!("{path}/pause"), None),
            ("DELETE", format!("{path}/pause"), None),
            ("PATCH", path.clone(), Some(json!({ "site": "onswick" }))),
            ("POST", format!("{path}/certificate/renewal"), None),
            ("POST", format!("{path}/certificate/revocation"), Some(json!({ "reason": "superseded" }))),
        ];
        for (method, path, body) in brought_back {
            let (code, problem) = status(&own, method, &path, body).await;
            assert_eq!((code, &problem["type"]), (409, &json!("urn:nomenta:problem:released")), "{path}");
        }
        assert_eq!(own.count(&host, "order.placed").await, 1, "nothing was ordered for it again");

        let left = || async { own.codes(&host).await == ["left-behind"] };
        until("what is left being told", left).await;
        let detail = own.cli_json(&["explain", &host]).await;
        let list: Vec<_> =
            detail["todo"].as_array().expect("edits").iter().map(|edit| &edit["kind"]).collect();
        assert_eq!(list, ["delete", "delete"], "{}", detail["todo"]);
        customer::take_back(&stage().world.zones, &sheet).await.expect("taken back");
        until("it being gone", || async { own.codes(&host).await.is_empty() }).await;
        own.daemon.stop().await;
    });
}

#[test]
fn when_one_of_a_pair_leaves_the_other_stands_alone_in_the_same_moment() {
    stage();
    stage::run(async {
        let own = own(own_setup("parted", 114).await, "parted", 114).await;
        let zones = &stage().world.zones;
        let zone = fresh_zone("parted");
        own.cli_json(&["account", "change", "onswick", "--allowance", "1"]).await;
        let www = format!("www.{zone}");
        zones.register(&zone).await.expect("registered");
        let sheet = own.cli_json(&["enrol", &www, "--site", "onswick", "--pair"]).await;
        let other: Sheet = serde_json::from_value(sheet["pair"]["sheet"].clone()).expect("a sheet");
        let sheet: Sheet = serde_json::from_value(sheet).expect("a sheet");
        customer::publish(zones, &other, None).await.expect("published");
        customer::publish_also(zones, &sheet).await.expect("published");
        own.live(&www).await;
        own.live(&zone).await;
        let shared = own.serial(&zone).await;
        assert_eq!(own.serial(&www).await, shared, "one certificate for both");
        assert_eq!(route(&own, &zone).await["redirect_to"], www.as_str());

        own.cli_json(&["move", &zone, "--primary"]).await;
        assert_eq!(route(&own, &www).await["redirect_to"], zone.as_str(), "the other way round");
        assert_eq!(route(&own, &zone).await["redirect_to"], Value::Null);
        own.live(&www).await;
        own.cli_json(&["move", &www, "--primary"]).await;

        own.cli_json(&["release", &www]).await;
        let alone = route(&own, &zone).await;
        assert_eq!(alone["redirect_to"], Value::Null, "the redirect ends in the same transaction");
        assert_eq!(own.serial(&zone).await, shared, "and it goes on being served");
        assert_eq!(route(&own, &www).await, Value::Null);

        until("a certificate of its own", || async { own.serial(&zone).await != shared }).await;
        let gone = || async { stage().world.certificate_status(&shared).await.is_ok_and(|s| s == "Revoked") };
        until("the shared one being revoked after it", gone).await;
        own.live(&zone).await;
        own.daemon.stop().await;
    });
}

#[test]
fn a_domain_shows_another_site_from_its_hour_on_with_nothing_published_anew() {
    stage();
    stage::run(async {
        let own = own(own_setup("moved", 115).await, "moved", 115).await;
        own.cli_json(&["site", "add", "onswick-night", "--account", "onswick", "--ingress", "harbour"]).await;
        let host = format!("lines.{}", fresh_zone("moved"));
        own.published(&host).await;
        own.live(&host).await;

        let at = (Utc::now() + Span::seconds(6)).to_rfc3339();
        let moved = own.cli_json(&["move", &host, "--to", "onswick-night", "--at", &at]).await;
        assert_eq!(moved["needs_records"], false);
        assert_eq!(route(&own, &host).await["site"], "onswick", "its hour is still to come");
        until("the hour", || async { route(&own, &host).await["site"] == "onswick-night" }).await;
        own.live(&host).await;
        assert!(Utc::now().to_rfc3339() >= at);

        own.cli_json(&["move", &host, "--entry-path", "/tonight"]).await;
        assert_eq!(route(&own, &host).await["entry_path"], "/tonight");
        let odd = own.cli(&["move", &host, "--entry-path", "tonight"]).await;
        assert!(String::from_utf8_lossy(&odd.stderr).contains("a path that begins with one slash"));
        let elsewhere = own.cli(&["move", &host, "--to", "nowhere"]).await;
        assert!(String::from_utf8_lossy(&elsewhere.stderr).contains("There is no site named nowhere"));
        let alone = own.cli(&["move", &host, "--primary"]).await;
        assert!(String::from_utf8_lossy(&alone.stderr).contains("no part of a pair"));

        let staged = format!("board.{}", fresh_zone("moved"));
        let sheet = own.enrol(&stage().world, &staged).await;
        let later = (Utc::now() + Span::hours(1)).to_rfc3339();
        own.cli_json(&["move", &staged, "--at", &later]).await;
        customer::publish(&stage().world.zones, &sheet, None).await.expect("published");
        own.live(&staged).await;
        assert_eq!(route(&own, &staged).await["is_staged"], true, "everything is ready, and nothing shown");
        own.cli_json(&["move", &staged, "--at", &Utc::now().to_rfc3339()]).await;
        assert_eq!(route(&own, &staged).await["is_staged"], false);

        let renamed = own.cli(&["site", "change", "onswick-night", "--rename", "onswick-late"]).await;
        assert!(renamed.status.success(), "{}", String::from_utf8_lossy(&renamed.stderr));
        assert_eq!(route(&own, &host).await["site"], "onswick-late");
        let former = route(&own, "onswick-night.quaymark.example").await;
        assert_eq!(former["redirect_to"], "onswick-late.quaymark.example");
        own.live(&host).await;
        own.found(&host, &[]).await;
        let taken =
            own.cli(&["site", "add", "onswick-night", "--account", "onswick", "--ingress", "harbour"]).await;
        let said = String::from_utf8_lossy(&taken.stderr).into_owned();
        assert!(
            said.contains("There is already a site named onswick-night") && said.contains("Free are"),
            "{said}"
        );
        let needed = own.cli(&["site", "add", "ns1", "--account", "onswick", "--ingress", "harbour"]).await;
        assert!(String::from_utf8_lossy(&needed.stderr).contains("the platform needs for itself"));
        own.daemon.stop().await;
    });
}

#[test]
fn a_suspended_account_loses_nothing_but_its_routes_and_a_plan_is_kept_to() {
    stage();
    stage::run(async {
        let own = own(own_setup("plan", 116).await, "plan", 116).await;
        let host = format!("lines.{}", fresh_zone("plan"));
        own.published(&host).await;
        own.live(&host).await;
        let serial = own.serial(&host).await;

        own.cli_json(&["account", "suspend", "onswick"]).await;
        assert_eq!(route(&own, &host).await, Value::Null);
        assert_eq!(route(&own, "onswick.quaymark.example").await, Value::Null);
        let rests = own.cli(&["survey", &host]).await;
        assert!(String::from_utf8_lossy(&rests.stderr).contains("Resume it first"));
        let more = own.cli(&["enrol", &format!("x.{host}"), "--site", "onswick"]).await;
        assert!(String::from_utf8_lossy(&more.stderr).contains("suspended"));
        own.cli_json(&["account", "resume", "onswick"]).await;
        assert_eq!(route(&own, &host).await["site"], "onswick");
        own.live(&host).await;
        assert_eq!(own.serial(&host).await, serial);

        own.cli_json(&["pause", &host]).await;
        let paused = own.cli_json(&["explain", &host]).await;
        assert_eq!((&paused["stage"], &paused["next_look"]), (&json!("paused"), &Value::Null));
        assert_eq!(route(&own, &host).await["site"], "onswick", "what is served stays");
        own.cli_json(&["resume", &host]).await;
        own.live(&host).await;

        own.cli_json(&[
            "account",
            "change",
            "onswick",
            "--allowance",
            "1",
            "--contact",
            "office@onswick.example",
        ])
        .await;
        let second = format!("boats.{}", fresh_zone("plan"));
        let full = own.cli(&["enrol", &second, "--site", "onswick"]).await;
        let said = String::from_utf8_lossy(&full.stderr).into_owned();
        assert!(said.contains("one custom domain, and it is in use"), "{said}");
        own.cli_json(&["account", "change", "onswick", "--allowance", "unlimited"]).await;
        own.published(&second).await;
        own.cli_json(&["account", "change", "onswick", "--allowance", "0"]).await;
        own.found(&second, &["allowance-reached"]).await;
        own.live(&host).await;
        let none = own.cli(&["enrol", &format!("x.{second}"), "--site", "onswick"]).await;
        assert!(String::from_utf8_lossy(&none.stderr).contains("has no custom domains"));
        own.cli_json(&["account", "change", "onswick", "--allowance", "2"]).await;
        own.live(&second).await;
        let account = own.cli_json(&["account", "show", "onswick"]).await;
        assert_eq!((&account["allowance"]["used"], &account["allowance"]["granted"]), (&json!(2), &json!(2)));
        own.daemon.stop().await;
    });
}

#[test]
fn a_claim_that_is_not_proved_is_given_up_with_its_token_and_not_before() {
    stage();
    stage::run(async {
        let setup =
            with(own_setup("expired", 117).await, &["--claim-patience=6", "--grace=2", "--quick-looks=0"]);
        let own = own(setup.clone(), "expired", 117).await;
        let host = format!("lines.{}", fresh_zone("expired"));
        own.enrol(&stage().world, &host).await;
        own.looked_at(&host).await;
        let proved = format!("lines.{}", fresh_zone("expired"));
        let sheet = own.enrol(&stage().world, &proved).await;
        customer::publish(&stage().world.zones, &sheet, None).await.expect("published");
        own.live(&proved).await;
        let name = setup.database.rsplit('/').next().expect("a name").to_owned();
        asked(&name, "UPDATE domains SET token_expires_at = now() - interval '1 hour'").await;

        let ended = |host: String| {
            let own = &own;
            move || {
                let host = host.clone();
                async move { own.cli_json(&["explain", &host]).await["ended"]["ending"] == "expired" }
            }
        };
        until("it being given up", ended(host.clone())).await;
        assert_eq!(own.count(&host, "claim.expired").await, 1);
        own.live(&proved).await;

        // One that loses its proof loses its name after the grace, and itself after the
        // patience.
        customer::take_back(&stage().world.zones, &sheet).await.expect("taken back");
        until("it being given up too", ended(proved.clone())).await;
        let history = own.cli_json(&["history", &proved]).await;
        let at = |kind: &str| {
            let events = history.as_array().expect("events");
            let event = events.iter().find(|event| event["type"] == format!("nomenta.{kind}").as_str());
            let at = event.unwrap_or_else(|| panic!("{kind} is not in {history}"))["time"].as_str();
            DateTime::parse_from_rfc3339(at.expect("a time")).expect("a time")
        };
        assert!(at("claim.expired") - at("claim.dropped") >= Span::seconds(5), "{history}");
        own.daemon.stop().await;
    });
}

/// What people and machines do to a domain, each of which may meet any other.
const DEEDS: [&str; 11] =
    ["release", "rotate", "look", "renewal", "revoke", "enrol", "move", "suspend", "pause", "rule", "order"];

/// The open contest for a host.
async fn contest(own: &Own, host: &str) -> Option<String> {
    let (_, list) = status(own, "GET", "contests?limit=500", None).await;
    let open = list.as_array()?.iter().find(|contest| contest["host"] == host)?;
    open["id"].as_str().map(str::to_owned)
}

/// Takes a domain in for an account, and lets its customer publish; `beside` what stands
/// there for others, or in its place.
async fn proved(own: &Own, host: &str, account: &str, beside: bool) {
    let new = json!({ "host": host, "site": account });
    let (code, sheet) = status(own, "POST", "domains", Some(new)).await;
    assert!([201, 409].contains(&code), "{host} of {account}: {sheet}");
    if code == 201 {
        let sheet: Sheet = serde_json::from_value(sheet).expect("a sheet");
        let zones = &stage().world.zones;
        let published = match beside {
            true => customer::publish_also(zones, &sheet).await,
            false => customer::publish(zones, &sheet, None).await,
        };
        published.expect("published");
    }
}

/// Waits until an order is on its way for a domain, if one comes soon.
async fn ordered(own: &Own, host: &str, account: &str) {
    let path = format!("domains/{host}/certificate?account={account}");
    let is_open = || async { status(own, "GET", &path, None).await.1["order"]["state"] == "open" };
    let _ = wait_for("an order", Duration::from_secs(4), is_open).await;
}

/// Does one of them; the statuses that came back.
async fn deed(own: &Own, deed: &str, host: &str, account: &str) -> Vec<u16> {
    let path = |rest: &str| format!("domains/{host}{rest}?account={account}");
    let ruling = match deed {
        "rule" => contest(own, host).await.map(|id| format!("contests/{id}/ruling")),
        _ => None,
    };
    let calls = match deed {
        "release" => vec![("DELETE", path(""), None)],
        "rotate" => vec![("POST", path("/token"), None)],
        "look" => vec![("POST", path("/survey"), None)],
        "renewal" => vec![("POST", path("/certificate/renewal"), None)],
        "revoke" => vec![("POST", path("/certificate/revocation"), Some(json!({ "reason": "superseded" })))],
        "enrol" => vec![("POST", "domains".into(), Some(json!({ "host": host, "site": account })))],
        "move" => vec![("PATCH", path(""), Some(json!({ "site": format!("{account}-b") })))],
        "rule" => ruling
            .map(|path| ("POST", path, Some(json!({ "side": "challenger", "because": "a test" }))))
            .into_iter()
            .collect(),
        // It ends by itself, in the middle of whatever else is done.
        "order" => Vec::new(),
        "suspend" => vec![
            ("POST", format!("accounts/{account}/suspension"), None),
            ("DELETE", format!("accounts/{account}/suspension"), None),
        ],
        _ => vec![("POST", path("/pause"), None), ("DELETE", path("/pause"), None)],
    };

    let mut statuses = Vec::new();
    for (method, path, body) in calls {
        statuses.push(status(own, method, &path, body).await.0);
    }
    statuses
}

#[test]
fn whatever_meets_whatever_nothing_is_wedged_and_nothing_is_ordered_for_the_dead() {
    stage();
    let _turn = turns::to_fill_the_machine();
    stage::run(async {
        let options = ["--account-orders=100000", "--domain-orders=100000"];
        let setup = with(own_setup("meeting", 118).await, &options);
        let own = own(setup.clone(), "meeting", 118).await;
        let rounds = stage::heavy(50, 3);
        let mut pairs = Vec::new();
        for (index, one) in DEEDS.iter().enumerate() {
            pairs.extend(DEEDS[index..].iter().map(|other| (*one, *other)));
        }

        let failed = Mutex::new(Vec::new());
        let plays = pairs.iter().enumerate().map(|(index, (one, other))| {
            let (own, failed) = (&own, &failed);
            async move {
                let account = format!("m{index}");
                let rival = format!("r{index}");
                for (account, site) in [(&account, ""), (&account, "-b"), (&rival, "")] {
                    let _ = status(own, "POST", "accounts", Some(json!({ "name": account }))).await;
                    let site = format!("{account}{site}");
                    let new = json!({ "name": site, "account": account, "ingress": "harbour" });
                    assert_eq!(status(own, "POST", "sites", Some(new)).await.0, 201);
                }
                let host = format!("lines.{}", fresh_zone("meeting"));
                stage().world.zones.register(host.trim_start_matches("lines.")).await.expect("registered");
                let is_contested = [*one, *other].contains(&"rule");
                for round in 0..rounds {
                    proved(own, &host, &account, is_contested).await;
                    if is_contested {
                        proved(own, &host, &rival, true).await;
                    }
                    if [*one, *other].contains(&"order") {
                        ordered(own, &host, &account).await;
                    }
                    let (a, b) =
                        tokio::join!(deed(own, one, &host, &account), deed(own, other, &host, &account));
                    for code in a.into_iter().chain(b).filter(|code| *code >= 500) {
                        failed.lock().expect("no panic").push(format!("{one} and {other}, {round}: {code}"));
                    }
                }
                let (code, _) = status(own, "GET", &format!("domains/{host}?account={account}"), None).await;
                assert_eq!(code, 200, "{one} and {other}: the row cannot be read");
            }
        });
        join_all(plays).await;
        assert_eq!(*failed.lock().expect("no panic"), [""; 0]);

        // What was under way ends, and then nothing is left for what has ended.
        let name = setup.database.rsplit('/').next().expect("a name").to_owned();
        let count = |question: &'static str| {
            let name = name.clone();
            async move { asked(&name, question).await }
        };
        for (question, what) in [
            (
                "SELECT count(*) FROM tasks t JOIN domains d ON d.id = t.domain_id WHERE d.ended_at IS NOT NULL AND t.kind <> 'watch'",
                "tasks of the dead",
            ),
            (
                "SELECT count(*) FROM orders o JOIN domains d ON d.id = ANY(o.domain_ids) WHERE d.ended_at IS NOT NULL AND o.state = 'open'",
                "open orders of the dead",
            ),
            (
                "SELECT count(*) FROM orders o JOIN domains d ON d.id = o.domain_id WHERE o.placed_at > d.ended_at",
                "orders placed for the dead",
            ),
            (
                "SELECT count(*) FROM (SELECT 1 FROM domains WHERE held_since IS NOT NULL GROUP BY host HAVING count(*) > 1) h",
                "names with two holders",
            ),
            (
                "SELECT count(*) FROM domains d WHERE is_at_work AND NOT EXISTS (SELECT FROM tasks WHERE domain_id = d.id AND kind = 'look')",
                "domains that nobody looks at",
            ),
            (
                "SELECT count(*) FROM domains WHERE held_since IS NOT NULL AND ownership NOT IN ('passed', 'lapsed')",
                "held without a proof",
            ),
            (
                "SELECT count(*) FROM domains d WHERE ended_at IS NOT NULL AND (SELECT count(*) FROM events e WHERE e.domain_id = d.id AND e.kind IN ('domain.released', 'claim.lost', 'claim.expired')) <> 1",
                "not ended once",
            ),
        ] {
            assert_eq!(count(question).await.trim(), "0", "{what}");
        }
        let log = std::fs::read_to_string(stage().world.layout.state.join("postgres").join("log"));
        let deadlocks = log.expect("a log").lines().filter(|line| line.contains("deadlock detected")).count();
        assert_eq!(deadlocks, 0);
        own.daemon.stop().await;
    });
}
