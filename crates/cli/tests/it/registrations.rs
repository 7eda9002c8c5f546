//! What the registry says of the domain itself: when it runs out, and whether it is held.

use chrono::{TimeDelta, Utc};
use nomenta_world::registrar::Entry;

use crate::stage::{self, fresh_zone, stage};

#[test]
fn a_domain_that_runs_out_or_is_held_is_told_of() {
    stage();
    stage::run(async {
        let stage = stage();
        let soon = fresh_zone("runsout");
        let entry = |days: i64, status: &str| Entry {
            expires_at: Utc::now() + TimeDelta::days(days),
            status: vec![status.to_owned()],
        };
        stage.world.registrar.say(&soon, entry(5, "active"));
        let host = format!("rides.{soon}");
        stage.service.enrol(&stage.world, &host).await;
        stage.service.found(&host, &["registration-expiring"]).await;
        let explained = stage.service.cli(&["explain", &host]).await;
        let text = String::from_utf8_lossy(&explained.stdout).into_owned();
        for part in ["registered at Harrow Names until", &format!("Renew {soon} with Harrow Names")] {
            assert!(text.contains(part), "{part}: {text}");
        }

        // One letter where there should be two, and the name that is meant is registered.
        let meant = fresh_zone("meantt");
        stage.world.zones.register(&meant).await.expect("registered");
        let slip = format!("rides.{}", meant.replacen("tt-", "t-", 1));
        stage.service.cli_json(&["enrol", &slip, "--site", "onswick"]).await;
        stage.service.found(&slip, &["name-unregistered"]).await;
        let explained = stage.service.cli(&["explain", &slip]).await;
        let text = String::from_utf8_lossy(&explained.stdout).into_owned();
        let text = text.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(text.contains(&format!("{meant} is registered: if that is meant")), "{text}");

        // Nobody finds it in DNS; it is there all the same.
        let held = fresh_zone("held");
        stage.world.registrar.say(&held, entry(90, "client hold"));
        let host = format!("rides.{held}");
        stage.service.cli_json(&["enrol", &host, "--site", "onswick"]).await;
        stage.service.found(&host, &["registration-on-hold"]).await;
        assert_eq!(stage.service.codes(&host).await, ["registration-on-hold"]);
    });
}
