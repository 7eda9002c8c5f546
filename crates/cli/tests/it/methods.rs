//! All three ways to show control, wildcards, pairs, kinds of key, and an
//! account bound to one outside of ACME.

use std::time::Duration;

use nomenta_core::sheet::Sheet;
use nomenta_world::{IssuerSetup, OtherIssuer, customer};
use serde_json::json;

use crate::own::{Own, own, own_setup, with};
use crate::stage::{self, BASE_PORT, fresh_zone, stage};

async fn method_of(own: &Own, host: &str) -> (String, Vec<String>) {
    let view = own.certificate(host).await;
    let steps = view["order"]["steps"].as_array().expect("steps").iter();
    let said = steps.filter_map(|s| s["said"].as_str().map(str::to_owned)).collect();
    (view["order"]["method"].as_str().unwrap_or_default().to_owned(), said)
}

#[test]
fn a_wildcard_is_validated_by_dns_through_the_platforms_own_zone() {
    stage();
    stage::run(async {
        let (world, service) = (&stage().world, &stage().service);
        let zone = fresh_zone("wild");
        world.zones.register(&zone).await.expect("registered");
        let host = format!("*.lines.{zone}");
        let sheet = service.cli_json(&["enrol", &host, "--site", "onswick"]).await;
        let sheet: Sheet = serde_json::from_value(sheet).expect("a sheet");
        customer::publish(&world.zones, &sheet, None).await.expect("published");
        service.live(&host).await;
        let view = service.cli_json(&["certificate", "show", &host]).await;
        assert_eq!(view["held"]["facts"]["names"], json!([host]));
        assert_eq!(
            (view["method"].as_str(), view["order"]["method"].as_str()),
            (Some("dns-01"), Some("dns-01"))
        );
        // Every name under it is served with it.
        let pem = std::fs::read(world.layout.ca_roots()).expect("roots");
        let roots = reqwest::Certificate::from_pem_bundle(&pem).expect("PEM");
        let visited = format!("n7.lines.{zone}");
        let edge = (nomenta_world::layout::EDGE[0], world.layout.https_port()).into();
        let client =
            roots.into_iter().fold(reqwest::Client::builder(), |c, root| c.add_root_certificate(root));
        let client = client.resolve(&visited, edge).build().expect("a client");
        let url = format!("https://{visited}:{}/", world.layout.https_port());
        let page = client.get(url).send().await.expect("served").text().await.expect("a page");
        assert!(page.contains("shows the site onswick"), "{page}");
    });
}

#[test]
fn control_is_shown_by_tls_at_the_edge_with_an_rsa_key() {
    stage();
    stage::run(async {
        let setup = with(own_setup("alpn", 30).await, &["--validation=tls-alpn-01", "--certificate-key=rsa"]);
        let own = own(setup, "alpn", 30).await;
        let host = format!("board.{}", fresh_zone("alpn"));
        own.published(&host).await;
        own.service.live(&host).await;
        let (method, steps) = method_of(&own, &host).await;
        assert_eq!(method, "tls-alpn-01");
        let answered = format!("The challenge for {host} is answered by tls-alpn-01.");
        // The CA may know the answer from an order before.
        assert!(steps.contains(&answered), "{steps:?}");
        let chain = own.service.cli(&["certificate", "chain", &host]).await;
        let chain = String::from_utf8(chain.stdout).expect("PEM");
        assert_eq!(nomenta_certs::x509::facts(&chain).expect("a certificate").names, [host]);
        assert!(nomenta_certs::x509::key_words(&chain).expect("a key").contains("RSA 2048"), "{chain}");
        own.daemon.stop().await;
    });
}

#[test]
fn every_name_can_be_validated_by_dns_where_the_platform_wants_that() {
    stage();
    stage::run(async {
        let mut setup = with(own_setup("bydns", 31).await, &["--validation=dns-01"]);
        setup.challenges = Some(1);
        let own = own(setup, "bydns", 31).await;
        let host = format!("board.{}", fresh_zone("bydns"));
        let sheet = own.service.enrol(&stage().world, &host).await;
        let lines: Vec<_> = sheet.of(nomenta_core::sheet::line::Purpose::Certificate).collect();
        assert_eq!(lines[0].owner, format!("_acme-challenge.{host}"));
        assert!(lines[0].required);
        customer::publish(&stage().world.zones, &sheet, None).await.expect("published");
        own.service.live(&host).await;
        assert_eq!(method_of(&own, &host).await.0, "dns-01");
        own.daemon.stop().await;
    });
}

#[test]
fn one_certificate_covers_a_pair_and_the_other_leads_to_the_primary_with_one_hop() {
    stage();
    stage::run(async {
        let mut setup = own_setup("pair", 32).await;
        // Long enough for both to be published, however slow the machine.
        setup.options.retain(|option| !option.starts_with("--pair-hold"));
        setup.options.push("--pair-hold=120".into());
        let own = own(setup, "pair", 32).await;
        let (service, zones) = (&own.service, &stage().world.zones);
        let apex = fresh_zone("pair");
        let www = format!("www.{apex}");
        zones.register(&apex).await.expect("registered");
        let view = service.cli_json(&["enrol", &apex, "--site", "onswick", "--pair"]).await;
        for sheet in [&view, &view["pair"]["sheet"]] {
            let sheet: Sheet = serde_json::from_value(sheet.clone()).expect("a sheet");
            customer::publish(zones, &sheet, None).await.expect("published");
        }
        service.live(&apex).await;
        service.live(&www).await;
        let serials = [own.serial(&apex).await, own.serial(&www).await];
        assert_eq!(serials[0], serials[1]);
        let names = &own.certificate(&www).await["held"]["facts"]["names"];
        let names: Vec<_> = names.as_array().expect("names").iter().filter_map(|n| n.as_str()).collect();
        assert!(
            names.len() == 2 && names.contains(&apex.as_str()) && names.contains(&www.as_str()),
            "{names:?}"
        );
        for host in [&apex, &www] {
            assert_eq!(
                (own.count(host, "order.placed").await, own.count(host, "certificate.issued").await),
                (1, 1)
            );
        }
        // What they share is renewed for both, whichever asks for it.
        let renewal = service.cli(&["certificate", "renew", &www]).await;
        assert!(renewal.status.success(), "{}", String::from_utf8_lossy(&renewal.stderr));
        let renewed = own.serial(&www).await;
        assert!(renewed != serials[0] && own.serial(&apex).await == renewed);
        service.live(&apex).await;
        service.live(&www).await;
        // Once the primary is live, the other must lead there, and does.
        service.cli(&["survey", &www]).await;
        let probe = &own.certificate(&www).await["probe"]["results"][0];
        assert!(probe["pair_failure"].is_null() && probe["redirect_failure"].is_null(), "{probe}");
        let plain = reqwest::Client::builder().redirect(reqwest::redirect::Policy::none());
        let at_edge = (own.address, stage().world.layout.http_port()).into();
        let plain = plain.resolve(&www, at_edge).build().expect("a client");
        let url = format!("http://{www}:{}/", stage().world.layout.http_port());
        let answer = plain.get(url).send().await.expect("an answer");
        let location = answer.headers()["location"].to_str().expect("text");
        assert!(location.starts_with(&format!("https://{apex}:")), "{location}");
        own.daemon.stop().await;
    });
}

#[test]
fn apex_and_www_are_issued_apart_where_one_of_them_is_late() {
    stage();
    stage::run(async {
        let own = own(with(own_setup("apart", 33).await, &[]), "apart", 33).await;
        let (service, zones) = (&own.service, &stage().world.zones);
        let apex = fresh_zone("apart");
        let www = format!("www.{apex}");
        zones.register(&apex).await.expect("registered");
        let view = service.cli_json(&["enrol", &apex, "--site", "onswick", "--pair"]).await;
        let sheets = [&view, &view["pair"]["sheet"]]
            .map(|sheet| serde_json::from_value::<Sheet>(sheet.clone()).expect("a sheet"));
        customer::publish(zones, &sheets[0], None).await.expect("published");
        service.live(&apex).await;
        customer::publish_also(zones, &sheets[1]).await.expect("published");
        service.live(&www).await;
        assert_ne!(own.serial(&apex).await, own.serial(&www).await);
        own.daemon.stop().await;
    });
}

#[test]
fn an_account_is_bound_to_one_outside_of_acme_and_refused_without() {
    stage();
    stage::run(async {
        let layout = &stage().world.layout;
        let key = "zWNDZM6eQGHWpSRTPal5eIUYFTu7EajVIoguysqZ9wG44nMEtx3MUAsUDkMTQ12W";
        let issuer = OtherIssuer::start(
            layout,
            IssuerSetup {
                folder: "pebble-bound".into(),
                port: BASE_PORT + 60,
                nonce_reject: 5,
                lifetime: Duration::from_secs(86_400),
                external: Some(("kid-1".into(), key.into())),
            },
        )
        .await
        .expect("a CA");
        let mut setup = with(own_setup("bound", 34).await, &[]);
        setup.directory = Some(issuer.directory());
        let bare = own(setup.clone(), "bound", 34).await;
        let host = format!("board.{}", fresh_zone("bound"));
        bare.published(&host).await;
        let log = layout.state.join("bound.log");
        bare.service.found(&host, &["issuer-refused"]).await;
        let problem = &bare.certificate(&host).await["order"]["problem"]["type"];
        assert!(problem.as_str().is_some_and(|p| p.ends_with("externalAccountRequired")), "{problem}");
        bare.daemon.stop().await;

        let options = ["--acme-external-id=kid-1".to_owned(), format!("--acme-external-key={key}")];
        setup.options.extend(options);
        let daemon = setup.start(layout, std::path::Path::new(stage::PROGRAM), &log).await.expect("started");
        bare.service.live(&host).await;
        daemon.stop().await;
    });
}
