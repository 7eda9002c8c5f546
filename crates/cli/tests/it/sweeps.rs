//! Quick looks: many domains at once, and a full look where anything differs.

use std::path::Path;
use std::time::Duration;

use chrono::{DateTime, Utc};
use nomenta_core::reading::record::RecordData;
use nomenta_core::sheet::line::Purpose;
use nomenta_world::zones::Change;
use nomenta_world::{customer, wait_for};

use crate::own::{own_setup, with};
use crate::stage::{self, ADMIN, BASE_PORT, PROGRAM, Service, TIME_LIMIT, fresh_zone, setup, stage};

/// A counter on the service's page of metrics.
async fn counter(service: &Service, name: &str) -> f64 {
    let page = service.metrics().await;
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
fn whoever_waits_for_a_domain_waits_seconds_and_everybody_is_told_when_it_is_looked_at() {
    stage();
    stage::run(async {
        let world = &stage().world;
        // A domain is old after a second here, and left alone for an hour.
        let options = ["--young-for=1", "--look-first=2", "--look-most=3600", "--second-look=3600"];
        let setup = with(own_setup("awaited", 238).await, &options);
        let log = world.layout.state.join("awaited.log");
        let process = setup.start(&world.layout, Path::new(PROGRAM), &log).await.expect("started");
        let service = Service { setup };
        service.add_platform(&nomenta_world::layout::EDGE, "{site}.edge.quaymark.example").await;
        let host = format!("timetable.{}", fresh_zone("awaited"));
        let sheet = service.enrol(world, &host).await;
        let path = format!("domains/{host}");
        let left = async || {
            let detail = service.get(&path).await.1;
            let next = detail["next_look"].as_str().and_then(|at| at.parse::<DateTime<Utc>>().ok());
            next.map(|next| (next - Utc::now()).num_seconds())
        };
        let is_left_alone = || async { left().await.is_some_and(|seconds| seconds > 20) };
        wait_for("it being left alone", TIME_LIMIT, is_left_alone).await.expect("old");
        let explained =
            async || String::from_utf8_lossy(&service.cli(&["explain", &host]).await.stdout).into_owned();
        let told = explained().await;
        assert!(told.contains("Next look in "), "{told}");

        // What is mended is found as soon as somebody waits, and not before.
        customer::publish(&world.zones, &sheet, None).await.expect("published");
        let asked = service.request("POST", &format!("{path}/waiting"), ADMIN).send().await;
        assert_eq!(asked.expect("an answer").status().as_u16(), 204);
        assert_eq!(left().await.filter(|seconds| *seconds > 2), None);
        let is_routed = || async { service.get(&path).await.1["gates"][1]["state"] == "passed" };
        wait_for("it being routed", Duration::from_secs(60), is_routed).await.expect("found");

        // So does whoever has the customer's page open.
        let made = service.cli_json(&["handoff", "make", &host, "--account", "onswick"]).await;
        let secret = made["secret"].as_str().expect("a secret").to_owned();
        let view = service.request("GET", "handoff?wait=1", &secret).send().await.expect("an answer");
        let view = view.text().await.expect("text");
        assert!(left().await.is_some_and(|seconds| seconds <= 2), "{view}");
        assert!(
            view.contains("We look again by ourselves") || view.contains("We are looking right now"),
            "{view}"
        );

        service.cli_json(&["pause", &host]).await;
        let told = explained().await;
        assert!(told.contains("No next look: the domain is paused."), "{told}");
        let refused = service.request("POST", &format!("{path}/waiting"), "nonsense").send().await;
        assert_eq!(refused.expect("an answer").status().as_u16(), 401);
        process.stop().await;
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
