//! A CA that takes calls and does not answer them: nothing waits for ever, and
//! whoever looks is told.

use std::time::Duration;

use nomenta_world::{IssuerSetup, OtherIssuer, wait_for};

use crate::life::behind_front;
use crate::own::Own;
use crate::stage::{self, BASE_PORT, TIME_LIMIT, fresh_zone, stage};
use crate::turns;

/// Waits until the story of the latest order says something.
async fn told(own: &Own, host: &str, what: &str) {
    let told = || async { own.certificate(host).await["order"]["steps"].to_string().contains(what) };
    let waited = wait_for(&format!("the order of {host} saying {what:?}"), TIME_LIMIT, told).await;
    if let Err(error) = waited {
        panic!("{error}; it says {}", own.certificate(host).await["order"]);
    }
}

#[test]
fn a_ca_that_does_not_answer_is_asked_again_later_and_never_by_more_calls_than_allowed() {
    stage();
    stage::run(async {
        let (front, own) = behind_front("hanging", 78, 93, &["--ca-call-limit=2", "--ca-calls=2"]).await;
        front.hang(true);
        let zone = fresh_zone("hanging");
        let hosts: Vec<_> = (0..6).map(|n| format!("board{n}.{zone}")).collect();
        for host in &hosts {
            own.published(host).await;
        }
        told(&own, &hosts[0], "it did not answer within 2 s").await;

        // Other work goes on meanwhile.
        let other = format!("other.{}", fresh_zone("hanging"));
        own.service.enrol(&stage().world, &other).await;
        own.service.looked_at(&other).await;

        front.hang(false);
        for host in &hosts {
            own.service.live(host).await;
            assert_eq!(own.count(host, "order.placed").await, 1, "{host}");
        }
        assert!(front.most_at_once() <= 2, "{} calls at once", front.most_at_once());

        // One line says so, whatever the number of domains.
        let log = stage().world.layout.state.join("hanging.log");
        let log = std::fs::read_to_string(log).expect("a log");
        let warned = log.lines().filter(|line| line.contains("an order was not got further")).count();
        assert!((1..=3).contains(&warned), "{warned} warnings in {log}");
        own.daemon.stop().await;
    });
}

#[test]
fn a_task_ends_at_its_deadline_and_says_so_in_the_story_of_its_order() {
    // Two seconds are enough for an order, unless the machine is full.
    let _turn = turns::to_go_by_the_clock();
    stage();
    stage::run(async {
        let (front, own) = behind_front("overdue", 80, 94, &["--order-limit=2", "--ca-call-limit=60"]).await;
        front.hang(true);
        let host = format!("board.{}", fresh_zone("overdue"));
        own.published(&host).await;
        told(&own, &host, "It was not done within 2 s, and is tried again later").await;

        front.hang(false);
        own.service.live(&host).await;
        own.daemon.stop().await;
    });
}

#[test]
fn the_world_notices_a_ca_that_has_stopped_answering_names_it_and_starts_it_anew() {
    stage();
    stage::run(async {
        let setup = IssuerSetup {
            folder: "pebble-stuck".into(),
            port: BASE_PORT + 82,
            nonce_reject: 5,
            lifetime: Duration::from_secs(3600),
            external: None,
        };
        let issuer = OtherIssuer::start(&stage().world.layout, setup).await.expect("a CA");
        issuer.hang().await;
        let said = || async {
            issuer.said().iter().any(|said| said.contains("certification authority has stopped answering"))
        };
        wait_for("the CA being named", TIME_LIMIT, said).await.expect("named");
        wait_for("the CA answering", TIME_LIMIT, || async { issuer.issued().await.is_ok() })
            .await
            .expect("started anew");
    });
}
