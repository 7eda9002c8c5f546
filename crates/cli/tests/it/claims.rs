//! Several accounts claim one name: nobody locks it, takes it without a proof, or
//! learns what others have; and whose it is gets settled.

use std::collections::BTreeSet;

use nomenta_core::name::token::Token;
use nomenta_core::reading::record::RecordData;
use nomenta_core::sheet::Sheet;
use nomenta_core::sheet::line::Purpose;
use nomenta_world::zones::Change;
use nomenta_world::{customer, wait_for};
use reqwest::header::HeaderMap;
use serde_json::{Value, json};

use crate::own::{Own, own, own_setup, with};
use crate::stage::{self, EDGE_KEY, TIME_LIMIT, fresh_zone, stage};

/// Another account with a site, and a key that opens it alone.
pub(crate) struct Rival {
    pub name: &'static str,
    pub key: String,
}

impl Rival {
    pub(crate) async fn join(own: &Own, name: &'static str) -> Self {
        own.cli_json(&["account", "add", name]).await;
        own.cli_json(&["site", "add", name, "--account", name, "--ingress", "harbour"]).await;
        let made = own.cli_json(&["key", "add", "theirs", "--role", "operator", "--account", name]).await;
        Self { name, key: made["secret"].as_str().expect("a secret").to_owned() }
    }

    /// Calls as this account alone.
    async fn call(&self, own: &Own, method: &str, path: &str, body: &Value) -> (u16, HeaderMap, Value) {
        let mut request = own.request(method, path, &self.key);
        if !body.is_null() {
            request = request.json(body);
        }
        let answer = request.send().await.expect("an answer");
        let (status, headers) = (answer.status().as_u16(), answer.headers().clone());
        let text = answer.text().await.expect("text");
        (status, headers, serde_json::from_str(&text).unwrap_or(Value::String(text)))
    }

    pub(crate) async fn enrol(&self, own: &Own, host: &str) -> Sheet {
        let new = json!({ "host": host, "site": self.name });
        let (status, _, sheet) = self.call(own, "POST", "domains", &new).await;
        assert_eq!(status, 201, "{host}: {sheet}");
        serde_json::from_value(sheet).expect("a sheet")
    }
}

/// Everything about a claim, told by its account.
async fn detail(own: &Own, host: &str, account: &str) -> Value {
    own.cli_json(&["explain", host, "--account", account]).await
}

fn codes(detail: &Value) -> Vec<&str> {
    let findings = detail["findings"].as_array().expect("findings");
    findings.iter().filter_map(|finding| finding["code"].as_str()).collect()
}

async fn until(own: &Own, host: &str, account: &str, what: &str, is: impl Fn(&Value) -> bool) -> Value {
    let seen = std::sync::Mutex::new(Value::Null);
    let waited = wait_for(what, TIME_LIMIT, || async {
        let now = detail(own, host, account).await;
        let is_so = is(&now);
        *seen.lock().expect("no panic") = now;
        is_so
    });
    let waited = waited.await;
    let seen = seen.into_inner().expect("no panic");
    assert!(waited.is_ok(), "{host} of {account}: not {what}: {seen}");
    seen
}

/// The site that the edge is told to show for a host.
async fn routed(own: &Own, host: &str) -> Value {
    let (_, feed) = answer(own.request("GET", "edge/feed", EDGE_KEY)).await;
    let routes = feed["routes"].as_array().expect("routes");
    routes.iter().find(|route| route["host"] == host).map_or(Value::Null, |route| route["site"].clone())
}

async fn answer(request: reqwest::RequestBuilder) -> (u16, Value) {
    let answer = request.send().await.expect("an answer");
    (answer.status().as_u16(), answer.json().await.unwrap_or_default())
}

async fn contest(own: &Own, host: &str) -> Value {
    let list = own.cli_json(&["contest", "list"]).await;
    let found = list.as_array().expect("contests").iter().find(|contest| contest["host"] == host);
    found.cloned().unwrap_or_default()
}

/// What an answer looks like, without what is different for every zone.
fn shape(zone: &str, (status, headers, mut body): (u16, HeaderMap, Value)) -> (u16, Vec<String>, String) {
    let mut names: Vec<_> = headers.keys().map(ToString::to_string).collect();
    names.sort();
    let token = token_of(&body);
    body["token_expires_at"] = Value::Null;
    (status, names, body.to_string().replace(zone, "ZONE").replace(&token, "TOKEN"))
}

fn masked(token: &str) -> String {
    Token::from_stored(token.to_owned()).masked()
}

fn token_of(body: &Value) -> String {
    let lines = body["lines"].as_array().expect("lines");
    let value = lines.iter().find_map(|line| line["value"].as_str()?.strip_prefix("token="));
    value.expect("a token").to_owned()
}

#[test]
fn nobody_takes_shadows_inherits_or_learns_of_what_another_account_has() {
    stage();
    stage::run(async {
        let own = own(with(own_setup("takeover", 110).await, &["--look-contested=1"]), "takeover", 110).await;
        let rival = Rival::join(&own, "selkhaven").await;
        let zone = fresh_zone("takeover");
        let held = format!("lines.{zone}");
        own.published(&held).await;
        own.live(&held).await;
        let secret = own.cli_json(&["sheet", &held, "--reveal"]).await;
        let secret = token_of(&secret);

        // Taken, shadowed from above, below, beside and by wildcard: as if nobody had it.
        let tried = [
            held.clone(),
            zone.clone(),
            format!("a.{held}"),
            format!("*.{held}"),
            format!("*.{zone}"),
            format!("www.{held}"),
        ];
        for host in &tried {
            let other = fresh_zone("takeover");
            let enrol = |host: String| json!({ "host": host, "site": rival.name });
            let taken = rival.call(&own, "POST", "domains", &enrol(host.clone())).await;
            let free = rival.call(&own, "POST", "domains", &enrol(host.replace(&zone, &other))).await;
            assert_eq!(shape(&zone, taken), shape(&other, free), "{host}");
        }

        // Nor does a token that stands in the zone tell whose it is.
        let stray = fresh_zone("takeover");
        stage().world.zones.register(&stray).await.expect("registered");
        let owner = format!("_quaymark-challenge.lines.{stray}");
        let unknown = "token=qqqqqqqqrrrrrrrrssssssssttttttt2".to_owned();
        let data = RecordData::Txt(unknown.as_str().into());
        let add = Change::Add { owner, ttl: 5, data };
        stage().world.zones.update(&stray, &[add]).await.expect("updated");
        rival.enrol(&own, &format!("lines.{stray}")).await;
        let told = |detail: &Value| codes(detail) == ["token-altered"];
        let (one, other) = (held.clone(), format!("lines.{stray}"));
        let one = until(&own, &one, rival.name, "told what stands there", told).await;
        let other = until(&own, &other, rival.name, "told what stands there", told).await;
        // The same but for the ends of what stands there, which DNS tells anybody.
        let said = |detail: &Value, zone: &str, token: &str| {
            let remedy = detail["findings"][0]["remedy"].as_str().expect("text");
            remedy.replace(zone, "ZONE").replace(&masked(token), "TOKEN")
        };
        assert_eq!(said(&one, &zone, &secret), said(&other, &stray, &unknown["token=".len()..]));
        for host in [&held, &format!("lines.{stray}")] {
            let (_, _, checks) = rival
                .call(&own, "POST", &format!("domains/{host}/certificate/preflight"), &Value::Null)
                .await;
            let claim = checks.as_array().expect("checks").iter().find(|check| check["name"] == "claim");
            assert_eq!(claim.expect("the check")["said"], "Comes after ownership.");
            let survey =
                rival.call(&own, "GET", &format!("domains/{host}/survey"), &Value::Null).await.2.to_string();
            assert!(survey.contains('…') && !survey.contains(&unknown), "{host}: {survey}");
        }

        // Whoever runs the platform gets each record of the list whole, and they get theirs without.
        let board = format!("board.{stray}");
        let data = RecordData::Txt(unknown.as_str().into());
        let add = Change::Add { owner: board.clone(), ttl: 5, data };
        stage().world.zones.update(&stray, &[add]).await.expect("updated");
        rival.enrol(&own, &board).await;
        let is_listed = |detail: &Value| detail["todo"].to_string().contains("\"delete\"");
        until(&own, &board, rival.name, "told what to delete", is_listed).await;
        let revealed = format!("domains/{board}?reveal=true");
        let theirs = rival.call(&own, "GET", &revealed, &Value::Null).await.2.to_string();
        assert!(theirs.contains('…') && !theirs.contains(&unknown), "{theirs}");
        let (_, whole) = own.get(&format!("{revealed}&account={}", rival.name)).await;
        assert!(whole["todo"].to_string().contains(&unknown), "{whole}");

        // Everything else is not there for them, in the words for what is nowhere.
        let nowhere = format!("lines.{}", fresh_zone("nowhere"));
        for path in ["", "/sheet", "/survey", "/events", "/certificate", "/baseline"] {
            let of = |host: &str| format!("domains/{host}{path}?account=onswick");
            let (status, _, body) = rival.call(&own, "GET", &of(&held), &Value::Null).await;
            let (none, _, nothing) = rival.call(&own, "GET", &of(&nowhere), &Value::Null).await;
            assert_eq!((status, none), (404, 404), "{path}: {body}");
            assert_eq!(body.to_string().replace(&held, "X"), nothing.to_string().replace(&nowhere, "X"));
        }
        for path in ["contests", "keys", "certificates/account"] {
            assert_eq!(rival.call(&own, "GET", path, &Value::Null).await.0, 403, "{path}");
        }
        let move_theirs = json!({ "site": "onswick" });
        assert_eq!(rival.call(&own, "PATCH", &format!("domains/{held}"), &move_theirs).await.0, 404);
        let on_their_site = json!({ "host": format!("x.{zone}"), "site": "onswick" });
        assert_eq!(rival.call(&own, "POST", "domains", &on_their_site).await.0, 404);

        // Looked at, they get nothing, and see nothing of the other.
        for host in &tried {
            let looked = |detail: &Value| !detail["looked_at"].is_null();
            let theirs = until(&own, host, rival.name, "looked at", looked).await;
            assert_ne!(theirs["gates"][0]["state"], "passed", "{host} without a token of its own");
            assert!(theirs["certificate"].is_null() && theirs["held_since"].is_null(), "{host}");

            let (_, _, shown) = rival.call(&own, "GET", &format!("domains/{host}"), &Value::Null).await;
            let survey = rival.call(&own, "GET", &format!("domains/{host}/survey"), &Value::Null).await.2;
            let events = rival.call(&own, "GET", &format!("domains/{host}/events"), &Value::Null).await.2;
            for text in [shown, survey, events].map(|value| value.to_string()) {
                assert!(!text.contains(&secret), "{host} quotes the token of another");
                let told = text.replace("onswick.edge", "").replace("takeover.quaymark", "");
                assert!(!told.contains("\"onswick\""), "{host} names the other account: {told}");
            }
        }
        let roster = rival.call(&own, "GET", "domains", &Value::Null).await.2;
        let accounts: BTreeSet<_> =
            roster.as_array().expect("lines").iter().filter_map(|line| line["account"].as_str()).collect();
        assert_eq!(accounts, BTreeSet::from([rival.name]));

        assert_eq!(routed(&own, &held).await, "onswick");
        for host in &tried[1..] {
            assert_eq!(routed(&own, host).await, Value::Null, "{host}");
        }
        own.daemon.stop().await;
    });
}

#[test]
fn while_both_tokens_stand_an_engineer_rules_and_the_winners_certificate_comes_first() {
    stage();
    stage::run(async {
        let own = own(with(own_setup("ruled", 111).await, &["--look-contested=1"]), "ruled", 111).await;
        let rival = Rival::join(&own, "selkhaven").await;
        let host = format!("lines.{}", fresh_zone("ruled"));
        own.published(&host).await;
        own.live(&host).await;
        let former = own.serial(&host).await;

        let theirs = rival.enrol(&own, &host).await;
        let ambiguous = own.cli(&["explain", &host]).await;
        let said = String::from_utf8_lossy(&ambiguous.stderr).into_owned();
        assert!(
            said.contains("onswick and selkhaven claim") && said.contains("Say whose is meant"),
            "{said}"
        );

        customer::publish_only_also(&stage().world.zones, &theirs, Purpose::Ownership)
            .await
            .expect("published");
        let told = |detail: &Value| codes(detail) == ["claimed-twice"];
        let kept_back = |detail: &Value| told(detail) && detail["gates"][2]["state"] == "blocked";
        let challenger = until(&own, &host, rival.name, "kept back by the contest", kept_back).await;
        let holder = until(&own, &host, "onswick", "told of the contest", told).await;
        assert_eq!((&holder["stage"], &holder["contest"]["phase"]), (&json!("live"), &json!("ruling")));
        assert_eq!(routed(&own, &host).await, "onswick", "the holder goes on being served");
        let told = own.cli_json(&["history", &host, "--account", "onswick"]).await.to_string();
        assert!(!told.contains(&token_of(&json!(theirs))), "nobody quotes the token of another: {told}");
        assert!(challenger["certificate"].is_null(), "and nobody else is issued one");

        let open = contest(&own, &host).await;
        let id = open["id"].as_str().expect("an id");
        let silent = own.cli(&["contest", "rule", id, "--for", "challenger", "--because", " "]).await;
        assert!(String::from_utf8_lossy(&silent.stderr).contains("why, for the record"));
        own.cli_json(&["contest", "rule", id, "--for", "challenger", "--because", "sold with the line"])
            .await;

        let won = |detail: &Value| !detail["held_since"].is_null();
        let winner = until(&own, &host, rival.name, "holding the name", won).await;
        assert!(winner["certificate"]["serial"].is_string(), "its certificate was there first");
        assert_eq!(routed(&own, &host).await, rival.name);
        let gone = || async { stage().world.certificate_status(&former).await.is_ok_and(|s| s == "Revoked") };
        wait_for("the loser's certificate being revoked", TIME_LIMIT, gone).await.expect("revoked");

        let loser = detail(&own, &host, "onswick").await;
        assert_eq!((&loser["stage"], &loser["ended"]["ending"]), (&json!("released"), &json!("lost")));
        let revived = own.cli(&["survey", &host, "--account", "onswick"]).await;
        assert!(String::from_utf8_lossy(&revived.stderr).contains("left the platform"), "it stays lost");
        let settled = own.cli_json(&["contest", "list", "--settled"]).await;
        assert_eq!(settled[0]["settled"]["outcome"], "switched");
        assert_eq!(settled[0]["ruling"]["because"], "sold with the line");

        // A new holder sees nothing of the former one.
        let history = own.cli_json(&["history", &host, "--account", rival.name]).await.to_string();
        assert!(!history.contains(&former) && !history.contains("onswick"), "{history}");
        let shown = own.cli_json(&["certificate", "show", &host, "--account", rival.name]).await;
        assert_eq!(shown["revocations"], json!([]));
        own.daemon.stop().await;
    });
}

#[test]
fn a_holder_whose_token_is_gone_has_its_grace_and_then_loses_the_name() {
    stage();
    stage::run(async {
        let options = ["--look-contested=1", "--contest-grace=6"];
        let own = own(with(own_setup("gone", 112).await, &options), "gone", 112).await;
        let rival = Rival::join(&own, "selkhaven").await;
        let zones = &stage().world.zones;
        let host = format!("lines.{}", fresh_zone("gone"));
        let ours = own.enrol(&stage().world, &host).await;
        customer::publish(zones, &ours, None).await.expect("published");
        own.live(&host).await;

        let theirs = rival.enrol(&own, &host).await;
        customer::publish_only_also(zones, &theirs, Purpose::Ownership).await.expect("published");
        let contested = |detail: &Value| detail["contest"]["phase"] == "ruling";
        until(&own, &host, "onswick", "contested", contested).await;
        customer::withdraw(zones, &ours, Purpose::Ownership).await.expect("withdrawn");

        let in_grace = |detail: &Value| {
            let remedy = detail["findings"][0]["remedy"].as_str().unwrap_or_default();
            remedy.starts_with("Add the TXT record of your sheet") && remedy.contains("again by")
        };
        let told = until(&own, &host, "onswick", "told of its grace", in_grace).await;
        assert_eq!(codes(&told), ["claimed-twice"], "and of nothing else");
        assert_eq!(routed(&own, &host).await, "onswick");
        let seen = contest(&own, &host).await.to_string();
        for sheet in [&ours, &theirs] {
            assert!(!seen.contains(&token_of(&json!(sheet))), "whoever rules needs no token: {seen}");
        }

        let won = |detail: &Value| !detail["held_since"].is_null();
        until(&own, &host, rival.name, "holding the name", won).await;
        assert_eq!(routed(&own, &host).await, rival.name);
        own.daemon.stop().await;
    });
}

#[test]
fn a_holder_that_rests_keeps_no_name_whose_token_is_gone() {
    stage();
    stage::run(async {
        let options = ["--look-contested=1", "--contest-grace=3"];
        let own = own(with(own_setup("resting", 135).await, &options), "resting", 135).await;
        let rival = Rival::join(&own, "selkhaven").await;
        let zones = &stage().world.zones;
        let zone = fresh_zone("resting");
        let hosts = ["paused", "suspended"].map(|name| format!("{name}.{zone}"));
        let mut sheets = Vec::new();
        for host in &hosts {
            let ours = own.enrol(&stage().world, host).await;
            customer::publish(zones, &ours, None).await.expect("published");
            own.live(host).await;
            sheets.push(ours);
        }
        let [paused, _] = &hosts;
        assert!(own.cli(&["pause", paused]).await.status.success());
        let (status, told) = own.post("accounts/onswick/suspension", &json!({})).await;
        assert_eq!(status, 204, "{told}");

        for (host, ours) in hosts.iter().zip(&sheets) {
            let theirs = rival.enrol(&own, host).await;
            customer::publish_only_also(zones, &theirs, Purpose::Ownership).await.expect("published");
            let contested = |detail: &Value| detail["contest"]["phase"] == "ruling";
            let told = until(&own, host, "onswick", "contested", contested).await;
            assert_eq!(told["stage"] == "paused", host == paused, "{told}");
            customer::withdraw(zones, ours, Purpose::Ownership).await.expect("withdrawn");
            let won = |detail: &Value| !detail["held_since"].is_null();
            until(&own, host, rival.name, "holding the name", won).await;
        }
        own.daemon.stop().await;
    });
}

#[test]
fn a_name_and_its_wildcard_have_their_tokens_beside_each_other() {
    stage();
    stage::run(async {
        let service = &stage().service;
        let zones = &stage().world.zones;
        let zone = fresh_zone("beside");
        let apex = service.enrol(&stage().world, &zone).await;
        customer::publish(zones, &apex, None).await.expect("published");
        service.live(&zone).await;

        let wildcard = format!("*.{zone}");
        let under = service.cli_json(&["enrol", &wildcard, "--site", "onswick"]).await;
        let under: Sheet = serde_json::from_value(under).expect("a sheet");
        service.looked_at(&wildcard).await;
        service.found(&wildcard, &["token-altered"]).await;
        let detail = service.cli_json(&["explain", &wildcard]).await;
        let remedy = detail["findings"][0]["remedy"].as_str().expect("text");
        assert!(remedy.starts_with("Add the TXT record"), "{remedy}");
        assert!(remedy.contains(&format!("It is the token of {zone}")), "{remedy}");
        assert!(!detail.to_string().contains(&token_of(&json!(apex))), "it is not quoted");

        customer::publish_also(zones, &under).await.expect("published");
        service.live(&wildcard).await;
        service.live(&zone).await;
        service.found(&zone, &[]).await;
    });
}

#[test]
fn an_account_proves_a_zone_once_and_its_names_there_need_routing_alone() {
    stage();
    stage::run(async {
        let service = &stage().service;
        let zones = &stage().world.zones;
        let zone = fresh_zone("once");
        zones.register(&zone).await.expect("registered");
        let first = format!("lines.{zone}");
        let sheet = service.cli_json(&["enrol", &first, "--site", "onswick", "--by-zone"]).await;
        let sheet: Sheet = serde_json::from_value(sheet).expect("a sheet");
        assert_eq!(sheet.challenge.as_str(), format!("_quaymark-challenge.{zone}"));
        customer::publish(zones, &sheet, None).await.expect("published");
        service.live(&first).await;

        let second = format!("boats.{zone}");
        let next = service.cli_json(&["enrol", &second, "--site", "onswick", "--by-zone"]).await;
        let next: Sheet = serde_json::from_value(next).expect("a sheet");
        assert_eq!(token_of(&json!(next)), token_of(&json!(sheet)), "the same token is enough");
        customer::publish_only_also(zones, &next, Purpose::Routing).await.expect("published");
        service.live(&second).await;

        // What was proved in time goes on proving the zone.
        let late =
            format!("UPDATE domains SET token_expires_at = now() - interval '1 day' WHERE host = '{first}'");
        stage().world.statement("stage", &late).await.expect("late");
        let third = format!("piers.{zone}");
        let last = service.cli_json(&["enrol", &third, "--site", "onswick", "--by-zone"]).await;
        let last: Sheet = serde_json::from_value(last).expect("a sheet");
        assert_eq!(token_of(&json!(last)), token_of(&json!(sheet)));
        customer::publish_only_also(zones, &last, Purpose::Routing).await.expect("published");
        service.live(&third).await;
    });
}
