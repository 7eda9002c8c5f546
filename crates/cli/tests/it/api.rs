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
    while let Ok(Some(event)) = tokio::time::timeout(stage::PATIENCE, events.next()).await {
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
        let (changed, _) = tokio::join!(waiting.send(), service.enrol(&stage().world, &host));
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
        for (path, want) in [("healthz", "ok"), ("readyz", "ready"), ("metrics", "nomenta_domains")] {
            let page = reqwest::get(format!("{}/{path}", service.setup.url())).await.expect("a page");
            assert!(page.text().await.expect("text").contains(want), "{path}");
        }
        let (_, document) = service.get("openapi.json").await;
        assert_eq!(document["openapi"], "3.1.0");
        for path in ["/api/v1/domains", "/api/v1/domains/{host}/sheet", "/api/v1/edge/feed", "/api/v1/events"]
        {
            assert!(document["paths"].get(path).is_some(), "{path} is not described");
        }
        let catalogue = service.get("findings").await.1;
        assert_eq!(catalogue.as_array().map(Vec::len), Some(nomenta_core::findings::CATALOGUE.len()));
    });
}
