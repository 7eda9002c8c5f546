//! Quick looks: many domains at once, and a full look where anything differs.

use std::path::Path;

use nomenta_core::reading::record::RecordData;
use nomenta_core::sheet::line::Purpose;
use nomenta_world::zones::Change;
use nomenta_world::{customer, wait_for};

use crate::stage::{self, BASE_PORT, PROGRAM, Service, TIME_LIMIT, fresh_zone, setup, stage};

/// A counter on the service's page of metrics.
async fn counter(service: &Service, name: &str) -> f64 {
    let page = reqwest::get(format!("{}/metrics", service.setup.url())).await.expect("a page");
    let page = page.text().await.expect("text");
    page.lines().find(|l| l.starts_with(name)).and_then(|l| l.rsplit(' ').next()?.parse().ok()).unwrap_or(0.0)
}

#[test]
fn while_nothing_changes_looks_are_quick_and_a_change_is_seen_all_the_same() {
    stage();
    stage::run(async {
        let (service, zones, zone) = (&stage().service, &stage().world.zones, fresh_zone("quick"));
        let sheet = service.enrol(&stage().world, &zone).await;
        customer::publish(zones, &sheet, None).await.expect("published");
        service.live(&zone).await;
        let same = "nomenta_quick_looks_total{result=\"same\"}";
        let before = counter(service, same).await;
        let quick = || async { counter(service, same).await > before };
        wait_for("a quick look that found the same", TIME_LIMIT, quick).await.expect("quick looks");
        let stray = Change::Add { owner: zone.clone(), ttl: 5, data: RecordData::A([192, 0, 2, 7].into()) };
        zones.update(&zone, &[stray]).await.expect("changed");
        service.found(&zone, &["address-surplus"]).await;
        customer::publish(zones, &sheet, None).await.expect("mended");
        service.live(&zone).await;
    });
}

#[test]
fn nothing_moving_for_too_long_is_a_note() {
    stage();
    stage::run(async {
        let world = &stage().world;
        let database = world.database("stalled").await.expect("a database");
        let mut setup = setup(BASE_PORT + 16, database);
        setup.options.push("--stalled-after=3".into());
        let log = world.layout.state.join("stalled.log");
        let process = setup.start(&world.layout, Path::new(PROGRAM), &log).await.expect("started");
        let service = Service { setup };
        service.add_platform(&nomenta_world::layout::EDGE, "{site}.edge.quaymark.example").await;
        let host = format!("timetable.{}", fresh_zone("stalled"));
        let sheet = service.enrol(world, &host).await;
        service.found(&host, &["stalled"]).await;
        let told = String::from_utf8_lossy(&service.cli(&["explain", &host]).await.stdout).into_owned();
        assert!(told.contains("Nothing on the sheet has been published yet."), "{told}");
        customer::publish_only(&world.zones, &sheet, Purpose::Ownership).await.expect("begun");
        let half = "The token is there; the routing records are still missing.";
        let told_half = || async {
            String::from_utf8_lossy(&service.cli(&["explain", &host]).await.stdout).contains(half)
        };
        wait_for("the half that is missing being told", TIME_LIMIT, told_half).await.expect("told");
        process.stop().await;
    });
}
