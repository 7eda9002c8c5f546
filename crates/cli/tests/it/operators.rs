//! What the fleet learns of a DNS operator, and to whom it is of use.

use std::path::PathBuf;
use std::time::Duration;

use nomenta_core::sheet::Sheet;
use nomenta_world::customer::{self, Mistake};
use nomenta_world::service::ServiceSetup;
use nomenta_world::wait_for;
use serde_json::{Value, json};

use crate::browser::Browser;
use crate::handoff::faults;
use crate::own::{own_setup, start, with};
use crate::stage::{self, ADMIN, BASE_PORT, Service, fresh_zone, stage};

const OPERATOR: &str = "Harrow DNS";
const ACCOUNTS: [&str; 3] = ["onswick", "tarrabank", "fennick"];

/// Three accounts with a site each, on a service that says something of three cases already.
async fn prepared(name: &str, port: u16) -> (Service, nomenta_world::Daemon) {
    let options = ["--learn-from", "3", "--learn-accounts", "3", "--usual-share", "0.5"];
    let setup: ServiceSetup = with(own_setup(name, port).await, &options);
    let service = Service { setup };
    let daemon = start(&service, name).await;
    service.add_platform(&nomenta_world::layout::EDGE, "{site}.edge.quaymark.example").await;
    for account in &ACCOUNTS[1..] {
        service.post("accounts", &json!({ "name": account, "title": account })).await;
        let (status, answer) = service
            .post("sites", &json!({ "name": account, "account": account, "ingress": "harbour" }))
            .await;
        assert_eq!(status, 201, "{answer}");
    }
    (service, daemon)
}

/// Takes a domain of an account in, and waits for the first look.
async fn enrolled(service: &Service, account: &str) -> (String, Sheet) {
    let zone = fresh_zone(account);
    let host = format!("rides.{zone}");
    stage().world.zones.register(&zone).await.expect("registered");
    let sheet = service.cli_json(&["enrol", &host, "--site", account]).await;
    service.looked_at(&host).await;
    (host, serde_json::from_value(sheet).expect("a sheet"))
}

async fn routed(service: &Service, host: &str) {
    let output = service.cli(&["survey", host, "--until", "routing", "--within", "120"]).await;
    assert_eq!(output.status.code(), Some(0), "{host}: {}", String::from_utf8_lossy(&output.stderr));
}

/// A customer that types the whole name into the host box, is told so, and mends it.
async fn slips_and_mends(service: &Service, account: &str) -> String {
    let zones = &stage().world.zones;
    let (host, sheet) = enrolled(service, account).await;
    customer::publish(zones, &sheet, Some(Mistake::HostDoubled)).await.expect("published");
    service.found(&host, &["host-doubled"]).await;
    customer::publish(zones, &sheet, None).await.expect("published");
    routed(service, &host).await;
    host
}

async fn lessons(service: &Service) -> Value {
    let (status, view) = service.get("operators/Harrow%20DNS").await;
    assert_eq!(status, 200, "{view}");
    view
}

async fn learned(service: &Service, cases: u64) -> Value {
    let known = || async { lessons(service).await["lessons"]["seen"]["cases"] == cases };
    wait_for("lessons", Duration::from_secs(60), known).await.expect("learned");
    lessons(service).await
}

#[test]
fn what_goes_wrong_at_an_operator_and_how_long_it_takes_helps_the_next_customer_there() {
    stage();
    stage::run(async {
        let (service, _daemon) = prepared("learned", 121).await;
        let first = slips_and_mends(&service, ACCOUNTS[0]).await;
        slips_and_mends(&service, ACCOUNTS[1]).await;
        // Two accounts: whatever is known of them is not told.
        let view = lessons(&service).await;
        assert_eq!((&view["domains"], &view["lessons"]), (&json!(2), &Value::Null), "{view}");
        let shown = service.cli(&["operator", "show", OPERATOR]).await;
        let text = String::from_utf8_lossy(&shown.stdout).into_owned();
        assert!(text.contains("that takes 3 domains of 3 accounts"), "{text}");
        let missing = service.cli(&["operator", "show", "nobody.example"]).await;
        assert_eq!(missing.status.code(), Some(1));

        let (third, sheet) = enrolled(&service, ACCOUNTS[2]).await;
        customer::publish(&stage().world.zones, &sheet, None).await.expect("published");
        routed(&service, &third).await;

        let view = learned(&service, 3).await;
        let lessons = &view["lessons"];
        assert_eq!(lessons["mistakes"], json!([{ "code": "host-doubled", "cases": 2, "is_usual": true }]));
        assert!(lessons["seen"]["ninetieth"].as_u64().expect("seconds") < 120, "{lessons}");
        assert_eq!(lessons["served"], Value::Null, "nobody knows when they were typed");
        assert_eq!(lessons["lowest_ttl"], 5, "as the customers published");

        shown_everywhere(&service, &first).await;
        pages_follow(&service).await;
        narrow_keys_see_no_more(&service).await;
        console_draws_it(&service).await;
    });
}

/// The engineer and the next customer read it.
async fn shown_everywhere(service: &Service, first: &str) {
    let listed = service.cli(&["operator", "list"]).await;
    let text = String::from_utf8_lossy(&listed.stdout).into_owned();
    for part in [OPERATOR, "9 of 10 in", "host-doubled", "5 s"] {
        assert!(text.contains(part), "{part}: {text}");
    }
    let csv = service.cli(&["operator", "list", "--as", "csv"]).await;
    let text = String::from_utf8_lossy(&csv.stdout).into_owned();
    assert!(text.contains("seen_median") && !text.contains('{'), "{text}");
    let explained = service.cli(&["explain", first]).await;
    let text = String::from_utf8_lossy(&explained.stdout).into_owned();
    assert!(
        text.contains("Its DNS is at Harrow DNS. What its servers have is usually seen by most"),
        "{text}"
    );

    let (next, _) = enrolled(service, ACCOUNTS[0]).await;
    for (language, warned, timed) in [
        ("en", "Type only the short part into the host box", "most of the world"),
        ("de", "nur den kurzen Teil", "fast überall angekommen"),
        ("ar", "الجزء القصير فقط", "يراه معظم الناس"),
    ] {
        let made = service.cli_json(&["handoff", "make", &next, "--language", language]).await;
        let link = made["link"].as_str().expect("a link");
        let page = reqwest::get(link).await.expect("answered").text().await.expect("text");
        for part in [warned, timed, OPERATOR] {
            assert!(page.contains(part), "{language}: {part}: {page}");
        }
        assert!(!page.contains(ACCOUNTS[1]), "nothing of who it was learned from");
    }
}

/// A page leads to the next one, and any cursor of the right form is taken.
async fn pages_follow(service: &Service) {
    let first = service.request("GET", "operators?limit=1", ADMIN).send().await.expect("answered");
    assert!(first.headers().get("link").is_none(), "there is one");
    let name = "48617272";
    for (cursor, status) in [(format!("0~{name}"), 200), (String::new(), 422), ("0~x".into(), 422)] {
        let answer = service.get(&format!("operators?after={cursor}")).await;
        assert_eq!(answer.0, status, "{cursor}: {}", answer.1);
    }
}

/// What was learned is everybody's; how many domains there are is not.
async fn narrow_keys_see_no_more(service: &Service) {
    let new = json!({ "name": "narrow", "role": "viewer", "accounts": [ACCOUNTS[2]] });
    let (status, made) = service.post("keys", &new).await;
    assert_eq!(status, 201, "{made}");
    let secret = made["secret"].as_str().expect("a secret");
    let answer = service.request("GET", "operators", secret).send().await.expect("answered");
    let rows: Value = answer.json().await.expect("JSON");
    assert_eq!(rows[0]["domains"], 1, "{rows}");
    assert_eq!(rows[0]["lessons"]["cases"], lessons(service).await["lessons"]["cases"]);
}

async fn console_draws_it(service: &Service) {
    let browser = Browser::open(BASE_PORT + 122).await;
    browser.sign_in(&format!("{}/operators", service.setup.url()), ADMIN).await;
    browser.see(&format!("tr[data-operator='{OPERATOR}'] .half")).await;
    browser.see(&format!("tr[data-operator='{OPERATOR}'] [data-code='host-doubled']")).await;
    assert_eq!(faults(&browser).await, Vec::<String>::new());
    browser.click(&format!("tr[data-operator='{OPERATOR}'] th a")).await;
    browser.see("tbody [data-row]").await;
    browser.close().await;
}

#[test]
fn an_edit_that_is_sent_from_here_is_timed_from_then_on() {
    stage();
    stage::run(async {
        let (service, _daemon) = prepared("sent", 123).await;
        for account in ACCOUNTS {
            let (host, _) = enrolled(&service, account).await;
            let zone = host.trim_start_matches("rides.");
            let name = format!("{}-key", zone.replace('.', "-"));
            let statement = stage().world.zones.give_key(zone, &name).await.expect("a key");
            let file: PathBuf = stage().world.layout.state.join(format!("{zone}.key"));
            std::fs::write(&file, statement).expect("written");
            let given = service.cli(&["publish", "key", &host, file.to_str().expect("a path")]).await;
            assert_eq!(given.status.code(), Some(0), "{}", String::from_utf8_lossy(&given.stderr));
            let sent = service.cli_json(&["publish", "send", &host, "--yes"]).await;
            assert_eq!(sent["state"], "done", "{sent}");
            routed(&service, &host).await;
        }

        let view = learned(&service, 3).await;
        assert_eq!(view["lessons"]["served"]["cases"], 3, "{view}");
        assert!(view["lessons"]["served"]["ninetieth"].as_u64().expect("seconds") < 60, "{view}");
    });
}
