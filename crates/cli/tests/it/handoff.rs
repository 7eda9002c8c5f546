//! What a customer sees by a link: on a phone, in their language, from the first step to the
//! day it is live; and nothing of anybody else.

use std::path::Path;
use std::time::{Duration, Instant};

use fantoccini::Locator;
use fantoccini::key::Key;
use futures::future::join_all;
use nomenta_core::sheet::line::Purpose;
use nomenta_world::customer::{self, Mistake};
use nomenta_world::wait_for;
use reqwest::header::{ETAG, IF_NONE_MATCH, RETRY_AFTER};
use serde_json::{Value, json};

use crate::browser::Browser;
use crate::stage::{self, ADMIN, BASE_PORT, TIME_LIMIT, fresh_zone, stage};

/// How the customer gets about the page.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Hand {
    Keys,
    Touch,
}

/// A language with words that its reader meets on the way.
struct Reader {
    language: &'static str,
    direction: &'static str,
    hand: Hand,
    copied: &'static str,
    foreign: &'static str,
    doubled: &'static str,
    live: &'static str,
}

const READERS: [Reader; 3] = [
    Reader {
        language: "en",
        direction: "ltr",
        hand: Hand::Keys,
        copied: "Copied",
        foreign: "The record points at another host",
        doubled: "The editor added the domain to the value.",
        live: "is connected",
    },
    Reader {
        language: "de",
        direction: "ltr",
        hand: Hand::Touch,
        copied: "Kopiert",
        foreign: "Der Eintrag zeigt anderswohin",
        doubled: "Die Domain wurde an den Wert angehängt.",
        live: "ist verbunden",
    },
    Reader {
        language: "ar",
        direction: "rtl",
        hand: Hand::Keys,
        copied: "تم النسخ",
        foreign: "يشير السجل إلى مكان آخر",
        doubled: "أضاف المحرر النطاق إلى القيمة.",
        live: "تم ربط",
    },
];

/// Makes a link; what was made.
async fn link(words: &[&str]) -> Value {
    stage().service.cli_json(&[&["handoff", "make"], words].concat()).await
}

fn text(value: &Value) -> &str {
    value.as_str().expect("a text")
}

/// What the accessibility checker has against the page.
pub(crate) async fn faults(browser: &Browser) -> Vec<String> {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).ancestors().nth(2).expect("the repository");
    let axe =
        std::fs::read_to_string(root.join("console/node_modules/axe-core/axe.min.js")).expect("the checker");
    browser.page.execute(&axe, Vec::new()).await.expect("loaded");
    let run = "const [done] = arguments; axe.run().then((result) => done(result.violations.map((one) =>
               `${one.id}: ${one.nodes.map((node) => node.html).join(' ')}`)))";
    let found = browser.page.execute_async(run, Vec::new()).await.expect("checked");
    serde_json::from_value(found).expect("a list")
}

/// Copies a value out of the step that is open.
async fn copy(browser: &Browser, reader: &Reader) {
    browser.listen_for(reader.copied).await;
    match reader.hand {
        Hand::Touch => browser.click("details[open] [data-box='value'] .copy").await,
        Hand::Keys => {
            let is_there =
                "return !!document.activeElement.closest(\"details[open] [data-box='value'] .copy\")";
            for _ in 0..40 {
                let active = browser.page.active_element().await.expect("an element");
                if browser.page.execute(is_there, Vec::new()).await.expect("asked") == true {
                    active.send_keys(&Key::Enter.to_string()).await.expect("pressed");
                    break;
                }
                active.send_keys(&Key::Tab.to_string()).await.expect("on to the next");
            }
        }
    }
    browser.heard().await;
}

async fn followed(reader: &Reader, port: u16) {
    let stage = stage();
    let zone = fresh_zone(&format!("handoff-{}", reader.language));
    let host = format!("timetable.{zone}");
    let sheet = stage.service.enrol(&stage.world, &host).await;
    stage.service.looked_at(&host).await;
    let made = link(&[&host, "--language", reader.language]).await;

    let browser = Browser::open(port).await;
    browser.page.set_window_size(390, 844 + 143).await.expect("sized");
    browser.page.goto(text(&made["link"])).await.expect("the page");
    browser.see("[data-standing='steps']").await;
    browser.see(&format!("html[lang='{}'][dir='{}']", reader.language, reader.direction)).await;
    browser.page.execute("window.notReloaded = true", Vec::new()).await.expect("marked");
    let wide = "return document.documentElement.scrollWidth > window.innerWidth";
    assert_eq!(browser.page.execute(wide, Vec::new()).await.expect("asked"), false, "it fits a phone");
    assert_eq!(faults(&browser).await, [""; 0], "{}", reader.language);
    copy(&browser, reader).await;

    // One thing goes wrong, then another, then it is right; nobody reloads anything.
    customer::publish(&stage.world.zones, &sheet, Some(Mistake::CnameForeign)).await.expect("published");
    browser.see("[data-code='cname-foreign']").await;
    browser.read(reader.foreign).await;
    assert_eq!(faults(&browser).await, [""; 0], "{}", reader.language);
    customer::publish(&stage.world.zones, &sheet, Some(Mistake::ValueDoubled)).await.expect("published");
    browser.see("[data-code='value-doubled']").await;
    browser.read(reader.doubled).await;
    customer::publish(&stage.world.zones, &sheet, None).await.expect("mended");
    browser.see("[data-standing='live']").await;
    browser.read(reader.live).await;
    browser.see(&format!("a.open[href='https://{host}/']")).await;
    assert_eq!(faults(&browser).await, [""; 0], "{}", reader.language);
    let kept = browser.page.execute("return window.notReloaded", Vec::new()).await.expect("asked");
    assert_eq!(kept, true, "the page was reloaded");
    browser.close().await;
}

#[test]
fn a_customer_follows_the_link_through_two_mistakes_to_live_in_each_language() {
    stage();
    stage::run(async {
        let all = (BASE_PORT + 31..).zip(&READERS).map(|(port, reader)| followed(reader, port));
        join_all(all).await;
    });
}

#[test]
fn without_a_script_the_page_has_every_line_and_value_in_each_language() {
    stage();
    stage::run(async {
        let stage = stage();
        let host = format!("rides.{}", fresh_zone("plain"));
        let sheet = stage.service.enrol(&stage.world, &host).await;
        stage.service.looked_at(&host).await;
        let made = link(&[&host]).await;
        let client = reqwest::Client::new();
        for reader in &READERS {
            let url = format!("{}?language={}", text(&made["link"]), reader.language);
            let answer = client.get(url).send().await.expect("an answer");
            assert_eq!(answer.status().as_u16(), 200);
            let headers = answer.headers().clone();
            assert_eq!(headers["x-robots-tag"], "noindex, nofollow");
            assert_eq!(headers["cache-control"], "no-store");
            let policy = headers["content-security-policy"].to_str().expect("text");
            assert!(policy.contains("frame-ancestors 'none'"), "{policy}");
            let page = answer.text().await.expect("a page");
            let opening = format!("<html lang=\"{}\" dir=\"{}\">", reader.language, reader.direction);
            assert!(page.contains(&opening), "{page}");
            let best = [Purpose::Ownership, Purpose::Routing]
                .into_iter()
                .flat_map(|purpose| sheet.preferred(purpose));
            for line in best {
                assert!(page.contains(&line.value_field), "{} is missing in {page}", line.value_field);
            }
        }

        // As the browser asks, where the link says nothing; and as text for a ticket.
        let asked = client.get(text(&made["link"])).header("accept-language", "fi, ar;q=0.8").send().await;
        assert!(asked.expect("an answer").text().await.expect("a page").contains("dir=\"rtl\""));
        let read = stage.service.cli(&["handoff", "read", text(&made["link"]), "--language", "de"]).await;
        let read = String::from_utf8(read.stdout).expect("text");
        assert!(read.starts_with(&format!("# `{host}` mit Quaymark verbinden")), "{read}");
        assert!(read.contains(&format!("* Wert: `{}`", sheet.lines[0].value_field)), "{read}");
    });
}

#[test]
fn a_link_shows_its_own_domains_alone_and_ends_wherever_it_is_open() {
    stage();
    stage::run(async {
        let (stage, service) = (stage(), &stage().service);
        let zone = fresh_zone("links");
        let (first, second) = (format!("a.{zone}"), format!("b.{zone}"));
        service.enrol(&stage.world, &first).await;
        service.enrol(&stage.world, &second).await;
        let other = fresh_zone("rival").replace(".example", "");
        service.post("accounts", &json!({ "name": other, "title": "Rival Trams" })).await;
        service.post("sites", &json!({ "name": other, "account": other, "ingress": "harbour" })).await;
        service.post("domains", &json!({ "host": first, "site": other })).await;

        let made = link(&[&first, "--account", "onswick", "--whole-zone", "--days", "2"]).await;
        let secret = text(&made["secret"]).to_owned();
        let shown = service.request("GET", "handoff", &secret).send().await.expect("an answer");
        let tag = shown.headers()[ETAG].clone();
        let told = shown.text().await.expect("text");
        let view: Value = serde_json::from_str(&told).expect("JSON");
        let hosts: Vec<_> =
            view["domains"].as_array().expect("domains").iter().map(|one| text(&one["host"])).collect();
        assert_eq!(hosts, [&first, &second]);
        assert!(!told.contains(&other) && !told.contains("Rival"), "{told}");

        // It opens nothing else, and a key opens no link.
        for (path, key) in [("domains", secret.as_str()), ("handoff", ADMIN), ("handoff", "nmh_nonsense")] {
            let answer = service.request("GET", path, key).send().await.expect("an answer");
            assert_eq!(answer.status().as_u16(), 401, "{path} with {key}");
        }

        // A look, and the next one only after a while.
        let look = async || service.request("POST", "handoff/look", &secret).send().await.expect("an answer");
        assert_eq!(look().await.status().as_u16(), 202);
        let refused = look().await;
        let wait: u32 = refused.headers()[RETRY_AFTER].to_str().expect("text").parse().expect("seconds");
        assert!(refused.status().as_u16() == 429 && (1..=31).contains(&wait), "{wait}");

        // A key of the other account sees no link of this one, nor takes it back.
        let (_, key) =
            service.post("keys", &json!({ "name": "rival", "role": "operator", "accounts": [other] })).await;
        let theirs =
            service.request("GET", "handoffs", text(&key["secret"])).send().await.expect("an answer");
        assert_eq!(theirs.json::<Value>().await.expect("JSON"), json!([]));
        let path = format!("handoffs/{}", text(&made["id"]));
        let theirs = service.request("DELETE", &path, text(&key["secret"])).send().await.expect("an answer");
        assert_eq!(theirs.status().as_u16(), 404);

        // Whoever waits hears at once that it is taken back.
        let waiting = service.request("GET", "handoff?wait=55", &secret).header(IF_NONE_MATCH, tag).send();
        let waiting = tokio::spawn(waiting);
        let opened = async || {
            let (_, listed) = service.get(&format!("handoffs?host={first}")).await;
            !listed[0]["opened_at"].is_null()
        };
        wait_for("the link being open", TIME_LIMIT, opened).await.expect("opened");
        let revoked = service.cli(&["handoff", "revoke", text(&made["id"])]).await;
        assert!(revoked.status.success());
        let since = Instant::now();
        let answer = waiting.await.expect("it runs").expect("an answer");
        // A look may have changed something in between; then the next call is refused.
        assert!(matches!(answer.status().as_u16(), 401 | 200), "{}", answer.status());
        assert!(since.elapsed() < Duration::from_secs(20), "it was not waited for to the end");
        assert_eq!(
            service.request("GET", "handoff", &secret).send().await.expect("an answer").status().as_u16(),
            401
        );
        let page = reqwest::get(text(&made["link"])).await.expect("an answer");
        assert_eq!(page.status().as_u16(), 404);
        assert!(page.text().await.expect("a page").contains("This link has ended"));

        let listed = service.cli(&["handoff", "list", "--host", &first]).await;
        let listed = String::from_utf8(listed.stdout).expect("text");
        assert!(listed.contains(&format!("all in {zone}")) && listed.contains("revoked"), "{listed}");
        let (_, audit) = service.get(&format!("audit?name={first}")).await;
        let kinds: Vec<_> = audit.as_array().expect("entries").iter().map(|one| text(&one["kind"])).collect();
        assert_eq!(kinds.iter().filter(|kind| **kind == "handoff").count(), 2, "{audit}");
        assert!(!audit.to_string().contains(&secret), "{audit}");
    });
}

#[test]
fn a_platforms_own_pages_read_a_link_from_where_it_is_allowed() {
    stage();
    stage::run(async {
        let stage = stage();
        let port = BASE_PORT + 34;
        let options = ["--read-by=https://my.quaymark.example", "--framed-by=https://my.quaymark.example"];
        let mut setup = stage::setup(port, stage.world.database("reception").await.expect("a database"));
        setup.options.extend(options.map(Into::into));
        let log = stage.world.layout.state.join("reception.log");
        let daemon = setup.start(&stage.world.layout, stage::PROGRAM.as_ref(), &log).await.expect("started");
        let preflight = async |origin: &str| {
            let request = reqwest::Client::new()
                .request(reqwest::Method::OPTIONS, format!("{}/api/v1/handoff", setup.url()));
            let request = request.header("origin", origin).header("access-control-request-method", "GET");
            let request = request.header("access-control-request-headers", "authorization");
            let answer = request.send().await.expect("an answer");
            answer
                .headers()
                .get("access-control-allow-origin")
                .and_then(|one| one.to_str().ok().map(str::to_owned))
        };
        assert_eq!(
            preflight("https://my.quaymark.example").await.as_deref(),
            Some("https://my.quaymark.example")
        );
        assert_eq!(preflight("https://elsewhere.example").await, None);
        let page = reqwest::get(format!("{}/handoff/nmh_nonsense", setup.url())).await.expect("an answer");
        let policy = page.headers()["content-security-policy"].to_str().expect("text").to_owned();
        assert!(policy.ends_with("frame-ancestors https://my.quaymark.example"), "{policy}");
        daemon.stop().await;
    });
}

#[test]
fn the_console_makes_a_link_and_takes_it_back() {
    stage();
    stage::run(async {
        let (stage, url) = (stage(), stage().service.setup.url());
        let host = format!("rides.{}", fresh_zone("paper"));
        stage.service.enrol(&stage.world, &host).await;
        let browser = Browser::open(BASE_PORT + 35).await;
        browser.sign_in(&format!("{url}/domains/{host}?pane=sheet"), ADMIN).await;
        browser.press("Make a link").await;
        browser.press("Make it").await;
        browser.read("Send it to the customer now: it is not shown again.").await;
        let made = browser.see(".made .record").await.text().await.expect("a link");
        let link = made.split_whitespace().next().expect("a link").to_owned();
        assert_eq!(reqwest::get(&link).await.expect("an answer").status().as_u16(), 200);
        browser.press("Done").await;
        browser.click("table.links tbody button").await;
        browser.press("Take it back").await;
        browser.read("taken back").await;
        assert_eq!(reqwest::get(&link).await.expect("an answer").status().as_u16(), 404);
        let rows = browser.page.find_all(Locator::Css("table.links tbody tr")).await.expect("rows");
        assert_eq!(rows.len(), 1);
        browser.close().await;
    });
}
