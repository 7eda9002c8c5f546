//! One click at a DNS operator that speaks Domain Connect, and what the customer sees where it
//! cannot be had.

use nomenta_core::one_click::template::Template;
use nomenta_world::customer::{self, Mistake};
use serde_json::{Value, json};

use crate::browser::Browser;
use crate::stage::{self, ADMIN, BASE_PORT, fresh_zone, stage};

/// The operator learns what the platform exports.
async fn learnt() {
    let stage = stage();
    let given = stage.service.cli_json(&["ingress", "templates", "harbour"]).await;
    keeps_to_the_schema(&given["templates"]);
    let templates: Vec<Template> = serde_json::from_value(given["templates"].clone()).expect("templates");
    assert_eq!(templates.len(), 2);
    templates.into_iter().for_each(|template| stage.world.consent.learn(template));
}

/// Each template promises what the published schema says; one that leaves out until when a record
/// has to stay, or promises it otherwise, does not.
fn keeps_to_the_schema(templates: &Value) {
    let schema = include_str!("../../../../docs/one-click-template.schema.json");
    let schema = jsonschema::validator_for(&serde_json::from_str(schema).expect("JSON")).expect("a schema");
    for template in templates.as_array().expect("templates") {
        let faults: Vec<_> = schema.iter_errors(template).map(|fault| fault.to_string()).collect();
        assert_eq!(faults, Vec::<String>::new(), "{template:#}");

        for (place, essential) in [("/records/0", "Always"), ("/records/1", "OnApply")] {
            let mut other = template.clone();
            let record = other.pointer_mut(place).and_then(Value::as_object_mut).expect("a record");
            record.insert("essential".into(), json!(essential));
            assert!(!schema.is_valid(&other), "{place} stays otherwise");
            let record = other.pointer_mut(place).and_then(Value::as_object_mut).expect("a record");
            record.remove("essential");
            assert!(!schema.is_valid(&other), "{place} does not say");
        }
    }
}

/// A domain that was looked at, in a zone whose operator offers one click; its link.
async fn link(host: &str, zone: &str, is_offered: bool) -> Value {
    let stage = stage();
    stage.service.enrol(&stage.world, host).await;
    stage.service.looked_at(host).await;
    if is_offered {
        stage.world.consent.offer(zone).await.expect("published");
    }
    stage.service.cli_json(&["handoff", "make", host, "--language", "en"]).await
}

fn text(value: &Value) -> &str {
    value.as_str().expect("a text")
}

/// A window that trusts the operator's pages.
async fn browser(port: u16) -> Browser {
    Browser::open_with(port, &["--ignore-certificate-errors".into()]).await
}

/// What the link offers, as JSON.
async fn offer(secret: &str) -> Value {
    let request = stage().service.request("GET", "handoff/one-click?language=en", secret);
    request.send().await.expect("an answer").json().await.expect("JSON")
}

#[test]
fn a_customer_agrees_at_their_operator_and_their_domain_goes_live() {
    stage();
    stage::run(async {
        let stage = stage();
        learnt().await;
        let zone = fresh_zone("oneclick");
        let host = format!("rides.{zone}");
        let made = link(&host, &zone, true).await;
        // What the former host has left makes way, and a token of before too.
        let sheet = stage.service.cli_json(&["sheet", &host, "--reveal"]).await;
        let sheet = serde_json::from_value(sheet).expect("a sheet");
        customer::publish(&stage.world.zones, &sheet, Some(Mistake::CnameForeign)).await.expect("published");
        stage.service.found(&host, &["cname-foreign"]).await;

        let browser = browser(BASE_PORT + 36).await;
        browser.page.set_window_size(390, 844 + 143).await.expect("sized");
        browser.page.goto(text(&made["link"])).await.expect("the page");
        browser.read("Quicker: Harrow DNS can do it for you").await;
        browser.click(".one-click a").await;
        browser.read("Quaymark asks to change your zone").await;
        browser.press("Refuse").await;
        browser.read("Nothing was changed there. Try again, or follow the steps.").await;
        browser.click(".one-click a").await;
        browser.press("Agree").await;
        browser.read("You are back from your DNS operator.").await;
        browser.see("[data-standing='live']").await;
        browser.close().await;
    });
}

#[test]
fn an_apex_is_set_up_too_and_its_mail_stays() {
    stage();
    stage::run(async {
        let stage = stage();
        learnt().await;
        let zone = fresh_zone("oneapex");
        stage.world.zones.register(&zone).await.expect("registered");
        customer::have_mail(&stage.world.zones, &zone).await.expect("mail");
        let made = link(&zone, &zone, true).await;
        customer::stand_elsewhere(&stage.world.zones, &zone, &zone, 5).await.expect("elsewhere");
        let offered = offer(text(&made["secret"])).await;
        assert_eq!((&offered["offered"], &offered["operator"]), (&json!(true), &json!("Harrow DNS")));

        // What leads back is the browser's: whoever else has the operator's link gets no further.
        let browser = browser(BASE_PORT + 39).await;
        let back = format!("{}/handoff/returned?state=", stage.service.setup.url());
        let url = text(&offered["link"]["url"]);
        let state = url.split("state=").nth(1).and_then(|rest| rest.split('&').next()).expect("a state");
        browser.page.goto(&format!("{back}{state}")).await.expect("the page");
        browser.read("What came back belongs to no link.").await;

        browser.page.goto(text(&made["link"])).await.expect("the page");
        browser.click(".one-click a").await;
        browser.press("Agree").await;
        browser.see("[data-standing='live']").await;
        browser.read(&format!("10 mx.{zone}")).await;

        // Whoever alters the link gets nowhere, and nothing is changed.
        let altered = text(&offered["link"]["url"]).replace("token=", "token=x");
        browser.page.goto(&altered).await.expect("the operator");
        browser.read("The signature of the link is wrong.").await;
        // The operator never has the link itself; coming back with nonsense leads to none.
        assert!(!text(&offered["link"]["url"]).contains(text(&made["secret"])));
        let url = stage.service.setup.url();
        browser.page.goto(&format!("{url}/handoff/returned?state=0011223344556677")).await.expect("the page");
        browser.read("What came back belongs to no link.").await;
        browser.close().await;
    });
}

#[test]
fn both_of_a_pair_are_set_up_one_after_the_other() {
    stage();
    stage::run(async {
        let stage = stage();
        learnt().await;
        let zone = fresh_zone("onepair");
        stage.world.zones.register(&zone).await.expect("registered");
        let www = format!("www.{zone}");
        stage.service.cli_json(&["enrol", &zone, "--site", "onswick", "--pair"]).await;
        for host in [&zone, &www] {
            stage.service.looked_at(host).await;
        }
        stage.world.consent.offer(&zone).await.expect("published");
        let made = stage.service.cli_json(&["handoff", "make", &zone, "--language", "en"]).await;
        let secret = text(&made["secret"]);
        let other = stage.service.request("GET", "handoff/one-click?host=timetable.onswick.example", secret);
        assert_eq!(other.send().await.expect("an answer").status(), 404, "nothing of anybody else");

        let browser = browser(BASE_PORT + 57).await;
        browser.page.set_window_size(390, 844 + 143).await.expect("sized");
        browser.page.goto(text(&made["link"])).await.expect("the page");
        for host in [&zone, &www] {
            browser.click(&format!(".one-click[data-host='{host}'] a")).await;
            browser.press("Agree").await;
            browser.read("You are back from your DNS operator.").await;
        }
        for host in [&zone, &www] {
            browser.see(&format!(".domain[data-host='{host}'][data-standing='live']")).await;
        }
        browser.close().await;
    });
}

#[test]
fn wherever_it_fails_the_steps_are_there_and_the_engineer_reads_why() {
    stage();
    stage::run(async {
        let stage = stage();
        let because = async |host: &str| {
            let (status, offer) = stage.service.get(&format!("domains/{host}/one-click")).await;
            assert_eq!(
                (status, &offer["offered"], &offer["link"]),
                (200, &json!(false), &json!(null)),
                "{offer}"
            );
            text(&offer["because"]).to_owned()
        };

        let zone = fresh_zone("noclick");
        let host = format!("rides.{zone}");
        let made = link(&host, &zone, false).await;
        assert_eq!(because(&host).await, "The operator does not have the zone.");
        let offered = offer(text(&made["secret"])).await;
        assert_eq!((&offered["offered"], &offered["because"]), (&json!(false), &json!(null)));

        let garbled = fresh_zone("garbled");
        let host = format!("rides.{garbled}");
        let made = link(&host, &garbled, true).await;
        stage.world.consent.garble(&garbled);
        assert!(because(&host).await.starts_with("The settings cannot be read:"));
        let browser = browser(BASE_PORT + 40).await;
        browser.page.goto(text(&made["link"])).await.expect("the page");
        browser.see("details[open] [data-box='value']").await;
        assert!(!browser.text().await.contains("Quicker"));
        browser.close().await;

        // A template of an ingress that the operator has not been told of.
        let ingress = fresh_zone("quay").replace(".example", "");
        let new = json!({ "name": ingress, "ipv4": ["127.77.0.10"], "canonical": "edge.quaymark.example" });
        assert_eq!(stage.service.post("ingresses", &new).await.0, 201);
        let site = json!({ "name": ingress, "account": "onswick", "ingress": ingress });
        assert_eq!(stage.service.post("sites", &site).await.0, 201);
        let unknown = fresh_zone("unknown");
        stage.world.zones.register(&unknown).await.expect("registered");
        stage.world.consent.offer(&unknown).await.expect("published");
        let host = format!("rides.{unknown}");
        stage.service.cli_json(&["enrol", &host, "--site", &ingress]).await;
        stage.service.looked_at(&host).await;
        let (_, offer) = stage.service.get(&format!("domains/{host}/one-click")).await;
        assert_eq!(offer["because"], format!("The operator does not know the template {ingress}-host."));
        assert!(text(&offer["control_panel"]["url"]).ends_with(&format!("/zones/{unknown}")), "{offer}");
        let told = stage.service.cli(&["handoff", "offer", &host]).await;
        let told = String::from_utf8(told.stdout).expect("text");
        assert!(told.starts_with(&format!("Harrow DNS does not set {host} up in one click.")), "{told}");

        let denied =
            stage.service.request("GET", "handoff/one-click", ADMIN).send().await.expect("an answer");
        assert_eq!(denied.status().as_u16(), 401, "it is the customer's");
    });
}
