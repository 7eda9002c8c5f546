//! A service that is killed loses nothing and repeats nothing.

use std::net::IpAddr;
use std::path::Path;

use nomenta_world::edge::Edge;
use nomenta_world::{World, customer, wait_for};
use serde_json::Value;

use crate::stage::{self, PROGRAM, Service, TIME_LIMIT, edge_config, fresh_zone, setup, stage};

/// An edge address that no other test uses.
const OWN_EDGE: IpAddr = IpAddr::V4(std::net::Ipv4Addr::new(127, 77, 9, 10));

async fn kinds(service: &Service, host: &str) -> Vec<String> {
    let history = service.cli_json(&["history", host]).await;
    let kind = |e: &Value| {
        let data = &e["data"];
        let word = |name: &str| data[name].as_str().unwrap_or_default().to_owned();
        let kind = e["type"].as_str().unwrap_or_default().trim_start_matches("nomenta.").to_owned();
        format!("{kind} {} {}", word("gate"), word("to")).trim().to_owned()
    };
    history.as_array().expect("events").iter().map(kind).collect()
}

#[test]
fn killed_between_order_and_issue_the_domain_still_gets_exactly_one_certificate() {
    stage();
    stage::run(async {
        let world = &stage().world;
        let layout = &world.layout;
        let setup = setup(stage::BASE_PORT + 12, world.database("crash").await.expect("database"));
        let service = Service { setup: setup.clone() };
        let log = layout.state.join("crash.log");
        let first = setup.start(layout, Path::new(PROGRAM), &log).await.expect("started");
        let edge = Edge::start(edge_config(layout, &setup, vec![OWN_EDGE])).await.expect("edge");
        service.add_platform(&[OWN_EDGE], "own.quaymark.example").await;

        let host = fresh_zone("crash");
        let sheet = service.enrol(world, &host).await;
        edge.hold_challenges(true);
        customer::publish(&world.zones, &sheet, None).await.expect("published");
        wait_for("the CA validating", TIME_LIMIT, || async {
            let log = world.issuer_log().unwrap_or_default();
            log.lines().any(|l| l.contains(&host) && l.contains("acme-challenge"))
        })
        .await
        .expect("ordered");
        first.kill().await;
        assert_eq!(certificates(world, &host).await, 0);

        let second = setup.start(layout, Path::new(PROGRAM), &log).await.expect("started again");
        edge.hold_challenges(false);
        service.live(&host).await;
        let mut story = kinds(&service, &host).await;
        let proved = story.iter().position(|one| one == "gate.changed ownership passed");
        let held = story.iter().position(|one| one == "claim.held");
        assert!(proved < held, "{story:?}");
        // The customer's edit may fall between two looks, or two questions of one.
        story[1..4].sort();
        assert_eq!(
            story,
            [
                "domain.enrolled",
                "claim.held",
                "gate.changed ownership passed",
                "gate.changed routing passed",
                "order.placed",
                "certificate.issued",
                "gate.changed certificate passed",
                "gate.changed serving passed",
            ]
        );
        assert_eq!(certificates(world, &host).await, 1);
        second.stop().await;
    });
}

/// How many certificates the CA itself says it issued for a name.
async fn certificates(world: &World, host: &str) -> usize {
    let issued = world.issued().await.expect("the CA's word");
    let names = |pem: &String| nomenta_certs::x509::facts(pem).expect("a certificate").names;
    issued.iter().filter(|pem| names(pem).iter().any(|n| n == host)).count()
}
