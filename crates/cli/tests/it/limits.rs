//! What whoever connects may take of the service.

use std::time::Duration;

use futures::future::join_all;
use nomenta_world::tls::Authority;
use nomenta_world::wait_for;
use serde_json::json;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;
use tokio::time::timeout;

use crate::own::{own_setup, start, with};
use crate::stage::{self, ADMIN, Service, stage};

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
