//! Orders at a real CA, and visits to addresses that are not as they should be.

use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;

use futures::FutureExt;
use futures::future::BoxFuture;
use nomenta_certs::acme::{Acme, AcmeConfig, AcmeError, CallLimits};
use nomenta_certs::keypair::{self, KeyKind};
use nomenta_certs::seal::Sealer;
use nomenta_certs::{Expected, Prober, ProberConfig, x509};
use nomenta_core::judge::behind::Foreign;
use nomenta_core::reading::method::Method;
use nomenta_dns::Egress;
use nomenta_world::customer;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpListener;

use crate::stage::{self, fresh_zone, stage};

fn config() -> AcmeConfig {
    let layout = &stage().world.layout;
    AcmeConfig {
        directory: layout.directory(),
        directory_roots: layout.directory_root(),
        external_account: None,
        contact: Some("mailto:post@quaymark.example".into()),
        step_limit: Duration::from_secs(20),
        calls: CallLimits::default(),
    }
}

fn prober(http_port: u16, https_port: u16, egress: Egress) -> Prober {
    let time_limit = Duration::from_secs(2);
    visiting(ProberConfig { http_port, https_port, time_limit, egress, visits: 1_000 })
}

fn visiting(config: ProberConfig) -> Prober {
    // Fails only if another test was first.
    let _ = rustls_ring();
    Prober::new(config, &stage().world.layout.ca_roots()).expect("roots")
}

fn rustls_ring() -> Result<(), Arc<rustls::crypto::CryptoProvider>> {
    rustls::crypto::ring::default_provider().install_default()
}

/// For visits that no redirect leads away from.
fn nowhere(_: String) -> BoxFuture<'static, Vec<IpAddr>> {
    async { Vec::new() }.boxed()
}

fn expected(host: &str) -> Expected<'_> {
    Expected {
        host,
        primary: None,
        must_lead: false,
        is_staged: false,
        default_host: "onswick.quaymark.example",
    }
}

fn sealer() -> Sealer {
    Sealer::from_hex(&"5e".repeat(32)).expect("a key")
}

#[test]
fn an_account_is_kept_and_an_order_can_be_resumed_by_its_address() {
    stage();
    stage::run(async {
        let _ = rustls_ring();
        let (_, credentials) = Acme::register(&config()).await.expect("registered");
        let acme = Acme::load(&config(), &credentials).await.expect("loaded");
        let host = fresh_zone("acme");
        let mut order = acme.order(&[host], None).await.expect("ordered");
        let answers = order.answers(Method::Http).await.expect("answers");
        assert!(answers.iter().all(|a| a.key_authorization.starts_with(&a.token)));
        let other = Acme::load(&config(), &credentials).await.expect("loaded again");
        let mut resumed = other.resume(order.url()).await.expect("resumed");
        let again = resumed.answers(Method::Http).await.expect("answers");
        assert_eq!(answers.len(), again.len());
        assert_eq!(answers[0].key_authorization, again[0].key_authorization);
    });
}

#[test]
fn the_cas_reason_is_kept_and_what_it_has_forgotten_is_told_apart() {
    stage();
    stage::run(async {
        let _ = rustls_ring();
        let (acme, credentials) = Acme::register(&config()).await.expect("registered");
        let Err(AcmeError::Refused { problem, .. }) =
            acme.order(&["x.embargo.test".into()], None).await.map(drop)
        else {
            panic!("not refused");
        };
        assert!(problem.kind.ends_with("rejectedIdentifier"), "{problem:?}");

        // Nobody answers the challenge: the name does not even exist.
        let mut order = acme.order(&[fresh_zone("void")], None).await.expect("ordered");
        let key = keypair::generate(KeyKind::Ecdsa).expect("a key");
        let csr = keypair::request(&key, &["void.example".into()]).expect("a request");
        let Err(AcmeError::Refused { problem, .. }) = order.finish(Method::Http, &csr).await else {
            panic!("not refused")
        };
        assert!(!problem.detail.is_empty(), "the challenge's own error is shown");

        let gone = acme.resume(&config().directory.replace("/dir", "/my-order/gone")).await.map(drop);
        assert!(matches!(gone, Err(AcmeError::NoOrder(_))), "{gone:?}");
        let nowhere = AcmeConfig { directory: "https://127.0.0.1:9/dir".into(), ..config() };
        assert!(matches!(Acme::register(&nowhere).await.map(drop), Err(AcmeError::Unavailable(_))));
        assert!(matches!(
            Acme::load(&config(), &credentials[1..]).await.map(drop),
            Err(AcmeError::Unreadable(_))
        ));
    });
}

#[test]
fn a_live_domain_answers_canary_and_probe_at_every_address() {
    stage();
    stage::run(async {
        let stage = stage();
        let host = fresh_zone("visit");
        let sheet = stage.service.enrol(&stage.world, &host).await;
        customer::publish(&stage.world.zones, &sheet, None).await.expect("published");
        stage.service.live(&host).await;
        let layout = &stage.world.layout;
        let prober = prober(layout.http_port(), layout.https_port(), Egress::loopback());
        let addresses = nomenta_world::layout::EDGE;
        for fetch in prober.canary(&host, &addresses, &sealer(), &nowhere).await {
            assert_eq!(fetch.failure, None, "{}", fetch.address);
        }
        let detail = stage.service.cli_json(&["explain", &host]).await;
        let probe = prober.probe(&expected(&host), &addresses, Some(addresses[0])).await;
        assert_eq!(probe.default_host, None);
        for result in probe.results {
            assert_eq!((&result.tls_failure, &result.redirect_failure), (&None, &None));
            assert_eq!(result.pair_failure, None);
            assert_eq!(result.serial(), detail["certificate"]["serial"].as_str());
        }
        // Another platform's key makes another answer.
        let stranger = Sealer::from_hex(&"aa".repeat(32)).expect("a key");
        let fetched = prober.canary(&host, &addresses[..1], &stranger, &nowhere).await;
        assert_eq!(fetched[0].failure.as_deref(), Some("it answers with status 404"));
        let unknown = fresh_zone("unknown");
        let probed = prober.probe(&expected(&unknown), &addresses[..1], None).await.results;
        assert!(probed[0].tls_failure.is_some() && probed[0].redirect_failure.is_some());
    });
}

/// Answers every connection with the same bytes.
async fn answering(response: &'static str) -> SocketAddr {
    counting("127.77.8.1:0", response).await.0
}

/// Answers every connection with the same bytes, and counts them.
async fn counting(at: &str, response: &'static str) -> (SocketAddr, Arc<AtomicUsize>) {
    let listener = TcpListener::bind(at).await.expect("bound");
    let address = listener.local_addr().expect("address");
    let connections = Arc::new(AtomicUsize::new(0));
    let counts = connections.clone();
    tokio::spawn(async move {
        while let Ok((mut stream, _)) = listener.accept().await {
            counts.fetch_add(1, Ordering::Relaxed);
            let mut request = [0; 1024];
            let _ = stream.read(&mut request).await;
            let _ = stream.write_all(response.as_bytes()).await;
        }
    });
    (address, connections)
}

#[test]
fn each_wrong_answer_to_a_visit_has_its_own_words() {
    stage();
    stage::run(async {
        let host = "www.onswick.example";
        let endless = format!("HTTP/1.1 200 OK\r\nContent-Length: 99999\r\n\r\n{}", "x".repeat(99_999));
        let long: &'static str = Box::leak(endless.into_boxed_str());
        for (response, canary, redirect) in [
            (
                "HTTP/1.1 404 Not Found\r\nContent-Length: 0\r\n\r\n",
                "it answers with status 404",
                "it answers with status 404",
            ),
            (
                "HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nhi",
                "another host answers there",
                "it answers with status 200",
            ),
            (
                "HTTP/1.1 301 Moved\r\nLocation: https://elsewhere.example/\r\nContent-Length: 0\r\n\r\n",
                "it leads to elsewhere.example, which has no address",
                "it leads to https://elsewhere.example/",
            ),
            (
                "HTTP/1.1 301 Moved\r\nLocation: http://www.onswick.example/\r\nContent-Length: 0\r\n\r\n",
                "it redirects more than 5 times",
                "it leads to http://www.onswick.example/",
            ),
            (long, "it sends more than 64 KiB", "it sends more than 64 KiB"),
            ("nonsense", "", ""),
            ("", "", ""),
        ] {
            let address = answering(response).await;
            let prober = prober(address.port(), address.port(), Egress::loopback());
            let fetched = prober.canary(host, &[address.ip()], &sealer(), &nowhere).await.remove(0);
            let failure = fetched.failure.expect("it does not arrive");
            assert!(failure.starts_with(canary), "{response}: {failure}");
            let probed = prober.probe(&expected(host), &[address.ip()], None).await.results.remove(0);
            assert!(
                probed.redirect_failure.clone().expect("no redirect").starts_with(redirect),
                "{response}"
            );
            assert!(probed.tls_failure.is_some() && probed.serial().is_none());
        }
        let silent: IpAddr = Ipv4Addr::new(127, 77, 8, 2).into();
        let fetched = prober(9, 9, Egress::loopback()).canary(host, &[silent], &sealer(), &nowhere).await;
        assert!(fetched[0].failure.as_deref().is_some_and(|f| f.starts_with("no connection")));
    });
}

#[test]
fn where_strangers_lead_is_visited_so_often_in_a_minute_by_whatever_way() {
    stage();
    stage::run(async {
        let host = "www.onswick.example";
        let own = "HTTP/1.1 301 Moved\r\nLocation: http://www.onswick.example/\r\nContent-Length: 0\r\n\r\n";
        let other = "HTTP/1.1 301 Moved\r\nLocation: http://www.bystander.test/\r\nContent-Length: 0\r\n\r\n";
        let bare = "HTTP/1.1 301 Moved\r\nLocation: http://127.76.9.1/\r\nContent-Length: 0\r\n\r\n";
        let victim = IpAddr::from([127, 76, 9, 1]);
        let leads = |_: String| async move { vec![victim] }.boxed();
        // To itself without end; to another host; to its bare address, to which nothing is sent.
        for (response, to_itself, to_victim, is_first_done) in
            [(own, 5, 0, false), (other, 4, 2, true), (bare, 4, 0, true)]
        {
            let (at, connections) = counting("127.77.8.1:0", response).await;
            let (_, hit) = counting(&format!("{victim}:{}", at.port()), "").await;
            let (http_port, time_limit) = (at.port(), Duration::from_secs(2));
            let egress = Egress::loopback();
            let visits = 5;
            let prober = visiting(ProberConfig { http_port, https_port: 9, time_limit, egress, visits });
            let foreign = Foreign { addresses: vec![at.ip()], are_all: true };
            let mut found = Vec::new();
            for _ in 0..6 {
                found.push(prober.visit(host, foreign.clone(), &sealer(), &leads).await);
            }
            let counts = [connections, hit].map(|count| count.load(Ordering::Relaxed));
            assert_eq!(counts, [to_itself, to_victim], "{response}");
            assert_eq!([&found[0], &found[5]].map(Option::is_some), [is_first_done, false], "{response}");
        }
    });
}

#[test]
fn an_address_outside_the_rule_is_not_visited() {
    stage();
    stage::run(async {
        let host = "www.onswick.example";
        let listener = TcpListener::bind("127.77.8.3:0").await.expect("bound");
        let port = listener.local_addr().expect("address").port();
        // The public rule refuses loopback, so nothing may connect here.
        let prober = prober(port, port, Egress::public());
        let address = [IpAddr::from([127, 77, 8, 3])];
        let fetched = prober.canary(host, &address, &sealer(), &nowhere).await;
        let probed = prober.probe(&expected(host), &address, None).await.results;
        assert_eq!(fetched[0].failure.as_deref(), Some("this address may not be visited"));
        assert_eq!(probed[0].tls_failure.as_deref(), Some("this address may not be visited"));
        let connected = tokio::time::timeout(Duration::from_millis(200), listener.accept()).await;
        assert!(connected.is_err(), "something connected");
    });
}

#[test]
fn roots_that_cannot_be_read_are_named() {
    let error = Prober::new(
        ProberConfig {
            http_port: 1,
            https_port: 1,
            time_limit: Duration::ZERO,
            egress: Egress::public(),
            visits: 1,
        },
        std::path::Path::new("/dev/null"),
    );
    assert_eq!(error.err().map(|e| e.to_string()).as_deref(), Some("it holds no certificate"));
    assert!(x509::facts_of(b"nonsense").is_err());
}
