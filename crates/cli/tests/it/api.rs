//! The API as a program meets it.

use std::time::{Duration, Instant};

use futures::StreamExt;
use nomenta_world::customer;
use serde_json::{Value, json};

use crate::stage::{self, ADMIN, EDGE_KEY, Service, fresh_zone, stage};

async fn status(service: &Service, method: &str, path: &str, key: &str) -> u16 {
    let request = service.request(method, path, key).json(&json!({}));
    request.send().await.expect("an answer").status().as_u16()
}

#[test]
fn each_role_opens_its_own_calls_and_a_revoked_key_none() {
    stage();
    stage::run(async {
        let service = &stage().service;
        let mut keys = Vec::new();
        for role in ["viewer", "operator"] {
            let (made, key) = service.post("keys", &json!({ "name": role, "role": role })).await;
            assert_eq!(made, 201);
            keys.push((key["secret"].as_str().expect("secret").to_owned(), key["id"].clone()));
        }
        let (viewer, operator) = (keys[0].0.as_str(), keys[1].0.as_str());
        // 422: the role is enough, and the empty body is refused.
        for (method, path, wanted) in [
            ("GET", "domains", [200, 200, 200, 403, 401]),
            ("POST", "domains", [403, 422, 422, 403, 401]),
            ("POST", "accounts", [403, 403, 422, 403, 401]),
            ("GET", "keys", [403, 403, 200, 403, 401]),
            ("GET", "edge/feed", [403, 403, 403, 200, 401]),
        ] {
            for (key, want) in [viewer, operator, ADMIN, EDGE_KEY, "wrong"].into_iter().zip(wanted) {
                // A body that cannot be read is answered before the role is looked at.
                let got = status(service, method, path, key).await;
                let body_first = got == 422 && want == 403;
                assert!(got == want || body_first, "{method} {path} with {key}: {got}, not {want}");
            }
        }
        let listed = service.get("keys").await.1.to_string();
        assert!(!listed.contains(viewer) && !listed.contains(operator), "secrets are never listed");
        let path = format!("keys/{}", keys[0].1.as_str().expect("id"));
        assert_eq!(status(service, "DELETE", &path, ADMIN).await, 204);
        assert_eq!(status(service, "GET", "domains", viewer).await, 401);
    });
}

#[test]
fn bad_input_is_a_problem_document_that_names_the_field() {
    stage();
    stage::run(async {
        let service = &stage().service;
        let taken = fresh_zone("taken");
        stage().service.enrol(&stage().world, &taken).await;
        for (path, body, want, field) in [
            ("domains", json!({ "host": "192.0.2.7", "site": "onswick" }), 422, "host"),
            ("domains", json!({ "host": "post@a.example", "site": "onswick" }), 422, "host"),
            ("domains", json!({ "host": "a.quaymark.example", "site": "onswick" }), 422, "host"),
            ("domains", json!({ "host": taken, "site": "onswick" }), 409, "host"),
            ("domains", json!({ "host": fresh_zone("x"), "site": "nowhere" }), 404, "site"),
            ("accounts", json!({ "name": "Two Words" }), 422, "name"),
            ("accounts", json!({ "name": "onswick" }), 409, "name"),
            ("sites", json!({ "name": "s1", "account": "nobody", "ingress": "harbour" }), 404, "account"),
            ("sites", json!({ "name": "s1", "account": "onswick", "ingress": "none" }), 404, "ingress"),
            (
                "ingresses",
                json!({ "name": "i", "ipv4": [], "canonical": "edge.quaymark.example" }),
                422,
                "ipv4",
            ),
            ("ingresses", json!({ "name": "i", "ipv4": ["1.2.3"], "canonical": "e.q.example" }), 422, "ipv4"),
            (
                "ingresses",
                json!({ "name": "i", "ipv4": ["127.0.0.1"], "canonical": "{x}.q.example" }),
                422,
                "canonical",
            ),
            ("session", json!({ "key": "wrong" }), 422, "key"),
            ("session", json!({ "key": EDGE_KEY }), 422, "key"),
        ] {
            let response = service.request("POST", path, ADMIN).json(&body).send().await.expect("an answer");
            assert_eq!(response.status().as_u16(), want, "{path} {body}");
            assert_eq!(response.headers()["content-type"], "application/problem+json");
            let problem: Value = response.json().await.expect("JSON");
            assert_eq!(problem["errors"][0]["field"], field, "{body}: {problem}");
            assert!(problem["detail"].as_str().is_some_and(|d| d.len() > 20), "{problem}");
        }
        let (missing, _) = service.get("domains/unknown.example").await;
        assert_eq!(missing, 404);
        let (nonsense, problem) = service.get("domains?stage=lost").await;
        assert_eq!((nonsense, &problem["errors"][0]["field"]), (422, &json!("stage")));
    });
}

#[test]
fn the_roster_comes_in_pages_that_link_to_the_next() {
    stage();
    stage::run(async {
        let (service, zone) = (&stage().service, fresh_zone("pages"));
        for n in 0..5 {
            service.enrol(&stage().world, &format!("w{n}.{zone}")).await;
        }
        let mut path = format!("domains?text={zone}&limit=2");
        let mut hosts = Vec::new();
        loop {
            let response = service.request("GET", &path, ADMIN).send().await.expect("an answer");
            let link = response.headers().get("link").map(|l| l.to_str().expect("text").to_owned());
            let lines: Vec<Value> = response.json().await.expect("JSON");
            hosts.extend(lines.iter().map(|l| l["host"].as_str().expect("host").to_owned()));
            let Some(link) = link else { break };
            let next = link.split_once("/api/v1/").and_then(|(_, rest)| rest.split_once('>'));
            path = next.expect("a link").0.to_owned();
        }
        let want: Vec<_> = (0..5).map(|n| format!("w{n}.{zone}")).collect();
        assert_eq!(hosts, want);
    });
}

#[test]
fn live_events_arrive_and_resume_without_gap_or_repeat() {
    stage();
    stage::run(async {
        let (service, host) = (&stage().service, fresh_zone("events"));
        let stream = service.request("GET", "events", ADMIN).send().await.expect("a stream");
        let sheet = service.enrol(&stage().world, &host).await;
        customer::publish(&stage().world.zones, &sheet, None).await.expect("published");
        let heard = collect(stream, &host, "certificate.issued").await;
        let again = service.request("GET", &format!("events?after={}", heard[0].0 - 1), ADMIN);
        let resumed = collect(again.send().await.expect("a stream"), &host, "certificate.issued").await;
        assert_eq!(heard, resumed);
        assert_eq!(heard[0].1, "nomenta.domain.enrolled");
    });
}

/// Sequence number and kind of one domain's events, up to a kind.
async fn collect(stream: reqwest::Response, host: &str, last: &str) -> Vec<(i64, String)> {
    let mut events = eventsource_stream::Eventsource::eventsource(stream.bytes_stream());
    let mut heard = Vec::new();
    while let Ok(Some(event)) = tokio::time::timeout(stage::TIME_LIMIT, events.next()).await {
        let event: Value = serde_json::from_str(&event.expect("an event").data).expect("JSON");
        if event["subject"] == host {
            let kind = event["type"].as_str().expect("a kind").to_owned();
            let done = kind.ends_with(last);
            heard.push((event["sequence"].as_i64().expect("a number"), kind));
            if done {
                return heard;
            }
        }
    }
    panic!("{last} was not heard; only {heard:?}");
}

#[test]
fn the_edge_feed_answers_a_long_poll_as_soon_as_something_changes() {
    stage();
    stage::run(async {
        let (service, host) = (&stage().service, fresh_zone("feed"));
        let first = service.request("GET", "edge/feed", EDGE_KEY).send().await.expect("a feed");
        let etag = first.headers()["etag"].clone();
        let waiting = service.request("GET", "edge/feed?wait=30", EDGE_KEY).header("if-none-match", etag);
        let start = Instant::now();
        let (changed, _) = tokio::join!(waiting.send(), service.published(&host));
        let changed = changed.expect("a feed");
        assert_eq!(changed.status(), 200);
        assert!(start.elapsed() < Duration::from_secs(25), "it came before the wait was over");
        let mut etag = changed.headers()["etag"].clone();
        // Other tests change the feed too, so a quiet moment may need some tries.
        for _ in 0..100 {
            let poll =
                service.request("GET", "edge/feed?wait=1", EDGE_KEY).header("if-none-match", etag.clone());
            let answer = poll.send().await.expect("an answer");
            if answer.status() == 304 {
                return;
            }
            etag = answer.headers()["etag"].clone();
        }
        panic!("the feed never kept still");
    });
}

#[test]
fn revising_an_ingress_is_a_new_revision_and_needs_a_known_name() {
    stage();
    stage::run(async {
        let service = &stage().service;
        let name = fresh_zone("i").replace(".example", "");
        let words = ["ingress", "add", &name, "--ipv4", "127.77.5.1", "--canonical", "e.quaymark.example"];
        assert_eq!(service.cli_json(&words).await["revision"], 1);
        let words = ["ingress", "revise", &name, "--ipv4", "127.77.5.2", "--canonical", "e.quaymark.example"];
        let revised = service.cli_json(&words).await;
        assert_eq!((&revised["revision"], &revised["ipv4"]), (&json!(2), &json!(["127.77.5.2"])));
        let words =
            ["ingress", "revise", "nowhere", "--ipv4", "127.77.5.2", "--canonical", "e.quaymark.example"];
        assert_eq!(service.cli(&words).await.status.code(), Some(1));
    });
}

#[test]
fn operations_have_their_pages_and_the_document_describes_the_calls() {
    stage();
    stage::run(async {
        let service = &stage().service;
        for (path, want) in [("healthz", "ok"), ("readyz", "ready"), ("metrics", "No key was given")] {
            let page = reqwest::get(format!("{}/{path}", service.setup.url())).await.expect("a page");
            assert!(page.text().await.expect("text").contains(want), "{path}");
        }
        assert!(service.metrics().await.contains("nomenta_domains"));
        let (_, document) = service.get("openapi.json").await;
        assert_eq!(document["openapi"], "3.1.0");
        for path in ["/api/v1/domains", "/api/v1/domains/{host}/sheet", "/api/v1/edge/feed", "/api/v1/events"]
        {
            assert!(document["paths"].get(path).is_some(), "{path} is not described");
        }
        let catalogue = service.get("findings").await.1;
        assert_eq!(catalogue.as_array().map(Vec::len), Some(nomenta_core::judge::findings::CATALOGUE.len()));
    });
}

#[test]
fn the_console_is_signed_in_by_a_strict_cookie_that_dies_with_its_key() {
    stage();
    stage::run(async {
        let service = &stage().service;
        let (_, key) = service.post("keys", &json!({ "name": "console", "role": "viewer" })).await;
        let url = format!("{}/api/v1/session", service.setup.url());
        let client = reqwest::Client::new();
        let signed =
            client.post(&url).json(&json!({ "key": key["secret"] })).send().await.expect("an answer");
        let cookie = signed.headers()["set-cookie"].to_str().expect("text").to_owned();
        for want in ["HttpOnly", "SameSite=Strict", "Path=/"] {
            assert!(cookie.contains(want), "{cookie}");
        }
        let secret = key["secret"].as_str().expect("a secret");
        assert!(!cookie.contains(secret), "the key itself is not in it");
        let pair = cookie.split(';').next().expect("a pair").to_owned();
        let who = async |pair: &str| {
            let answer = client.get(&url).header("cookie", pair).send().await.expect("an answer");
            (answer.status().as_u16(), answer.json::<Value>().await.unwrap_or_default())
        };
        let (status, me) = who(&pair).await;
        assert_eq!((status, &me["role"]), (200, &json!("viewer")));
        assert_eq!(who(&format!("{pair}x")).await.0, 401, "a changed cookie opens nothing");
        assert_eq!(who("nomenta_session=").await.0, 401);
        let left = client.delete(&url).header("cookie", &pair).send().await.expect("an answer");
        assert!(left.headers()["set-cookie"].to_str().expect("text").contains("Max-Age=0"));
        let path = format!("keys/{}", key["id"].as_str().expect("an id"));
        assert_eq!(status_of(service, "DELETE", &path).await, 204);
        assert_eq!(who(&pair).await.0, 401, "the session ended with its key");
    });
}

async fn status_of(service: &Service, method: &str, path: &str) -> u16 {
    status(service, method, path, ADMIN).await
}

#[test]
fn console_files_are_served_with_safe_headers_and_unknown_calls_are_problems() {
    stage();
    stage::run(async {
        let url = stage().service.setup.url();
        let get = async |path: &str| reqwest::get(format!("{url}{path}")).await.expect("an answer");
        for path in ["/", "/domains/www.onswick.example", "/sign-in"] {
            let page = get(path).await;
            assert_eq!(page.status(), 200, "{path}");
            assert_eq!(page.headers()["x-content-type-options"], "nosniff");
            assert!(
                page.headers()["content-security-policy"]
                    .to_str()
                    .expect("text")
                    .contains("default-src 'self'")
            );
            assert_eq!(page.headers()["cache-control"], "no-cache");
            assert!(page.text().await.expect("text").contains("<title>Nomenta</title>"), "{path}");
        }
        let page = get("/").await.text().await.expect("text");
        let script = page.split('"').find(|part| part.ends_with(".js")).expect("a script").to_owned();
        let script = get(&script).await;
        assert!(script.headers()["cache-control"].to_str().expect("text").contains("immutable"));
        assert_eq!(script.headers()["content-type"], "text/javascript");
        let unknown = get("/api/v1/nonsense").await;
        assert_eq!(unknown.status(), 404);
        let problem: Value = unknown.json().await.expect("JSON");
        assert_eq!(problem["type"], "urn:nomenta:problem:not-found");
    });
}

#[test]
fn a_body_or_query_that_cannot_be_read_is_answered_in_kind() {
    stage();
    stage::run(async {
        let service = &stage().service;
        for (path, body, kind, want) in [
            ("domains", "{", "application/json", 400),
            ("domains", "{\"host\": 7, \"site\": \"onswick\"}", "application/json", 422),
            ("domains", "host=a", "application/x-www-form-urlencoded", 415),
            ("keys", "{\"name\": \"x\", \"role\": \"root\"}", "application/json", 422),
            ("keys", "{\"name\": \"  \", \"role\": \"viewer\"}", "application/json", 422),
        ] {
            let request = service.request("POST", path, ADMIN).header("content-type", kind).body(body);
            let response = request.send().await.expect("an answer");
            assert_eq!(response.status().as_u16(), want, "{body}");
            assert_eq!(response.headers()["content-type"], "application/problem+json", "{body}");
        }
        let (odd, problem) = service.get("domains?limit=many").await;
        assert_eq!((odd, &problem["errors"][0]["field"]), (422, &json!("limit")));
        let big = json!({ "host": "a".repeat(2 << 20), "site": "onswick" });
        assert_eq!(service.post("domains", &big).await.0, 413);
    });
}

#[test]
fn the_survey_carries_server_rcode_ttl_and_round_trip() {
    stage();
    stage::run(async {
        let (service, host) = (&stage().service, fresh_zone("survey"));
        let sheet = service.enrol(&stage().world, &host).await;
        customer::publish(&stage().world.zones, &sheet, None).await.expect("published");
        service.live(&host).await;
        let view = service.cli_json(&["survey", &host]).await;
        let survey = &view["survey"];
        assert_eq!(survey["zone"]["apex"], host.as_str());
        assert_eq!(survey["zone"]["servers"].as_array().map(Vec::len), Some(2));
        let readings = survey["readings"].as_array().expect("readings");
        let vantages = readings.iter().filter(|r| r["source"]["kind"] == "vantage");
        let names: std::collections::BTreeSet<_> =
            vantages.filter_map(|r| r["source"]["name"].as_str()).collect();
        assert_eq!(names.into_iter().collect::<Vec<_>>(), ["north", "south", "west"]);
        let txt = readings.iter().find(|r| r["rtype"] == "TXT" && r["source"]["kind"] == "authority");
        let txt = txt.expect("a TXT reading");
        assert_eq!((&txt["rcode"], &txt["authoritative"]), (&json!("NOERROR"), &json!(true)));
        assert_eq!((&txt["records"][0]["ttl"], &txt["source"]["address"]), (&json!(5), &json!("127.53.2.1")));
        assert!(txt["rtt_ms"].is_u64());
        let detail = service.cli_json(&["explain", &host]).await;
        let lines = detail["lines"].as_array().expect("lines");
        let chosen = lines.iter().filter(|l| l["way"] == "challenge-txt" || l["way"] == "addresses");
        let cells = chosen.flat_map(|l| l["cells"].as_array().expect("cells"));
        assert!(cells.clone().count() >= 20 && cells.clone().all(|c| c["verdict"] == "match"), "{lines:?}");
        assert_eq!(detail["spread"], 1.0);
    });
}
