//! What a customer sees, decided from what is known of their domains.

use chrono::{DateTime, Utc};
use nomenta_core::judge::code::Code;
use nomenta_core::judge::edit::{Edit, EditKind};
use nomenta_core::judge::finding::Severity;
use nomenta_core::judge::gate::{Gate, GateName, GateState, Stage};
use nomenta_core::judge::verdict::Verdict;
use nomenta_core::judge::waiting;
use nomenta_core::name::dns::DnsName;
use nomenta_core::reading::record::RecordType;
use nomenta_core::sheet::line::{EditorType, Line};

use super::steps::steps;
use super::usual;
use super::words::Speaker;
use super::{
    CustomerDomain, Face, Found, HandoffView, Labels, Language, LanguageView, Link, PlaceView, Post, Row,
    Said, Standing,
};
use crate::domain::DomainDetail;
use crate::view::JudgedLine;

/// Name servers that are told at most.
const SERVERS: usize = 2;

/// A domain, with what its customer has to be told beside.
#[derive(Clone, Debug)]
pub struct Customer {
    /// Everything about it, with the token to be typed.
    pub detail: DomainDetail,
    /// Names of its zone's servers.
    pub servers: Vec<DnsName>,
}

/// What a link shows.
#[derive(Clone, Debug)]
pub struct Scene<'a> {
    /// The platform.
    pub face: &'a Face,
    /// The language.
    pub language: Language,
    /// The domains, first the one that the link was made for.
    pub customers: &'a [Customer],
    /// The zone, where the link is for all of it.
    pub zone: Option<&'a DnsName>,
    /// How many domains there are beyond those.
    pub more: usize,
    /// Whether mail is sent.
    pub has_mail: bool,
    /// Share of the vantages that must see the routing.
    pub quorum: f64,
    /// Until when the link shows anything.
    pub expires_at: DateTime<Utc>,
    /// When it is shown.
    pub now: DateTime<Utc>,
}

impl HandoffView {
    /// Decides what is shown.
    pub fn of(scene: &Scene<'_>) -> Self {
        let speaker = Speaker(scene.language);
        let platform = scene.face.name.as_str();
        let first = scene.customers.first().map(|customer| &customer.detail);
        let title = match (scene.zone, first) {
            (Some(zone), _) => speaker.title_zone(zone, platform),
            (None, Some(first)) => speaker.title(&first.shown, platform),
            (None, None) => Said::default(),
        };

        let domains: Vec<_> =
            scene.customers.iter().map(|customer| of_domain(scene, speaker, customer)).collect();
        let has_steps = domains.iter().any(|domain| !domain.steps.is_empty());

        Self {
            language: scene.language,
            direction: scene.language.direction(),
            languages: Language::ALL.iter().map(|language| named(*language)).collect(),
            face: scene.face.clone(),
            title,
            intro: first.filter(|_| has_steps).map(|first| speaker.intro(&first.zone)),
            domains,
            more: (scene.more > 0).then(|| speaker.more_domains(scene.more)),
            ask: scene.face.support.as_deref().map(|support| speaker.ask(support)),
            expires: speaker.expires(scene.expires_at),
            tell_me: scene.has_mail.then(|| speaker.tell_me()),
            by_key: speaker.key_way(),
            labels: labels(speaker),
        }
    }
}

/// What a link that shows nothing any more says: a heading, and what to do.
pub fn ended(language: Language, platform: &str) -> [Said; 2] {
    let speaker = Speaker(language);
    [speaker.link_ended_title(), speaker.link_ended(platform)]
}

fn named(language: Language) -> LanguageView {
    LanguageView { language, name: Speaker(language).language_name().plain() }
}

fn labels(speaker: Speaker) -> Labels {
    Labels {
        copy: speaker.copy().plain(),
        copied: speaker.copied().plain(),
        look_again: speaker.look_again().plain(),
        looking: speaker.looking().plain(),
        look_soon: speaker.look_soon("%s").plain(),
        offline: speaker.offline().plain(),
        reload: speaker.reload().plain(),
        print: speaker.print().plain(),
        found: speaker.found().plain(),
        beware: speaker.beware().plain(),
        done: speaker.steps_done().plain(),
        keep: speaker.steps_keep().plain(),
        empty: speaker.box_empty().plain(),
    }
}

fn of_domain(scene: &Scene<'_>, speaker: Speaker, customer: &Customer) -> CustomerDomain {
    let detail = &customer.detail;
    let edits = changes(detail);
    let standing = standing(detail, edits.len());
    let url = (standing == Standing::Live).then(|| format!("https://{}/", detail.host));

    CustomerDomain {
        host: detail.host.clone(),
        shown: detail.shown.clone(),
        standing,
        heading: heading(speaker, scene, detail, standing, edits.len()),
        said: said(speaker, scene, detail, standing),
        looks: looks(speaker, scene, detail),
        link: url.map(|url| Link { url, said: speaker.open_site(&detail.shown) }),
        posts: detail.gates.0.iter().map(|gate| post(speaker, gate)).collect(),
        found: found(speaker, scene, detail),
        place: place(speaker, scene, customer, &edits),
        warning: warning(speaker, detail),
        steps: steps(speaker, detail, &edits),
        done: detail
            .lines
            .iter()
            .filter(|judged| is_done(judged, detail))
            .map(|judged| line_row(&judged.line))
            .collect(),
        keep: keep(detail),
    }
}

/// What is to be changed: the customer's list, or before the first look the lines in use.
fn changes(detail: &DomainDetail) -> Vec<Edit> {
    if detail.looked_at.is_none() && detail.ended.is_none() {
        let lines = detail.view.in_use.iter().filter_map(|place| detail.lines.get(*place));
        return lines.map(|judged| publish(&judged.line)).collect();
    }
    detail.todo.iter().filter(|edit| edit.kind != EditKind::Keep).cloned().collect()
}

fn publish(line: &Line) -> Edit {
    Edit {
        kind: EditKind::Add,
        rtype: line.editor_type(),
        host_field: line.host_field.clone(),
        owner: line.owner.clone(),
        value: line.value_field.clone(),
        was: None,
    }
}

fn standing(detail: &DomainDetail, changes: usize) -> Standing {
    let is_stuck = || detail.findings.iter().any(|open| open.finding.severity == Severity::Blocker);
    match detail.stage {
        _ if detail.suspended_at.is_some() && detail.ended.is_none() => Standing::Paused,
        Stage::Released => Standing::Left,
        Stage::Paused => Standing::Paused,
        Stage::Live => Standing::Live,
        Stage::At(_) if detail.looked_at.is_none() => Standing::Unseen,
        Stage::At(_) if changes > 0 => Standing::Steps,
        Stage::At(_) if is_stuck() => Standing::Stuck,
        Stage::At(GateName::Ownership | GateName::Routing) => Standing::Spreading,
        Stage::At(GateName::Certificate | GateName::Serving) => Standing::Working,
    }
}

fn heading(
    speaker: Speaker,
    scene: &Scene<'_>,
    detail: &DomainDetail,
    standing: Standing,
    changes: usize,
) -> Said {
    match standing {
        Standing::Unseen => speaker.stands_unseen(),
        Standing::Steps => speaker.stands_steps(changes),
        Standing::Stuck => speaker.stands_stuck(),
        Standing::Spreading => speaker.stands_spreading(),
        Standing::Working => speaker.stands_working(),
        Standing::Live => speaker.stands_live(&detail.shown),
        Standing::Paused => speaker.stands_paused(),
        Standing::Left => speaker.stands_left(&detail.shown, &scene.face.name),
    }
}

/// What it means, and what comes next without them.
fn said(speaker: Speaker, scene: &Scene<'_>, detail: &DomainDetail, standing: Standing) -> Vec<Said> {
    let platform = scene.face.name.as_str();
    match standing {
        Standing::Unseen => vec![speaker.said_unseen()],
        Standing::Steps => {
            let has_lapsed = detail.gates.0.iter().any(|gate| gate.state == GateState::Lapsed);
            has_lapsed.then(|| speaker.said_again()).into_iter().chain([speaker.said_steps()]).collect()
        }
        Standing::Stuck => vec![speaker.said_stuck()],
        Standing::Spreading => {
            let seen = match waiting::settled_at(&detail.waits, scene.quorum) {
                Some(until) => speaker.said_until(until),
                None => speaker.said_some(),
            };
            [seen].into_iter().chain(usual::seen(speaker, detail)).chain([speaker.said_ours()]).collect()
        }
        Standing::Working => vec![speaker.said_working(), speaker.said_ours()],
        Standing::Live => vec![speaker.said_live()],
        Standing::Paused => vec![speaker.said_paused(platform)],
        Standing::Left => vec![speaker.said_left(platform)],
    }
}

/// When it was looked at, and when it is again.
fn looks(speaker: Speaker, scene: &Scene<'_>, detail: &DomainDetail) -> Vec<Said> {
    let looked = detail.looked_at.map(|at| speaker.looked(at));
    let next = match detail.next_look {
        Some(at) if at > scene.now => speaker.next_look(at),
        Some(_) => speaker.looking_now(),
        None => speaker.no_look(),
    };
    looked.into_iter().chain([next]).collect()
}

fn post(speaker: Speaker, gate: &Gate) -> Post {
    let name = match gate.name {
        GateName::Ownership => speaker.gate_ownership(),
        GateName::Routing => speaker.gate_routing(),
        GateName::Certificate => speaker.gate_certificate(),
        GateName::Serving => speaker.gate_serving(),
    };
    let word = match gate.state {
        GateState::Waiting => speaker.post_waiting(),
        GateState::Passed => speaker.post_passed(),
        GateState::Blocked => speaker.post_blocked(),
        GateState::Lapsed => speaker.post_lapsed(),
    };

    let since = (gate.state != GateState::Waiting).then(|| speaker.post_since(gate.since));
    Post { gate: gate.name, state: gate.state, name: name.plain(), word: word.plain(), since }
}

/// What was found. What lies around the name is of others, and what search engines list is
/// for the platform to mend.
fn found(speaker: Speaker, scene: &Scene<'_>, detail: &DomainDetail) -> Vec<Found> {
    let told = detail.findings.iter().map(|open| &open.finding);
    let told = told.filter(|finding| !matches!(finding.code, Code::InsideHeldName | Code::DefaultHostListed));
    told.map(|finding| Found {
        code: finding.code,
        severity: finding.severity,
        said: speaker.finding(finding.code, &scene.face.name),
    })
    .collect()
}

/// Where the records are edited.
fn place(speaker: Speaker, scene: &Scene<'_>, customer: &Customer, edits: &[Edit]) -> PlaceView {
    let detail = &customer.detail;
    let zone = &detail.zone;
    let operator = detail.form.as_ref();
    let servers: Vec<_> = customer.servers.iter().take(SERVERS).map(DnsName::as_str).collect();
    let said = match operator {
        Some(form) => speaker.place_operator(&form.name),
        None if servers.is_empty() => speaker.place_unknown(),
        None => speaker.place_servers(&servers.join(", ")),
    };

    let link = operator.and_then(|form| {
        let url = form.editor.as_deref()?.replace("{zone}", zone);
        Some(Link { url, said: speaker.place_link(&form.name) })
    });
    PlaceView {
        zone: zone.clone(),
        heading: speaker.place(zone),
        said,
        link,
        usual: usual::times(speaker, detail),
        beware: usual::beware(speaker, &scene.face.name, detail, edits),
    }
}

/// Mail records in the zone are to be left alone.
fn warning(speaker: Speaker, detail: &DomainDetail) -> Option<Said> {
    let mail = EditorType::Of(RecordType::Mx);
    let has_mail = detail.todo.iter().any(|edit| edit.kind == EditKind::Keep && edit.rtype == mail);
    let has_changes = detail.todo.iter().any(|edit| edit.kind != EditKind::Keep);
    (has_mail && has_changes).then(|| speaker.mail_stays(&detail.zone))
}

/// Whether a line is in place: it is to be kept, or it is there and nothing is to be done
/// about it.
fn is_done(judged: &JudgedLine, detail: &DomainDetail) -> bool {
    let line = &judged.line;
    let about = |edit: &&Edit| edit.owner == line.owner && edit.value == line.value_field;
    match detail.todo.iter().find(about) {
        Some(edit) => edit.kind == EditKind::Keep,
        None => judged.cells.iter().any(|cell| cell.verdict == Verdict::Match),
    }
}

fn line_row(line: &Line) -> Row {
    Row {
        rtype: line.editor_type().to_string(),
        host: line.host_field.clone(),
        value: line.value_field.clone(),
    }
}

/// What is to be left alone, but for what is on the sheet.
fn keep(detail: &DomainDetail) -> Vec<Row> {
    let on_sheet = |edit: &Edit| {
        detail
            .lines
            .iter()
            .any(|judged| judged.line.owner == edit.owner && judged.line.value_field == edit.value)
    };
    let kept = detail.todo.iter().filter(|edit| edit.kind == EditKind::Keep && !on_sheet(edit));
    kept.map(|edit| Row {
        rtype: edit.rtype.to_string(),
        host: edit.host_field.clone(),
        value: edit.value.clone(),
    })
    .collect()
}

#[cfg(test)]
mod tests {
    use nomenta_core::judge::gate::Gates;
    use serde_json::{Value, json};

    use super::*;
    use crate::handoff::{BoxKind, Piece};

    const HOST: &str = "timetable.onswick.example";

    /// A domain of which nothing is done yet, with what is different about it.
    fn customer(different: Value) -> Customer {
        let line = json!({
            "purpose": "routing", "way": "cname", "rtype": "CNAME", "owner": HOST, "host_field": "timetable",
            "value": "onswick.edge.quaymark.example", "value_field": "onswick.edge.quaymark.example", "ttl": 300,
            "required": false, "cells": [],
        });
        let add = json!({
            "kind": "add", "rtype": "CNAME", "host_field": "timetable", "owner": HOST,
            "value": "onswick.edge.quaymark.example",
        });
        let mut detail = json!({
            "host": HOST, "shown": HOST, "account": "onswick", "site": "onswick", "stage": "ownership",
            "default_host": "onswick.quaymark.example", "shows": {}, "zone": "onswick.example",
            "gates": Gates::new(DateTime::UNIX_EPOCH), "lines": [line], "findings": [], "todo": [add],
            "waits": [], "spreads": [], "token_expires_at": "2026-12-27T00:00:00Z",
            "enrolled_at": "2026-11-27T00:00:00Z", "looked_at": "2026-11-27T00:01:00Z",
            "view": { "gates": [], "in_use": [0], "list": [], "no_look": null },
        });
        let fields = different.as_object().expect("fields").clone();
        detail.as_object_mut().expect("fields").extend(fields);
        let detail = serde_json::from_value(detail).expect("a domain");
        Customer { detail, servers: vec!["ns1.harrowdns.example".into()] }
    }

    fn view(different: Value) -> HandoffView {
        let face = Face {
            name: "Quaymark".into(),
            support: Some("help@quaymark.example".into()),
            ..Face::default()
        };
        HandoffView::of(&Scene {
            face: &face,
            language: Language::English,
            customers: &[customer(different)],
            zone: None,
            more: 0,
            has_mail: false,
            quorum: 0.6,
            expires_at: DateTime::UNIX_EPOCH,
            now: DateTime::UNIX_EPOCH,
        })
    }

    fn only(different: Value) -> CustomerDomain {
        view(different).domains.remove(0)
    }

    #[test]
    fn a_step_says_what_goes_into_each_box_and_how_it_is_meant() {
        let domain = only(json!({}));
        assert_eq!(domain.standing, Standing::Steps);
        let [step] = domain.steps.as_slice() else { panic!("one step") };
        assert_eq!(step.heading.plain(), "Add a CNAME record");
        assert_eq!(step.why.plain(), "It brings visitors to the site.");
        let boxes: Vec<_> = step.boxes.iter().map(|one| (one.kind, one.value.as_str())).collect();
        let target = "onswick.edge.quaymark.example";
        let want = [
            (BoxKind::Type, "CNAME"),
            (BoxKind::Host, "timetable"),
            (BoxKind::Value, target),
            (BoxKind::Ttl, "300"),
        ];
        assert_eq!(boxes, want);
        let hint = step.boxes[1].hint.as_ref().expect("a hint").plain();
        assert!(hint.contains("otherwise type timetable.onswick.example"), "nobody knows the editor: {hint}");
        assert!(domain.place.said.plain().contains("ns1.harrowdns.example"));
    }

    #[test]
    fn the_editor_of_a_known_operator_is_named_and_linked() {
        let form = json!({
            "name": "Harrow DNS", "servers": ["harrowdns.example"], "editor": "https://dns.harrowdns.example/{zone}",
        });
        let domain = only(json!({ "form": form }));
        assert_eq!(domain.place.said.plain(), "They are at Harrow DNS.");
        assert_eq!(domain.place.link.expect("a link").url, "https://dns.harrowdns.example/onswick.example");
        let hint = domain.steps[0].boxes[1].hint.as_ref().expect("a hint").plain();
        assert_eq!(hint, "Only this part: the editor adds onswick.example by itself.");
    }

    #[test]
    fn where_it_stands_follows_from_what_is_left_to_do() {
        let blocker = json!([{
            "code": "unreachable", "severity": "blocker", "gate": "ownership", "remedy": "", "remark": "",
            "evidence": [], "edits": [], "first_seen": "2026-11-27T00:00:00Z", "last_seen": "2026-11-27T00:00:00Z",
        }]);
        for (different, want) in [
            (json!({ "looked_at": null, "todo": [] }), Standing::Unseen),
            (json!({}), Standing::Steps),
            (json!({ "todo": [], "findings": blocker }), Standing::Stuck),
            (json!({ "todo": [], "stage": "routing" }), Standing::Spreading),
            (json!({ "todo": [], "stage": "certificate" }), Standing::Working),
            (json!({ "todo": [], "stage": "live" }), Standing::Live),
            (json!({ "stage": "paused" }), Standing::Paused),
            (json!({ "suspended_at": "2026-11-27T00:00:00Z" }), Standing::Paused),
            (json!({ "todo": [], "stage": "released" }), Standing::Left),
        ] {
            let domain = only(different);
            assert_eq!(domain.standing, want);
            assert_eq!(domain.link.is_some(), want == Standing::Live);
            assert!(!domain.heading.plain().is_empty() && !domain.said.is_empty());
        }
        assert_eq!(
            only(json!({ "looked_at": null, "todo": [] })).steps.len(),
            1,
            "before the first look, the sheet"
        );
    }

    #[test]
    fn waiting_is_told_with_its_end_and_mail_is_warned_of() {
        let wait = json!({ "vantage": "north", "sees": false, "holds": ["A 192.0.2.7"], "until": "2026-11-27T14:20:00Z" });
        let domain = only(json!({ "todo": [], "stage": "routing", "waits": [wait] }));
        assert!(domain.said[0].0.iter().any(|piece| matches!(piece, Piece::Time(_))), "{:?}", domain.said);

        let mail = json!({
            "kind": "keep", "rtype": "MX", "host_field": "@", "owner": "onswick.example", "value": "10 mx.onswick.example",
        });
        let todo = json!([mail, customer(json!({})).detail.todo[0]]);
        let domain = only(json!({ "todo": todo }));
        assert!(domain.warning.expect("a warning").plain().starts_with("Mail for onswick.example"));
        assert_eq!(domain.keep.len(), 1);
    }

    #[test]
    fn nothing_that_lies_around_is_told() {
        let around = json!([{
            "code": "inside-held-name", "severity": "note", "gate": "ownership", "remedy": "rival", "remark": "rival",
            "evidence": [], "edits": [], "first_seen": "2026-11-27T00:00:00Z", "last_seen": "2026-11-27T00:00:00Z",
        }]);
        let domain = only(json!({ "findings": around }));
        assert_eq!(domain.found, []);
    }

    #[test]
    fn the_markdown_has_records_as_code_whatever_is_in_them() {
        let text = view(json!({})).markdown();
        assert!(text.starts_with("# Connect `timetable.onswick.example` to Quaymark\n"), "{text}");
        assert!(text.contains("#### Step 1 of 1: Add a `CNAME` record"), "{text}");
        assert!(text.contains("* Value: `onswick.edge.quaymark.example`"), "{text}");
        let was = json!({
            "kind": "change", "rtype": "TXT", "host_field": "@", "owner": "onswick.example", "value": "a", "was": "x`y|*",
        });
        let text = view(json!({ "todo": [was] })).markdown();
        assert!(text.contains("* Value now: ``x`y|*``"), "{text}");
    }
}
