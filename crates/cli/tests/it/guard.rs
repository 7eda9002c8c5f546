//! The egress guard: wherever a customer's DNS or web server points, nothing is
//! sent to an address inside.

use std::collections::BTreeSet;
use std::net::{IpAddr, Ipv4Addr};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use nomenta_core::reading::record::RecordData;
use nomenta_world::zones::Change;
use nomenta_world::{customer, wait_for};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, UdpSocket};
use tokio::time::timeout;

use crate::own::{Own, own, own_setup};
use crate::stage::{self, Service, fresh_zone, stage};

/// Where a redirect comes from; permitted, and not ours.
const REDIRECTOR: Ipv4Addr = Ipv4Addr::new(127, 77, 8, 40);

/// Sends every visitor on to an address inside, by the first label of the host
/// visited; tells which labels those were.
async fn redirector() -> Arc<Mutex<BTreeSet<String>>> {
    let port = stage().world.layout.http_port();
    let listener = TcpListener::bind((REDIRECTOR, port)).await.expect("bound");
    let visited = Arc::new(Mutex::new(BTreeSet::new()));
    let seen = visited.clone();
    tokio::spawn(async move {
        while let Ok((mut stream, _)) = listener.accept().await {
            let mut request = vec![0; 4096];
            let length = stream.read(&mut request).await.unwrap_or(0);
            let request = String::from_utf8_lossy(&request[..length]).into_owned();
            let host =
                request.lines().find_map(|l| l.to_lowercase().strip_prefix("host: ").map(str::to_owned));
            let label = host.unwrap_or_default().split('.').next().unwrap_or_default().to_owned();
            let to = match label.as_str() {
                "loop" => format!("127.0.0.1:{port}"),
                "meta" => "169.254.169.254".to_owned(),
                _ => "[::ffff:10.0.0.1]".to_owned(),
            };
            seen.lock().expect("a set").insert(label);
            let answer =
                format!("HTTP/1.1 302 Found\r\nLocation: http://{to}/inside\r\nContent-Length: 0\r\n\r\n");
            let _ = stream.write_all(answer.as_bytes()).await;
        }
    });
    visited
}

/// As in production, but for the world's own servers: 127.0.0.1 itself is inside.
async fn guarded(name: &str, last: u8) -> Own {
    let mut setup = own_setup(name, last.into()).await;
    setup.egress = Some(["127.53.0.0/16", "127.77.0.0/16"].map(Into::into).into());
    own(setup, name, last).await
}

/// How many destinations the guard has refused.
async fn refusals(service: &Service) -> u64 {
    let text = service.metrics().await;
    let refused = text.lines().find_map(|l| l.strip_prefix("nomenta_egress_refused_total "));
    refused.and_then(|n| n.parse().ok()).unwrap_or(0)
}

#[test]
fn nothing_connects_to_what_a_customers_zone_or_redirect_names() {
    stage();
    stage::run(async {
        let (world, layout) = (&stage().world, &stage().world.layout);
        let own = guarded("guarded", 84).await;
        let visited = redirector().await;
        let inside = [layout.http_port(), layout.https_port()];
        let mut listeners = Vec::new();
        for port in inside {
            listeners.push(TcpListener::bind(("127.0.0.1", port)).await.expect("bound"));
        }
        let zone = fresh_zone("guarded");
        world.zones.register(&zone).await.expect("registered");
        let six = |text: &str| RecordData::Aaaa(text.parse().expect("an address"));
        for (label, data) in [
            ("a", RecordData::A(Ipv4Addr::LOCALHOST)),
            ("b", RecordData::A(Ipv4Addr::new(169, 254, 169, 254))),
            ("c", six("::ffff:10.0.0.1")),
            ("loop", RecordData::A(REDIRECTOR)),
            ("meta", RecordData::A(REDIRECTOR)),
            ("mapped", RecordData::A(REDIRECTOR)),
        ] {
            let host = format!("{label}.{zone}");
            let sheet = own.enrol(world, &host).await;
            customer::publish_only(&world.zones, &sheet, nomenta_core::sheet::line::Purpose::Ownership)
                .await
                .expect("published");
            let at_host = Change::Add { owner: host.clone(), ttl: 5, data };
            world.zones.update(&zone, &[at_host]).await.expect("updated");
            // Looked at, and its addresses visited as far as the guard lets.
            let seen = || async {
                let view = own.get(&format!("domains/{host}")).await.1;
                view["gates"][1]["state"] == "blocked"
            };
            let what = format!("{host} being blocked");
            wait_for(&what, stage::TIME_LIMIT, seen).await.expect("blocked");
            own.cli(&["survey", &host]).await;
            own.cli(&["certificate", "preflight", &host]).await;
        }
        for listener in &listeners {
            let connected = timeout(Duration::from_millis(200), listener.accept()).await;
            assert!(connected.is_err(), "something connected to {:?}", listener.local_addr());
        }
        let refused = refusals(&own).await;
        assert!(refused >= 6, "the guard refused {refused}");
        let visited: Vec<_> = visited.lock().expect("a set").iter().cloned().collect();
        assert_eq!(visited, ["loop", "mapped", "meta"], "each was visited, and led inside");
        let ip: IpAddr = REDIRECTOR.into();
        let detail = own.cli_json(&["explain", &format!("loop.{zone}")]).await;
        assert!(detail.to_string().contains(&ip.to_string()));
        own.daemon.stop().await;
    });
}

#[test]
fn no_name_server_inside_is_asked() {
    stage();
    stage::run(async {
        let (world, layout) = (&stage().world, &stage().world.layout);
        let own = guarded("glued", 92).await;
        let asked = ("127.0.0.1", layout.dns_port());
        let by_udp = UdpSocket::bind(asked).await.expect("bound");
        let by_tcp = TcpListener::bind(asked).await.expect("bound");
        let zone = fresh_zone("glued");
        world.zones.register(&zone).await.expect("registered");
        let (part, server) = (format!("part.{zone}"), format!("ns.part.{zone}"));
        let glue = |data| Change::Add { owner: server.clone(), ttl: 5, data };
        let changes = [
            Change::Add { owner: part.clone(), ttl: 5, data: RecordData::Ns(server.as_str().into()) },
            glue(RecordData::A(Ipv4Addr::LOCALHOST)),
            glue(RecordData::A(Ipv4Addr::new(169, 254, 169, 254))),
            glue(RecordData::Aaaa("::ffff:10.0.0.1".parse().expect("an address"))),
        ];
        world.zones.update(&zone, &changes).await.expect("updated");
        let host = format!("www.{part}");
        own.enrol(world, &host).await;
        let told = || async {
            let detail = own.cli_json(&["explain", &host]).await.to_string();
            ["127.0.0.1", "169.254.169.254", "::ffff:10.0.0.1"].iter().all(|inside| {
                detail.contains(&format!("{server} ({inside}) has an address that may not be asked"))
            })
        };
        wait_for("every server being named", stage::TIME_LIMIT, told).await.expect("named");
        let mut packet = [0; 512];
        let quiet = Duration::from_millis(200);
        assert!(timeout(quiet, by_udp.recv_from(&mut packet)).await.is_err(), "a query came by UDP");
        assert!(timeout(quiet, by_tcp.accept()).await.is_err(), "a query came by TCP");
        let refused = refusals(&own).await;
        assert!(refused >= 3, "the guard refused {refused}");
        own.daemon.stop().await;
    });
}
