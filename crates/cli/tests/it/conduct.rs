//! What holds for every call of the API, whoever makes it and however oddly.

use std::time::{Duration, Instant};

use futures::future::join_all;
use nomenta_world::wait_for;
use reqwest::{Client, Response};
use serde_json::{Value, json};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;
use tokio::time::timeout;

use crate::browser::Browser;
use crate::own::own;
use crate::stage::{self, ADMIN, EDGE_KEY, Service, TIME_LIMIT, fresh_zone, setup, stage};

fn service() -> &'static Service {
    &stage().service
}

fn url(path: &str) -> String {
    format!("{}{path}", service().setup.url())
}

/// Sends a request as it stands, however wrong, and returns status line, headers and body.
async fn raw(request: &str) -> String {
    let mut stream = TcpStream::connect(service().setup.listen).await.expect("connected");
    stream.write_all(request.as_bytes()).await.expect("sent");
    let mut answer = Vec::new();
    stream.read_to_end(&mut answer).await.expect("an answer");
    String::from_utf8_lossy(&answer).into_owned()
}

async fn problem(response: Response, status: u16, kind: &str) -> Value {
    assert_eq!(response.status().as_u16(), status, "{response:?}");
    assert_eq!(response.headers()["content-type"], "application/problem+json", "{response:?}");
    let problem: Value = response.json().await.expect("JSON");
    assert_eq!(problem["type"], format!("urn:nomenta:problem:{kind}"), "{problem}");
    problem
}

#[test]
fn every_refusal_is_a_problem_document_and_html_is_of_the_consoles_places_alone() {
    stage();
    stage::run(async {
        let client = Client::new();
        let send = async |method: &str, path: &str| {
            let method = method.parse().expect("a method");
            client.request(method, url(path)).bearer_auth(ADMIN).send().await.expect("an answer")
        };
        for path in ["/api/v1/nonsense", "/api/v2/domains", "/api", "/nonsense", "/domains/", "/assets/no.js"]
        {
            problem(send("GET", path).await, 404, "not-found").await;
        }
        let refused = send("PATCH", "/api/v1/domains").await;
        assert!(refused.headers()["allow"].to_str().expect("text").contains("POST"));
        problem(refused, 405, "method").await;
        problem(send("POST", "/accounts").await, 405, "method").await;
        problem(send("DELETE", "/healthz").await, 405, "method").await;
        problem(send("GET", "/api/v1/contests/no-id").await, 404, "not-found").await;
        problem(send("GET", "/api/v1/accounts/a%00b").await, 404, "not-found").await;
        problem(send("GET", "/api/v1/accounts/%ff").await, 400, "path").await;
        problem(send("GET", "/api/v1/domains?text=%ff").await, 400, "query").await;
        problem(send("GET", "/api/v1/domains?text=%zz").await, 400, "query").await;

        let zone = "x".repeat(33 << 20);
        let host = fresh_zone("large");
        service().enrol(&stage().world, &host).await;
        let large = service().request("POST", &format!("domains/{host}/rehearsal"), ADMIN).body(zone);
        assert_eq!(large.send().await.expect("an answer").status(), 422, "told at its field");
        let kind =
            service().request("POST", "accounts", ADMIN).header("content-type", "text/plain").body("{}");
        problem(kind.send().await.expect("an answer"), 415, "media-type").await;
        let broken = service().request("POST", "accounts", ADMIN).header("content-type", "application/json");
        problem(broken.body("{\"name\": \"\u{0}").send().await.expect("an answer"), 400, "body").await;
    });
}

#[test]
fn whoever_shows_no_key_is_told_how_and_the_scheme_is_read_in_any_spelling() {
    stage();
    stage::run(async {
        let client = Client::new();
        let with = async |authorization: &str| {
            let request = client.get(url("/api/v1/session")).header("authorization", authorization);
            request.send().await.expect("an answer")
        };
        for spelling in ["Bearer", "bearer", "BEARER", "bEaReR "] {
            assert_eq!(with(&format!("{spelling} {ADMIN}")).await.status(), 200, "{spelling}");
        }
        for wrong in ["", "Basic abc", "Bearer", "Bearer wrong", "Bearer \u{e4}"] {
            let answer = with(wrong).await;
            assert!(
                answer.headers()["www-authenticate"].to_str().expect("text").starts_with("Bearer"),
                "{wrong}"
            );
            problem(answer, 401, "key-needed").await;
        }
    });
}

#[test]
fn no_input_is_answered_with_a_fault_of_the_service() {
    stage();
    stage::run(async {
        for path in [
            "domains?text=%00",
            "domains?account=%00",
            "domains?after=%00",
            "domains?operator=a%00b",
            "domains?limit=99999999999999999999",
            "domains?limit=-1",
            "domains?older_than=4294967295",
            "certificates?within_days=100000000",
            "certificates?within_days=4294967295",
            "certificates?after=-9000000000000000.00000000-0000-0000-0000-000000000000",
            "certificates?after=9223372036854775807.00000000-0000-0000-0000-000000000000",
            "domains?sort=moved&after=-62135596800000001.00000000-0000-0000-0000-000000000000",
            "contests?after=-1.00000000-0000-0000-0000-000000000000",
            "events?after=-9223372036854775808",
            "accounts?text=%00",
            "sites?after=%00",
            "keys?after=x",
            "domains?unknown=1",
            "domains?stage=live&stage=live",
            "stages",
        ] {
            let (status, problem) = service().get(path).await;
            assert!((400..500).contains(&status), "{path}: {status} {problem}");
            assert!(problem["detail"].as_str().is_some_and(|detail| detail.len() > 10), "{path}: {problem}");
        }

        let nul = "a\0b";
        for (path, body) in [
            ("domains", json!({ "host": nul, "site": "onswick" })),
            ("domains", json!({ "host": "a.example", "site": nul })),
            ("accounts", json!({ "name": "nul", "title": nul })),
            ("accounts", json!({ "name": "nul", "notes": nul })),
            ("accounts", json!({ "name": "nul", "title": "a\nb" })),
            ("accounts", json!({ "name": "nul", "title": "x".repeat(201) })),
            ("accounts", json!({ "name": "nul", "unknown": 1 })),
            ("accounts", json!({ "name": "nul", "allowance": { "domains": -1 } })),
            ("sites", json!({ "name": "nul", "account": nul, "ingress": "harbour" })),
            (
                "sites",
                json!({ "name": "nul", "account": "onswick", "ingress": "harbour", "entry_path": "//evil.example" }),
            ),
            (
                "sites",
                json!({ "name": "nul", "account": "onswick", "ingress": "harbour", "entry_path": "/\\evil.example" }),
            ),
            ("keys", json!({ "name": nul, "role": "viewer" })),
            ("keys", json!({ "name": "x", "role": "viewer", "account": nul })),
            ("session", json!({ "key": nul })),
            ("accounts", json!({ "name": "nul", nul: 1 })),
            ("jobs", json!({ "domains": {}, "act": { nul: nul, "do": "release" } })),
            ("domains", json!({ "host": "127\u{3002}0\u{3002}0\u{3002}1", "site": "onswick" })),
            ("domains", json!([])),
            ("domains", json!(null)),
        ] {
            let (status, problem) = service().post(path, &body).await;
            assert!((400..500).contains(&status), "{path} {body}: {status} {problem}");
            assert!(!problem.to_string().contains("\\u0000"), "{path}: {problem}");
        }
        let (missing, problem) = service().post("accounts", &json!({ "title": "x" })).await;
        assert_eq!((missing, &problem["errors"][0]["field"]), (422, &json!("name")));
        assert!(
            problem["detail"].as_str().expect("text").contains("letters, digits and hyphens"),
            "{problem}"
        );

        // What is no request at all is refused by the connection, and the service goes on.
        for request in ["GET\r\n\r\n", "\0\0\0\0\r\n\r\n", "GET / HTTP/9.9\r\n\r\n"] {
            assert!(!raw(request).await.contains(" 5"), "{request:?}");
        }
        assert_eq!(service().get("session").await.0, 200);
    });
}

#[test]
fn the_form_of_an_answer_is_what_is_wanted_most() {
    stage();
    stage::run(async {
        let host = fresh_zone("forms");
        service().enrol(&stage().world, &host).await;
        let ask = async |accept: &str| {
            let request = service().request("GET", &format!("domains/{host}/sheet"), ADMIN);
            request.header("accept", accept).send().await.expect("an answer")
        };
        for (accept, want) in [
            ("*/*", "application/json"),
            ("application/json, text/plain, */*", "application/json"),
            ("text/html,application/xhtml+xml,application/xml;q=0.9,*/*;q=0.8", "application/json"),
            ("text/csv;q=0.2, text/markdown;q=0.7", "text/markdown; charset=utf-8"),
            ("text/plain, application/json", "text/plain; charset=utf-8"),
        ] {
            let answer = ask(accept).await;
            assert_eq!(answer.headers()["content-type"], want, "{accept}");
            assert!(answer.headers().get_all("vary").iter().any(|vary| vary == "Accept"), "{accept}");
            assert_eq!(answer.headers()["cache-control"], "no-store");
        }
        problem(ask("image/png").await, 406, "not-acceptable").await;
    });
}

#[test]
fn answers_and_files_are_compressed_and_files_are_sent_once() {
    stage();
    stage::run(async {
        let client = Client::new();
        let ask = async |path: &str, name: &str, value: &str| {
            client.get(url(path)).bearer_auth(ADMIN).header(name, value).send().await.expect("an answer")
        };
        for (coding, offered) in [("br", "gzip, deflate, br"), ("gzip", "gzip")] {
            let page = ask("/", "accept-encoding", offered).await;
            assert_eq!(page.headers()["content-encoding"], coding);
            assert_eq!(page.headers()["vary"], "Accept-Encoding");
            let document = ask("/api/v1/openapi.json", "accept-encoding", offered).await;
            assert_eq!(document.headers()["content-encoding"], coding);
        }
        let plain = ask("/", "accept-encoding", "identity").await;
        assert!(plain.headers().get("content-encoding").is_none());
        let tag = plain.headers()["etag"].to_str().expect("text").to_owned();
        let again = ask("/accounts", "if-none-match", &tag).await;
        assert_eq!(again.status(), 304);
        assert!(again.bytes().await.expect("a body").is_empty());
        assert_eq!(ask("/", "if-none-match", "\"other\"").await.status(), 200);
        assert_eq!(ask("/index.html.br", "accept", "*/*").await.status(), 404, "no file of its own");
    });
}

#[test]
fn a_call_that_is_repeated_is_answered_once_more_and_done_once() {
    stage();
    stage::run(async {
        let name = fresh_zone("once").replace(".example", "");
        let call = async |key: &str, body: Value| {
            let request =
                service().request("POST", "accounts", ADMIN).header("idempotency-key", key).json(&body);
            let answer = request.send().await.expect("an answer");
            let status = answer.status().as_u16();
            (status, answer.headers().get("etag").cloned(), answer.json::<Value>().await.expect("JSON"))
        };
        let body = json!({ "name": name, "title": "Once" });
        let first = call(&name, body.clone()).await;
        assert_eq!(first.0, 201);
        for _ in 0..3 {
            assert_eq!(call(&name, body.clone()).await, first, "the first answer, headers and all");
        }
        let other = call(&name, json!({ "name": name, "title": "Twice" })).await;
        assert_eq!((other.0, &other.2["type"]), (409, &json!("urn:nomenta:problem:other-call")));
        assert_eq!(call(&format!("{name}-2"), body.clone()).await.0, 409, "another call is another");

        // A refusal is an answer, too.
        let refused = call(&format!("{name}-3"), json!({ "name": "two words" })).await;
        assert_eq!(refused.0, 422);
        assert_eq!(call(&format!("{name}-3"), json!({ "name": "two words" })).await, refused);
        for bad in ["", "\u{e4}", &"x".repeat(256)] {
            let request = service().request("POST", "accounts", ADMIN).json(&body);
            let answer = request.header("idempotency-key", bad.as_bytes()).send().await.expect("an answer");
            problem(answer, 422, "field").await;
        }

        // Of many at once one is done; the others wait for it, or get its answer.
        let body = json!({ "name": format!("{name}-many"), "title": "Many" });
        let key = format!("{name}-many");
        let answers = join_all((0..8).map(|_| call(&key, body.clone()))).await;
        assert!(answers.iter().all(|(status, ..)| [201, 409].contains(status)), "{answers:?}");
        assert_eq!(call(&key, body).await.0, 201);

        // The secret of a key is in its answer, and nowhere in the clear.
        let made = async || {
            let request =
                service().request("POST", "keys", ADMIN).header("idempotency-key", format!("{name}-key"));
            let answer = request.json(&json!({ "name": "once", "role": "viewer" })).send().await;
            answer.expect("an answer").json::<Value>().await.expect("JSON")
        };
        let key = made().await;
        assert_eq!(made().await, key);
        let kept = stage().world.statement("stage", "SELECT encode(answer, 'escape') FROM answers").await;
        assert!(!kept.expect("rows").contains(key["secret"].as_str().expect("a secret")));
    });
}

#[test]
fn a_call_goes_on_when_its_caller_is_gone_and_whoever_repeats_it_is_answered() {
    stage();
    stage::run(async {
        let name = fresh_zone("gone").replace(".example", "");
        for number in 0..24_u64 {
            let name = format!("{name}-{number}");
            let body = json!({ "name": name, "title": "Gone" }).to_string();
            let head = format!(
                "POST /api/v1/accounts HTTP/1.1\r\nhost: a\r\nauthorization: Bearer {ADMIN}\r\n\
                 idempotency-key: {name}\r\ncontent-type: application/json\r\ncontent-length: {}\r\n\r\n{body}",
                body.len()
            );
            let mut stream = TcpStream::connect(service().setup.listen).await.expect("connected");
            stream.write_all(head.as_bytes()).await.expect("sent");
            // Gone at one moment or another: before, between and after what it does.
            tokio::time::sleep(Duration::from_millis(number)).await;
            drop(stream);

            let again = || {
                let request = service().request("POST", "accounts", ADMIN).header("idempotency-key", &name);
                request.header("content-type", "application/json").body(body.clone())
            };
            let answered = async || {
                let answer = again().send().await.expect("an answer");
                let is_under_way = answer.status() == 409 && answer.headers().contains_key("retry-after");
                assert!(is_under_way || answer.status() == 201, "{name}: {answer:?}");
                !is_under_way
            };
            wait_for("the answer of the call that nobody waited for", Duration::from_secs(60), answered)
                .await
                .expect("answered");
        }
    });
}

/// Repeats a call while it is put off, or under way; what it is answered at last.
async fn repeated(service: &Service, path: &str, key: &str, body: &Value) -> (u16, Value) {
    let until = Instant::now() + Duration::from_secs(60);
    loop {
        let request = service.request("POST", path, ADMIN).header("idempotency-key", key).json(body);
        let answer = request.send().await.expect("an answer");
        let status = answer.status().as_u16();
        if !answer.headers().contains_key("retry-after") || Instant::now() > until {
            return (status, answer.json().await.expect("JSON"));
        }
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
}

#[test]
fn a_change_whose_answer_is_lost_on_the_way_from_the_records_is_done_once_and_told() {
    stage();
    stage::run(async {
        let world = &stage().world;
        world.database("unheard").await.expect("a database");
        let way = world.database_way(stage::BASE_PORT + 248).await.expect("a way");
        let own = own(setup(stage::BASE_PORT + 249, way.url("unheard")), "unheard", 249).await;

        // What is written of the call itself, and what the call changes.
        let zone = fresh_zone("lost");
        for (number, lost) in [vec!["key-0"], vec!["n1.lost", "COMMIT"]].iter().enumerate() {
            let host = format!("n{number}.{zone}");
            way.cut_after(lost);
            let body = json!({ "host": host, "site": "onswick" });
            let (status, told) = repeated(&own, "domains", &format!("key-{number}"), &body).await;

            assert!(way.is_cut(), "nobody said {lost:?}");
            assert_eq!((status, &told["host"]), (201, &json!(host)), "{told}");
            assert_eq!(own.count(&host, "domain.enrolled").await, 1);
        }
        own.daemon.stop().await;
    });
}

#[test]
fn a_change_of_what_has_been_changed_since_is_refused() {
    stage();
    stage::run(async {
        let (zone, name) = (fresh_zone("versions"), fresh_zone("versions").replace(".example", ""));
        service().post("accounts", &json!({ "name": name })).await;
        service().post("sites", &json!({ "name": name, "account": name, "ingress": "harbour" })).await;
        service().post("domains", &json!({ "host": zone, "site": name })).await;
        let (_, key) = service().post("keys", &json!({ "name": name, "role": "viewer" })).await;
        let _ = key;

        for (path, change) in [
            (format!("accounts/{name}"), json!({ "title": "Another" })),
            (format!("sites/{name}"), json!({ "entry_path": "/a" })),
            (format!("domains/{zone}"), json!({ "entry_path": "/b" })),
        ] {
            let read = service().request("GET", &path, ADMIN).send().await.expect("an answer");
            let tag = read.headers()["etag"].to_str().expect("text").to_owned();
            let send = async |tag: &str, change: &Value| {
                let request = service().request("PATCH", &path, ADMIN).header("if-match", tag).json(change);
                request.send().await.expect("an answer")
            };
            assert_eq!(send(&tag, &change).await.status(), 200, "{path}");
            problem(send(&tag, &json!({})).await, 412, "changed").await;
            problem(send("\"nonsense\"", &json!({})).await, 412, "changed").await;
            assert_eq!(send("*", &json!({})).await.status(), 200, "{path}");

            let now = service().request("GET", &path, ADMIN).send().await.expect("an answer");
            let tag = now.headers()["etag"].to_str().expect("text").to_owned();
            let both = join_all([0, 1].map(|n| {
                let change = if path.starts_with("accounts") {
                    json!({ "title": format!("Title {n}") })
                } else {
                    json!({ "entry_path": format!("/{n}") })
                };
                let tag = tag.clone();
                async move { send(&tag, &change).await.status().as_u16() }
            }));
            let mut both = both.await;
            both.sort_unstable();
            assert_eq!(both, [200, 412], "{path}: of two changes of one version one is made");
        }

        // What is found out meanwhile is no change of what people have set.
        let read =
            service().request("GET", &format!("domains/{zone}"), ADMIN).send().await.expect("an answer");
        let tag = read.headers()["etag"].clone();
        service().looked_at(&zone).await;
        let paused =
            service().request("POST", &format!("domains/{zone}/pause"), ADMIN).header("if-match", &tag);
        assert_eq!(paused.send().await.expect("an answer").status(), 204);
        let gone = service().request("DELETE", &format!("domains/{zone}"), ADMIN).header("if-match", &tag);
        problem(gone.send().await.expect("an answer"), 412, "changed").await;
    });
}

#[test]
fn a_service_may_ask_for_versions_and_answers_within_a_second_while_its_records_are_away() {
    stage();
    stage::run(async {
        let world = &stage().world;
        let database = "away";
        let more = ["--need-versions"].map(Into::into);
        let setup = setup(stage::BASE_PORT + 41, world.database(database).await.expect("a database"));
        let setup =
            nomenta_world::service::ServiceSetup { options: [setup.options, more.into()].concat(), ..setup };
        let log = world.layout.state.join("away.log");
        let daemon = setup.start(&world.layout, stage::PROGRAM.as_ref(), &log).await.expect("started");
        let service = Service { setup };

        service.post("accounts", &json!({ "name": "away" })).await;
        let (status, told) = {
            let request = service.request("PATCH", "accounts/away", ADMIN).json(&json!({ "title": "x" }));
            let answer = request.send().await.expect("an answer");
            (answer.status().as_u16(), answer.json::<Value>().await.expect("JSON"))
        };
        assert_eq!((status, &told["type"]), (428, &json!("urn:nomenta:problem:version-needed")));
        let any = service.request("PATCH", "accounts/away", ADMIN).header("if-match", "*").json(&json!({}));
        assert_eq!(any.send().await.expect("an answer").status(), 200);

        let browser = Browser::open(stage::BASE_PORT + 247).await;
        browser.sign_in(&service.setup.url(), ADMIN).await;

        // Nobody is let in any more, and only then is whoever is in sent out: two statements, since
        // as one they take effect together, and whoever comes in between them stays.
        let shut = format!("ALTER DATABASE {database} ALLOW_CONNECTIONS false");
        world.statement("stage", &shut).await.expect("shut");
        let empty = format!(
            "SELECT pg_terminate_backend(pid, 5000) FROM pg_stat_activity WHERE datname = '{database}'"
        );
        world.statement("stage", &empty).await.expect("empty");
        let told = async {
            for path in ["session", "domains", "accounts/away", "counts"].repeat(4) {
                let answer = service.request("GET", path, ADMIN).send().await.expect("an answer");
                assert!(answer.headers().contains_key("retry-after"), "{path}: {}", answer.status());
                problem(answer, 503, "unavailable").await;
            }
        };
        // If each waited for a connection, they would take twice as long.
        timeout(Duration::from_secs(40), told).await.expect("nobody waits for records that are away");
        // The console says so, and catches up by itself.
        browser.type_into("input[aria-label='Part of a name']", "a").await;
        browser.read("What is shown may be old").await;
        let open = format!("ALTER DATABASE {database} ALLOW_CONNECTIONS true");
        world.statement("stage", &open).await.expect("open");
        let back = || async { service.get("session").await.0 == 200 };
        wait_for("the records being back", TIME_LIMIT, back).await.expect("back");
        let is_new = || async { !browser.text().await.contains("What is shown may be old") };
        wait_for("the page being up to date", TIME_LIMIT, is_new).await.expect("up to date");
        browser.close().await;
        daemon.stop().await;
    });
}

#[test]
fn a_connection_that_does_nothing_costs_little() {
    stage();
    stage::run(async {
        const CONNECTIONS: u64 = 400;
        // One that has nothing else to do.
        let world = &stage().world;
        let setup = setup(stage::BASE_PORT + 18, world.database("idle").await.expect("a database"));
        let log = world.layout.state.join("idle.log");
        let daemon = setup.start(&world.layout, stage::PROGRAM.as_ref(), &log).await.expect("started");

        let resident = || daemon.memory().expect("it runs").now;
        let request =
            format!("GET /api/v1/session HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer {EDGE_KEY}\r\n\r\n");
        let open = async || {
            let mut stream = TcpStream::connect(setup.listen).await.expect("connected");
            stream.write_all(request.as_bytes()).await.expect("sent");
            let mut answer = [0; 16];
            stream.read_exact(&mut answer).await.expect("an answer");
            stream
        };

        // The first ones bring what all of them share.
        let mut held = Vec::new();
        for _ in 0..20 {
            held.push(open().await);
        }
        let before = resident();
        for _ in 0..CONNECTIONS {
            held.push(open().await);
        }
        let each = resident().saturating_sub(before) / CONNECTIONS;
        assert!(each < 50, "{each} KiB for each idle connection");
        println!("{each} KiB for each idle connection");
        daemon.stop().await;
    });
}
