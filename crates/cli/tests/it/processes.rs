//! Several service processes on one database.

use std::collections::BTreeMap;
use std::net::{IpAddr, Ipv4Addr};
use std::path::Path;

use futures::future::join_all;
use nomenta_world::customer;
use nomenta_world::edge::Edge;
use nomenta_world::zones::{Change, address};
use serde_json::Value;

use crate::stage::{self, BASE_PORT, PROGRAM, Service, edge_config, fresh_zone, setup, stage};
use crate::turns;

const OWN_EDGE: IpAddr = IpAddr::V4(Ipv4Addr::new(127, 77, 9, 20));
const DOMAINS: usize = 20;

#[test]
fn two_processes_share_the_work_and_each_domain_gets_one_certificate() {
    // A vantage kept silent by the load would be one event more.
    let _turn = turns::to_go_by_the_clock();
    stage();
    stage::run(async {
        let world = &stage().world;
        let layout = &world.layout;
        let database = world.database("processes").await.expect("a database");
        let setups = [setup(BASE_PORT + 13, database.clone()), setup(BASE_PORT + 14, database)];
        let log = layout.state.join("processes.log");
        let one = setups[0].start(layout, Path::new(PROGRAM), &log).await.expect("started");
        let two = setups[1].start(layout, Path::new(PROGRAM), &log).await.expect("started");
        let services = setups.each_ref().map(|setup| Service { setup: setup.clone() });
        let _edge = Edge::start(edge_config(layout, &setups[1], vec![OWN_EDGE])).await.expect("edge");
        let canonical = "shared.quaymark.example";
        let at_edge = Change::Add { owner: canonical.into(), ttl: 30, data: address(OWN_EDGE) };
        world.zones.update("quaymark.example", &[at_edge]).await.expect("updated");
        services[0].add_platform(&[OWN_EDGE], canonical).await;

        let zone = fresh_zone("shared");
        world.zones.register(&zone).await.expect("registered");
        let hosts: Vec<_> = (0..DOMAINS).map(|n| format!("w{n}.{zone}")).collect();
        for host in &hosts {
            // What one process takes in, the other knows.
            let sheet = services[0].enrol(world, host).await;
            customer::publish(&world.zones, &sheet, None).await.expect("published");
        }
        // One of them dies half-way.
        services[1].live(&hosts[0]).await;
        one.kill().await;
        join_all(hosts.iter().map(|host| services[1].live(host))).await;

        for host in &hosts {
            let history = services[1].cli_json(&["history", host]).await;
            let count = |kind: &str| {
                let events = history.as_array().expect("events").iter();
                events.filter(|e| e["type"] == format!("nomenta.{kind}")).count()
            };
            // The CA's own resolver may still hold that there is no such name; one order more
            // follows such a refusal.
            let refused = count("order.refused");
            assert_eq!(
                (count("order.placed"), count("certificate.issued")),
                (1 + refused, 1),
                "{host}: {history}"
            );
            assert_eq!(gates_at_the_end(&history), ["passed"; 4], "{host}: {history}");
            // For a refusal the certificate's gate goes there and back, or on to passed at once
            // where no look fell between the order and its certificate.
            let changes = 4 + refused..=4 + 2 * refused;
            assert!(changes.contains(&count("gate.changed")), "{host}: {history}");
        }
        let issued = world.issued().await.expect("the CA's word");
        let names: Vec<_> = issued
            .iter()
            .flat_map(|pem| nomenta_certs::x509::facts(pem).expect("a certificate").names)
            .filter(|name| name.ends_with(&zone))
            .collect();
        assert_eq!(names.len(), DOMAINS);
        two.stop().await;
    });
}

/// Where a history leaves each gate that it tells of; each change goes on from the last one.
fn gates_at_the_end(history: &Value) -> Vec<String> {
    let mut gates: BTreeMap<String, String> = BTreeMap::new();
    for event in history.as_array().expect("events") {
        let [Some(gate), Some(from), Some(to)] =
            ["gate", "from", "to"].map(|part| event["data"][part].as_str())
        else {
            continue;
        };
        let stood = gates.insert(gate.into(), to.into());
        assert_eq!(stood.as_deref().unwrap_or("waiting"), from, "{gate} did not stand there: {history}");
    }
    gates.into_values().collect()
}

#[test]
fn a_service_that_cannot_start_says_why() {
    stage();
    stage::run(async {
        let world = &stage().world;
        let layout = &world.layout;
        let good = setup(BASE_PORT + 15, world.database("refused").await.expect("a database"));
        // Somebody else's port, at which nobody answers.
        let somebody = tokio::net::TcpListener::bind("127.0.0.1:0").await.expect("bound");
        let taken = somebody.local_addr().expect("address");
        let log = |name: &str| layout.state.join(format!("refused-{name}.log"));
        for (name, bad, says) in [
            (
                "key",
                {
                    let mut s = good.clone();
                    s.sealing_key = "short".into();
                    s
                },
                "64 hexadecimal characters",
            ),
            (
                "database",
                {
                    let mut s = good.clone();
                    s.database = "postgres://nobody@127.0.0.1:9/x".into();
                    s
                },
                "Cannot open the database",
            ),
            (
                "port",
                {
                    let mut s = good.clone();
                    s.listen = taken;
                    s
                },
                "Cannot listen on",
            ),
            (
                "trust",
                {
                    let mut s = good.clone();
                    s.options.extend(["--trust".into(), "/nowhere.pem".into()]);
                    s
                },
                "cannot be used multiple times",
            ),
            (
                "visits",
                {
                    let mut s = good.clone();
                    s.options.extend(["--visits-a-minute".into(), "15".into()]);
                    s
                },
                "at least twice --most-visited",
            ),
            (
                "vantage",
                {
                    let mut s = good.clone();
                    s.options.extend(["--vantage".into(), "odd".into()]);
                    s
                },
                "is not a vantage",
            ),
        ] {
            let error = bad.start(layout, Path::new(PROGRAM), &log(name)).await.err().expect(name);
            assert!(format!("{error:#}").contains(says), "{name} does not say {says:?}: {error:#}");
        }
    });
}
