//! A look: survey, judge, gather what the judgement asks for, write it down.

use std::net::IpAddr;
use std::time::Duration;

use chrono::{TimeDelta, Utc};
use futures::FutureExt;
use nomenta_certs::keypair::{self, KeyKind};
use nomenta_certs::{Expected, Resolve};
use nomenta_core::judge::behind::Behind;
use nomenta_core::judge::case::Case;
use nomenta_core::judge::certificate::CertificateFacts;
use nomenta_core::judge::drift::{self, Drift};
use nomenta_core::judge::evidence::{Evidence, Probe, ProbeResult};
use nomenta_core::judge::findings;
use nomenta_core::judge::gate::GateName;
use nomenta_core::judge::load::Load;
use nomenta_core::judge::policy::Fronting;
use nomenta_core::judge::preflight::Check;
use nomenta_core::judge::schedule;
use nomenta_core::judge::standing::Standing;
use nomenta_core::judge::step::{self, Action, Outcome};
use nomenta_core::learned::course::{Course, Glimpse};
use nomenta_core::name::dns::DnsName;
use nomenta_core::name::nearby::nearby;
use nomenta_core::reading::caa;
use nomenta_core::reading::survey::{Survey, ZoneView};
use nomenta_core::reading::target::{Depth, Target};
use nomenta_core::sheet::form::Form;
use nomenta_store::{DomainRecord, EndedOrders, Inquiry, Known, Lease, Limits, Looked, NewOrder};

use crate::App;
use crate::registering;

/// What private keys are sealed for.
pub(crate) const PRIVATE_KEY: &str = "private key";
/// How often, and how long each time, edge servers are waited for.
const EDGE_MOMENTS: usize = 4;
const EDGE_MOMENT: Duration = Duration::from_millis(400);
/// Judgements in one look: each may ask for one more piece of evidence.
const ROUNDS: usize = 4;

/// Looks at one domain.
pub(crate) async fn perform(app: &App, lease: &Lease) -> anyhow::Result<()> {
    let (mut record, ended) = app.looks.take_up(lease.domain_id).await?;
    let rests = record.rests();
    if rests && !matches!(record.domain.ties.standing, Standing::Contested(_)) {
        app.looks.drop_task(lease).await?;
        return Ok(());
    }
    let target = record.domain.target(&app.config.platform);

    // Before the customer has had the sheet for long enough to change anything.
    let baseline = match record.baseline {
        None => app.surveyor.baseline(&target).await,
        Some(_) => None,
    };

    if let Some(baseline) = &baseline {
        record.domain.mail_before = baseline.mail();
    }

    let mut survey = app.surveyor.survey(&target, Depth::Full).await;
    survey.remember(record.survey.as_ref());
    let mut evidence = known(app, &record, &survey).await?;
    evidence.load = load(app, lease, &survey);
    let outcome = judge(app, &record, &survey, &mut evidence).await;
    let outcome = if rests { outcome.of_proof_alone(&record.domain.gates) } else { outcome };

    let order = match outcome.action {
        Some(Action::PlaceOrder { pair }) => {
            let is_renewal = evidence.certificate.is_some();
            Some(new_order(app, &record, pair, ended, is_renewal).await?)
        }
        _ => None,
    };

    let drifts = if rests { Vec::new() } else { drifts(&record, &target, &survey, &evidence) };
    let operator = operator(app, &survey);
    let course = course(app, &record, &survey, &outcome);
    let looked = Looked {
        survey: &survey,
        baseline: baseline.as_ref(),
        outcome: &outcome,
        operator: operator.as_deref(),
        course: course.as_ref(),
        probe: evidence.probe.as_ref(),
        visit: evidence.behind.visited(),
        drifts: &drifts,
        order: order.as_ref(),
    };

    app.looks.finish_look(lease, &record, &looked, Utc::now()).await?;
    Ok(())
}

/// What the look costs, by how late it came and by what the zone's servers bear.
fn load(app: &App, lease: &Lease, survey: &Survey) -> Load {
    let most = app.config.policy.look_most;
    Load {
        late: app.late(lease.late),
        strain: TimeDelta::from_std(app.surveyor.strain(survey)).unwrap_or(most),
    }
}

/// How far the customer's edit has come, where that is news.
fn course(app: &App, record: &DomainRecord, survey: &Survey, outcome: &Outcome) -> Option<Course> {
    let glimpse = Glimpse {
        at: survey.at,
        before: record.looked_at,
        served: &outcome.served,
        spread: outcome.spread,
        quorum: app.config.policy.quorum,
        findings: &outcome.findings,
    };
    Course::after(record.course.as_ref(), &glimpse)
}

/// Sees what a domain that has left has left behind in its zone.
pub(crate) async fn watch(app: &App, lease: &Lease) -> anyhow::Result<()> {
    let record = app.looks.domain(lease.domain_id).await?;
    let Some((ended_at, _)) = record.ended else {
        app.looks.drop_task(lease).await?;
        return Ok(());
    };

    let config = &app.config;
    let survey = app.surveyor.survey(&record.domain.target(&config.platform), Depth::Full).await;
    let evidence = Evidence { form: form(app, &survey), ..Evidence::default() };
    let now = Utc::now();
    let case = Case::new(&record.domain, &config.platform, &survey, &evidence, &config.policy, now);
    let found = findings::diagnose(&case);

    // What could not be read may be there all the same.
    let is_over = found.is_empty() && !case.servers.is_empty();
    let next = schedule::next_watch(ended_at, &config.policy, now).filter(|_| !is_over);
    app.looks.finish_watch(lease, &record, &survey, &found, next).await?;
    Ok(())
}

/// Everything that an order would be preceded by, asked now; nothing is kept
/// and nothing ordered.
pub(crate) async fn preflight(app: &App, record: &DomainRecord) -> anyhow::Result<Vec<Check>> {
    let config = &app.config;
    let mut survey = app.surveyor.survey(&record.domain.target(&config.platform), Depth::Full).await;
    survey.remember(record.survey.as_ref());
    let mut evidence = known(app, record, &survey).await?;
    evidence.budget = app.looks.spent(&inquiry(app, record), evidence.certificate.is_some()).await?;
    judge(app, record, &survey, &mut evidence).await;
    if evidence.canary.is_none() {
        fetch_canary(app, record, &survey, &mut evidence).await;
    }

    Ok(step::preflight(&record.domain, &config.platform, &evidence, &config.policy, Utc::now()))
}

/// What the records know already.
async fn known(app: &App, record: &DomainRecord, survey: &Survey) -> anyhow::Result<Evidence> {
    let Known { certificate, order, spent, registration } = app.looks.known(inquiry(app, record)).await?;

    let mut account = None;
    if survey.caa_sets().iter().any(|set| caa::names_account(&set.records)) {
        account = app.acme.uri(app).await;
    }

    Ok(Evidence {
        survey: Some(survey.clone()),
        form: form(app, survey),
        order,
        certificate,
        budget: spent,
        account,
        registration: registering::of(app, record.domain.host.registered(), registration).await?,
        nearest: nearest(app, survey).await,
        known_tokens: app.looks.known_tokens(record, survey.token_candidates()).await?,
        ..Evidence::default()
    })
}

/// A registered domain that is spelt almost as one that nobody has registered.
async fn nearest(app: &App, survey: &Survey) -> Option<DnsName> {
    let ZoneView::Unregistered { registered, .. } = &survey.zone else { return None };
    app.surveyor.first_delegated(nearby(registered)).await
}

/// What is asked of the records about a domain.
fn inquiry(app: &App, record: &DomainRecord) -> Inquiry {
    Inquiry {
        domain_id: record.id,
        registered: record.domain.host.registered().to_owned(),
        directory: app.config.acme.directory.clone(),
        first: limits(app, false),
        renewal: limits(app, true),
    }
}

/// Budgets of orders; a part of them is kept for renewals, which come first.
fn limits(app: &App, is_renewal: bool) -> Limits {
    let policy = &app.config.policy;
    let granted = |most: u32| if is_renewal { most } else { most - most * policy.renewal_reserve / 100 };
    let per_account = granted(policy.orders_per_account);
    let share = if is_renewal { 100 } else { policy.account_share };
    Limits {
        per_domain: granted(policy.orders_per_domain),
        per_account,
        per_customer: (per_account * share / 100).max(1),
    }
}

/// Who runs the zone's DNS, as far as its name servers tell.
fn operator(app: &App, survey: &Survey) -> Option<String> {
    let ZoneView::Found { servers, .. } = &survey.zone else { return None };
    app.config.book.operator_of(servers.iter().map(|server| server.name.as_str()))
}

/// How the customer's DNS editor wants lines typed, by its name servers.
pub(crate) fn form(app: &App, survey: &Survey) -> Option<Form> {
    let ZoneView::Found { servers, .. } = &survey.zone else { return None };
    app.config.book.find(servers.iter().map(|server| server.name.as_str())).cloned()
}

/// Judges, gathers the one thing that was asked for, and judges again.
async fn judge(app: &App, record: &DomainRecord, survey: &Survey, evidence: &mut Evidence) -> Outcome {
    let config = &app.config;
    let domain = &record.domain;
    for _ in 0..ROUNDS {
        let outcome = step::step(domain, &config.platform, evidence, &config.policy, Utc::now());
        match outcome.action {
            Some(Action::FetchCanary) => fetch_canary(app, record, survey, evidence).await,
            Some(Action::Probe) => evidence.probe = Some(probe_all(app, record, survey, evidence).await),
            Some(Action::FollowForwards) => follow_forwards(app, record, survey, evidence).await,
            Some(Action::PlaceOrder { .. }) | None => return outcome,
        }
    }

    step::step(domain, &config.platform, evidence, &config.policy, Utc::now())
}

/// What a browser gets at each address of the host.
async fn probe_all(app: &App, record: &DomainRecord, survey: &Survey, evidence: &Evidence) -> Probe {
    let domain = &record.domain;
    let host = domain.probed_name();
    let primary = domain.pair.as_ref().filter(|pair| !pair.is_primary);

    let expected = Expected {
        host: &host,
        primary: primary.map(|pair| pair.other.as_str()),
        must_lead: domain.leads_to().is_some(),
        is_staged: record.is_staged(),
        default_host: &record.default_host,
    };

    let ingress = domain.ingress.ipv4.first().copied().map(IpAddr::from);
    let addresses = addresses(app, record, survey, evidence);
    let held = evidence.certificate.as_ref().map(|held| &held.facts);
    probe(app, &expected, &addresses, ingress, held).await
}

/// Where somebody else's addresses lead, by redirect or by passing visitors on.
async fn follow_forwards(app: &App, record: &DomainRecord, survey: &Survey, evidence: &mut Evidence) {
    let host = record.domain.probed_name();
    let foreign = step::foreign_addresses(&record.domain, survey, app.config.policy.most_visited);
    let resolve = |name: String| app.surveyor.addresses(name).boxed();

    evidence.behind = match app.prober.visit(&host, foreign.clone(), &app.sealer, &resolve).await {
        Some(visit) => Behind::Visited(visit),
        None => Behind::unvisited(&foreign, record.visit.clone()),
    };
}

/// Visits each address; edge servers that still serve the certificate before
/// this one get a moment to take the new one in.
async fn probe(
    app: &App,
    expected: &Expected<'_>,
    addresses: &[IpAddr],
    ingress: Option<IpAddr>,
    held: Option<&CertificateFacts>,
) -> Probe {
    let mut probe = app.prober.probe(expected, addresses, ingress).await;
    for _ in 0..EDGE_MOMENTS {
        if !held.is_some_and(|held| probe.results.iter().any(|result| is_former(result, held))) {
            break;
        }
        tokio::time::sleep(EDGE_MOMENT).await;
        probe = app.prober.probe(expected, addresses, ingress).await;
    }

    probe
}

/// Whether an address serves another certificate of the same issuer for the
/// same names.
fn is_former(result: &ProbeResult, held: &CertificateFacts) -> bool {
    result.served.as_ref().is_some_and(|served| {
        served.serial != held.serial && served.issuer == held.issuer && served.names == held.names
    })
}

/// Where a visitor is led: to the ingress, or through a proxy that may be there.
fn addresses(app: &App, record: &DomainRecord, survey: &Survey, evidence: &Evidence) -> Vec<IpAddr> {
    if app.config.policy.fronting == Fronting::Allow && evidence.behind.passes_on() {
        let most = app.config.policy.most_visited;
        return step::foreign_addresses(&record.domain, survey, most).addresses;
    }
    step::addresses_to_probe(&record.domain, &app.config.platform, survey)
}

/// Fetches the canary, and that of the other one of the pair if one order may
/// cover both.
async fn fetch_canary(app: &App, record: &DomainRecord, survey: &Survey, evidence: &mut Evidence) {
    let resolve = |name: String| app.surveyor.addresses(name).boxed();
    let resolve: Resolve<'_> = &resolve;
    let host = record.domain.probed_name();
    let addresses = addresses(app, record, survey, evidence);
    let own = app.prober.canary(&host, &addresses, &app.sealer, resolve);

    let is_wanted = step::wants_pair_canary(&record.domain, evidence, Utc::now());
    let pair_id = record.pair_id.filter(|_| is_wanted);
    let other = async {
        let other = app.looks.domain(pair_id?).await.ok()?;
        let addresses = step::addresses_to_probe(&other.domain, &app.config.platform, other.survey.as_ref()?);
        Some(app.prober.canary(&other.domain.probed_name(), &addresses, &app.sealer, resolve).await)
    };

    let (own, other) = tokio::join!(own, other);
    evidence.canary = Some(own);
    evidence.pair_canary = other;
}

async fn new_order(
    app: &App,
    record: &DomainRecord,
    pair: bool,
    known: EndedOrders,
    is_renewal: bool,
) -> anyhow::Result<NewOrder> {
    let kind = app.config.key_kind;
    // An RSA key takes its time.
    let key = match kind {
        KeyKind::Ecdsa => keypair::generate(kind)?,
        KeyKind::Rsa => tokio::task::spawn_blocking(move || keypair::generate(kind)).await??,
    };

    let mut domains = vec![(record.id, record.domain.routed().to_string())];
    if let (true, Some(id), Some(other)) = (pair, record.pair_id, &record.domain.pair) {
        domains.push((id, other.other.to_string()));
    }

    Ok(NewOrder {
        domains,
        registered: record.domain.host.registered().to_owned(),
        method: record.domain.method(&app.config.policy),
        sealed_key: app.sealer.seal(PRIVATE_KEY, key.as_bytes()),
        limits: limits(app, is_renewal),
        known,
    })
}

/// What has changed about a domain that was in order at the look before.
fn drifts(record: &DomainRecord, target: &Target, survey: &Survey, evidence: &Evidence) -> Vec<Drift> {
    if !record.domain.gates.get(GateName::Serving).state.is_reached() {
        return Vec::new();
    }

    let mut drifts = Vec::new();
    if let Some(before) = &record.survey {
        drifts.extend(drift::of_records(target, before, survey));
    }

    if let (Some(before), Some(after)) = (&record.probe, &evidence.probe) {
        drifts.extend(drift::of_serving(before, after));
    }

    drifts
}

#[cfg(test)]
mod tests {
    use super::*;

    fn facts(serial: &str, issuer: &str, name: &str) -> CertificateFacts {
        let now = Utc::now();
        CertificateFacts {
            serial: serial.into(),
            issuer: issuer.into(),
            names: vec![name.into()],
            not_before: now,
            not_after: now,
        }
    }

    #[test]
    fn a_former_certificate_is_told_from_a_foreign_one() {
        let held = facts("2", "CN=Stampworks", "www.onswick.example");
        let served = |served| ProbeResult {
            address: [127, 77, 0, 10].into(),
            served,
            tls_failure: None,
            redirect_failure: None,
            pair_failure: None,
        };

        assert!(is_former(&served(Some(facts("1", "CN=Stampworks", "www.onswick.example"))), &held));
        assert!(!is_former(&served(Some(held.clone())), &held));
        assert!(!is_former(&served(Some(facts("1", "CN=Otherstamp", "www.onswick.example"))), &held));
        assert!(!is_former(&served(Some(facts("1", "CN=Stampworks", "shop.example"))), &held));
        assert!(!is_former(&served(None), &held));
    }
}
