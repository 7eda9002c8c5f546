//! What is typed as a name, at every interface.

use serde_json::json;

use crate::browser::Browser;
use crate::stage::{self, ADMIN, fresh_zone, stage};

fn text(bytes: &[u8]) -> String {
    String::from_utf8_lossy(bytes).into_owned()
}

#[test]
fn names_that_nobody_can_register_are_refused_with_the_reason() {
    stage();
    stage::run(async {
        let service = &stage().service;
        let output = service.cli(&["enrol", "https://press.local/", "--site", "onswick"]).await;
        assert_eq!(output.status.code(), Some(1));
        let told = text(&output.stderr);
        for want in ["press.local lies under local", "multicast", "RFC 6762", "Type a registered domain."] {
            assert!(told.contains(want), "no {want} in:\n{told}");
        }

        let new = json!({ "host": "*.press.internal", "site": "onswick" });
        let (status, problem) = service.post("domains", &new).await;
        assert_eq!((status, &problem["errors"][0]["code"]), (422, &"special-use".into()), "{problem}");
    });
}

#[test]
fn a_name_that_may_be_taken_for_another_is_said_to_wherever_it_is_shown() {
    stage();
    stage::run(async {
        let stage = stage();
        let zone = fresh_zone("lookalike");
        stage.world.zones.register(&zone).await.expect("registered");

        // The first letter is Cyrillic.
        let typed = format!("“оnswick.{zone}”,");
        let ascii = format!("xn--nswick-vqf.{zone}");
        let enrolled = stage.service.cli(&["enrol", &typed, "--site", "onswick"]).await;
        let told = text(&enrolled.stdout);
        assert_eq!(enrolled.status.code(), Some(0), "{}", text(&enrolled.stderr));
        for want in ["Look twice: оnswick mixes Cyrillic and Latin letters", &ascii] {
            assert!(told.contains(want), "no {want} in:\n{told}");
        }

        let explained = text(&stage.service.cli(&["explain", &ascii]).await.stdout);
        assert!(explained.contains("≈ оnswick mixes"), "{explained}");
        let roster = text(&stage.service.cli(&["roster", "--text", &zone]).await.stdout);
        assert!(roster.contains("≈ mixed-scripts"), "{roster}");
        let table = text(&stage.service.cli(&["roster", "--text", &zone, "--as", "csv"]).await.stdout);
        assert!(
            table.lines().all(|line| line.contains("mixed-scripts") != line.starts_with("account")),
            "{table}"
        );

        let browser = Browser::open(stage::BASE_PORT + 27).await;
        browser.sign_in(&format!("{}/domains/{ascii}", stage.service.setup.url()), ADMIN).await;
        browser.read("may be taken for another name").await;
        browser.page.goto(&stage.service.setup.url()).await.expect("opened");
        browser.type_into("input[aria-label='Part of a name']", &zone).await;
        browser.read(&format!("≈ mixed-scripts: {ascii}")).await;
        browser.close().await;
    });
}

#[test]
fn what_was_recorded_under_other_rules_is_still_read_and_released() {
    stage();
    stage::run(async {
        let stage = stage();
        let zone = fresh_zone("kept");
        stage.service.enrol(&stage.world, &zone).await;

        let statement = format!("UPDATE domains SET host = '192.0.2.107' WHERE host = '{zone}'");
        stage.world.statement("stage", &statement).await.expect("renamed");
        let explained = stage.service.cli(&["explain", "192.0.2.107"]).await;
        assert!(text(&explained.stdout).starts_with("192.0.2.107 "), "{}", text(&explained.stderr));
        let released = stage.service.cli(&["release", "192.0.2.107"]).await;
        assert_eq!(released.status.code(), Some(0), "{}", text(&released.stderr));

        let unknown = stage.service.cli(&["explain", "192.0.2.108"]).await;
        assert!(text(&unknown.stderr).contains("192.0.2.108 is an IP address"), "{}", text(&unknown.stderr));
    });
}
