//! From a name to a served certificate.

use std::fs;
use std::net::SocketAddr;

use nomenta_world::customer;

use crate::stage::{self, fresh_zone, stage};

/// What a visitor gets at one edge address, trusting the CA's roots alone.
async fn visit(host: &str, address: SocketAddr) -> String {
    let pem = fs::read(stage().world.layout.ca_roots()).expect("roots");
    let roots = reqwest::Certificate::from_pem_bundle(&pem).expect("PEM");
    let client = reqwest::Client::builder().tls_built_in_root_certs(false).resolve(host, address);
    let client = roots.into_iter().fold(client, reqwest::ClientBuilder::add_root_certificate).build();
    let url = format!("https://{host}:{}/", address.port());
    let response = client.expect("client").get(url).send().await.expect("a verified answer");
    response.text().await.expect("text")
}

async fn goes_live(host: &str) {
    let stage = stage();
    let sheet = stage.service.enrol(&stage.world, host).await;
    customer::publish(&stage.world.zones, &sheet, None).await.expect("published");
    stage.service.live(host).await;
    let ascii = sheet.host.as_str();
    for ip in nomenta_world::layout::EDGE {
        let page = visit(ascii, (ip, stage.world.layout.https_port()).into()).await;
        assert!(page.contains(&format!("{ascii} shows the site onswick")), "{page}");
    }
    assert_eq!(stage.service.codes(host).await, [""; 0]);
}

#[test]
fn a_subdomain_an_apex_and_a_unicode_name_go_live_and_are_served() {
    stage();
    stage::run(async {
        let zone = fresh_zone("journey");
        let (sub, unicode) = (format!("timetable.{zone}"), format!("Fähre.{zone}"));
        tokio::join!(goes_live(&sub), goes_live(&zone), goes_live(&unicode));
        let list = stage().service.cli(&["certificate", "list"]).await;
        let list = String::from_utf8(list.stdout).expect("text");
        assert!(list.contains(&format!("fähre.{zone}")), "in its own script: {list}");
    });
}

#[test]
fn a_live_domain_lapses_when_its_records_go_and_comes_back_by_itself() {
    stage();
    stage::run(async {
        let stage = stage();
        let host = format!("www.{}", fresh_zone("lapse"));
        let sheet = stage.service.enrol(&stage.world, &host).await;
        customer::publish(&stage.world.zones, &sheet, None).await.expect("published");
        stage.service.live(&host).await;
        customer::take_back(&stage.world.zones, &sheet).await.expect("taken back");
        nomenta_world::wait_for("the gates lapsing", stage::TIME_LIMIT, || async {
            let detail = stage.service.cli_json(&["explain", &host]).await;
            detail["gates"][0]["state"] == "lapsed" && detail["gates"][1]["state"] == "lapsed"
        })
        .await
        .expect("lapsed");
        customer::publish(&stage.world.zones, &sheet, None).await.expect("published again");
        stage.service.live(&host).await;
        let history = stage.service.cli_json(&["history", &host]).await;
        let issued = |e: &&serde_json::Value| e["type"] == "nomenta.certificate.issued";
        assert_eq!(history.as_array().expect("events").iter().filter(issued).count(), 1);
    });
}
