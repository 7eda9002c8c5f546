//! A live domain is watched: what changes is told from what to what, the gate
//! lapses, and it passes again by itself.

use nomenta_core::reading::record::RecordData;
use nomenta_world::customer;
use nomenta_world::wait_for;
use nomenta_world::zones::Change;
use serde_json::Value;

use crate::own::{Own, own, own_setup, with};
use crate::stage::{self, Service, TIME_LIMIT, fresh_zone, stage};

async fn gate(service: &Service, host: &str, index: usize, state: &str) {
    let what = format!("gate {index} of {host} being {state}");
    let is = || async { service.get(&format!("domains/{host}")).await.1["gates"][index]["state"] == state };
    wait_for(&what, TIME_LIMIT, is).await.expect("so");
}

async fn drifts(service: &Service, host: &str) -> Vec<Value> {
    let history = service.cli_json(&["history", host]).await;
    let events = history.as_array().cloned().unwrap_or_default();
    events.into_iter().filter(|e| e["type"] == "nomenta.domain.drifted").map(|e| e["data"].clone()).collect()
}

#[test]
fn records_and_caa_that_change_lapse_their_gates_and_recover_by_themselves() {
    stage();
    stage::run(async {
        let setup = with(own_setup("drift", 86).await, &["--quick-looks=0"]);
        let Own { service, daemon, edge: _edge, .. } = own(setup, "drift", 86).await;
        let world = &stage().world;
        let zone = fresh_zone("drift");
        let host = format!("board.{zone}");
        let sheet = service.enrol(world, &host).await;
        customer::publish(&world.zones, &sheet, None).await.expect("published");
        service.live(&host).await;

        let caa = RecordData::Caa { flags: 0, tag: "issue".into(), value: ";".into() };
        let forbid = Change::Add { owner: zone.clone(), ttl: 2, data: caa.clone() };
        world.zones.update(&zone, &[forbid]).await.expect("updated");
        gate(&service, &host, 2, "lapsed").await;
        let allow = Change::Remove { owner: zone.clone(), data: caa };
        world.zones.update(&zone, &[allow]).await.expect("updated");
        service.live(&host).await;
        let told = drifts(&service, &host).await;
        let of_caa: Vec<_> = told.iter().filter(|d| d["what"] == format!("{zone} CAA").as_str()).collect();
        assert_eq!(of_caa.len(), 2, "{told:?}");
        assert_eq!(of_caa[0]["to"][0], "CAA 0 issue \";\"");
        assert_eq!(of_caa[1]["from"][0], "CAA 0 issue \";\"");

        world.zones.update(&zone, &[Change::Clear { owner: host.clone() }]).await.expect("updated");
        customer::stand_elsewhere(&world.zones, &host, &zone, 2).await.expect("moved");
        gate(&service, &host, 1, "lapsed").await;
        let told = drifts(&service, &host).await;
        let last = told.last().expect("told");
        let (from, to) = (last["from"].to_string(), last["to"].to_string());
        assert!(from.contains("CNAME drift.quaymark.example") || to.contains("A 192.0.2.7"), "{last}");
        customer::publish(&world.zones, &sheet, None).await.expect("published");
        service.live(&host).await;
        daemon.stop().await;
    });
}

#[test]
fn when_the_grace_is_over_the_route_is_withdrawn() {
    stage();
    stage::run(async {
        let setup = with(own_setup("grace", 87).await, &["--quick-looks=0", "--grace=3"]);
        let own = own(setup, "grace", 87).await;
        let world = &stage().world;
        let host = format!("board.{}", fresh_zone("grace"));
        let sheet = own.enrol(world, &host).await;
        customer::publish(&world.zones, &sheet, None).await.expect("published");
        own.live(&host).await;
        assert!(own.edge.routes(&host));
        customer::take_back(&world.zones, &sheet).await.expect("taken back");
        gate(&own.service, &host, 0, "lapsed").await;
        assert!(own.edge.routes(&host), "while in grace it is served");
        gate(&own.service, &host, 0, "waiting").await;
        wait_for("the route going", TIME_LIMIT, || async { !own.edge.routes(&host) })
            .await
            .expect("withdrawn");
        own.daemon.stop().await;
    });
}

#[test]
fn what_the_edge_serves_wrongly_is_named() {
    stage();
    stage::run(async {
        let setup = with(own_setup("served", 88).await, &["--quick-looks=0"]);
        let own = own(setup, "served", 88).await;
        let zone = fresh_zone("served");
        let (host, other) = (format!("board.{zone}"), format!("other.{zone}"));
        own.published(&host).await;
        own.live(&host).await;
        own.edge.list_default_hosts(true);
        own.found(&host, &["default-host-listed"]).await;
        own.edge.list_default_hosts(false);
        own.found(&host, &[]).await;
        own.published(&other).await;
        own.live(&other).await;
        // An edge server that mixes two customers up.
        own.edge.mistake(&host, &other);
        own.found(&host, &["certificate-foreign"]).await;
        gate(&own.service, &host, 3, "lapsed").await;
        let detail = own.cli_json(&["explain", &host]).await;
        let remedy = detail["findings"][0]["remedy"].as_str().expect("a remedy");
        assert!(remedy.contains(&format!("for {other}, where {host} belongs")), "{remedy}");
        own.edge.mistake(&host, &host);
        own.live(&host).await;
        let told = drifts(&own.service, &host).await;
        assert!(
            told.iter().any(|d| d["what"].as_str().is_some_and(|w| w.ends_with("certificate"))),
            "{told:?}"
        );
        own.daemon.stop().await;
    });
}
