//! Waiting, explained: what is predicted against what resolvers do.

use std::net::{Ipv4Addr, SocketAddr};
use std::sync::Mutex;
use std::time::Duration;

use chrono::{DateTime, Utc};
use futures::future::join_all;
use nomenta_core::judge::waiting::Wait;
use nomenta_core::reading::record::RecordData;
use nomenta_world::customer;
use nomenta_world::wait_for;
use nomenta_world::zones::Change;

use crate::stage::{self, TIME_LIMIT, fresh_zone, stage};
use crate::turns;

const OLD: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 7);
/// What each resolver was told, in seconds.
const TTLS: [u32; 3] = [20, 40, 60];

async fn waits(host: &str) -> Vec<Wait> {
    let detail = stage().service.cli_json(&["explain", host]).await;
    serde_json::from_value(detail["waits"].clone()).expect("waits")
}

/// When a resolver was last asked that still gave the old address, and when it
/// first had given another: the change lies between.
async fn changes_between(vantage: SocketAddr, host: &str) -> (DateTime<Utc>, DateTime<Utc>) {
    let (zones, held) = (&stage().world.zones, Mutex::new(Utc::now()));
    let changed = || async {
        let asked = Utc::now();
        let Ok(list) = zones.addresses_at(vantage, host).await else { return false };
        if list.contains(&OLD) {
            *held.lock().expect("a time") = asked;
        }
        !list.contains(&OLD)
    };
    wait_for(&format!("{vantage} letting go"), Duration::from_secs(90), changed).await.expect("lets go");
    let held = *held.lock().expect("a time");
    (held, Utc::now())
}

#[test]
fn each_vantage_lets_go_within_two_seconds_of_the_time_that_was_told() {
    let _turn = turns::to_go_by_the_clock();
    stage();
    stage::run(async {
        let stage = stage();
        let (world, vantages) = (&stage.world, stage.world.layout.vantages());
        let zone = fresh_zone("waiting");
        let host = format!("timetable.{zone}");
        world.zones.register(&zone).await.expect("registered");
        for ((_, vantage), ttl) in vantages.iter().zip(TTLS) {
            let old = Change::Add { owner: host.clone(), ttl, data: RecordData::A(OLD) };
            let changes = [Change::Clear { owner: host.clone() }, old];
            world.zones.update(&zone, &changes).await.expect("published");
            // The second server may hear of it a moment after the first.
            let primed =
                || async { world.zones.addresses_at(*vantage, &host).await.is_ok_and(|h| h == [OLD]) };
            wait_for(&format!("{vantage} being primed"), TIME_LIMIT, primed).await.expect("primed");
        }
        let sheet = stage.service.enrol(world, &host).await;
        customer::publish(&world.zones, &sheet, None).await.expect("published");
        let told = || async { waits(&host).await.iter().filter(|w| w.until.is_some()).count() == 3 };
        wait_for("three waits being told", TIME_LIMIT, told).await.expect("told");
        let told = waits(&host).await;
        // A look at which a vantage does not answer says less for once.
        let in_words = || async {
            let text = stage.service.cli(&["explain", &host]).await;
            let text = String::from_utf8_lossy(&text.stdout).into_owned();
            text.contains("still holds A 192.0.2.7") && text.contains(", until ")
        };
        wait_for("a wait being told in words", TIME_LIMIT, in_words).await.expect("told in words");

        let changes = join_all(vantages.iter().map(|(_, vantage)| changes_between(*vantage, &host))).await;
        for ((name, _), (held, gone)) in vantages.iter().zip(changes) {
            let wait = told.iter().find(|w| w.vantage == *name).expect("a wait");
            // What it was asked too early it may also hold as absent, for a moment.
            assert!(wait.holds.contains(&"A 192.0.2.7".to_owned()), "{name}: {:?}", wait.holds);
            let until = wait.until.expect("a time");
            let (late, early) = ((held - until).num_milliseconds(), (until - gone).num_milliseconds());
            assert!(
                late <= 2000 && early <= 2000,
                "{name} was to let go at {until}, and did between {held} and {gone}"
            );
        }
        // What is looked at again by then is found without waiting for a timer.
        stage.service.live(&host).await;
        // Two are enough to be live; the third is seen by the look after that.
        let seeing = |point: &serde_json::Value| point["seeing"].as_array().map_or(0, Vec::len);
        let all_see = || async {
            let detail = stage.service.cli_json(&["explain", &host]).await;
            detail["spreads"].as_array().and_then(|spread| spread.last()).map(seeing) == Some(3)
        };
        wait_for("every vantage seeing it", TIME_LIMIT, all_see).await.expect("seen");
        let detail = stage.service.cli_json(&["explain", &host]).await;
        let spread: Vec<_> = detail["spreads"].as_array().expect("spreads").iter().collect();
        assert!(spread.len() >= 3, "each vantage is a step of its own: {spread:?}");
    });
}
