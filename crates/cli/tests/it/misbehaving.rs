//! Name servers that misbehave beside a sound one: survived, and named.

use std::net::Ipv4Addr;

use futures::future::join_all;
use nomenta_core::reading::record::RecordData;
use nomenta_world::customer;
use nomenta_world::layout::{HARROW, SILENT};
use nomenta_world::odd::{self, Manner};
use nomenta_world::zones::{Change, servers};

use crate::stage::{self, fresh_zone, stage};

/// What is wrong with the second server, the finding, and how it is told.
const CASES: [(&str, Option<Manner>, &[&str], &str); 6] = [
    ("silence", None, &["server-lame"], "does not answer"),
    ("garbage", Some(Manner::Garbage), &["server-lame"], "answers unreadably"),
    ("wrong id", Some(Manner::Stranger), &["server-lame"], "does not answer"),
    ("lameness", Some(Manner::Lame), &["server-lame"], "refuses to answer"),
    ("truncation", Some(Manner::Short), &[], "The token is at every authoritative server (2)."),
    ("slowness", Some(Manner::Slow), &[], "The token is at every authoritative server (2)."),
];

async fn survived(what: &str, manner: Option<Manner>, codes: &[&str], told: &str) {
    let stage = stage();
    let zone = fresh_zone("odd");
    let sheet = stage.service.enrol(&stage.world, &zone).await;
    customer::publish(&stage.world.zones, &sheet, None).await.expect("published");
    let sound = servers(HARROW)[0].clone();
    let odd: (String, Ipv4Addr) = match manner {
        Some(manner) => odd::server(manner),
        None => (format!("ns9.{zone}"), SILENT),
    };
    if manner.is_none() {
        let data = RecordData::A(odd.1);
        let named = Change::Add { owner: odd.0.clone(), ttl: 5, data };
        stage.world.zones.update(&zone, &[named]).await.expect("a name for it");
    }
    stage.world.zones.serve_at(&zone, &[sound, odd.clone()]).await.expect("served");
    // Through all of it the domain goes its way.
    stage.service.live(&zone).await;
    stage.service.found(&zone, codes).await;
    let text = String::from_utf8_lossy(&stage.service.cli(&["explain", &zone]).await.stdout).into_owned();
    assert!(text.contains(told), "{what}: no {told:?} in:\n{text}");
    if !codes.is_empty() {
        assert!(text.contains(&format!("Take {} off the name servers", odd.0)), "{what}:\n{text}");
    }
}

#[test]
fn silence_garbage_wrong_ids_truncation_lameness_and_slowness_are_survived_and_named() {
    stage();
    stage::run(async {
        let played = CASES.map(|(what, manner, codes, told)| {
            let play = tokio::spawn(survived(what, manner, codes, told));
            async move { play.await.err().map(|_| what) }
        });
        let failed: Vec<_> = join_all(played).await.into_iter().flatten().collect();
        assert_eq!(failed, [""; 0]);
    });
}
