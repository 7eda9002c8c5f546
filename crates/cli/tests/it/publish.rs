//! The customer's list written to their zone for them, under a key that they give, and taken back.

use std::path::PathBuf;

use nomenta_core::reading::record::RecordData;
use nomenta_core::sheet::line::Purpose;
use nomenta_world::customer::{self, Mistake};
use nomenta_world::wait_for;
use nomenta_world::zones::Change;
use serde_json::{Value, json};

use crate::browser::Browser;
use crate::handoff;
use crate::stage::{self, ADMIN, BASE_PORT, TIME_LIMIT, fresh_zone, stage};

/// A domain whose customer has records of before, and made a key; the key in a file.
async fn prepared(host: &str, zone: &str) -> PathBuf {
    let stage = stage();
    let sheet = stage.service.enrol(&stage.world, host).await;
    customer::have_mail(&stage.world.zones, zone).await.expect("mail");
    customer::publish(&stage.world.zones, &sheet, Some(Mistake::CnameForeign)).await.expect("published");
    stage.service.found(host, &["cname-foreign"]).await;

    let statement = stage.world.zones.give_key(zone, &format!("{}-key", dashed(zone))).await.expect("a key");
    let file = stage.world.layout.state.join(format!("{zone}.key"));
    std::fs::write(&file, statement).expect("written");
    file
}

fn dashed(zone: &str) -> String {
    zone.replace('.', "-")
}

/// What a zone holds, without what every update moves.
async fn held(zone: &str) -> Vec<String> {
    let text = stage().world.zones.dump(zone).await.expect("the zone");
    let mut lines: Vec<_> = text.lines().filter(|l| !l.contains(" SOA ")).map(str::to_owned).collect();
    lines.sort();
    lines
}

async fn told(words: &[&str]) -> (Option<i32>, String) {
    let printed = stage().service.cli(words).await;
    let text = [printed.stdout, printed.stderr].map(|octets| String::from_utf8_lossy(&octets).into_owned());
    (printed.status.code(), text.concat())
}

async fn refused(words: &[&str], part: &str) {
    let (code, text) = told(words).await;
    assert_eq!(code, Some(1), "{words:?}: {text}");
    assert!(text.contains(part), "{words:?} is to say {part:?}: {text}");
}

fn id(value: &Value) -> String {
    value["id"].as_str().expect("an id").to_owned()
}

#[test]
fn a_list_is_written_goes_live_and_is_taken_back_to_the_letter() {
    stage();
    stage::run(async {
        let stage = stage();
        let zone = fresh_zone("published");
        let host = format!("rides.{zone}");
        let file = prepared(&host, &zone).await;
        let file = file.to_str().expect("a path");
        let before = held(&zone).await;

        refused(&["publish", "plan", &host], "No key of the zone").await;
        let (code, text) = told(&["publish", "key", &host, file]).await;
        assert_eq!(code, Some(0), "{text}");
        assert!(!text.contains("secret"), "{text}");
        let plain =
            "SELECT count(*) FROM zone_keys WHERE position(convert_to('hmac-', 'UTF8') IN sealed) > 0";
        assert_eq!(
            stage.world.statement("stage", plain).await.expect("rows").trim(),
            "0",
            "the key is sealed"
        );

        let (_, text) = told(&["publish", "plan", &host]).await;
        for part in ["remove  rides.", "add     rides.", "CNAME", "All of it or nothing"] {
            assert!(text.contains(part), "{part}: {text}");
        }
        let (_, text) = told(&["publish", "send", &host]).await;
        assert!(text.contains("Nothing was written. Give --yes"), "{text}");
        assert_eq!(held(&zone).await, before);

        let sent = stage.service.cli_json(&["publish", "send", &host, "--yes"]).await;
        assert_eq!(sent["state"], "done", "{sent}");
        assert!(!sent.to_string().contains(&token(&host).await), "the token is masked: {sent}");
        stage.service.live(&host).await;
        assert!(held(&zone).await.iter().any(|line| line.contains(" MX ")), "mail stays");
        refused(&["publish", "plan", &host], "Nothing is to be published").await;

        let (_, text) = told(&["history", &host]).await;
        assert!(text.contains("Published for the customer"), "{text}");
        let back = stage.service.cli_json(&["publish", "undo", &id(&sent)]).await;
        assert_eq!(back["state"], "undone", "{back}");
        assert_eq!(held(&zone).await, before, "to the letter");
        refused(&["publish", "undo", &id(&sent)], "nothing to take back").await;
        let (_, list) = told(&["publish", "list", &host]).await;
        assert!(list.contains("undone"), "{list}");

        let (code, text) = told(&["publish", "forget-key", &host]).await;
        assert_eq!(code, Some(0), "{text}");
        refused(&["publish", "key", &host], "No key of the zone is kept").await;
    });
}

async fn token(host: &str) -> String {
    let sheet = stage().service.cli_json(&["sheet", host, "--reveal"]).await;
    let lines = sheet["lines"].as_array().expect("lines");
    let line = lines.iter().find(|line| line["purpose"] == json!(Purpose::Ownership)).expect("a line");
    line["value"].as_str().expect("a value").to_owned()
}

#[test]
fn every_refusal_leaves_the_zone_as_it_was_and_says_what_to_do() {
    stage();
    stage::run(async {
        let stage = stage();
        let zone = fresh_zone("refused");
        let host = format!("rides.{zone}");
        let file = prepared(&host, &zone).await;
        let statement = std::fs::read_to_string(&file).expect("read");
        let file = file.to_str().expect("a path");
        let before = held(&zone).await;

        // Keys.
        let altered = |name: &str, text: String| {
            let path = stage.world.layout.state.join(format!("{zone}.{name}"));
            std::fs::write(&path, text).expect("written");
            path.to_str().expect("a path").to_owned()
        };
        let known = format!("{}-idle", dashed(&zone));
        let secret = "bWFkZS11cC1zZWNyZXQtb2YtYS1rZXktdGhhdC1pcy1u";
        stage.world.zones.know_key(&known, secret).await.expect("known");
        for (name, text, part) in [
            ("nonsense", "let me in".into(), "This is no key"),
            ("weak", "hmac-md5:k:bWFkZS11cC1zZWNyZXQtb2YtYS1rZXkh".into(), "hmac-md5 is not used"),
            ("unknown", format!("hmac-sha256:nobody-key:{secret}"), "knows no key of this name"),
            (
                "secret",
                format!("hmac-sha256:{}-key:{secret}", dashed(&zone)),
                "secret is not the one that the server has",
            ),
            ("idle", format!("hmac-sha256:{known}:{secret}"), "The server"),
        ] {
            let path = altered(name, text);
            refused(&["publish", "key", &host, &path], part).await;
        }
        refused(&["publish", "key", &host, file, "--server", "ns1"], "no IP address").await;
        refused(&["publish", "key", &host, file, "--server", "192.0.2.53"], "may not be visited").await;
        refused(&["publish", "key", &host, file, "--server", "127.53.0.1"], "does not serve the zone").await;
        assert_eq!(held(&zone).await, before);

        // A zone that has changed between preview and sending, and after it was sent.
        let (code, text) = told(&["publish", "key", &host, file]).await;
        assert_eq!(code, Some(0), "{text}: {statement}");
        // The list stays that of the last look.
        stage.service.cli_json(&["pause", &host]).await;
        let (_, plan) = stage.service.get(&format!("domains/{host}/publication-plan")).await;
        let alias = |act: &str| {
            let lines = plan["lines"].as_array().expect("lines");
            let line =
                lines.iter().find(|line| line["act"] == act && line["rtype"] == "CNAME").expect("a line");
            RecordData::Cname(line["value"].as_str().expect("a value").into())
        };
        let (former, ours) = (alias("remove"), alias("add"));
        let remove = |data: &RecordData| Change::Remove { owner: host.clone(), data: data.clone() };
        let add = |ttl, data: &RecordData| Change::Add { owner: host.clone(), ttl, data: data.clone() };
        stage.world.zones.update(&zone, &[remove(&former), add(61, &former)]).await.expect("updated");
        let publications = format!("domains/{host}/publications");
        let (status, answer) = stage.service.post(&publications, &json!({ "plan": plan["plan"] })).await;
        assert_eq!((status, &answer["title"]), (409, &json!("Changed meanwhile")), "{answer}");

        let other = RecordData::Cname("elsewhere.harrowhost.example".into());
        stage.world.zones.update(&zone, &[remove(&former), add(60, &other)]).await.expect("updated");
        refused(&["publish", "send", &host, "--yes"], "is not there any more. Look again").await;
        stage.world.zones.update(&zone, &[remove(&other), add(60, &former)]).await.expect("updated");

        let sent = stage.service.cli_json(&["publish", "send", &host, "--yes"]).await;
        stage.world.zones.update(&zone, &[remove(&ours), add(60, &other)]).await.expect("updated");
        let after = held(&zone).await;
        refused(&["publish", "undo", &id(&sent)], "The zone has changed since it was read").await;
        assert_eq!(held(&zone).await, after, "nothing was taken back");

        // What must stay is in the way.
        let other = format!("lines.{zone}");
        stage.service.enrol(&stage.world, &other).await;
        stage.service.looked_at(&other).await;
        let mail = RecordData::Mx { preference: 10, exchange: format!("mx.{zone}").into() };
        let add = Change::Add { owner: other.clone(), ttl: 60, data: mail };
        stage.world.zones.update(&zone, &[add]).await.expect("updated");
        refused(&["publish", "plan", &other], "must stay, and stands in the way").await;

        // The zone of somebody who is nobody.
        let (_, answer) =
            stage.service.post("publications/01890000-0000-7000-8000-000000000000/undo", &json!({})).await;
        assert_eq!(answer["status"], 404, "{answer}");
    });
}

#[test]
fn a_customer_with_a_key_has_it_written_from_their_link() {
    stage();
    stage::run(async {
        let stage = stage();
        let zone = fresh_zone("ownkey");
        let host = format!("rides.{zone}");
        let file = prepared(&host, &zone).await;
        let statement = std::fs::read_to_string(&file).expect("read");
        let before = held(&zone).await;
        let made = stage.service.cli_json(&["handoff", "make", &host, "--language", "de"]).await;

        let browser = Browser::open(BASE_PORT + 48).await;
        browser.page.set_window_size(390, 844 + 143).await.expect("sized");
        browser.page.goto(made["link"].as_str().expect("a link")).await.expect("the page");
        browser.click("a.by-key").await;
        browser.read("Quaymark in Ihre Zone schreiben lassen").await;
        browser.type_into("#key", "hmac-sha256:nobody:bWFkZS11cC1zZWNyZXQtb2YtYS1rZXkh").await;
        browser.click("[value='show']").await;
        browser.read("Ihr Server hat den Schlüssel nicht angenommen.").await;
        browser.read("The server knows no key of this name").await;
        assert_eq!(held(&zone).await, before);

        browser.type_into("#key", &statement).await;
        browser.click("[value='show']").await;
        browser.read("Das würde bei").await;
        let text = browser.text().await;
        assert!(text.contains("Entfernen") && text.contains("Hinzufügen"), "{text}");
        assert_eq!(handoff::faults(&browser).await, Vec::<String>::new());
        assert_eq!(held(&zone).await, before, "nothing before it is wanted");
        browser.click("[value='write']").await;
        browser.read("Es steht in Ihrer Zone.").await;
        browser.see("[data-standing='live']").await;

        browser.click("a.by-key").await;
        browser.click("[value='undo']").await;
        browser.read("Ihre Zone ist wieder, wie sie vorher war.").await;
        assert_eq!(held(&zone).await, before);
        let (_, recorded) = told(&["audit", "--as", "csv"]).await;
        assert!(recorded.contains("handoff link"), "{recorded}");

        browser.click("a.by-key").await;
        browser.click("[value='forget']").await;
        browser.see("#key").await;
        browser.close().await;
    });
}

/// What the page of a link says to a press of one of its buttons.
async fn pressed(link: &Value, form: &[(&str, &str)]) -> (u16, String) {
    let page = format!("{}/key?language=en", link["link"].as_str().expect("a link"));
    let answer = reqwest::Client::new().post(page).form(form).send().await.expect("an answer");
    (answer.status().as_u16(), answer.text().await.expect("a page"))
}

#[test]
fn a_link_uses_no_key_but_the_one_that_it_gave() {
    stage();
    stage::run(async {
        let stage = stage();
        let zone = fresh_zone("otherskey");
        let host = format!("rides.{zone}");
        let file = prepared(&host, &zone).await;
        let statement = std::fs::read_to_string(&file).expect("read");
        let file = file.to_str().expect("a path");
        let before = held(&zone).await;
        let one = stage.service.cli_json(&["handoff", "make", &host]).await;
        let other = stage.service.cli_json(&["handoff", "make", &host]).await;

        // What the account gave is the account's: not written with, not replaced, not forgotten.
        let (code, text) = told(&["publish", "key", &host, file]).await;
        assert_eq!(code, Some(0), "{text}");
        let elsewhere = [("press", "show"), ("key", statement.as_str()), ("server", "127.0.0.9")];
        let presses =
            [&[("press", "show")][..], &[("press", "write"), ("plan", "x")], &[("press", "forget")]];
        for press in [&elsewhere[..]].into_iter().chain(presses) {
            let (status, page) = pressed(&one, press).await;
            assert_eq!(status, 409, "{press:?}: {page}");
            assert!(page.contains("Somebody else has given a key"), "{press:?}: {page}");
            assert!(!page.contains("-key"), "its name is nobody else's: {page}");
        }
        assert_eq!(held(&zone).await, before);
        let sent = stage.service.cli_json(&["publish", "send", &host, "--yes"]).await;
        let (status, page) = pressed(&one, &[("press", "undo"), ("publication", &id(&sent))]).await;
        assert_eq!(status, 404, "{page}");
        stage.service.cli_json(&["publish", "undo", &id(&sent)]).await;
        stage.service.found(&host, &["cname-foreign"]).await;
        let (code, text) = told(&["publish", "forget-key", &host]).await;
        assert_eq!(code, Some(0), "{text}");

        // What one link gave is not another's either; the account has it used, and forgotten.
        let (status, page) = pressed(&one, &[("press", "show"), ("key", &statement)]).await;
        assert_eq!(status, 200, "{page}");
        let (status, page) = pressed(&other, &[("press", "forget")]).await;
        assert!(status == 409 && page.contains("Somebody else has given a key"), "{page}");
        let (status, page) = pressed(&one, &[("press", "show")]).await;
        assert!(status == 200 && page.contains("This would be written"), "{page}");
        let (code, text) = told(&["publish", "forget-key", &host]).await;
        assert_eq!(code, Some(0), "{text}");
    });
}

#[test]
fn an_engineer_writes_it_and_takes_it_back_in_the_console() {
    stage();
    stage::run(async {
        let stage = stage();
        let zone = fresh_zone("console");
        let host = format!("rides.{zone}");
        let file = prepared(&host, &zone).await;
        let statement = std::fs::read_to_string(&file).expect("read");
        let before = held(&zone).await;

        let browser = Browser::open(BASE_PORT + 49).await;
        let url = stage.service.setup.url();
        browser.sign_in(&url, ADMIN).await;
        browser.page.goto(&format!("{url}/domains/{host}?pane=sheet")).await.expect("the page");
        browser.type_into("#zone-key", "let me in").await;
        browser.press("Try the key and keep it").await;
        browser.read("This is no key.").await;
        browser.type_into("#zone-key", &statement).await;
        browser.press("Try the key and keep it").await;
        browser.read("Would be written to").await;
        browser.press("Write it").await;
        browser.read("Take it back").await;
        stage.service.live(&host).await;

        browser.press("Take it back").await;
        browser.click(".el-dialog .el-button--danger").await;
        browser.read("taken back").await;
        let restored = || async { held(&zone).await == before };
        wait_for("what was there before", TIME_LIMIT, restored).await.expect("restored");
        browser.close().await;
    });
}
