//! The pictures in docs/screenshots, taken from a demo: `cargo xtask shots`.

use std::fs;
use std::path::{Path, PathBuf};

use serde_json::Value;

use crate::browser::Browser;
use crate::stage;

fn folder() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/screenshots")
}

async fn shoot(browser: &Browser, name: &str) {
    let png = browser.page.screenshot().await.expect("a picture");
    fs::create_dir_all(folder()).expect("a folder");
    fs::write(folder().join(name), png).expect("written");
}

/// What a customer might paste.
const ZONE: &str = "$ORIGIN pellgate.example.\n@ 300 SOA ns1.harrowdns.example. admin 9 3600 600 86400 60\n\
                    @ 300 NS ns1.harrowdns.example.\n@ 300 A 127.77.0.10\n@ 300 A 192.0.2.7\n@ 300 MX 10 mail\n";

/// What an engineer might paste.
const TABLE: &str = "host,site,account,pair\nharbour.onswick.example,onswick,onswick,\nonswick.example,onswick,,yes\n\
                     192.0.2.7,onswick,,\nshop.quaymark.example,onswick,,\ntrams.example,nowhere,,\n\
                     quay.dunvarra.example,dunvarra,dunvarra,\n";

/// The page of a customer's link, on a phone, at four places on the way.
async fn handoff(browser: &Browser, url: &str, key: &str) {
    browser.page.set_window_size(390, 844 + 143).await.expect("sized");
    for (host, language, standing, name) in [
        ("wexholm.example", "en", "steps", "handoff-steps.png"),
        ("dunvarra.example", "de", "steps", "handoff-found.png"),
        ("piers.tarrabank.example", "en", "spreading", "handoff-waiting.png"),
        ("timetable.onswick.example", "ar", "live", "handoff-live.png"),
    ] {
        let made = reqwest::Client::new()
            .post(format!("{url}/api/v1/domains/{host}/handoffs"))
            .bearer_auth(key)
            .json(&serde_json::json!({ "language": language }))
            .send()
            .await
            .expect("an answer");
        let made: Value = made.json().await.expect("JSON");
        browser.page.goto(made["link"].as_str().expect("a link")).await.expect("the page");
        browser.see(&format!("[data-standing='{standing}']")).await;
        shoot(browser, name).await;
    }
    browser.page.set_window_size(1280, 943).await.expect("sized");
    browser.page.goto(url).await.expect("the console");
}

#[test]
#[ignore = "needs a running demo, named by NOMENTA_READY_FILE"]
fn shots() {
    let file = std::env::var("NOMENTA_READY_FILE").expect("NOMENTA_READY_FILE names the demo's ready file");
    let ready: Value = serde_json::from_str(&fs::read_to_string(file).expect("a ready file")).expect("JSON");
    let word = |name: &str| ready[name].as_str().expect(name).to_owned();
    let (url, key) = (word("url"), word("admin_key"));
    stage::run(async move {
        let browser = Browser::open(stage::BASE_PORT + 22).await;
        browser.page.goto(&url).await.expect("the console");
        browser.see("#key").await;
        browser.sign_in(&url, &key).await;
        browser.see("tr[data-stage='live']").await;
        shoot(&browser, "roster.png").await;
        browser.page.goto(&format!("{url}/domains/dunvarra.example")).await.expect("the page");
        browser.see("svg.posts.large").await;
        browser.read("What happened").await;
        shoot(&browser, "domain-blocked.png").await;
        for (host, pane, words, name) in [
            ("wexholm.example", "sheet", "one of these", "sheet.png"),
            ("piers.tarrabank.example", "now", "How long it will take", "waiting.png"),
            ("brindleford.test", "baseline", "gone", "baseline.png"),
            ("varleyquay.example", "certificate", "What a browser gets", "certificate.png"),
        ] {
            browser.page.goto(&format!("{url}/domains/{host}?pane={pane}")).await.expect("the page");
            browser.read(words).await;
            shoot(&browser, name).await;
        }
        browser.page.goto(&format!("{url}/certificates")).await.expect("the page");
        browser.read("by the customer").await;
        shoot(&browser, "certificates.png").await;
        browser.page.goto(&format!("{url}/contests")).await.expect("the page");
        browser.see("[data-side='challenger'] svg[aria-label='match']").await;
        shoot(&browser, "contests.png").await;
        browser.page.goto(&format!("{url}/intake")).await.expect("the page");
        browser.type_into("#table", TABLE).await;
        browser.see("tr[data-result='new']").await;
        shoot(&browser, "intake.png").await;
        browser.page.goto(&format!("{url}/?stage=routing")).await.expect("the roster");
        browser.see("tr[data-stage='routing']").await;
        browser.press("Do to all …").await;
        browser.read("domains would be changed.").await;
        shoot(&browser, "bulk.png").await;
        browser.page.goto(&format!("{url}/notices")).await.expect("the page");
        browser.read("no such mailbox").await;
        shoot(&browser, "notices.png").await;
        browser.page.goto(&format!("{url}/operators")).await.expect("the page");
        browser.read("customers are warned").await;
        shoot(&browser, "operators.png").await;
        browser.page.goto(&format!("{url}/domains/pellgate.example?pane=rehearsal")).await.expect("the page");
        browser.type_into("#zone", ZONE).await;
        browser.press("Rehearse").await;
        browser.see("[data-rehearsed]").await;
        browser.page.execute("window.scrollTo(0, 200)", Vec::new()).await.expect("scrolled");
        shoot(&browser, "rehearsal.png").await;
        handoff(&browser, &url, &key).await;
        browser.close().await;
    });
}
