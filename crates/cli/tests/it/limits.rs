//! What whoever connects may take of the service.

use std::net::IpAddr;
use std::time::Duration;

use futures::future::join_all;
use nomenta_world::tls::Authority;
use nomenta_world::wait_for;
use serde_json::json;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;
use tokio::time::timeout;

use crate::own::{own_setup, plain, start, with};
use crate::stage::{self, ADMIN, Service, TIME_LIMIT, fresh_zone, heavy, stage};

#[test]
fn wrong_keys_half_open_calls_and_idle_connections_keep_nobody_else_out() {
    stage();
    stage::run(async {
        let options = ["--wrong-keys=5", "--connections=50", "--head-limit=2"];
        let mut setup = own_setup("limits", 125).await;
        setup.options.retain(|option| !option.starts_with("--wrong-keys"));
        let service = Service { setup: with(setup, &options) };
        let _daemon = start(&service, "limits").await;

        let tried = |key: &'static str| async {
            let answer = service.request("GET", "session", key).send().await.expect("an answer");
            (answer.status().as_u16(), answer.headers().contains_key("retry-after"))
        };
        for _ in 0..5 {
            assert_eq!(tried(ADMIN).await.0, 200);
            assert_eq!(tried("nomenta_wrong").await, (401, false));
        }
        assert_eq!(tried("nomenta_wrong").await, (429, true));
        assert_eq!(tried(ADMIN).await.0, 200, "a key that is known is let in beside it");

        never_ends_a_head(&service).await;
        idles(&service).await;
    });
}

#[test]
fn one_source_has_its_share_of_connections_and_is_told_so_beyond() {
    stage();
    stage::run(async {
        let setup = own_setup("shares", 133).await;
        let service = Service { setup: with(setup, &["--source-connections=20"]) };
        let daemon = start(&service, "shares").await;
        let listen = service.setup.listen;

        let other = reqwest::Client::builder().local_address(IpAddr::from([127, 0, 0, 2])).build();
        let other = other.expect("a client");
        let ask = || other.get(format!("{}/readyz", service.setup.url())).send();
        // It may be that some of the start's own are still open.
        let held = join_all((0..20).map(|_| TcpStream::connect(listen))).await;
        let told = answered(TcpStream::connect(listen).await.expect("connected")).await;
        assert!(told.starts_with("HTTP/1.1 503") && told.contains("retry-after: "), "{told}");
        assert!(told.contains("connections from this address"), "{told}");
        assert_eq!(ask().await.expect("an answer").status(), 200, "others have theirs");

        drop(held);
        wait_for("a connection that is served", TIME_LIMIT, || async {
            service.request("GET", "counts", ADMIN).send().await.is_ok_and(|answer| answer.status() == 200)
        })
        .await
        .expect("given back");
        daemon.stop().await;
    });
}

/// Connections that begin a call and do not go on with it are ended.
async fn never_ends_a_head(service: &Service) {
    let begun = (0..20).map(|_| async {
        let mut stream = TcpStream::connect(service.setup.listen).await.expect("connected");
        stream.write_all(b"GET /api/v1/session HTTP/1.1\r\nhost: a\r\nx-slow: ").await.expect("written");
        stream
    });
    let begun = join_all(begun).await;
    assert_eq!(service.get("counts").await.0, 200, "others are served meanwhile");
    for mut stream in begun {
        let mut rest = Vec::new();
        let ended = timeout(Duration::from_secs(20), stream.read_to_end(&mut rest)).await;
        ended.expect("ended in time").ok();
        assert!(rest.is_empty() || rest.starts_with(b"HTTP/1.1 4"), "{}", String::from_utf8_lossy(&rest));
    }
}

/// As many connections as there may be, which say nothing: whoever comes then waits for them to
/// be ended, and is served.
async fn idles(service: &Service) {
    let idle = join_all((0..80).map(|_| TcpStream::connect(service.setup.listen))).await;
    wait_for("a call being answered", Duration::from_secs(30), || async {
        let called = service.request("GET", "counts", ADMIN).send();
        timeout(Duration::from_secs(10), called)
            .await
            .is_ok_and(|answer| answer.is_ok_and(|a| a.status() == 200))
    })
    .await
    .expect("served");
    drop(idle);
}

#[test]
fn nothing_is_spent_on_whoever_is_not_known() {
    stage();
    stage::run(async {
        let (service, daemon) = plain(131, "strangers").await;
        let listen = service.setup.listen;
        let begun = async |head: &str| {
            let mut stream = TcpStream::connect(listen).await.expect("connected");
            let head = format!("POST /api/v1/{head}\r\nhost: a\r\ncontent-type: application/json\r\n");
            stream
                .write_all(format!("{head}content-length: 30000\r\n\r\n").as_bytes())
                .await
                .expect("written");
            stream
        };

        // Whoever may not make a change is told so before it has come in, whatever they call it.
        for head in
            ["accounts HTTP/1.1", "accounts HTTP/1.1\r\nidempotency-key: some-key", "handoff/look HTTP/1.1"]
        {
            let answer = answered(begun(head).await).await;
            assert!(answer.starts_with("HTTP/1.1 401"), "{head}: {answer}");
        }

        // However many begin to sign in and never end, changes go on; and so does signing in, for others.
        let memory = || daemon.memory().expect("it runs").now;
        let before = memory();
        let unfinished = join_all((0..heavy(4096, 400)).map(|_| begun("session HTTP/1.1"))).await;
        for n in 0..20 {
            let (status, answer) = service.post("accounts", &json!({ "name": format!("while-{n}") })).await;
            assert_eq!(status, 201, "{answer}");
        }
        let elsewhere = reqwest::Client::builder().local_address(IpAddr::from([127, 0, 0, 2])).build();
        let sign_in = elsewhere.expect("a client").post(format!("{}/api/v1/session", service.setup.url()));
        let signed = sign_in.json(&json!({ "key": ADMIN })).send().await.expect("an answer");
        assert_eq!(signed.status(), 200);

        let told = join_all(unfinished.into_iter().map(answered)).await;
        let counted = |status: &str| told.iter().filter(|answer| answer.starts_with(status)).count();
        let (busy, slow) = (counted("HTTP/1.1 429"), counted("HTTP/1.1 503"));
        assert!(busy > 0 && slow > 0 && busy + slow == told.len(), "{busy} and {slow} of {}", told.len());

        // Nor does a body that is announced cost anything: it is not read.
        let large = |_| async {
            let mut stream = begun("intake HTTP/1.1\r\nidempotency-key: large").await;
            let octets = vec![b'x'; 1 << 20];
            for _ in 0..32 {
                if stream.write_all(&octets).await.is_err() {
                    break;
                }
            }
            answered(stream).await
        };
        let told = join_all((0..heavy(120, 12)).map(large)).await;
        assert!(
            told.iter().all(|answer| answer.is_empty() || answer.starts_with("HTTP/1.1 401")),
            "{told:?}"
        );
        wait_for("the memory being given back", TIME_LIMIT, || async { memory() <= before + KEPT })
            .await
            .expect("given back");
        daemon.stop().await;
    });
}

/// Memory that a service may keep of what strangers had it do, in KiB.
const KEPT: u64 = 32 * 1024;

/// What a connection is told before it is ended.
async fn answered(mut stream: TcpStream) -> String {
    let mut answer = Vec::new();
    // What was not read of a body may have the connection reset behind the answer.
    let _ = timeout(TIME_LIMIT, stream.read_to_end(&mut answer)).await.expect("in time");
    String::from_utf8_lossy(&answer).into_owned()
}

#[test]
fn whoever_waits_at_a_link_keeps_no_stream_from_opening() {
    stage();
    stage::run(async {
        let (service, daemon) = plain(132, "waiting-links").await;
        let host = format!("rides.{}", fresh_zone("waiting-links"));
        service.post("domains", &json!({ "host": host, "site": "onswick" })).await;
        let (_, link) = service.post(&format!("domains/{host}/handoffs"), &json!({})).await;
        let secret = link["secret"].as_str().expect("a secret");
        let page = service.request("GET", "handoff", secret).send().await.expect("an answer");
        let tag = page.headers()["etag"].clone();

        let waiting: Vec<_> = (0..12)
            .map(|_| {
                let asked = service.request("GET", "handoff?wait=50", secret);
                let asked = asked.header("accept", "text/event-stream, application/json");
                tokio::spawn(asked.header("if-none-match", tag.clone()).send())
            })
            .collect();
        let opened = service.request("GET", "events", ADMIN).header("accept", "text/event-stream").send();
        let opened =
            timeout(Duration::from_secs(20), opened).await.expect("they wait for 50 s").expect("open");
        assert_eq!(opened.status(), 200);
        waiting.iter().for_each(tokio::task::JoinHandle::abort);
        daemon.stop().await;
    });
}

#[test]
fn api_and_console_are_served_by_https_and_another_certificate_is_taken_up() {
    stage();
    stage::run(async {
        let layout = &stage().world.layout;
        let authority = Authority::open(layout).expect("an authority");
        let [chain, key, roots] = ["own.pem", "own.key", "authority.pem"].map(|name| layout.state.join(name));
        let renew = || {
            let made = authority.issue(&["127.0.0.1".to_owned()], 30).expect("a certificate");
            std::fs::write(&key, made.key).expect("written");
            std::fs::write(&chain, made.chain).expect("written");
        };
        renew();

        let options = [format!("--tls-cert={}", chain.display()), format!("--tls-key={}", key.display())];
        let proxied = ["--trust-proxy=127.0.0.0/8", "--head-limit=2"].map(str::to_owned);
        let options: Vec<&str> = options.iter().chain(&proxied).map(String::as_str).collect();
        let service = Service { setup: with(own_setup("https", 236).await, &options) };
        let _daemon = start(&service, "https").await;
        let url = service.setup.url();
        assert!(url.starts_with("https://"), "{url}");

        let distrusted = service.cli(&["roster"]).await;
        assert_eq!(distrusted.status.code(), Some(1));
        let roster = service.cli(&["--roots", &roots.display().to_string(), "roster"]).await;
        assert!(roster.status.success(), "{}", String::from_utf8_lossy(&roster.stderr));

        let root = reqwest::Certificate::from_pem(&std::fs::read(&roots).expect("read")).expect("a root");
        let client = || reqwest::Client::builder().add_root_certificate(root.clone()).tls_info(true).build();
        let sign_in = client().expect("a client").post(format!("{url}/api/v1/session"));
        let signed =
            sign_in.header("x-forwarded-for", "192.0.2.7").json(&json!({ "key": ADMIN })).send().await;
        let signed = signed.expect("answered");
        let cookie = signed.headers()["set-cookie"].to_str().expect("text").to_owned();
        assert!(cookie.starts_with("__Host-nomenta_session=") && cookie.contains("; Secure"), "{cookie}");
        assert_eq!(signed.headers()["strict-transport-security"], "max-age=31536000");
        let pair = cookie.split(';').next().expect("a pair");
        for (sent, status) in [(pair, 200), (pair.trim_start_matches("__Host-"), 401)] {
            let who = client().expect("a client").get(format!("{url}/api/v1/session")).header("cookie", sent);
            assert_eq!(who.send().await.expect("answered").status(), status, "{sent}");
        }
        let sessions = client().expect("a client").get(format!("{url}/api/v1/sessions")).bearer_auth(ADMIN);
        let sessions = sessions.send().await.expect("answered").text().await.expect("text");
        assert!(sessions.contains("192.0.2.7"), "{sessions}");

        let mut silent = TcpStream::connect(service.setup.listen).await.expect("connected");
        let ended = timeout(Duration::from_secs(10), silent.read(&mut [0])).await.expect("in time");
        assert!(matches!(ended, Ok(0) | Err(_)), "whoever does not greet is not waited for");

        let served = || async {
            let answer =
                client().expect("a client").get(format!("{url}/healthz")).send().await.expect("answered");
            let told = answer.extensions().get::<reqwest::tls::TlsInfo>().expect("told");
            told.peer_certificate().expect("a certificate").to_vec()
        };
        let first = served().await;
        renew();
        let another = || async { served().await != first };
        wait_for("another certificate", Duration::from_secs(30), another).await.expect("taken up");
    });
}

#[test]
fn a_page_of_another_site_changes_nothing_with_somebodys_session() {
    stage();
    stage::run(async {
        let service = &stage().service;
        let url = service.setup.url();
        let client = reqwest::Client::new();
        let signed = client.post(format!("{url}/api/v1/session")).json(&json!({ "key": ADMIN })).send().await;
        let signed = signed.expect("an answer");
        let cookie =
            signed.headers()["set-cookie"].to_str().expect("text").split(';').next().expect("one").to_owned();

        let asked = |headers: &'static [(&'static str, &'static str)]| {
            let call = client.post(format!("{url}/api/v1/accounts")).header("cookie", &cookie);
            let call = headers.iter().fold(call, |call, (name, value)| call.header(*name, *value));
            // Nothing is added, whoever asks: the name is none.
            async {
                call.json(&json!({ "name": "-", "title": "x" }))
                    .send()
                    .await
                    .expect("an answer")
                    .status()
                    .as_u16()
            }
        };
        assert_eq!(asked(&[("sec-fetch-site", "same-origin")]).await, 422);
        assert_eq!(asked(&[]).await, 422, "no browser");
        for headers in [
            &[("sec-fetch-site", "cross-site")][..],
            &[("sec-fetch-site", "same-site")],
            &[("origin", "https://quaymark-console.example")],
            &[("origin", "null")],
        ] {
            assert_eq!(asked(headers).await, 403, "{headers:?}");
        }
    });
}
