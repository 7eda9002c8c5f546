//! Keys in safe hands: the sealing key changes while processes work on, the account at the CA
//! gets another key, and what an order brings for nobody is revoked.

use std::path::{Path, PathBuf};

use nomenta_world::service::ServiceSetup;
use nomenta_world::{Daemon, wait_for};

use crate::browser::Browser;
use crate::notices::told_page;
use crate::own::{Own, own, own_setup, with};
use crate::stage::{self, ADMIN, BASE_PORT, EDGE_KEY, PROGRAM, Service, TIME_LIMIT, fresh_zone, stage};

const NEW_KEY: &str = "b7";

fn log_of(name: &str) -> PathBuf {
    stage().world.layout.state.join(format!("{name}.log"))
}

async fn started(setup: &ServiceSetup, log: &Path) -> Daemon {
    setup.start(&stage().world.layout, Path::new(PROGRAM), log).await.expect("started")
}

/// Waits until a log says something.
async fn said(log: &Path, words: &str) {
    let says = || async { std::fs::read_to_string(log).is_ok_and(|text| text.contains(words)) };
    wait_for(words, TIME_LIMIT, says).await.expect("said");
}

/// Whether a process hands the edge a certificate for each of these hosts.
async fn hands_out(service: &Service, hosts: &[&str]) -> bool {
    let answer = service.request("GET", "edge/feed", EDGE_KEY).send().await.expect("asked");
    let feed: serde_json::Value = answer.json().await.expect("a feed");
    let held = feed["certificates"].as_array().expect("certificates");
    hosts.iter().all(|host| held.iter().any(|certificate| certificate["host"] == *host))
}

#[test]
fn the_sealing_key_changes_while_two_processes_work_and_no_edge_misses_a_certificate() {
    stage();
    stage::run(async {
        let setup = own_setup("custody", 230).await;
        let Own { service: one, daemon, edge: _edge, .. } = own(setup.clone(), "custody", 230).await;
        let zone = fresh_zone("custody");
        let (early, late) = (format!("early.{zone}"), format!("late.{zone}"));
        one.published(&early).await;
        one.live(&early).await;
        let reader = asked_to_be_told(&one, &early).await;

        let former = stage().world.layout.state.join("custody-former.key");
        std::fs::write(&former, &setup.sealing_key).expect("written");
        let mut changed = with(setup.clone(), &[&format!("--former-sealing-key-file={}", former.display())]);
        changed.sealing_key = NEW_KEY.repeat(32);
        let mut beside = changed.clone();
        beside.listen.set_port(BASE_PORT + 231);
        let two = Service { setup: beside.clone() };

        // One knows the old key alone: both go on with that.
        let second = started(&beside, &log_of("custody-second")).await;
        said(&log_of("custody-second"), "not changed before every process is given it").await;
        two.published(&late).await;
        two.live(&late).await;
        for service in [&one, &two] {
            assert!(hands_out(service, &[&early, &late]).await);
        }

        daemon.stop().await;
        let daemon = started(&changed, &log_of("custody-first")).await;
        let logs = ["custody-first", "custody-second"].map(log_of);
        let is_done =
            |log: &PathBuf| std::fs::read_to_string(log).is_ok_and(|text| text.contains("no longer needed"));
        wait_for("the change to be done", TIME_LIMIT, || async {
            for service in [&one, &two] {
                assert!(hands_out(service, &[&early, &late]).await);
            }
            logs.iter().any(is_done)
        })
        .await
        .expect("done");
        for service in [&one, &two] {
            assert!(hands_out(service, &[&early, &late]).await);
        }
        daemon.stop().await;
        second.stop().await;

        // The new key is enough, and the old one opens nothing.
        let log = log_of("custody-after");
        let refused =
            setup.start(&stage().world.layout, Path::new(PROGRAM), &log).await.err().expect("refused");
        assert!(format!("{refused:#}").contains("did not seal the records"), "{refused:#}");
        let alone = ServiceSetup { sealing_key: NEW_KEY.repeat(32), ..setup };
        let daemon = started(&alone, &log).await;
        assert!(hands_out(&one, &[&early, &late]).await);
        let opened = reqwest::get(&reader).await.expect("an answer");
        assert_eq!(opened.status(), 200, "links of mails that were sent before lead there all the same");
        daemon.stop().await;
    });
}

/// Asks by a link to be told by mail; returns where the mail leads.
async fn asked_to_be_told(service: &Service, host: &str) -> String {
    let (_, made) = service.post(&format!("domains/{host}/handoffs"), &serde_json::json!({})).await;
    let address = format!("reader-{}@mail.test", host.replace('.', "-"));
    let asking = format!("{}/tell", made["link"].as_str().expect("a link"));
    let asked = reqwest::Client::new().post(asking).form(&[("address", &address)]).send().await;
    assert_eq!(asked.expect("an answer").status(), 200);
    let mails = stage().world.mailbox.wait(&address, 1, TIME_LIMIT).await.expect("a mail");
    told_page(&mails[0])
}

#[test]
fn the_account_at_the_ca_gets_another_key_and_orders_go_on_with_it() {
    stage();
    stage::run(async {
        let setup = own_setup("rekeyed", 232).await;
        let Own { service, daemon, edge: _edge, .. } = own(setup.clone(), "rekeyed", 232).await;
        let mut beside = setup;
        beside.listen.set_port(BASE_PORT + 233);
        let second = started(&beside, &log_of("rekeyed-second")).await;
        let other = Service { setup: beside };
        let zone = fresh_zone("rekeyed");
        let (one, two) = (format!("one.{zone}"), format!("two.{zone}"));
        service.published(&one).await;
        service.live(&one).await;

        // Both know the account before it is changed by one of them.
        let before = other.cli_json(&["certificate", "account"]).await;
        let after = service.cli_json(&["certificate", "account", "--change-key"]).await;
        assert_eq!(after["uri"], before["uri"], "the account is the same");
        assert_ne!(after["key_since"], before["key_since"]);
        let told = service.cli(&["audit", "--as", "csv"]).await;
        let told = String::from_utf8(told.stdout).expect("text");
        assert!(told.contains("issuer") && told.contains("POST /api/v1/certificates/account/key"), "{told}");
        assert!(told.contains("(hidden)"), "{told}");

        for (service, host) in [(&service, &one), (&other, &two)] {
            if host == &two {
                service.published(host).await;
            } else {
                let renewal = service.cli(&["certificate", "renew", host]).await;
                assert!(renewal.status.success(), "{}", String::from_utf8_lossy(&renewal.stderr));
            }
            service.live(host).await;
            assert_eq!(service.count(host, "order.refused").await, 0);
        }
        assert_eq!(other.cli_json(&["certificate", "account"]).await["uri"], before["uri"]);

        let browser = Browser::open(BASE_PORT + 237).await;
        browser.sign_in(&format!("{}/certificates", service.setup.url()), ADMIN).await;
        browser.read(before["uri"].as_str().expect("an address")).await;
        browser.press("Change its key").await;
        browser.click(".el-dialog .el-button--danger").await;
        wait_for("another key", TIME_LIMIT, || async {
            service.cli_json(&["certificate", "account"]).await["key_since"] != after["key_since"]
        })
        .await
        .expect("changed");
        browser.close().await;
        daemon.stop().await;
        second.stop().await;
    });
}

#[test]
fn what_an_order_brings_that_nobody_works_on_any_more_is_revoked() {
    stage();
    stage::run(async {
        let Own { service, daemon, edge: _edge, .. } = own(own_setup("stray", 234).await, "stray", 234).await;
        let world = &stage().world;
        let host = format!("board.{}", fresh_zone("stray"));
        service.published(&host).await;
        service.live(&host).await;
        let serial = service.serial(&host).await;

        // As if the process had died between the CA's word and its own record of it, and the
        // domain had left before another one came.
        let forgotten = "WITH open AS (
                DELETE FROM certificates RETURNING order_id)
            UPDATE orders SET state = 'open', ended_at = NULL WHERE id IN (SELECT order_id FROM open)";
        world.statement("stray", forgotten).await.expect("forgotten");
        let left = service.cli(&["release", &host]).await;
        assert!(left.status.success(), "{}", String::from_utf8_lossy(&left.stderr));

        let revoked =
            || async { world.certificate_status(&serial).await.is_ok_and(|status| status == "Revoked") };
        wait_for("the certificate being revoked", TIME_LIMIT, revoked).await.expect("revoked");
        wait_for("its history saying so", TIME_LIMIT, || async {
            service.count(&host, "certificate.revoked").await == 1
        })
        .await
        .expect("told");
        daemon.stop().await;
    });
}
