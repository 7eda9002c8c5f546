//! Output for people and for programs.

use std::io::IsTerminal;
use std::path::Path;

use chrono::{DateTime, Local, Utc};
use comfy_table::{ContentArrangement, Table, presets};
use nomenta_core::judge::baseline::Since;
use nomenta_core::judge::finding::{Edit, EditKind};
use nomenta_core::judge::gate::{GateState, Gates};
use nomenta_core::judge::verdict::Verdict;
use nomenta_core::name::dns;
use nomenta_core::reading::answer::{Outcome, Reading};
use nomenta_core::rehearsal::{Rehearsal, Rehearsed};
use nomenta_core::sheet::rendering;
use nomenta_core::sheet::{Purpose, Sheet};
use nomenta_service::dto::{
    BaselineView, DomainDetail, Event, JudgedLine, OpenFinding, PairedSheet, RosterLine, SheetView,
    SurveyView,
};
use serde::Serialize;
use serde_json::Value;

use crate::Done;
use crate::args::Shape;

/// Prints rows as a table, or as they are.
pub(crate) fn listing<T: Serialize, const N: usize>(
    shape: Shape,
    rows: &[T],
    header: [&str; N],
    row: impl Fn(&T) -> [String; N],
) -> anyhow::Result<Done> {
    let table = || match rows.is_empty() {
        true => println!("None."),
        false => println!("{}", table(header, rows.iter().map(row))),
    };
    match shape {
        Shape::Csv => print_csv(rows),
        other => shown(other, &rows, table),
    }
}

/// The word that a value has on the wire.
pub(crate) fn word_of<T: Serialize>(value: &T) -> String {
    serde_json::to_value(value).ok().and_then(|v| v.as_str().map(str::to_owned)).unwrap_or_default()
}

/// Prints one sentence, or what it is about.
pub(crate) fn said<T: Serialize>(shape: Shape, value: &T, sentence: &str) -> anyhow::Result<Done> {
    shown(shape, value, || println!("{sentence}"))
}

/// Prints `value` for programs, or by `table` for people.
pub(crate) fn shown<T: Serialize>(shape: Shape, value: &T, table: impl FnOnce()) -> anyhow::Result<Done> {
    match shape {
        Shape::Json => print_json(value),
        Shape::Table => {
            table();
            Ok(Done::Yes)
        }
        Shape::Csv | Shape::Text | Shape::Markdown | Shape::Zone => {
            let word = format!("{shape:?}").to_lowercase();
            anyhow::bail!("This has no form as {word}. Use --as table or --as json.")
        }
    }
}

/// Rows as CSV (RFC 4180): one column for each field, lists joined by spaces.
fn print_csv<T: Serialize>(rows: &[T]) -> anyhow::Result<Done> {
    let rows: Vec<Value> = rows.iter().map(serde_json::to_value).collect::<Result<_, _>>()?;
    let columns: Vec<&String> =
        rows.first().and_then(Value::as_object).into_iter().flat_map(|o| o.keys()).collect();
    let line = |fields: Vec<String>| {
        println!("{}", fields.iter().map(|f| rendering::csv_field(f)).collect::<Vec<_>>().join(","));
    };
    line(columns.iter().map(|c| (*c).clone()).collect());
    for row in &rows {
        line(columns.iter().map(|column| csv_cell(&row[column.as_str()])).collect());
    }
    Ok(Done::Yes)
}

fn csv_cell(value: &Value) -> String {
    match value {
        Value::Null => String::new(),
        Value::String(text) => text.clone(),
        Value::Array(list) if list.iter().all(|v| !v.is_object()) => {
            list.iter().map(csv_cell).collect::<Vec<_>>().join(" ")
        }
        other => other.to_string(),
    }
}

pub(crate) fn print_json<T: Serialize + ?Sized>(value: &T) -> anyhow::Result<Done> {
    println!("{}", serde_json::to_string_pretty(value)?);
    Ok(Done::Yes)
}

fn table<const N: usize>(header: [&str; N], rows: impl IntoIterator<Item = [String; N]>) -> Table {
    let mut table = Table::new();
    table.load_preset(presets::NOTHING).set_content_arrangement(ContentArrangement::Disabled);
    table.set_header(header);
    table.add_rows(rows);
    for column in table.column_iter_mut() {
        column.set_padding((0, 2));
    }
    table
}

/// The line with four posts: `▌` passed, `▯` waiting, `╪` blocked, `┆` lapsed.
fn posts(gates: &Gates) -> String {
    let post = |state| match state {
        GateState::Passed => "─▌",
        GateState::Waiting => "·▯",
        GateState::Blocked => "·╪",
        GateState::Lapsed => "┄┆",
    };
    gates.0.iter().map(|g| post(g.state)).collect()
}

/// `for 3 h`, as people say it.
pub(crate) fn span(from: DateTime<Utc>, to: DateTime<Utc>) -> String {
    let seconds = (to - from).num_seconds().max(0);
    match seconds {
        0..=89 => format!("{seconds} s"),
        90..=5399 => format!("{} min", (seconds + 30) / 60),
        5400..=172_799 => format!("{} h", (seconds + 1800) / 3600),
        _ => format!("{} days", seconds / 86_400),
    }
}

pub(crate) fn roster_line(line: &RosterLine) -> [String; 6] {
    let since = line.gates.0.iter().map(|g| g.since).max().unwrap_or(line.enrolled_at);
    [
        line.shown.clone(),
        line.account.clone(),
        posts(&line.gates),
        line.stage.clone(),
        line.findings.join(", "),
        span(since, Utc::now()),
    ]
}

pub(crate) fn gates(detail: &DomainDetail) -> String {
    format!("{}  {}  {}", detail.shown, posts(&detail.gates), detail.stage)
}

pub(crate) fn reasons(detail: &DomainDetail) -> Vec<String> {
    let gates = detail.gates.0.iter().filter(|g| g.state != GateState::Passed);
    gates.take(1).map(|g| format!("{} is {}: {}", g.name, g.state, g.reason)).collect()
}

pub(crate) fn sheet(view: &SheetView) {
    one_sheet(&view.sheet);
    if let Some(PairedSheet { is_primary, sheet }) = &view.pair {
        println!("\nThe other of the pair:\n");
        one_sheet(sheet);
        let (from, to) = if *is_primary { (&view.sheet, sheet) } else { (sheet, &view.sheet) };
        println!(
            "\n{} is the primary; {} leads to it.",
            to.subject().to_unicode(),
            from.subject().to_unicode()
        );
    }
    println!("\nThe token is good until {}.", view.token_expires_at.format("%Y-%m-%d"));
    if view.sheet.lines.iter().any(|line| line.value.contains('…')) {
        println!("It is masked here. To see it whole: nomenta sheet {} --reveal", view.sheet.subject());
    }
}

fn one_sheet(sheet: &Sheet) {
    println!("To publish for {}, in the zone {}:", sheet.subject().to_unicode(), sheet.zone);
    for purpose in [Purpose::Ownership, Purpose::Routing, Purpose::Certificate] {
        let ways = sheet.ways(purpose);
        if ways.is_empty() {
            continue;
        }
        let choice = if ways.len() > 1 { ", one of these" } else { "" };
        println!("\n{}{choice}", format!("{purpose:?}").to_lowercase());
        let mut rows = Vec::new();
        for (index, way) in ways.iter().enumerate() {
            if ways.len() > 1 {
                let word = if index == 0 { "best" } else { "or" };
                rows.push([
                    format!("  {word}: {}", way.words()),
                    String::new(),
                    String::new(),
                    String::new(),
                    String::new(),
                ]);
            }
            rows.extend(sheet.by(*way).map(|l| {
                let host = rendering::host_words(l).to_owned();
                [
                    format!("  {}", l.type_words()),
                    host,
                    l.value_field.clone(),
                    l.ttl.to_string(),
                    l.owner.clone(),
                ]
            }));
        }
        print_choices(rows);
    }
    println!("\n{}", rendering::host_note(sheet));
}

pub(crate) fn rehearsal(judged: &Rehearsal, file: &Path, amended: Option<&Path>) {
    let Rehearsal { zone, records, findings, todo, passes, left, .. } = judged;
    println!("{} holds {records} records of the zone {zone}.", file.display());
    if todo.iter().all(|e| e.kind == EditKind::Keep) && *passes {
        println!("It would pass as it is; there is nothing to change.");
        return;
    }
    if findings.is_empty() {
        println!("Nothing in it is wrong; what the sheet asks for is still to be added.");
    }
    for Rehearsed { finding, lines } in findings {
        println!("\n{}{}", finding.code, on_lines(lines));
        println!("{}", wrapped(&finding.remedy));
        println!("{}", wrapped(&finding.remark));
    }
    println!("\nTo change, in this order:\n");
    println!("{}", table(["  DO", "TYPE", "HOST", "VALUE"], edit_rows(todo)));
    match passes {
        true => println!("\nWith these changes the zone passes ownership and routing."),
        false => println!("\nThese changes alone are not enough."),
    }
    for finding in left {
        println!("\n{} stays. {}", finding.code, finding.remedy);
    }
    if let Some(amended) = amended {
        println!(
            "Wrote the amended zone to {}. Its serial is as it was; raise it if you load the file yourself.",
            amended.display()
        );
    }
}

/// `, line 5` or `, lines 5 to 8 and 12`.
fn on_lines(lines: &[usize]) -> String {
    let mut runs: Vec<(usize, usize)> = Vec::new();
    for line in lines {
        match runs.last_mut() {
            Some((_, last)) if *last + 1 == *line => *last = *line,
            _ => runs.push((*line, *line)),
        }
    }
    let words = runs.iter().map(|(first, last)| match first == last {
        true => first.to_string(),
        false => format!("{first} to {last}"),
    });
    let words: Vec<_> = words.collect();
    match (lines.len(), words.split_last()) {
        (0, _) | (_, None) => String::new(),
        (1, Some((last, _))) => format!(", line {last}"),
        (_, Some((last, []))) => format!(", lines {last}"),
        (_, Some((last, others))) => format!(", lines {} and {last}", others.join(", ")),
    }
}

/// Lines in columns; a row with one cell is a heading and takes no column.
fn print_choices(rows: Vec<[String; 5]>) {
    let lines: Vec<_> = rows.iter().filter(|r| !r[1].is_empty()).cloned().collect();
    let text = table(["  TYPE", "HOST", "VALUE", "TTL", "FULL NAME"], lines).to_string();
    let mut printed = text.lines();
    println!("{}", printed.next().unwrap_or_default());
    for row in rows {
        match row[1].is_empty() {
            true => println!("{}", row[0]),
            false => println!("{}", printed.next().unwrap_or_default()),
        }
    }
}

pub(crate) fn baseline(view: &BaselineView) {
    let Some(baseline) = &view.baseline else {
        println!("Not taken yet: the zone has not been read since the domain was taken in.");
        return;
    };
    println!("Records of {} as they were at {}, beside now:\n", baseline.zone, exact(baseline.at));
    if view.compared.is_empty() {
        println!("The zone cannot be read now. As it was:\n\n{}", view.zone_lines);
        return;
    }
    let rows = view.compared.iter().map(|c| {
        let word = match c.since {
            Since::Same => "same",
            Since::Gone => "gone",
            Since::New => "new",
        };
        let host = dns::relative(&c.record.owner, &baseline.zone);
        [
            word.into(),
            c.record.data.type_name().into(),
            host,
            c.record.data.to_string(),
            c.record.ttl.to_string(),
        ]
    });
    println!("{}", table(["NOW", "TYPE", "HOST", "VALUE", "TTL"], rows));
    println!("\nAs lines to put back: nomenta baseline {} --as zone", baseline.zone);
}

pub(crate) fn exact(at: DateTime<Utc>) -> String {
    at.with_timezone(&Local).format("%Y-%m-%d %H:%M:%S").to_string()
}

pub(crate) fn survey(view: &SurveyView) {
    let Some(survey) = &view.survey else {
        println!("Not looked at yet.");
        return;
    };
    let rows = survey.readings.iter().map(|r| {
        let (answer, ttl) = answer(r);
        [r.source.to_string(), r.name.clone(), r.rtype.to_string(), answer, ttl, r.rtt_ms.to_string()]
    });
    println!("{}", table(["SERVER", "NAME", "TYPE", "ANSWER", "TTL", "MS"], rows));
    if survey.readings.is_empty() {
        println!("No server of the zone could be asked; nomenta explain says why.");
    }
}

fn answer(reading: &Reading) -> (String, String) {
    match &reading.outcome {
        Outcome::Answer { records, .. } if !records.is_empty() => {
            let values: Vec<_> =
                records.iter().map(|r| format!("{} {}", r.data.type_name(), r.data)).collect();
            let ttl = records.iter().map(|r| r.ttl).min().unwrap_or(0);
            (values.join("\n"), ttl.to_string())
        }
        _ => (reading.failure().unwrap_or_else(|| "nothing there".into()), String::new()),
    }
}

pub(crate) fn explain(detail: &DomainDetail) {
    let now = Utc::now();
    println!("{}   site {}, account {}\n", detail.shown, detail.site, detail.account);
    for gate in &detail.gates.0 {
        let since = span(gate.since, now);
        let explained = |f: &OpenFinding| gate.reason.starts_with(&format!("{}: ", f.finding.code));
        let reason = match detail.findings.iter().find(|f| explained(f)) {
            Some(open) => &open.finding.code,
            None => &gate.reason,
        };
        let head = format!("  {:<12} {:<8} for {since:<8} ", gate.name.to_string(), gate.state.to_string());
        println!("{}", hanging(&head, reason));
    }
    for finding in &detail.findings {
        print_finding(finding, now);
    }
    print_todo(detail);
    println!("\nWhat to publish, and what is read:\n");
    let rows = detail.lines.iter().filter(|l| is_in_use(detail, l)).map(judged_line);
    println!("{}", table(["TYPE", "HOST", "VALUE", "AT THE ZONE", "VANTAGES"], rows));
    print_waits(detail, now);
    if let Some(next) = detail.next_look {
        match (next - now).num_seconds() {
            ..=1 => println!("\nLooking again now."),
            _ => println!("\nNext look in {}.", span(now, next)),
        }
    }
}

/// Of several choices, the preferred one and those that are begun.
fn is_in_use(detail: &DomainDetail, judged: &JudgedLine) -> bool {
    let of = |l: &&JudgedLine| l.line.purpose == judged.line.purpose;
    let first = detail.lines.iter().find(of).map(|l| l.line.way);
    let begun = |way| {
        let met = |l: &JudgedLine| l.cells.iter().any(|c| c.verdict == Verdict::Match);
        detail.lines.iter().any(|l| l.line.way == way && met(l))
    };
    let any_begun = detail.lines.iter().filter(of).any(|l| begun(l.line.way));
    if any_begun { begun(judged.line.way) } else { Some(judged.line.way) == first }
}

/// The customer's list, where there is more to it than one finding says.
fn print_todo(detail: &DomainDetail) {
    let mut changes = detail.todo.iter().filter(|e| e.kind != EditKind::Keep).peekable();
    let told = |edit: &Edit| match detail.findings.as_slice() {
        [one] => one.finding.edits.iter().any(|e| e.is_about(edit)),
        _ => false,
    };
    if changes.peek().is_none() || changes.all(told) {
        return;
    }
    println!("\nFor the customer, in this order:\n");
    println!("{}", table(["  DO", "TYPE", "HOST", "VALUE"], edit_rows(&detail.todo)));
}

fn edit_rows(edits: &[Edit]) -> Vec<[String; 4]> {
    let row = |e: &Edit| {
        let kind = format!("{:?}", e.kind).to_lowercase();
        let value = match &e.was {
            Some(was) => format!("{}\nnow {was}", e.value),
            None => e.value.clone(),
        };
        let host = if e.host_field.is_empty() { "(empty)".to_owned() } else { e.host_field.clone() };
        [format!("  {kind}"), e.rtype.clone(), host, value]
    };
    edits.iter().map(row).collect()
}

/// Who still holds what, and until when.
fn print_waits(detail: &DomainDetail, now: DateTime<Utc>) {
    let waiting: Vec<_> = detail.waits.iter().filter(|w| !w.holds.is_empty()).collect();
    if waiting.is_empty() {
        return;
    }
    let seeing = detail.waits.iter().filter(|w| w.sees).count();
    println!("\n{seeing} of {} vantages see it.", detail.waits.len());
    for wait in waiting {
        let held = wait.holds.join(", ");
        let until = match wait.until {
            Some(until) if until > now => {
                format!("until {}, in {}", until.with_timezone(&Local).format("%H:%M:%S"), span(now, until))
            }
            Some(_) => "and lets go about now".into(),
            None => "and does not say until when".into(),
        };
        println!("  {} still holds {held}, {until}.", wait.vantage);
    }
}

fn print_finding(open: &OpenFinding, now: DateTime<Utc>) {
    let finding = &open.finding;
    println!("\n{}, for {}", finding.code, span(open.first_seen, now));
    println!("{}", wrapped(&finding.remedy));
    if !finding.edits.is_empty() {
        println!("\n{}\n", table(["  DO", "TYPE", "HOST", "VALUE"], edit_rows(&finding.edits)));
    }
    println!("{}", wrapped(&finding.remark));
    for sighting in &finding.evidence {
        let ttl = sighting.ttl.map(|t| format!(", TTL {t} s")).unwrap_or_default();
        println!("{}", wrapped(&format!("Seen at {}: {}{ttl}", sighting.source, sighting.said)));
    }
}

/// Indented, and wrapped to the terminal where there is one.
pub(crate) fn wrapped(text: &str) -> String {
    hanging("  ", text)
}

/// Wrapped likewise, its further lines under the first one's text.
pub(crate) fn hanging(head: &str, text: &str) -> String {
    let indent = " ".repeat(head.chars().count());
    let width = if std::io::stdout().is_terminal() { textwrap::termwidth().min(110) } else { usize::MAX };
    textwrap::fill(
        text,
        textwrap::Options::new(width)
            .initial_indent(head)
            .subsequent_indent(&indent)
            .break_words(false)
            .word_splitter(textwrap::WordSplitter::NoHyphenation),
    )
}

fn judged_line(judged: &JudgedLine) -> [String; 5] {
    let of = |authority: bool| {
        let cells = judged.cells.iter().filter(|c| c.source.is_authority() == authority);
        let verdicts: Vec<_> = cells.map(|c| word(c.verdict)).collect();
        tally(&verdicts)
    };
    let line = &judged.line;
    [line.type_words(), rendering::host_words(line).to_owned(), line.value_field.clone(), of(true), of(false)]
}

/// `match 2` or `absent 1, match 2`.
fn tally(verdicts: &[&str]) -> String {
    let mut words: Vec<&str> = verdicts.to_vec();
    words.sort_unstable();
    words.dedup();
    let count = |word: &str| verdicts.iter().filter(|v| **v == word).count();
    let parts: Vec<_> = words.into_iter().map(|w| format!("{w} {}", count(w))).collect();
    if parts.is_empty() { "not read".into() } else { parts.join(", ") }
}

fn word(verdict: Verdict) -> &'static str {
    match verdict {
        Verdict::Match => "match",
        Verdict::Absent => "absent",
        Verdict::Partial => "partial",
        Verdict::Differs => "differs",
        Verdict::Unreadable => "unreadable",
    }
}

/// One line of history: the time, what happened, and why.
pub(crate) fn event(event: &Event) -> String {
    let at = event.time.with_timezone(&Local).format("%Y-%m-%d %H:%M:%S");
    format!("{at}  {}", event_words(event))
}

fn event_words(event: &Event) -> String {
    let text = |name: &str| event.data[name].as_str().unwrap_or_default().to_owned();
    match event.kind.trim_start_matches("nomenta.") {
        "domain.enrolled" => format!("enrolled for the site {} of {}", text("site"), text("account")),
        "token.rotated" => "given a new token".into(),
        "gate.changed" => {
            format!("{}: {} → {}. {}", text("gate"), text("from"), text("to"), text("reason"))
        }
        "finding.opened" => format!("found {}. {}", text("code"), text("remedy")),
        "finding.cleared" => format!("{} is gone", text("code")),
        "order.placed" => {
            let names = event.data["names"].as_array().map(Vec::len).unwrap_or_default();
            if names > 1 {
                "certificate ordered, for both of the pair".into()
            } else {
                "certificate ordered".into()
            }
        }
        "order.refused" => {
            let detail = event.data["problem"]["detail"].as_str().unwrap_or_default();
            format!("certificate refused: {detail}")
        }
        "certificate.issued" => format!("certificate {} issued by {}", text("serial"), text("issuer")),
        "certificate.brought" => format!("certificate {} of {} brought in", text("serial"), text("issuer")),
        "certificate.revoked" => format!("certificate {} revoked ({})", text("serial"), text("reason")),
        "domain.released" => "left the platform".into(),
        "domain.drifted" => {
            let list = |name: &str| {
                let values = event.data[name].as_array().cloned().unwrap_or_default();
                let values: Vec<_> = values.iter().filter_map(Value::as_str).collect();
                if values.is_empty() { "nothing".into() } else { values.join(", ") }
            };
            format!("{} changed from {} to {}", text("what"), list("from"), list("to"))
        }
        other => other.to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use chrono::Duration;

    #[test]
    fn time_is_said_as_people_say_it() {
        let start = DateTime::UNIX_EPOCH;
        for (seconds, want) in [
            (-5, "0 s"),
            (12, "12 s"),
            (150, "3 min"),
            (3600, "60 min"),
            (10_800, "3 h"),
            (400_000, "4 days"),
        ] {
            assert_eq!(span(start, start + Duration::seconds(seconds)), want);
        }
    }

    #[test]
    fn lines_of_a_file_are_told_in_runs() {
        for (lines, want) in [
            (&[][..], ""),
            (&[5], ", line 5"),
            (&[5, 6], ", lines 5 to 6"),
            (&[5, 6, 7, 9, 12, 13], ", lines 5 to 7, 9 and 12 to 13"),
        ] {
            assert_eq!(on_lines(lines), want);
        }
    }

    #[test]
    fn verdicts_are_counted_by_word() {
        assert_eq!(tally(&["match", "absent", "match"]), "absent 1, match 2");
        assert_eq!(tally(&[]), "not read");
    }

    #[test]
    fn the_four_posts_are_drawn_by_state() {
        let mut gates = Gates::new(DateTime::UNIX_EPOCH);
        assert_eq!(posts(&gates), "·▯·▯·▯·▯");
        let states = [GateState::Passed, GateState::Blocked, GateState::Lapsed, GateState::Waiting];
        gates.0.iter_mut().zip(states).for_each(|(gate, state)| gate.state = state);
        assert_eq!(posts(&gates), "─▌·╪┄┆·▯");
    }

    #[test]
    fn every_kind_of_event_is_told_in_words() {
        let told = |kind: &str, data: serde_json::Value| {
            let event = serde_json::json!({
                "specversion": "1.0", "id": "00000000-0000-0000-0000-000000000000", "source": "//x",
                "type": format!("nomenta.{kind}"), "subject": "a.example", "time": "2026-11-24T00:00:00Z",
                "sequence": 1, "data": data,
            });
            event_words(&serde_json::from_value(event).expect("an event"))
        };
        let json = |text: &str| serde_json::from_str(text).expect("JSON");
        for (kind, data, want) in [
            ("domain.enrolled", r#"{"site": "s", "account": "a"}"#, "enrolled for the site s of a"),
            ("gate.changed", r#"{"gate": "g", "from": "x", "to": "y", "reason": "R."}"#, "g: x → y. R."),
            ("finding.opened", r#"{"code": "c", "remedy": "R."}"#, "found c. R."),
            ("finding.cleared", r#"{"code": "c"}"#, "c is gone"),
            ("order.placed", "{}", "certificate ordered"),
            ("order.refused", r#"{"problem": {"detail": "no"}}"#, "certificate refused: no"),
            ("certificate.issued", r#"{"serial": "1", "issuer": "i"}"#, "certificate 1 issued by i"),
            ("order.placed", r#"{"names": ["a", "b"]}"#, "certificate ordered, for both of the pair"),
            ("certificate.revoked", r#"{"serial": "1", "reason": "r"}"#, "certificate 1 revoked (r)"),
            (
                "domain.drifted",
                r#"{"what": "w", "from": [], "to": ["A x"]}"#,
                "w changed from nothing to A x",
            ),
            ("something.new", "{}", "something.new"),
        ] {
            assert_eq!(told(kind, json(data)), want);
        }
    }
}
