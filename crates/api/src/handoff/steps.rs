//! The steps of a handoff: for each change what goes into which box, as the editor wants it, and
//! why.

use nomenta_core::judge::edit::{Edit, EditKind};
use nomenta_core::sheet::form::{ApexStyle, Form, HostStyle};
use nomenta_core::sheet::line::{Choice, EditorType, Line, Purpose};

use super::words::Speaker;
use super::{BoxKind, BoxView, Said, Step};
use crate::domain::DomainDetail;

/// A step for each of the changes, in their order.
pub(super) fn steps(speaker: Speaker, detail: &DomainDetail, edits: &[Edit]) -> Vec<Step> {
    let steps = edits.iter().enumerate();
    steps
        .map(|(place, edit)| {
            let line = line_of(detail, edit);
            let rtype = edit.rtype.as_str();
            let heading = match edit.kind {
                EditKind::Add | EditKind::Keep => speaker.step_add(rtype),
                EditKind::Change => speaker.step_change(rtype),
                EditKind::Delete => speaker.step_delete(rtype),
            };
            Step {
                kind: edit.kind,
                count: speaker.step_count(place + 1, edits.len()),
                heading,
                why: why(speaker, edit, line),
                boxes: boxes(speaker, detail, edit, line),
                notes: notes(speaker, edit, line),
            }
        })
        .collect()
}

/// The line of the sheet that an edit brings.
fn line_of<'a>(detail: &'a DomainDetail, edit: &Edit) -> Option<&'a Line> {
    let lines = detail.lines.iter().map(|judged| &judged.line);
    let mut lines = lines.filter(|line| line.owner == edit.owner && line.value_field == edit.value);
    match edit.kind {
        EditKind::Delete => None,
        _ => lines.find(|line| line.editor_type() == edit.rtype),
    }
}

fn why(speaker: Speaker, edit: &Edit, line: Option<&Line>) -> Said {
    match (edit.kind, line.map(|line| line.purpose)) {
        (EditKind::Delete, _) => speaker.why_delete(),
        (_, Some(Purpose::Ownership)) => speaker.why_ownership(),
        (_, Some(Purpose::Certificate)) => speaker.why_certificate(),
        (_, Some(Purpose::Routing)) => speaker.why_routing(),
        // What no line of the sheet asks for, such as a CAA record.
        (_, None) => speaker.why_certificate(),
    }
}

fn notes(speaker: Speaker, edit: &Edit, line: Option<&Line>) -> Vec<Said> {
    let mut notes = Vec::new();
    if line.is_some_and(|line| line.choice == Choice::Delegation) {
        notes.push(speaker.step_registrar());
    }
    if edit.rtype == EditorType::Alias {
        notes.push(speaker.alias_type());
    }
    notes
}

/// What goes into each box, or stands in it.
fn boxes(speaker: Speaker, detail: &DomainDetail, edit: &Edit, line: Option<&Line>) -> Vec<BoxView> {
    let of = |kind, label: Said, value: &str| BoxView {
        kind,
        label: label.plain(),
        value: value.to_owned(),
        copy: None,
        hint: None,
    };

    let mut boxes = vec![of(BoxKind::Type, speaker.box_type(), edit.rtype.as_str())];
    boxes.push(BoxView {
        hint: Some(host_hint(speaker, detail, edit)),
        ..of(BoxKind::Host, speaker.box_host(), &edit.host_field)
    });
    if let Some(was) = &edit.was {
        boxes.push(of(BoxKind::Was, speaker.box_was(), was));
    }
    boxes.push(of(BoxKind::Value, speaker.box_value(), &edit.value));
    if let Some(line) = line.filter(|_| edit.kind == EditKind::Add) {
        let ttl = of(BoxKind::Ttl, speaker.box_ttl(), &line.ttl.to_string());
        boxes.push(BoxView { hint: Some(speaker.ttl_lowest()), ..ttl });
    }

    // What stands there already is found, not typed.
    let is_typed = edit.kind != EditKind::Delete;
    for one in boxes.iter_mut().filter(|one| is_typed && matches!(one.kind, BoxKind::Host | BoxKind::Value)) {
        one.copy = (!one.value.is_empty()).then(|| speaker.copy_of(&one.label, &one.value).plain());
    }
    boxes
}

/// How the host box is meant.
fn host_hint(speaker: Speaker, detail: &DomainDetail, edit: &Edit) -> Said {
    let zone = &detail.zone;
    let is_apex = edit.owner == *zone;
    match &detail.form {
        None if is_apex => speaker.host_at(zone),
        None => speaker.host_unsure(zone, &edit.owner),
        Some(Form { apex: ApexStyle::At, .. }) if is_apex => speaker.host_at(zone),
        Some(Form { apex: ApexStyle::Blank, .. }) if is_apex => speaker.host_blank(zone),
        Some(Form { host: HostStyle::Relative, .. }) if !is_apex => speaker.host_short(zone),
        Some(_) => speaker.host_full(),
    }
}
