//! The life of a certificate: renewal, revocation, what a customer brings, the
//! sealing key, and a CA that asks for patience.

use std::path::Path;
use std::time::Duration;

use chrono::Utc;
use nomenta_world::issuer_front::IssuerFront;
use nomenta_world::tls::Authority;
use nomenta_world::{IssuerSetup, OtherIssuer, wait_for};
use serde_json::json;

use crate::own::{Own, own, own_setup, with};
use crate::stage::{self, BASE_PORT, PROGRAM, TIME_LIMIT, fresh_zone, stage};
use crate::turns;

/// A service whose CA stands behind a front at the port offset `port`.
pub(crate) async fn behind_front(name: &str, port: u16, last: u8, options: &[&str]) -> (IssuerFront, Own) {
    let layout = &stage().world.layout;
    let front = IssuerFront::start(layout, BASE_PORT + port, &layout.directory()).await.expect("a front");
    let mut setup = own_setup(name, last.into()).await;
    setup.directory = Some(front.directory());
    let setup = with(setup, options);
    (front, own(setup, name, last).await)
}

/// Waits for another certificate than the one with this serial.
async fn renewed(own: &Own, host: &str, before: &str) {
    let waited =
        wait_for("a new certificate", TIME_LIMIT, || async { own.serial(host).await != before }).await;
    waited.expect("renewed");
}

#[test]
fn a_renewal_comes_when_the_directory_advises_and_says_what_it_replaces() {
    stage();
    stage::run(async {
        let (front, own) = behind_front("advised", 70, 50, &[]).await;
        let host = format!("board.{}", fresh_zone("advised"));
        own.published(&host).await;
        own.service.live(&host).await;
        let first = own.serial(&host).await;
        // The far window of the directory is what counts, not two thirds.
        let advised = || async {
            let at = own.certificate(&host).await["held"]["renew_at"].clone();
            let at: chrono::DateTime<Utc> = serde_json::from_value(at).expect("a time");
            front.asked() > 0 && (at - Utc::now()).num_days() < 52
        };
        wait_for("advice", TIME_LIMIT, advised).await.expect("advised");
        let now = Utc::now();
        front.advise(now - chrono::Duration::hours(2), now - chrono::Duration::hours(1));
        renewed(&own, &host, &first).await;
        assert_eq!(front.replaced().len(), 1, "the order named what it replaces");
        assert_eq!(
            (own.count(&host, "order.placed").await, own.count(&host, "certificate.issued").await),
            (2, 2)
        );
        own.daemon.stop().await;
    });
}

#[test]
fn without_advice_it_comes_at_two_thirds_and_a_failure_leaves_the_old_one_served() {
    let _turn = turns::to_go_by_the_clock();
    stage();
    stage::run(async {
        let layout = &stage().world.layout;
        let issuer = OtherIssuer::start(
            layout,
            IssuerSetup {
                folder: "pebble-short".into(),
                port: BASE_PORT + 72,
                nonce_reject: 5,
                lifetime: Duration::from_secs(45),
                external: None,
            },
        )
        .await
        .expect("a CA");
        let mut setup = own_setup("short", 51).await;
        setup.directory = Some(issuer.directory());
        let own = own(setup, "short", 51).await;
        let host = format!("board.{}", fresh_zone("short"));
        own.published(&host).await;
        own.service.live(&host).await;
        let first = own.serial(&host).await;
        renewed(&own, &host, &first).await;
        let facts = own.certificate(&host).await["held"]["facts"].clone();
        let second = own.serial(&host).await;
        // The CA is gone when the next one is due: what is held is kept.
        drop(issuer);
        let tried = || async {
            let steps = own.certificate(&host).await["order"]["steps"].to_string();
            steps.contains("cannot be reached")
        };
        wait_for("a renewal failing", TIME_LIMIT, tried).await.expect("tried");
        assert_eq!(own.serial(&host).await, second);
        let until: chrono::DateTime<Utc> =
            serde_json::from_value(facts["not_after"].clone()).expect("a time");
        if Utc::now() < until {
            let detail = own.service.cli_json(&["explain", &host]).await;
            assert_eq!(detail["gates"][2]["state"], "passed", "{detail}");
        }
        own.daemon.stop().await;
    });
}

#[test]
fn a_renewal_asked_for_and_a_revocation_each_bring_another_key() {
    stage();
    stage::run(async {
        let own = own(own_setup("revoked", 52).await, "revoked", 52).await;
        let world = &stage().world;
        let host = format!("board.{}", fresh_zone("revoked"));
        own.published(&host).await;
        let early = own.service.cli(&["certificate", "renew", &host]).await;
        assert_eq!(early.status.code(), Some(1));
        assert!(String::from_utf8_lossy(&early.stderr).contains("no certificate to renew"));
        own.service.live(&host).await;
        let first = own.serial(&host).await;
        let renewal = own.service.cli(&["certificate", "renew", &host]).await;
        assert!(renewal.status.success(), "{}", String::from_utf8_lossy(&renewal.stderr));
        let second = own.serial(&host).await;
        assert_ne!(first, second);

        let odd = own.service.cli(&["certificate", "revoke", &host, "--reason", "boredom"]).await;
        assert!(String::from_utf8_lossy(&odd.stderr).contains("Use one of: unspecified, keyCompromise"));
        let revoked =
            own.service.cli_json(&["certificate", "revoke", &host, "--reason", "keyCompromise"]).await;
        // Both are good by the CA's records, so both are revoked.
        assert_eq!(revoked["certificates"], 2);
        for serial in [&first, &second] {
            let gone = || async { world.certificate_status(serial).await.is_ok_and(|s| s == "Revoked") };
            wait_for("the CA revoking", TIME_LIMIT, gone).await.expect("revoked");
        }
        let another = || async {
            let serial = own.serial(&host).await;
            !serial.is_empty() && serial != first && serial != second
        };
        wait_for("another certificate", TIME_LIMIT, another).await.expect("issued");
        let third = own.serial(&host).await;
        own.service.live(&host).await;
        assert_eq!(world.certificate_status(&third).await.expect("known"), "Valid");
        let told = || async { own.count(&host, "certificate.revoked").await == 2 };
        wait_for("the history telling", TIME_LIMIT, told).await.expect("told");
        let shown = own.certificate(&host).await;
        assert_eq!(shown["revocations"][0]["reason"], "keyCompromise");
        own.daemon.stop().await;
    });
}

#[test]
fn a_released_domain_loses_route_and_certificate_and_may_come_back() {
    stage();
    stage::run(async {
        let own = own(own_setup("released", 53).await, "released", 53).await;
        let world = &stage().world;
        let host = format!("board.{}", fresh_zone("released"));
        own.published(&host).await;
        own.service.live(&host).await;
        let serial = own.serial(&host).await;
        assert!(own.edge.routes(&host));
        let released = own.service.cli(&["release", &host]).await;
        assert!(String::from_utf8_lossy(&released.stdout).contains("has left the platform"));
        let gone = || async { world.certificate_status(&serial).await.is_ok_and(|s| s == "Revoked") };
        wait_for("the CA revoking", TIME_LIMIT, gone).await.expect("revoked");
        wait_for("the route going", TIME_LIMIT, || async { !own.edge.routes(&host) })
            .await
            .expect("withdrawn");
        let roster = own.service.cli_json(&["roster"]).await;
        assert_eq!(roster, json!([]), "it is listed by its stage alone");
        let left = own.service.cli_json(&["roster", "--stage", "released"]).await;
        assert_eq!(left[0]["host"], host.as_str());
        let again = own.service.cli(&["release", &host]).await;
        assert!(String::from_utf8_lossy(&again.stderr).contains("left the platform at"));
        own.published(&host).await;
        own.service.live(&host).await;
        assert_ne!(own.serial(&host).await, serial);
        own.daemon.stop().await;
    });
}

#[test]
fn a_certificate_that_is_brought_is_checked_served_and_not_renewed() {
    stage();
    stage::run(async {
        let own = own(own_setup("brought", 54).await, "brought", 54).await;
        let layout = &stage().world.layout;
        let host = format!("board.{}", fresh_zone("brought"));
        own.published(&host).await;
        own.service.live(&host).await;
        let authority = Authority::open(layout).expect("an authority");
        let write = |name: &str, text: &str| {
            let path = layout.state.join(name);
            std::fs::write(&path, text).expect("written");
            path.display().to_string()
        };
        let good = authority.issue(std::slice::from_ref(&host), 20).expect("issued");
        let other = authority.issue(&["shop.example".into()], 20).expect("issued");
        let (chain, key) = (write("brought.pem", &good.chain), write("brought.key", &good.key));
        let bundle = write("bundle.pem", &format!("{}{}", good.chain, good.key));
        let other_chain = write("other.pem", &other.chain);
        let other_key = write("other.key", &other.key);
        for (chain, key, says) in [
            (&other_chain, &other_key, "The certificate is for shop.example, and not for"),
            (&chain, &other_key, "The key does not belong to the first certificate"),
            (&key, &key, "The chain holds a section PRIVATE KEY"),
            (&bundle, &key, "Paste the certificates alone"),
        ] {
            let refused = own
                .service
                .cli(&["certificate", "bring", &host, "--chain", chain, "--private-key", key])
                .await;
            let said = String::from_utf8_lossy(&refused.stderr).into_owned();
            assert!(refused.status.code() == Some(1) && said.contains(says), "{said}");
        }
        let (status, problem) = {
            let body = json!({ "chain_pem": good.chain, "key_pem": other.key });
            let path = format!("domains/{host}/certificate");
            let sent =
                own.service.request("PUT", &path, stage::ADMIN).json(&body).send().await.expect("sent");
            (sent.status().as_u16(), sent.json::<serde_json::Value>().await.expect("a problem"))
        };
        assert_eq!((status, problem["errors"][0]["field"].as_str()), (422, Some("key_pem")));

        let taken = own
            .service
            .cli_json(&["certificate", "bring", &host, "--chain", &chain, "--private-key", &key])
            .await;
        assert_eq!(taken["held"]["origin"], "brought");
        assert!(taken["held"]["renew_at"].is_null());
        let serial = taken["held"]["facts"]["serial"].as_str().expect("a serial").to_owned();
        let served = || async {
            own.service.cli(&["survey", &host]).await;
            let view = own.certificate(&host).await;
            view["probe"]["results"][0]["served"]["serial"] == serial.as_str()
        };
        wait_for("it being served", TIME_LIMIT, served).await.expect("served");
        own.service.live(&host).await;
        // It has twenty days left, and only the customer can replace it.
        own.service.found(&host, &["certificate-expiring"]).await;
        let list = own.service.cli(&["certificate", "list", "--within", "30"]).await;
        let list = String::from_utf8(list.stdout).expect("text");
        assert!(list.contains("Harbourseal Authority (brought in)") && list.contains("█ 1"), "{list}");
        assert_eq!(own.service.cli_json(&["certificate", "list", "--within", "10"]).await, json!([]));
        own.daemon.stop().await;
    });
}

#[test]
fn a_wrong_sealing_key_is_refused_and_a_new_one_takes_over_with_the_former() {
    stage();
    stage::run(async {
        let setup = own_setup("sealed", 55).await;
        let Own { service, daemon, edge: _edge, .. } = own(setup.clone(), "sealed", 55).await;
        let (layout, host) = (&stage().world.layout, format!("board.{}", fresh_zone("sealed")));
        service.published(&host).await;
        service.live(&host).await;
        let serial = service.serial(&host).await;
        daemon.stop().await;
        let log = layout.state.join("sealed-again.log");
        let mut wrong = setup.clone();
        wrong.sealing_key = "a1".repeat(32);
        let refused = wrong.start(layout, Path::new(PROGRAM), &log).await.err().expect("refused");
        assert!(format!("{refused:#}").contains("did not seal the records of this database"), "{refused:#}");

        let file = layout.state.join("former.key");
        std::fs::write(&file, format!("{}\n", setup.sealing_key)).expect("written");
        let rotated = with(wrong.clone(), &[&format!("--former-sealing-key-file={}", file.display())]);
        let daemon = rotated.start(layout, Path::new(PROGRAM), &log).await.expect("started");
        service.live(&host).await;
        assert_eq!(service.serial(&host).await, serial);
        let says =
            || async { std::fs::read_to_string(&log).is_ok_and(|text| text.contains("no longer needed")) };
        wait_for("everything being sealed anew", TIME_LIMIT, says).await.expect("sealed");
        daemon.stop().await;
        // From now on the new key is enough, and the old one opens nothing.
        let daemon = wrong.start(layout, Path::new(PROGRAM), &log).await.expect("started");
        let renewal = service.cli(&["certificate", "renew", &host]).await;
        assert!(renewal.status.success(), "{}", String::from_utf8_lossy(&renewal.stderr));
        service.live(&host).await;
        daemon.stop().await;
        let refused = setup.start(layout, Path::new(PROGRAM), &log).await.err().expect("refused");
        assert!(format!("{refused:#}").contains("did not seal the records"), "{refused:#}");
    });
}

#[test]
fn a_ca_that_asks_for_patience_gets_it_from_every_domain() {
    stage();
    stage::run(async {
        let (front, own) = behind_front("patient", 74, 56, &[]).await;
        front.throttle(Some(10));
        let zone = fresh_zone("patient");
        let (one, two) = (format!("one.{zone}"), format!("two.{zone}"));
        own.published(&one).await;
        own.service.found(&one, &["issuer-throttled"]).await;
        let detail = own.service.cli_json(&["explain", &one]).await;
        let remark = detail["findings"][0]["remark"].as_str().expect("a remark");
        assert!(remark.contains("Too many orders were placed with this account"), "{remark}");
        front.throttle(None);
        // The other one does not even ask while the CA wants to be left alone.
        own.published(&two).await;
        own.service.live(&one).await;
        own.service.live(&two).await;
        assert_eq!(own.count(&one, "order.refused").await, 1);
        assert_eq!(own.count(&two, "order.refused").await, 0);
        own.daemon.stop().await;
    });
}

#[test]
fn an_order_that_meets_a_busy_ca_goes_on_when_the_ca_said() {
    stage();
    stage::run(async {
        let (front, own) = behind_front("busy", 76, 58, &[]).await;
        front.overload(Some(8));
        let host = format!("board.{}", fresh_zone("busy"));
        own.published(&host).await;
        own.service.found(&host, &["issuer-throttled"]).await;
        let told = own.certificate(&host).await["order"].to_string();
        assert!(told.contains("is busy, and asks to be left alone until"), "{told}");
        front.overload(None);
        own.service.live(&host).await;
        // Asked once, and then not before the time was up.
        assert_eq!(front.turned_away(), 1);
        assert_eq!(own.count(&host, "order.placed").await, 1);
        assert_eq!(own.count(&host, "order.refused").await, 0);
        own.daemon.stop().await;
    });
}

#[test]
fn the_platforms_own_budget_holds_orders_back_and_says_until_when() {
    stage();
    stage::run(async {
        let setup = with(own_setup("budget", 57).await, &["--domain-orders=2", "--renewal-reserve=50"]);
        let own = own(setup, "budget", 57).await;
        let zone = fresh_zone("budget");
        let (one, two) = (format!("one.{zone}"), format!("two.{zone}"));
        own.published(&one).await;
        own.service.live(&one).await;
        own.published(&two).await;
        own.service.found(&two, &["issuer-throttled"]).await;
        let checks = own.service.cli(&["certificate", "preflight", &two]).await;
        assert_eq!(checks.status.code(), Some(3), "not yet");
        let said = String::from_utf8(checks.stdout).expect("text");
        assert!(said.contains(&format!("The limit of 1 orders in a week for {zone} is used up")), "{said}");
        assert_eq!(own.count(&two, "order.placed").await, 0);

        // A part is kept for what is live already.
        let renewed = own.service.cli(&["certificate", "renew", &one]).await;
        assert_eq!(renewed.status.code(), Some(0), "{}", String::from_utf8_lossy(&renewed.stderr));
        assert_eq!(own.count(&one, "order.placed").await, 2);
        own.daemon.stop().await;
    });
}
