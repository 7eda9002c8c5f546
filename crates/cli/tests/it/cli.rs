//! The command line as a person meets it.

use std::process::Output;

use nomenta_world::customer::{self, Mistake};

use crate::stage::{self, fresh_zone, stage};

fn text(bytes: &[u8]) -> String {
    String::from_utf8_lossy(bytes).into_owned()
}

fn code(output: &Output) -> Option<i32> {
    output.status.code()
}

#[test]
fn exit_status_tells_failed_wrong_and_not_yet_apart() {
    stage();
    stage::run(async {
        let service = &stage().service;
        let host = fresh_zone("status");
        service.enrol(&stage().world, &host).await;
        let late = service.cli(&["survey", &host, "--until", "live", "--within", "1"]).await;
        assert_eq!(code(&late), Some(3));
        assert!(text(&late.stderr).contains("Not yet live after 1 s"), "{}", text(&late.stderr));
        for (words, want, says) in [
            (vec!["explain", "unknown.example"], 1, "no domain named unknown.example"),
            (vec!["enrol", "10.0.0.1", "--site", "onswick"], 1, "is an IP address"),
            (vec!["explain", "post@onswick.example"], 1, "mail address"),
            (vec!["roster", "--stage", "nowhere"], 2, "is not a stage"),
            (vec!["survey", &host, "--within", "5"], 2, "--until"),
            (vec!["key", "add", "k", "--role", "root"], 2, "is not a role"),
            (vec!["nonsense"], 2, "nonsense"),
            (vec!["roster", "--key", "wrong"], 1, "opens nothing"),
            (vec!["roster", "--url", "http://127.0.0.1:9"], 1, "Is NOMENTA_URL right?"),
        ] {
            let output = service.cli(&words).await;
            let err = text(&output.stderr);
            assert_eq!(code(&output), Some(want), "{words:?}: {err}");
            assert!(err.contains(says), "{words:?} does not say {says:?}: {err}");
        }
    });
}

#[test]
fn the_sheet_says_which_value_goes_in_which_box() {
    stage();
    stage::run(async {
        let (service, zone) = (&stage().service, fresh_zone("sheet"));
        let host = format!("timetable.{zone}");
        let sheet = service.enrol(&stage().world, &host).await;
        let shown = text(&service.cli(&["sheet", &host]).await.stdout);
        for want in ["_quaymark-challenge.timetable", "onswick.edge.quaymark.example", &sheet.lines[0].value]
        {
            assert!(shown.contains(want), "no {want} in:\n{shown}");
        }
        assert!(shown.contains(&format!("HOST is for editors that add {zone} by themselves")), "{shown}");
    });
}

#[test]
fn explain_and_history_tell_a_story_and_listings_list() {
    stage();
    stage::run(async {
        let (service, host) = (&stage().service, format!("www.{}", fresh_zone("story")));
        let sheet = service.enrol(&stage().world, &host).await;
        let mistake = Some(Mistake::CnameForeign);
        customer::publish(&stage().world.zones, &sheet, mistake).await.expect("published");
        service.found(&host, &["cname-foreign"]).await;
        let shown = text(&service.cli(&["explain", &host]).await.stdout);
        for want in
            ["blocked", "cname-foreign, for", "Seen at ns1.harrowdns.example (127.53.2.1)", "differs 2"]
        {
            assert!(shown.contains(want), "no {want} in:\n{shown}");
        }
        let story = text(&service.cli(&["history", &host]).await.stdout);
        for want in ["enrolled for the site onswick", "found cname-foreign", "routing: waiting → blocked"] {
            assert!(story.contains(want), "no {want} in:\n{story}");
        }
        let survey = text(&service.cli(&["survey", &host]).await.stdout);
        assert!(survey.contains("CNAME sites.formerhost.example"), "{survey}");
        let roster = text(&service.cli(&["roster", "--text", &host]).await.stdout);
        assert!(roster.contains(&host) && roster.contains("routing"), "{roster}");
        for (words, want) in [
            (["account", "list"], "Onswick Ferries"),
            (["site", "list"], "onswick.quaymark.example"),
            (["ingress", "list"], "127.77.0.10"),
            (["key", "list"], "admin (configuration)"),
        ] {
            let shown = text(&service.cli(&words).await.stdout);
            assert!(shown.contains(want), "no {want} in:\n{shown}");
        }
    });
}
