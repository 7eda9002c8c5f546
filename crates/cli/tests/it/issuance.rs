//! Three hundred domains at once, at a CA that rejects nonces, by one process
//! and by two of which one is killed.

use std::collections::BTreeMap;
use std::path::Path;
use std::time::Duration;

use futures::StreamExt;
use futures::stream;
use nomenta_core::sheet::Sheet;
use nomenta_world::{IssuerSetup, OtherIssuer, customer, wait_for};
use serde_json::{Value, json};

use crate::own::{Own, own, own_setup, with};
use crate::stage::{self, BASE_PORT, PROGRAM, Service, fresh_zone, stage};
use crate::turns;

/// Zones that the names are spread over, since each has a budget.
fn zones() -> usize {
    stage::heavy(10, 3)
}

const EACH: usize = 30;
/// Longest time in which no other one goes live, on a machine with two cores and other tests.
const STANDSTILL: Duration = Duration::from_secs(180);
/// Looks are rarer than elsewhere, so that the tests beside get their share.
const OPTIONS: [&str; 2] = ["--account-orders=5000", "--domain-orders=100"];

/// Takes all of them in and publishes their sheets; returns the zones.
async fn publish_all(service: &Service) -> Vec<String> {
    let registry = &stage().world.zones;
    let names: Vec<_> = (0..zones()).map(|_| fresh_zone("many")).collect();
    for zone in &names {
        registry.register(zone).await.expect("registered");
    }
    let hosts = names.iter().flat_map(|zone| (0..EACH).map(move |n| format!("n{n}.{zone}")));
    stream::iter(hosts)
        .for_each_concurrent(16, |host| async move {
            let (status, view) = service.post("domains", &json!({ "host": host, "site": "onswick" })).await;
            assert_eq!(status, 201, "{view}");
            let sheet: Sheet = serde_json::from_value(view).expect("a sheet");
            customer::publish_also(registry, &sheet).await.expect("published");
        })
        .await;
    names
}

async fn live(service: &Service) -> u64 {
    let (_, counts) = service.get("counts").await;
    let live = counts["stages"].as_array().and_then(|all| all.iter().find(|s| s["stage"] == "live").cloned());
    live.and_then(|s| s["count"].as_u64()).unwrap_or(0)
}

/// Waits until so many are live: for as long as that takes where there is much to do, so long as it
/// goes on.
async fn until_live(service: &Service, wanted: u64) {
    let mut so_far = 0;
    while so_far < wanted {
        let what = format!("more than {so_far} being live");
        let more = async || live(service).await > so_far;
        if let Err(error) = wait_for(&what, STANDSTILL, more).await {
            let (_, counts) = service.get("counts").await;
            panic!("{error}: {counts}");
        }
        so_far = live(service).await;
    }
}

async fn all_live(service: &Service) {
    let all = u64::try_from(zones() * EACH).expect("small");
    until_live(service, all).await;
    assert_eq!(live(service).await, all);
}

/// Each name has exactly one certificate by the CA's own word, and by ours.
async fn exactly_one_each(service: &Service, names: &[String], issued: &[String]) {
    let mut counts: BTreeMap<String, usize> = BTreeMap::new();
    for pem in issued {
        for name in nomenta_certs::x509::facts(pem).expect("a certificate").names {
            if names.iter().any(|zone| name.ends_with(&format!(".{zone}"))) {
                *counts.entry(name).or_default() += 1;
            }
        }
    }
    assert_eq!(counts.len(), zones() * EACH);
    let twice: Vec<_> = counts.iter().filter(|(_, count)| **count != 1).collect();
    assert!(twice.is_empty(), "{twice:?}");
    let listed: Value = service.cli_json(&["certificate", "list"]).await;
    assert_eq!(listed.as_array().map(Vec::len), Some(zones() * EACH));
}

#[test]
fn hundreds_go_live_at_a_ca_that_rejects_five_percent_of_nonces() {
    let _turn = turns::to_fill_the_machine();
    stage();
    stage::run(async {
        let setup = with(own_setup("many", 40).await, &OPTIONS);
        let Own { service, daemon, edge, .. } = own(setup, "many", 40).await;
        let names = publish_all(&service).await;
        all_live(&service).await;
        exactly_one_each(&service, &names, &stage().world.issued().await.expect("the CA's word")).await;
        assert_eq!(edge.route_count(), zones() * EACH + 1, "and the default host");
        daemon.stop().await;
    });
}

/// A CA of the test's own that rejects every other nonce.
async fn unkind(folder: &str, port: u16) -> OtherIssuer {
    let setup = IssuerSetup {
        folder: folder.into(),
        port: BASE_PORT + port,
        nonce_reject: 50,
        lifetime: Duration::from_secs(90 * 86_400),
        external: None,
    };
    OtherIssuer::start(&stage().world.layout, setup).await.expect("a CA")
}

/// The CA stops answering now and then under this load, and is started anew without what it had
/// issued: then nobody is left to ask, and it is all done once more.
pub(crate) async fn until_the_ca_remembers(once: impl AsyncFn(usize) -> bool) {
    for round in 0..3 {
        if once(round).await {
            return;
        }
    }
    panic!("the CA had to be started anew each time");
}

#[test]
fn hundreds_go_live_at_a_ca_that_rejects_every_other_nonce() {
    let _turn = turns::to_fill_the_machine();
    stage();
    stage::run(until_the_ca_remembers(async |round| {
        let issuer = unkind(&format!("pebble-unkind{round}"), 62).await;
        let name = format!("unkind{round}");
        let mut setup = with(own_setup(&name, 41).await, &OPTIONS);
        setup.directory = Some(issuer.directory());
        let Own { service, daemon, edge: _edge, .. } = own(setup, &name, 41).await;
        let names = publish_all(&service).await;
        all_live(&service).await;
        let remembers = issuer.said().is_empty();
        if remembers {
            exactly_one_each(&service, &names, &issuer.issued().await.expect("the CA's word")).await;
        }
        daemon.stop().await;
        remembers
    }));
}

#[test]
fn of_two_processes_one_is_killed_half_way_and_each_still_gets_one_certificate() {
    let _turn = turns::to_fill_the_machine();
    stage();
    stage::run(until_the_ca_remembers(async |round| {
        let issuer = unkind(&format!("pebble-killed{round}"), 64).await;
        let name = format!("killed{round}");
        let mut setup = with(own_setup(&name, 42).await, &OPTIONS);
        setup.directory = Some(issuer.directory());
        let Own { service, daemon, edge: _edge, .. } = own(setup.clone(), &name, 42).await;
        let mut second = setup;
        second.listen.set_port(BASE_PORT + 43);
        let layout = &stage().world.layout;
        let log = layout.state.join("killed-second.log");
        let doomed = second.start(layout, Path::new(PROGRAM), &log).await.expect("started");
        let names = publish_all(&service).await;
        let half = u64::try_from(zones() * EACH / 2).expect("small");
        until_live(&service, half).await;
        doomed.kill().await;
        all_live(&service).await;
        let remembers = issuer.said().is_empty();
        if remembers {
            exactly_one_each(&service, &names, &issuer.issued().await.expect("the CA's word")).await;
        }
        daemon.stop().await;
        remembers
    }));
}
