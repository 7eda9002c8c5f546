//! `certificate`.

use std::fs;
use std::path::Path;
use std::time::Duration;

use anyhow::Context;
use chrono::{DateTime, Utc};
use nomenta_api::certificate::{
    BroughtCertificate, CertificateDay, CertificateQuery, CertificateView, FleetCertificate, IssuerAccount,
    NewRevocation, OrderView, Revoked,
};
use nomenta_core::judge::certificate::{Held, Origin};
use nomenta_core::judge::evidence::Probe;
use nomenta_core::judge::preflight::{Check, CheckState};
use reqwest::Method;
use serde_json::json;
use tokio::time::{Instant, sleep};

use super::domain::path;
use crate::Done;
use crate::args::{CertificateVerb, Shape};
use crate::client::Client;
use crate::render::{exact, hanging, listing, said, shown, span};

/// Certificates asked for at once.
const PAGE: i64 = 500;
/// Width of the longest bar, in characters.
const BAR: i64 = 40;

pub(crate) async fn run(client: &Client, shape: Shape, verb: CertificateVerb) -> anyhow::Result<Done> {
    match verb {
        CertificateVerb::List { within, issuer } => list(client, shape, within, issuer).await,
        CertificateVerb::Account { change_key } => {
            let account: IssuerAccount = if change_key {
                client.post("certificates/account/key", &json!({})).await?
            } else {
                client.get("certificates/account").await?
            };
            shown(shape, &account, || print_account(&account))
        }
        CertificateVerb::Show { host } => {
            let view: CertificateView = client.get(&path(&host, "/certificate")).await?;
            shown(shape, &view, || print_view(&view))
        }
        CertificateVerb::Chain { host } => {
            print!("{}", client.text(&path(&host, "/certificate/chain"), "*/*").await?);
            Ok(Done::Yes)
        }
        CertificateVerb::Preflight { host } => {
            let checks: Vec<Check> = client.post(&path(&host, "/certificate/preflight"), &json!({})).await?;
            shown(shape, &checks, || print_checks(&checks))?;
            let ready = checks.iter().all(|check| check.state == CheckState::Passed);
            Ok(if ready { Done::Yes } else { Done::NotYet })
        }
        CertificateVerb::Renew { host, within } => renew(client, shape, &host, within).await,
        CertificateVerb::Revoke { host, reason } => {
            let body = NewRevocation { reason };
            let revoked: Revoked = client.post(&path(&host, "/certificate/revocation"), &body).await?;
            let sentence = format!(
                "{} given up; the CA is told within moments. A new one is ordered at once.",
                count(revoked.certificates, "certificate")
            );
            said(shape, &revoked, &sentence)
        }
        CertificateVerb::Bring { host, chain, private_key } => {
            let body = BroughtCertificate { chain_pem: read(&chain)?, key_pem: read(&private_key)? };
            let view: CertificateView = client.put(&path(&host, "/certificate"), &body).await?;
            shown(shape, &view, || print_view(&view))
        }
    }
}

fn read(file: &Path) -> anyhow::Result<String> {
    fs::read_to_string(file).with_context(|| format!("Cannot read {}", file.display()))
}

fn count(number: usize, what: &str) -> String {
    format!("{number} {what}{}", if number == 1 { " is" } else { "s are" })
}

/// Asks for a renewal, and waits for another serial number.
async fn renew(client: &Client, shape: Shape, host: &str, within: u64) -> anyhow::Result<Done> {
    let place = path(host, "/certificate");
    let before: CertificateView = client.get(&place).await?;
    client.ask(Method::POST, &path(host, "/certificate/renewal")).await?;

    let deadline = Instant::now() + Duration::from_secs(within);
    loop {
        let now: CertificateView = client.get(&place).await?;
        if serial(&now) != serial(&before) {
            return shown(shape, &now, || print_view(&now));
        }

        if Instant::now() > deadline {
            shown(shape, &now, || print_view(&now))?;
            return Ok(Done::NotYet);
        }

        sleep(Duration::from_millis(300)).await;
    }
}

fn serial(view: &CertificateView) -> Option<&str> {
    view.held.as_ref().map(|held| held.facts.serial.as_str())
}

async fn list(
    client: &Client,
    shape: Shape,
    within_days: Option<u32>,
    issuer: Option<String>,
) -> anyhow::Result<Done> {
    let account = client.account().map(str::to_owned);
    let query = CertificateQuery { within_days, account, issuer, after: None, limit: Some(PAGE) };
    let rows: Vec<FleetCertificate> = client.pages("certificates", &query, usize::MAX).await?;

    if shape == Shape::Table && !rows.is_empty() {
        let days: Vec<CertificateDay> = client.get("certificates/days").await?;
        print_weeks(&days);
    }

    let now = Utc::now();
    listing(shape, &rows, ["RUNS OUT", "IN", "DOMAINS", "ACCOUNT", "FROM", "RENEWED"], |row| {
        let held = &row.held;
        [
            day(held.facts.not_after),
            span(now, held.facts.not_after),
            row.shown.join("\n"),
            row.account.clone(),
            match held.origin {
                Origin::Ordered => common_name(&held.facts.issuer),
                Origin::Brought => format!("{} (brought in)", common_name(&held.facts.issuer)),
            },
            held.renew_at.map_or_else(|| "by the customer".into(), day),
        ]
    })
}

fn day(at: DateTime<Utc>) -> String {
    at.format("%Y-%m-%d").to_string()
}

/// The common name in a distinguished name, or all of it.
fn common_name(issuer: &str) -> String {
    let named = issuer.split(',').find_map(|part| part.trim().strip_prefix("CN="));
    named.unwrap_or(issuer).to_owned()
}

/// Bars of the coming weeks: renewed, and running out.
fn print_weeks(days: &[CertificateDay]) {
    let mut weeks = [(0, 0); 18];
    for day in days {
        let week = usize::try_from(day.day / 7).unwrap_or(0).min(weeks.len() - 1);
        weeks[week].0 += day.renewing;
        weeks[week].1 += day.ending;
    }

    let most = weeks.iter().map(|(renewing, ending)| (*renewing).max(*ending)).max().unwrap_or(0).max(1);
    let bar = |number: i64, mark: &str| {
        let width = (number * BAR + most - 1) / most;
        format!("{} {number}", mark.repeat(usize::try_from(width).unwrap_or(0)))
    };

    println!("In the coming weeks: ▒ to be renewed, █ running out\n");
    for (week, (renewing, ending)) in weeks.iter().enumerate() {
        let from = day(Utc::now() + chrono::Duration::weeks(i64::try_from(week).unwrap_or(0)));
        let bars = [(*renewing, "▒"), (*ending, "█")].into_iter().filter(|(number, _)| *number > 0);
        let bars: Vec<_> = bars.map(|(number, mark)| bar(number, mark)).collect();
        if let Some((first, rest)) = bars.split_first() {
            println!("  {from}  {first}");
            rest.iter().for_each(|bar| println!("              {bar}"));
        }
    }

    println!();
}

fn print_account(account: &IssuerAccount) {
    println!("Certificates are ordered at {}\n", account.directory);
    println!("  account   {}", account.uri);
    if let Some(since) = account.key_since {
        println!("  key       since {}", exact(since));
    }
    println!("  method    {}, and dns-01 for wildcards\n", account.method);

    for identity in &account.identities {
        println!("A CAA record that lets nobody else order:\n");
        println!("  0 issue \"{identity}; accounturi={}\"", account.uri);
    }
}

fn print_view(view: &CertificateView) {
    match &view.held {
        Some(held) => print_held(&view.host, held),
        None => println!("{} has no certificate yet.", view.host),
    }

    println!("Control is shown by {}.", view.method);
    if let Some(order) = &view.order {
        print_order(order);
    }

    if let Some(probe) = &view.probe {
        print_probe(probe);
    }

    for revocation in &view.revocations {
        let state = match (&revocation.done_at, &revocation.problem) {
            (Some(at), _) => format!("revoked at {}", exact(*at)),
            (None, Some(problem)) => format!("not revoked yet: {problem}"),
            (None, None) => "being revoked".into(),
        };
        println!("\nSerial {} is {state} ({}).", revocation.serial, revocation.reason);
    }
}

fn print_held(host: &str, held: &Held) {
    let facts = &held.facts;
    let now = Utc::now();

    println!("The certificate of {host}\n");
    println!("  names     {}", facts.names.join(", "));
    println!("  issuer    {}", facts.issuer);
    println!("  serial    {}", facts.serial);
    println!("  valid     {} to {}", day(facts.not_before), exact(facts.not_after));
    println!("  runs out  in {}", span(now, facts.not_after));

    match (held.origin, held.renew_at) {
        (Origin::Brought, _) => println!("  renewed   by the customer, who brought it in"),
        (_, Some(at)) if at <= now => println!("  renewed   is due since {}", exact(at)),
        (_, Some(at)) => println!("  renewed   at about {} (in {})", exact(at), span(now, at)),
        (_, None) => println!("  renewed   when asked for"),
    }

    println!();
}

fn print_order(order: &OrderView) {
    println!("\nThe latest order, for {}: {}", order.names.join(" and "), order.state);
    println!("  {}  Opened, to be shown by {}.", exact(order.placed_at), order.method);
    for step in &order.steps {
        println!("  {}  {}", exact(step.at), step.said);
    }

    if let Some(problem) = &order.problem {
        println!("  Problem type {}", problem.kind);
        for sub in &problem.subproblems {
            println!("    {}: {}", sub.name, sub.detail);
        }
    }

    if let Some(retry_at) = order.retry_at {
        println!("  The next order may be placed at {}.", exact(retry_at));
    }
}

fn print_probe(probe: &Probe) {
    println!("\nWhat a browser gets");
    for result in &probe.results {
        let served = match (&result.tls_failure, result.serial()) {
            (Some(failure), _) => failure.clone(),
            (None, Some(serial)) => format!("serial {serial}"),
            (None, None) => "nothing".into(),
        };
        println!("  {:<16}{served}", result.address.to_string());
        for failure in [&result.redirect_failure, &result.pair_failure].into_iter().flatten() {
            println!("  {:<16}redirect: {failure}", "");
        }
    }
}

fn print_checks(checks: &[Check]) {
    for check in checks {
        let mark = match check.state {
            CheckState::Passed => "●",
            CheckState::Failed => "✕",
            CheckState::Waiting => "○",
        };
        let head = format!("{mark} {:<12}{:<9}", check.name.to_string(), check.state.to_string());
        println!("{}", hanging(&head, &check.said));
    }

    println!("\nNothing was ordered.");
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_issuer_is_told_by_its_common_name() {
        assert_eq!(common_name("C=XX, CN=Stampworks R1"), "Stampworks R1");
        assert_eq!(common_name("O=Stampworks"), "O=Stampworks");
    }

    #[test]
    fn what_was_given_up_is_counted_in_words() {
        assert_eq!(count(1, "certificate"), "1 certificate is");
        assert_eq!(count(2, "certificate"), "2 certificates are");
    }
}
