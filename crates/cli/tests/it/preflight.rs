//! Everything that would make the CA say no is found before it is asked: the
//! CA's own log is the witness.

use nomenta_core::name::dns;
use nomenta_core::reading::record::RecordData;
use nomenta_core::sheet::Sheet;
use nomenta_core::sheet::line::Purpose;
use nomenta_world::customer::{self, Mistake};
use nomenta_world::wait_for;
use nomenta_world::zones::Change;

use crate::own::{own, own_setup, with};
use crate::stage::{self, TIME_LIMIT, fresh_zone, stage};

/// Names that the CA was asked for a certificate of.
fn asked(name: &str) -> usize {
    let log = stage().world.issuer_log().expect("a log");
    log.lines().filter(|l| l.contains("Pulled a task") && l.contains(&format!("\"{name}\""))).count()
}

/// Preflight says so, and the CA was asked for nothing.
async fn objects(host: &str, says: &str) {
    // It asks anew, and on a machine with much to do a single answer may be missing.
    let objected = || async {
        let checks = stage().service.cli(&["certificate", "preflight", host]).await;
        let said = String::from_utf8(checks.stdout).expect("text");
        assert_eq!(checks.status.code(), Some(3), "{host}: {said}");
        said.contains(says)
    };
    wait_for(&format!("{host} being kept back by {says}"), TIME_LIMIT, objected).await.expect("kept back");
    assert_eq!(asked(host), 0, "{host}");
}

fn caa(owner: &str, flags: u8, tag: &str, value: &str) -> Change {
    let data = RecordData::Caa { flags, tag: tag.into(), value: value.into() };
    Change::Add { owner: owner.into(), ttl: 5, data }
}

#[test]
fn caa_sets_that_forbid_are_told_apart_and_no_order_goes_out() {
    stage();
    stage::run(async {
        let (world, service) = (&stage().world, &stage().service);
        let ours = "stampworks-ca.example";
        let other_account = format!("{ours}; accounturi=https://127.0.0.1/acct/77");
        let by_dns = format!("{ours}; validationmethods=dns-01");
        for (flags, tag, value, says) in [
            (0, "issue", "otherstamp-ca.example", "It names other issuers than ours"),
            (0, "issue", ";", "It names other issuers than ours"),
            (0, "issue", other_account.as_str(), "for the account https://127.0.0.1/acct/77 alone"),
            (0, "issue", by_dns.as_str(), "validate by dns-01 alone"),
            (128, "tbs", "x", "the critical property tbs"),
        ] {
            let zone = fresh_zone("caa");
            world.zones.register(&zone).await.expect("registered");
            world.zones.update(&zone, &[caa(&zone, flags, tag, value)]).await.expect("updated");
            let host = format!("board.{zone}");
            let sheet = service.enrol(world, &host).await;
            customer::publish(&world.zones, &sheet, None).await.expect("published");
            service.found(&host, &["caa-forbids"]).await;
            let detail = service.cli_json(&["explain", &host]).await;
            let remark = detail["findings"][0]["remark"].as_str().expect("a remark");
            assert!(remark.contains(says), "{value}: {remark}");
            objects(&host, "✕ caa").await;
            // Once it allows, the order goes out by itself.
            world.zones.update(&zone, &[Change::Clear { owner: zone.clone() }]).await.expect("updated");
            service.live(&host).await;
        }
    });
}

#[test]
fn a_caa_set_for_our_account_and_method_allows() {
    stage();
    stage::run(async {
        let own = own(own_setup("bound-caa", 80).await, "bound-caa", 80).await;
        let zones = &stage().world.zones;
        let zone = fresh_zone("ours");
        let first = format!("first.{zone}");
        own.published(&first).await;
        own.live(&first).await;
        // The account's own URL, as an engineer would hand it to a customer.
        let account = own.cli_json(&["certificate", "account"]).await;
        let account = account["uri"].as_str().expect("a URL").to_owned();
        let value = format!("stampworks-ca.example; accounturi={account}; validationmethods=http-01");
        zones.update(&zone, &[caa(&zone, 0, "issue", &value)]).await.expect("updated");
        let host = format!("board.{zone}");
        own.published(&host).await;
        own.live(&host).await;
        own.daemon.stop().await;
    });
}

#[test]
fn for_a_wildcard_issuewild_counts_and_the_delegation_must_be_there() {
    stage();
    stage::run(async {
        let (world, service) = (&stage().world, &stage().service);
        let zone = fresh_zone("star");
        world.zones.register(&zone).await.expect("registered");
        world.zones.update(&zone, &[caa(&zone, 0, "issuewild", ";")]).await.expect("updated");
        let host = format!("*.{zone}");
        let sheet = service.cli_json(&["enrol", &host, "--site", "onswick"]).await;
        let mut sheet: Sheet = serde_json::from_value(sheet).expect("a sheet");
        let delegation = sheet.lines.iter().find(|l| l.purpose == Purpose::Certificate).cloned();
        sheet.lines.retain(|l| l.purpose != Purpose::Certificate);
        customer::publish_also(&world.zones, &sheet).await.expect("published");
        service.found(&host, &["caa-forbids"]).await;
        let clear = Change::Remove {
            owner: zone.clone(),
            data: RecordData::Caa { flags: 0, tag: "issuewild".into(), value: ";".into() },
        };
        world.zones.update(&zone, &[clear]).await.expect("updated");
        let gate = || async {
            let detail = service.cli_json(&["explain", &host]).await;
            detail["gates"][2]["reason"].as_str().unwrap_or_default().contains("at _acme-challenge; 0 of 2")
        };
        wait_for("the missing delegation being told", TIME_LIMIT, gate).await.expect("told");
        assert_eq!(asked(&zone), 0);
        let line = delegation.expect("a delegation");
        let data = RecordData::Cname(line.value.into());
        let add = Change::Add { owner: line.owner.to_string(), ttl: 5, data };
        world.zones.update(&zone, &[add]).await.expect("updated");
        service.live(&host).await;
    });
}

/// A record that is wrong before the sheet is published, so that no look sees
/// all well; then it is mended.
async fn held_back(wrong: RecordData, code: &str, says: &str) {
    let (world, service) = (&stage().world, &stage().service);
    let host = fresh_zone("held-back");
    world.zones.register(&host).await.expect("registered");
    let at = if matches!(wrong, RecordData::Ds(_)) { dns::parent(&host) } else { &host };
    let add = Change::Add { owner: host.clone(), ttl: 5, data: wrong };
    world.zones.update(at, &[add]).await.expect("updated");
    let sheet = service.enrol(world, &host).await;
    customer::publish_also(&world.zones, &sheet).await.expect("published");
    service.found(&host, &[code]).await;
    objects(&host, says).await;
    customer::publish(&world.zones, &sheet, None).await.expect("mended");
    service.live(&host).await;
}

#[test]
fn broken_signatures_and_addresses_of_others_keep_the_order_back() {
    stage();
    stage::run(async {
        let other_v6 = RecordData::Aaaa("2001:db8::7".parse().expect("an address"));
        let other_v4 = RecordData::A("192.0.2.7".parse().expect("an address"));
        tokio::join!(
            held_back(RecordData::Ds(4711), "dnssec-broken", "✕ dnssec"),
            held_back(other_v6, "ipv6-stray", "✕ routing"),
            held_back(other_v4, "address-surplus", "✕ routing"),
        );
    });
}

#[test]
fn a_canary_that_is_lost_names_the_address_and_keeps_the_order_back() {
    stage();
    stage::run(async {
        let own = own(own_setup("lost", 81).await, "lost", 81).await;
        let host = format!("board.{}", fresh_zone("lost"));
        // The edge is not there yet.
        let crate::own::Own { service, edge, daemon, address } = own;
        drop(edge);
        let sheet = service.enrol(&stage().world, &host).await;
        customer::publish(&stage().world.zones, &sheet, None).await.expect("published");
        service.found(&host, &["challenge-blocked"]).await;
        assert_eq!(asked(&host), 0);
        let config = stage::edge_config(&stage().world.layout, &service.setup, vec![address]);
        let _edge = nomenta_world::edge::Edge::start(config).await.expect("an edge");
        service.live(&host).await;
        daemon.stop().await;
    });
}

#[test]
fn a_proxy_in_front_is_told_from_a_former_host_and_goes_live_where_it_is_allowed() {
    stage();
    stage::run(async {
        let world = &stage().world;
        let blocking = &stage().service;
        let host = format!("board.{}", fresh_zone("fronted"));
        let sheet = blocking.enrol(world, &host).await;
        customer::publish(&world.zones, &sheet, Some(Mistake::Fronted)).await.expect("published");
        blocking.found(&host, &["fronted"]).await;
        assert_eq!(asked(&host), 0);

        let own = own(with(own_setup("allowed", 82).await, &["--proxies=allow"]), "allowed", 82).await;
        let host = format!("board.{}", fresh_zone("allowed"));
        let sheet = own.enrol(world, &host).await;
        let origins = &world.origins;
        origins.lock().expect("no panic").insert(host.clone(), own.address);
        customer::publish(&world.zones, &sheet, Some(Mistake::Fronted)).await.expect("published");
        own.live(&host).await;
        own.found(&host, &["fronted"]).await;
        let detail = own.cli_json(&["explain", &host]).await;
        assert_eq!(detail["findings"][0]["severity"], "note");
        // Visitors see the proxy's certificate, and that is good enough.
        let served = &own.certificate(&host).await["probe"]["results"][0]["served"]["issuer"];
        assert!(served.as_str().is_some_and(|issuer| issuer.contains("Harbourseal")), "{served}");
        own.daemon.stop().await;
    });
}
