//! What customers are handed: choices, forms, renderings, tokens, pairs.

use nomenta_core::sheet::Sheet;
use nomenta_core::sheet::line::{Choice, Line, Purpose};
use nomenta_world::customer::{self, Mistake};
use nomenta_world::zones::Change;
use serde_json::{Value, json};

use crate::stage::{self, ADMIN, fresh_zone, stage};

async fn rendered(host: &str, accept: &str, key: &str) -> (u16, String, String) {
    let request = stage().service.request("GET", &format!("domains/{host}/sheet"), key);
    let response = request.header("accept", accept).send().await.expect("an answer");
    let kind = response.headers()["content-type"].to_str().expect("text").to_owned();
    (response.status().as_u16(), kind, response.text().await.expect("text"))
}

async fn key(role: &str) -> String {
    let (_, key) = stage().service.post("keys", &json!({ "name": role, "role": role })).await;
    key["secret"].as_str().expect("a secret").to_owned()
}

fn token(sheet: &Sheet) -> &str {
    &sheet.preferred(Purpose::Ownership).next().expect("a line").value
}

#[test]
fn the_sheet_is_handed_over_in_every_form_by_media_type() {
    stage();
    stage::run(async {
        let host = fresh_zone("forms");
        let sheet = stage().service.enrol(&stage().world, &host).await;
        for (accept, want) in [
            ("text/plain", "Or: an alias at the apex"),
            ("text/markdown", "| A | `@` |"),
            ("text/csv", "purpose,choice,type,host,full_name,value,ttl,required"),
            ("text/dns", "; or: the whole zone at these name servers"),
        ] {
            let (status, kind, text) = rendered(&host, accept, ADMIN).await;
            assert_eq!((status, kind), (200, format!("{accept}; charset=utf-8")));
            assert!(text.contains(want), "no {want:?} in:\n{text}");
            assert!(text.contains(token(&sheet)), "{accept} is for handing over, and has the token:\n{text}");
        }
        for (shape, want) in [
            ("text", "Keep every mail record"),
            ("markdown", "## To bring visitors to your site, one of these"),
            ("csv", "ownership,a TXT record at the challenge label,TXT"),
            ("zone", &format!("$ORIGIN {host}.")),
        ] {
            let output = stage().service.cli(&["sheet", &host, "--as", shape]).await;
            let text = String::from_utf8_lossy(&output.stdout).into_owned();
            assert!(text.contains(want), "no {want:?} in:\n{text}");
        }
        let refused = stage().service.cli(&["roster", "--as", "zone"]).await;
        assert_eq!(refused.status.code(), Some(1));
        let error = String::from_utf8_lossy(&refused.stderr).into_owned();
        assert!(error.contains("This has no form as zone. Use --as table or --as json."), "{error}");
    });
}

#[test]
fn tokens_are_masked_until_asked_for_by_who_may_and_never_in_events() {
    stage();
    stage::run(async {
        let (service, host) = (&stage().service, fresh_zone("masked"));
        let sheet = service.enrol(&stage().world, &host).await;
        customer::publish(&stage().world.zones, &sheet, Some(Mistake::TokenAltered))
            .await
            .expect("published");
        service.found(&host, &["token-altered"]).await;
        let secret = token(&sheet).trim_start_matches("token=");
        let viewer = key("viewer").await;
        for path in ["", "/sheet", "/events", "/baseline"] {
            let response = service.request("GET", &format!("domains/{host}{path}"), &viewer).send().await;
            let text = response.expect("an answer").text().await.expect("text");
            assert!(!text.contains(secret), "{path} shows the token:\n{text}");
        }
        for path in ["?reveal=true", "/sheet?reveal=true"] {
            let get = |key: &str| service.request("GET", &format!("domains/{host}{path}"), key).send();
            let refused = get(&viewer).await.expect("an answer");
            assert_eq!(refused.status(), 403, "{path}");
            let shown = get(ADMIN).await.expect("an answer").text().await.expect("text");
            assert!(shown.contains(secret), "{path} does not show the token:\n{shown}");
        }
        assert_eq!(rendered(&host, "text/plain", &viewer).await.0, 403, "a viewer hands nothing over");
    });
}

#[test]
fn a_replaced_token_is_told_from_a_wrong_one_and_the_new_one_passes() {
    stage();
    stage::run(async {
        let (service, host) = (&stage().service, fresh_zone("rotated"));
        let old = service.enrol(&stage().world, &host).await;
        let output = service.cli(&["sheet", &host, "--rotate", "--reveal", "--as", "json"]).await;
        let new: Sheet = serde_json::from_slice(&output.stdout).expect("a sheet");
        assert_ne!(token(&old), token(&new));
        customer::publish(&stage().world.zones, &old, None).await.expect("published");
        service.found(&host, &["token-superseded"]).await;
        let told = String::from_utf8_lossy(&service.cli(&["explain", &host]).await.stdout).into_owned();
        assert!(told.contains("The value there now is from an older sheet."), "{told}");
        assert!(!told.contains(token(&old)), "an old token is a token:\n{told}");
        customer::publish(&stage().world.zones, &new, None).await.expect("published");
        service.live(&host).await;
        service.found(&host, &[]).await;
        let story = String::from_utf8_lossy(&service.cli(&["history", &host]).await.stdout).into_owned();
        assert!(story.contains("Given a new token."), "{story}");
    });
}

/// Publishes the lines of one choice for each purpose, and nothing else.
async fn publish_by(sheet: &Sheet, choices: [Choice; 2]) {
    let lines = choices.into_iter().flat_map(|choice| sheet.by(choice));
    let add = |line: &Line| {
        let data = line.data().expect("a record of this zone");
        Change::Add { owner: line.owner.to_string(), ttl: 5, data }
    };
    let changes: Vec<_> = lines.map(add).collect();
    stage().world.zones.update(sheet.host.registered(), &changes).await.expect("published");
}

#[test]
fn each_choice_is_enough() {
    stage();
    stage::run(async {
        for (label, choices) in [
            ("timetable.", [Choice::ChallengeCname, Choice::Cname]),
            ("timetable.", [Choice::ChallengeTxt, Choice::Addresses]),
            ("", [Choice::HostTxt, Choice::Addresses]),
        ] {
            let host = format!("{label}{}", fresh_zone("choices"));
            let sheet = stage().service.enrol(&stage().world, &host).await;
            publish_by(&sheet, choices).await;
            stage().service.live(&host).await;
            stage().service.found(&host, &[]).await;
        }
    });
}

#[test]
fn an_alias_that_the_editor_flattens_and_a_wildcard_are_routed() {
    stage();
    stage::run(async {
        let service = &stage().service;
        // Zones under test. stand at an operator whose editor takes an alias.
        let id = uuid::Uuid::new_v4().simple().to_string();
        let host = format!("flat-{}.test", &id[..8]);
        service.enrol(&stage().world, &host).await;
        service.looked_at(&host).await;
        let sheet: Sheet =
            serde_json::from_value(service.cli_json(&["sheet", &host, "--reveal"]).await).expect("a sheet");
        assert_eq!(sheet.choices(Purpose::Routing)[0], Choice::Alias);
        let alias = sheet.by(Choice::Alias).next().expect("a line");
        assert_eq!((alias.host_field.as_str(), alias.ttl), (format!("{host}.").as_str(), 300));
        assert!(alias.value_field.ends_with('.'), "this editor wants the dot: {}", alias.value_field);
        customer::publish(&stage().world.zones, &sheet, None).await.expect("published as addresses");
        service.live(&host).await;

        let zone = fresh_zone("star");
        stage().world.zones.register(&zone).await.expect("registered");
        let name = format!("*.lines.{zone}");
        let sheet: Sheet =
            serde_json::from_value(service.cli_json(&["enrol", &name, "--site", "onswick"]).await)
                .expect("a sheet");
        assert_eq!(sheet.routed, name);
        let acme = sheet.by(Choice::AcmeCname).next().expect("the CA's own challenge is delegated");
        assert_eq!(acme.owner, format!("_acme-challenge.lines.{zone}"));
        publish_by(&sheet, [Choice::ChallengeTxt, Choice::Cname]).await;
        let output = service.cli(&["survey", &name, "--until", "certificate", "--within", "60"]).await;
        assert_eq!(output.status.code(), Some(0), "{}", String::from_utf8_lossy(&output.stderr));
    });
}

#[test]
fn a_pair_has_two_sheets_one_primary_and_a_note_while_only_half_is_published() {
    stage();
    stage::run(async {
        let (service, zone) = (&stage().service, fresh_zone("pair"));
        stage().world.zones.register(&zone).await.expect("registered");
        let view = service.cli_json(&["enrol", &zone, "--site", "onswick", "--pair"]).await;
        let other: Sheet = serde_json::from_value(view["pair"]["sheet"].clone()).expect("the other sheet");
        let sheet: Sheet = serde_json::from_value(view.clone()).expect("a sheet");
        assert_eq!(other.host.as_str(), format!("www.{zone}"));
        assert_eq!(view["pair"]["is_primary"], false);
        assert_ne!(token(&sheet), token(&other), "each has a token of its own");
        let (_, _, text) = rendered(&zone, "text/plain", ADMIN).await;
        assert!(text.contains(token(&sheet)) && text.contains(token(&other)), "{text}");

        let publish = async |sheet: &Sheet| {
            let lines = sheet.preferred(Purpose::Ownership).chain(sheet.preferred(Purpose::Routing));
            let add = |line: &Line| Change::Add {
                owner: line.owner.to_string(),
                ttl: 5,
                data: line.data().expect("a record"),
            };
            let changes: Vec<_> = lines.map(add).collect();
            stage().world.zones.update(&zone, &changes).await.expect("published");
        };
        publish(&sheet).await;
        service.found(&zone, &["pair-incomplete"]).await;
        publish(&other).await;
        service.live(&other.routed).await;
        service.found(&zone, &[]).await;
        let detail: Value = service.cli_json(&["explain", &other.routed]).await;
        assert_eq!((&detail["pair"]["other"], &detail["pair"]["is_primary"]), (&json!(zone), &json!(false)));

        for (host, want) in [
            (format!("*.{zone}"), "A wildcard has no pair."),
            (zone.clone(), "There is already a domain named"),
        ] {
            let refused = service.cli(&["enrol", &host, "--site", "onswick", "--pair"]).await;
            let error = String::from_utf8_lossy(&refused.stderr).into_owned();
            assert_eq!(refused.status.code(), Some(1), "{error}");
            assert!(
                error.contains(want) || error.contains("taken") || error.contains("in use"),
                "{host}: {error}"
            );
        }
    });
}
