//! Quick looks: many domains at once, and a full look where anything differs.

use std::path::Path;

use chrono::{Duration, Utc};
use nomenta_api::event::EventKind;
use nomenta_core::name::subject::Subject;
use nomenta_core::name::token::Token;
use nomenta_core::reading::record::RecordData;
use nomenta_core::sheet::line::Purpose;
use nomenta_store::{Enrolment, NewDomain, QuickDone, Store, StoreError};
use nomenta_world::zones::Change;
use nomenta_world::{customer, wait_for};

use crate::stage::{self, BASE_PORT, PROGRAM, Service, TIME_LIMIT, fresh_zone, setup, stage};
use crate::store::store;

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

async fn enrol_many(store: &Store, site: &str, zone: &str, count: u8) -> Result<(), StoreError> {
    let domains = (0..count).map(|number| NewDomain {
        subject: Subject::parse(&format!("s{number}.{zone}")).expect("a name"),
        token: Token::from_random([number; 20]),
    });
    let domains: Vec<_> = domains.collect();
    let token_expires_at = Utc::now() + Duration::days(1);
    store.enrol(&Enrolment { site, domains: &domains, is_pair: false, token_expires_at }).await
}

#[test]
fn many_are_taken_in_at_once_or_none_and_a_sweep_is_leased_by_one() {
    stage();
    stage::run(async {
        let (store, zone) = (store("sweeps").await, "fleet.example");
        enrol_many(&store, "onswick", zone, 5).await.expect("taken in");
        let again = enrol_many(&store, "onswick", zone, 9).await.expect_err("some are there");
        assert!(matches!(&again, StoreError::Taken { name, .. } if name == "s0.fleet.example"), "{again}");
        let nowhere = enrol_many(&store, "nowhere", zone, 0).await;
        assert!(matches!(nowhere, Err(StoreError::Missing { .. })));
        let events = store.events(None, 0, 100).await.expect("events");
        assert_eq!(events.iter().filter(|row| row.event.kind() == EventKind::Enrolled).count(), 5);

        // New domains have full looks; none is to be quick.
        assert_eq!(store.due_by(Utc::now()).await.expect("counted"), (false, 5));
        assert!(store.lease_sweep(100).await.expect("leased").tasks.is_empty());
        let leases = store.lease(100).await.expect("leased");
        assert_eq!(leases.len(), 5);
        assert!(store.lease(100).await.expect("leased").is_empty(), "they are taken");
        let record = store.domain_named("s0.fleet.example").await.expect("there");
        assert_eq!((record.account.as_str(), record.domain.zone.as_str()), ("onswick", zone));
        assert!(record.looked_at.is_none() && record.domain.pair.is_none());

        let moment = Utc::now() + Duration::days(2);
        assert_eq!(store.all_due_at(moment).await.expect("moved"), 5);
        assert_eq!(store.due_by(Utc::now()).await.expect("counted"), (false, 0));
        // A quick look at what is not leased writes nothing.
        let sweep = store.lease_sweep(1).await.expect("leased");
        let done = QuickDone { domain_id: record.id, due: Utc::now(), quick: true };
        store.finish_sweep(&sweep, &[done], Utc::now()).await.expect("void");
        assert_eq!(store.due_by(Utc::now()).await.expect("counted"), (false, 0));
    });
}
