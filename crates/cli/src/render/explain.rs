//! Where a domain stands, what is wrong, and what to do.

use chrono::{DateTime, Local, Utc};
use nomenta_api::domain::{Counts, DomainDetail, OpenFinding, RosterLine, SurveyView};
use nomenta_api::view::JudgedLine;
use nomenta_core::judge::gate::{GateState, Gates};
use nomenta_core::judge::verdict::Verdict;
use nomenta_core::judge::waiting::Wait;
use nomenta_core::reading::answer::{Outcome, Reading};
use nomenta_core::sheet::rendering;

use super::{edit_table, exact, hanging, span, table, wrapped};

/// The line with four posts: `▌` passed, `▯` waiting, `╪` blocked, `┆` lapsed.
pub(crate) fn posts(states: impl IntoIterator<Item = GateState>) -> String {
    let posts = states.into_iter().map(|state| match state {
        GateState::Passed => "─▌",
        GateState::Waiting => "·▯",
        GateState::Blocked => "·╪",
        GateState::Lapsed => "┄┆",
    });
    posts.collect()
}

/// How each gate stands.
pub(crate) fn states(gates: &Gates) -> impl Iterator<Item = GateState> {
    gates.0.iter().map(|gate| gate.state)
}

/// Before a name that may be taken for another.
const LOOKALIKE: char = '≈';

/// A domain in the roster.
pub(crate) fn roster_line(line: &RosterLine) -> [String; 6] {
    let findings: Vec<_> = line.findings.iter().map(|code| code.as_str()).collect();
    // What may be taken for another name stands beside the name that DNS has.
    let name = match line.lookalike {
        Some(kind) => format!("{}\n{LOOKALIKE} {kind}: {}", line.shown, line.host),
        None => line.shown.clone(),
    };

    [
        name,
        line.account.clone(),
        posts(line.gates.iter().map(|gate| gate.state)),
        line.stage.to_string(),
        findings.join(", "),
        span(line.moved_at, Utc::now()),
    ]
}

/// Prints the fleet in numbers.
pub(crate) fn print_counts(counts: &Counts) {
    let number = |count: i64| count.to_string();
    let stages = counts.stages.iter().map(|one| [number(one.count), one.stage.to_string()]);
    println!("{}", table(["DOMAINS", "AT STAGE"], stages));

    let findings = counts.findings.iter().map(|one| [number(one.count), one.finding.to_string()]);
    println!("\n{}", table(["DOMAINS", "WITH FINDING"], findings));

    let operators = counts.operators.iter().map(|one| [number(one.count), one.operator.clone()]);
    println!("\n{}", table(["DOMAINS", "AT DNS OPERATOR"], operators));

    let weeks = counts.weeks.iter();
    let weeks = weeks.map(|one| [one.week.to_string(), number(one.ending), number(one.renewing)]);
    println!("\n{}", table(["WEEK OF", "CERTIFICATES RUN OUT", "ARE RENEWED"], weeks));
}

/// The gates in one line.
pub(crate) fn gates(detail: &DomainDetail) -> String {
    format!("{}  {}  {}", detail.shown, posts(states(&detail.gates)), detail.stage)
}

/// What the first gate that is not passed waits for.
pub(crate) fn hindrance(detail: &DomainDetail) -> Option<String> {
    let gate = detail.gates.0.iter().find(|gate| gate.state != GateState::Passed)?;
    Some(match gate.because {
        Some(code) => format!("{} is {}: {code}: {}", gate.name, gate.state, gate.reason),
        None => format!("{} is {}: {}", gate.name, gate.state, gate.reason),
    })
}

/// Prints everything about a domain.
pub(crate) fn print(detail: &DomainDetail) {
    let now = Utc::now();

    println!("{}   site {}, account {}\n", detail.shown, detail.site, detail.account);
    print_life(detail);
    if let Some(lookalike) = &detail.lookalike {
        println!("{}\n", hanging(&format!("{LOOKALIKE} "), &lookalike.told));
    }
    for (gate, view) in detail.gates.0.iter().zip(&detail.view.gates) {
        let since = span(gate.since, now);
        let head = format!("  {:<12} {:<8} for {since:<8} ", gate.name, gate.state);
        println!("{}", hanging(&head, &view.said));
    }

    for open in &detail.findings {
        print_finding(open, now);
    }

    if !detail.view.list.is_empty() {
        println!("\nFor the customer, in this order:\n");
        println!("{}", edit_table(&detail.view.list));
    }

    let heading = match detail.ended {
        None => "What to publish, and what is read:",
        Some(_) => "What was on the sheet, and what is read:",
    };
    println!("\n{heading}\n");
    let in_use = detail.view.in_use.iter().filter_map(|place| detail.lines.get(*place));
    println!("{}", table(["TYPE", "HOST", "VALUE", "AT THE ZONE", "VANTAGES"], in_use.map(judged_line)));

    if let Some(operator) = &detail.operator {
        let told = operator.told.as_deref().unwrap_or_default();
        println!("\n{}", wrapped(&format!("Its DNS is at {}. {told}", operator.operator)));
    }
    if let Some(registration) = &detail.registration {
        println!("\n{}", wrapped(&registration.told()));
    }
    print_waits(&detail.waits, now);
    println!("\n{}", wrapped(&next_look(detail, now)));
}

/// When the domain is looked at again.
fn next_look(detail: &DomainDetail, now: DateTime<Utc>) -> String {
    match (detail.next_look, &detail.view.no_look) {
        (Some(next), _) if (next - now).num_seconds() > 1 => format!("Next look in {}.", span(now, next)),
        (None, Some(why)) => why.clone(),
        _ => "Looking again now.".into(),
    }
}

/// What holds for the domain as a whole, beside its gates.
fn print_life(detail: &DomainDetail) {
    let mut told = Vec::new();
    if let Some(ended) = &detail.ended {
        told.push(format!("Left the platform at {}: {}.", exact(ended.at), ended.ending));
    }
    if let Some(since) = detail.paused_at {
        told.push(format!("Paused since {}; nothing is looked at or ordered.", exact(since)));
    }
    if let Some(since) = detail.suspended_at {
        told.push(format!("The account is suspended since {}; the route is withdrawn.", exact(since)));
    }
    match (detail.shows.switch_at, &detail.shows.next_site) {
        (Some(at), Some(site)) => told.push(format!("Shows the site {site} from {} on.", exact(at))),
        (Some(at), None) => told.push(format!("Leads to {} until {}.", detail.default_host, exact(at))),
        (None, _) => {}
    }

    for sentence in &told {
        println!("{}", wrapped(sentence));
    }
    if !told.is_empty() {
        println!();
    }
}

fn print_finding(open: &OpenFinding, now: DateTime<Utc>) {
    let finding = &open.finding;
    println!("\n{}, for {}", finding.code, span(open.first_seen, now));
    println!("{}", wrapped(&finding.remedy));

    if !finding.edits.is_empty() {
        println!("\n{}\n", edit_table(&finding.edits));
    }

    println!("{}", wrapped(&finding.remark));
    for sighting in &finding.evidence {
        let ttl = sighting.ttl.map(|ttl| format!(", TTL {ttl} s")).unwrap_or_default();
        println!("{}", wrapped(&format!("Seen at {}: {}{ttl}", sighting.source, sighting.said)));
    }
}

fn judged_line(judged: &JudgedLine) -> [String; 5] {
    let mut at_zone = Vec::new();
    let mut at_vantages = Vec::new();
    for cell in &judged.cells {
        let verdicts = if cell.source.is_authority() { &mut at_zone } else { &mut at_vantages };
        verdicts.push(cell.verdict);
    }

    let line = &judged.line;
    [
        line.editor_type().to_string(),
        rendering::host_words(line).to_owned(),
        line.value_field.clone(),
        tally(&at_zone),
        tally(&at_vantages),
    ]
}

/// `match 2` or `absent 1, match 2`.
fn tally(verdicts: &[Verdict]) -> String {
    let mut words: Vec<_> = verdicts.iter().map(|verdict| verdict.as_str()).collect();
    words.sort_unstable();
    let counts = words.chunk_by(|one, next| one == next).map(|same| format!("{} {}", same[0], same.len()));
    let counts: Vec<_> = counts.collect();

    if counts.is_empty() { "not read".into() } else { counts.join(", ") }
}

/// Who still holds what, and until when.
fn print_waits(waits: &[Wait], now: DateTime<Utc>) {
    let waiting: Vec<_> = waits.iter().filter(|wait| !wait.holds.is_empty()).collect();
    let troubled: Vec<_> = waits.iter().filter(|wait| !wait.answers || wait.failure.is_some()).collect();
    if waiting.is_empty() && troubled.is_empty() {
        return;
    }

    let answering = waits.iter().filter(|wait| wait.answers).count();
    let seeing = waits.iter().filter(|wait| wait.sees).count();
    println!("\n{seeing} of {answering} vantages that answer see it.");
    for wait in troubled {
        match &wait.failure {
            Some(failure) => println!("  {} {failure}.", wait.vantage),
            None => println!("  {} is silent, and is left out.", wait.vantage),
        }
    }
    for wait in waiting {
        let until = match wait.until {
            Some(until) if until > now => {
                format!("until {}, in {}", until.with_timezone(&Local).format("%H:%M:%S"), span(now, until))
            }
            Some(_) => "and lets go about now".into(),
            None => "and does not say until when".into(),
        };
        println!("  {} still holds {}, {until}.", wait.vantage, wait.holds.join(", "));
    }
}

/// Prints every answer of a survey.
pub(crate) fn print_survey(view: &SurveyView) {
    let Some(survey) = &view.survey else {
        println!("Not looked at yet.");
        return;
    };

    println!(
        "{}",
        table(["SERVER", "NAME", "TYPE", "ANSWER", "TTL", "MS"], survey.readings.iter().map(reading))
    );

    if survey.readings.is_empty() {
        println!("No server of the zone could be asked; nomenta explain says why.");
    }
}

fn reading(reading: &Reading) -> [String; 6] {
    let mut answer = reading.failure().unwrap_or_else(|| "nothing there".into());
    let mut ttl = String::new();
    if let Outcome::Answer { records, .. } = &reading.outcome
        && let Some(least) = records.iter().map(|record| record.ttl).min()
    {
        let values = records.iter().map(|record| record.data.typed());
        answer = values.collect::<Vec<_>>().join("\n");
        ttl = least.to_string();
    }

    [
        reading.source.to_string(),
        reading.name.to_string(),
        reading.rtype.to_string(),
        answer,
        ttl,
        reading.rtt_ms.to_string(),
    ]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn verdicts_are_counted_by_word() {
        assert_eq!(tally(&[Verdict::Match, Verdict::Absent, Verdict::Match]), "absent 1, match 2");
        assert_eq!(tally(&[]), "not read");
    }

    #[test]
    fn the_four_posts_are_drawn_by_state() {
        let mut gates = Gates::new(DateTime::UNIX_EPOCH);
        assert_eq!(posts(states(&gates)), "·▯·▯·▯·▯");
        let wanted = [GateState::Passed, GateState::Blocked, GateState::Lapsed, GateState::Waiting];
        gates.0.iter_mut().zip(wanted).for_each(|(gate, state)| gate.state = state);
        assert_eq!(posts(states(&gates)), "─▌·╪┄┆·▯");
    }
}
