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
            (vec!["roster", "--stage", "nowhere"], 2, "is no stage"),
            (vec!["survey", &host, "--within", "5"], 2, "--until"),
            (vec!["key", "add", "k", "--role", "root"], 2, "is no role"),
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
        service.looked_at(&host).await;
        let masked = text(&service.cli(&["sheet", &host]).await.stdout);
        assert!(!masked.contains(&sheet.lines[0].value), "the token is shown unasked:\n{masked}");
        assert!(masked.contains(&format!("nomenta sheet {host} --reveal")), "{masked}");
        let shown = text(&service.cli(&["sheet", &host, "--reveal"]).await.stdout);
        for want in ["_quaymark-challenge.timetable", "onswick.edge.quaymark.example", &sheet.lines[0].value]
        {
            assert!(shown.contains(want), "no {want} in:\n{shown}");
        }
        assert!(shown.contains("Typed as the editor of Harrow DNS wants it."), "{shown}");
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
        for want in ["Enrolled for the site onswick", "Found cname-foreign", "routing: waiting → blocked"] {
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

#[test]
fn a_customer_of_the_demo_is_played_from_the_command_line() {
    stage();
    stage::run(async {
        let service = &stage().service;
        let host = format!("rides.{}", fresh_zone("played"));
        let layout = &stage().world.layout;
        let (state, port) = (layout.state.to_string_lossy().into_owned(), layout.base_port.to_string());
        let place = ["--state", &state, "--base-port", &port];
        let run = async |words: &[&str]| {
            let mut command = tokio::process::Command::new(stage::demo_program());
            command.args(["customer", &host]).args(words).args(place);
            command.env("NOMENTA_URL", service.setup.url()).env("NOMENTA_KEY", stage::ADMIN);
            command.output().await.expect("the command runs")
        };
        let play = async |words: &[&str]| {
            let output = run(words).await;
            assert_eq!(code(&output), Some(0), "{}", text(&output.stderr));
            text(&output.stdout)
        };
        // The zone is registered by the customer, after the domain was taken in.
        let enrolled = service.cli(&["enrol", &host, "--site", "onswick"]).await;
        assert_eq!(code(&enrolled), Some(0));
        let said = play(&["--mistake", "cname-foreign"]).await;
        assert!(said.contains("with the mistake cname-foreign"), "{said}");
        service.found(&host, &["cname-foreign"]).await;
        play(&[]).await;
        service.live(&host).await;
        assert!(play(&["--take-back"]).await.contains("back"));
        let refused = run(&["--mistake", "ipv6-stray"]).await;
        assert_eq!(code(&refused), Some(1));
        assert!(text(&refused.stderr).contains("at an apex only"), "{}", text(&refused.stderr));
        let unknown = run(&["--mistake", "typo"]).await;
        assert_eq!(code(&unknown), Some(2));
    });
}

#[test]
fn enrol_waits_with_progress_when_told_to() {
    stage();
    stage::run(async {
        let stage = stage();
        let host = fresh_zone("until");
        stage.world.zones.register(&host).await.expect("registered");
        let words = ["enrol", &host, "--site", "onswick", "--until", "certificate", "--within", "90"];
        let waiting = stage.service.cli(&words);
        let publishing = async {
            let sheet = nomenta_world::wait_for("the sheet being there", stage::TIME_LIMIT, || async {
                stage.service.cli(&["sheet", &host]).await.status.success()
            });
            sheet.await.expect("a sheet");
            let sheet = stage.service.cli_json(&["sheet", &host, "--reveal"]).await;
            let sheet = serde_json::from_value(sheet).expect("a sheet");
            customer::publish(&stage.world.zones, &sheet, None).await.expect("published");
        };
        let (output, ()) = tokio::join!(waiting, publishing);
        let progress = text(&output.stderr);
        assert_eq!(code(&output), Some(0), "{progress}");
        for want in ["ownership: waiting → passed", "routing: waiting → passed"] {
            assert!(progress.contains(want), "no {want} in:\n{progress}");
        }
        assert!(text(&output.stdout).contains("To publish for"), "the sheet is on standard output");
        assert!(!text(&output.stdout).contains("waiting"), "progress is not");
    });
}

#[test]
fn help_and_version_are_there_and_the_document_is_printed_without_a_service() {
    stage::run(async {
        let run = async |words: &[&str]| {
            let mut command = tokio::process::Command::new(stage::PROGRAM);
            let output = command.args(words).env_remove("NOMENTA_KEY").output().await.expect("runs");
            (code(&output), text(&output.stdout), text(&output.stderr))
        };
        let (status, help, _) = run(&["--help"]).await;
        assert_eq!(status, Some(0));
        for verb in [
            "serve", "findings", "account", "site", "ingress", "key", "enrol", "sheet", "baseline",
            "rehearse", "survey", "explain", "roster", "history", "move", "pause", "resume", "contest",
            "release",
        ] {
            assert!(help.contains(&format!("  {verb} ")), "{verb} is not in the help");
        }
        assert!(help.contains("Exit status: 0 done, 1 failed, 2 wrong call, 3 not yet"));
        assert!(run(&["--version"]).await.1.starts_with("nomenta 0."));
        let (status, document, _) = run(&["openapi"]).await;
        let document: serde_json::Value = serde_json::from_str(&document).expect("JSON");
        assert_eq!((status, &document["info"]["title"]), (Some(0), &"Nomenta".into()));
        let (_, page, _) = run(&["findings", "--as", "markdown"]).await;
        for want in ["# Findings", "## routing", "| `address-foreign` | blocker |", "## certificate"] {
            assert!(page.contains(want), "no {want:?} in:\n{page}");
        }
        let (_, list, _) = run(&["findings", "--as", "csv"]).await;
        assert!(list.starts_with("about,code,gate,severity\n"), "{list}");
        let (status, _, error) = run(&["roster"]).await;
        assert_eq!(status, Some(1));
        assert!(error.contains("Set NOMENTA_KEY, or give --key."), "{error}");
    });
}
