//! Bringing a certificate order to its end, whichever process began it.

use std::time::Duration;

use anyhow::Context;
use chrono::{DateTime, TimeDelta, Utc};
use nomenta_certs::acme::{Acme, AcmeError, AcmeOrder, Answer};
use nomenta_certs::{keypair, x509};
use nomenta_core::judge::certificate;
use nomenta_core::judge::evidence::Problem;
use nomenta_core::judge::schedule;
use nomenta_core::judge::step;
use nomenta_core::reading::method::Method;
use nomenta_store::{Issued, Lane, Lease, NewChallenge, OrderRow, Store};
use tokio::sync::Mutex;
use tokio::time::{Instant, sleep, timeout};

use crate::App;
use crate::look::PRIVATE_KEY;

/// What the CA account's credentials are sealed for.
pub(crate) const ACCOUNT: &str = "acme account";
/// What a key is sealed for that answers a challenge by TLS.
pub(crate) const TLS_ANSWER: &str = "answer by tls";
/// How long edge servers may take to answer a challenge by TLS.
const EDGE_LIMIT: Duration = Duration::from_secs(20);
/// Time between two looks at whether they do.
const EDGE_PAUSE: Duration = Duration::from_millis(200);
/// How long to leave a CA alone that asks for it without saying how long.
const LONG_ENOUGH: TimeDelta = TimeDelta::hours(1);

/// The account at the CA, opened when it is first needed.
#[derive(Default)]
pub(crate) struct Issuer(Mutex<Option<Opened>>);

/// An account that is open here.
struct Opened {
    acme: Acme,
    /// Its credentials, as they are kept.
    sealed: Vec<u8>,
    at: Instant,
}

impl Issuer {
    /// The account; registered if there is none yet. Whoever comes meanwhile
    /// waits for the one who opens it, so that no second one is registered. One whose
    /// credentials another process has replaced is opened anew.
    pub(crate) async fn account(&self, app: &App) -> anyhow::Result<Acme> {
        let mut slot = self.0.lock().await;
        let config = &app.config.acme;
        let kept = app.store.acme_account(&config.directory).await?;
        match (&*slot, &kept) {
            (Some(opened), Some(kept)) if opened.sealed == *kept => return Ok(opened.acme.clone()),
            _ => {}
        }

        let sealed = match kept {
            Some(sealed) => sealed,
            None => register(app).await?,
        };
        let acme = Acme::load(config, &app.sealer.open(ACCOUNT, &sealed)?).await?;
        *slot = Some(Opened { acme: acme.clone(), sealed, at: Instant::now() });
        Ok(acme)
    }

    /// URL of the account, if the CA can be reached soon enough for whoever
    /// asks.
    pub(crate) async fn uri(&self, app: &App) -> Option<String> {
        match timeout(app.config.acme.calls.time, self.account(app)).await {
            Ok(Ok(acme)) => Some(acme.uri().to_owned()),
            Ok(Err(error)) => {
                app.repeats.warn("the account at the CA is not known", &error);
                None
            }
            Err(late) => {
                app.repeats.warn("the account at the CA is not known", &late);
                None
            }
        }
    }

    /// Gives the account another key, which is the only one from then on (RFC 8555, section
    /// 7.3.5).
    pub(crate) async fn rekey(&self, app: &App, records: &Store) -> anyhow::Result<()> {
        self.account(app).await?;
        let mut slot = self.0.lock().await;
        let Some(Opened { acme, sealed, .. }) = slot.take() else {
            anyhow::bail!("the account is being replaced");
        };

        // Nobody else may use or change the account until the new key is kept.
        let directory = &app.config.acme.directory;
        let change = records.change_acme_account(directory, &sealed).await?;
        let (acme, credentials) = acme.rekeyed().await?;
        let sealed = app.sealer.seal(ACCOUNT, &credentials);
        change.keep(&sealed).await?;
        *slot = Some(Opened { acme, sealed, at: Instant::now() });
        Ok(())
    }

    /// Whether the account was opened, or replaced, after that moment.
    async fn is_younger_than(&self, began: Instant) -> bool {
        self.0.lock().await.as_ref().is_none_or(|opened| opened.at > began)
    }

    /// Forgets the account that the CA did not know to somebody who began then, unless it has
    /// been replaced since.
    async fn forget(&self, app: &App, began: Instant) -> anyhow::Result<()> {
        let mut slot = self.0.lock().await;
        let Some(opened) = slot.take_if(|opened| opened.at <= began) else { return Ok(()) };
        app.store.drop_acme_account(&app.config.acme.directory, &opened.sealed).await?;
        Ok(())
    }
}

async fn register(app: &App) -> anyhow::Result<Vec<u8>> {
    let config = &app.config.acme;
    let (_, credentials) = Acme::register(config).await?;
    let sealed = app.sealer.seal(ACCOUNT, &credentials);

    // Another process may have been first; then its account is the one.
    Ok(app.store.keep_acme_account(&config.directory, &sealed).await?)
}

/// Works on the open order of one domain.
pub(crate) async fn perform(app: &App, lease: &Lease) -> anyhow::Result<()> {
    let Some(order) = app.store.open_order(lease.domain_id).await? else {
        app.store.drop_task(lease).await?;
        return Ok(());
    };

    let began = Instant::now();
    match issue(app, lease, &order).await {
        Ok(chain_pem) => finish(app, lease, &order, chain_pem).await,
        Err(error) => match error.downcast::<AcmeError>() {
            Ok(AcmeError::Refused { problem, .. })
                if problem.is_of_the_account() && app.acme.is_younger_than(began).await =>
            {
                anyhow::bail!("the key of the account at the CA was changed meanwhile");
            }
            Ok(error) => answer(app, lease, &order, began, error).await,
            Err(other) => {
                app.store.note_step(order.id, &other.to_string()).await?;
                Err(other)
            }
        },
    }
}

/// Adds a line to the story of a domain's open order.
pub(crate) async fn tell(app: &App, lease: &Lease, said: &str) {
    let told = async {
        if let Some(order) = app.store.open_order(lease.domain_id).await? {
            app.store.note_step(order.id, said).await?;
        }
        Ok::<_, nomenta_store::StoreError>(())
    };

    if let Err(error) = told.await {
        app.repeats.warn("an order's story was not told", &error);
    }
}

async fn finish(app: &App, lease: &Lease, order: &OrderRow, chain_pem: String) -> anyhow::Result<()> {
    let facts = x509::facts(&chain_pem)?;
    let renew_at = certificate::renewal(&facts, rand::random());
    app.store.finish_issued(lease, order, &Issued { facts, chain_pem, renew_at }).await?;

    metrics::counter!("nomenta_orders_total", "result" => "issued").increment(1);
    Ok(())
}

/// Does what the CA's answer calls for. An error that is handed on puts the
/// task back for a while.
async fn answer(
    app: &App,
    lease: &Lease,
    order: &OrderRow,
    began: Instant,
    error: AcmeError,
) -> anyhow::Result<()> {
    match error {
        AcmeError::Refused { problem, retry_after } => {
            let retry_at = retry_at(app, lease, &problem, retry_after).await?;
            app.store.finish_refused(lease, order, &problem, retry_at).await?;
            metrics::counter!("nomenta_orders_total", "result" => "refused").increment(1);
            Ok(())
        }
        AcmeError::Busy { until, .. } => {
            app.store.note_step(order.id, &error.to_string()).await?;
            app.store.throttle(&app.config.acme.directory, until).await?;
            let at = schedule::jittered(until, rand::random(), Utc::now());
            Ok(app.store.postpone(lease, at, Lane::Usual).await?)
        }
        other => {
            app.store.note_step(order.id, &other.to_string()).await?;
            begin_anew_what_is_lost(app, lease, order, began, &other).await?;
            Err(other.into())
        }
    }
}

/// When another order may follow one that was refused.
async fn retry_at(
    app: &App,
    lease: &Lease,
    problem: &Problem,
    retry_after: Option<DateTime<Utc>>,
) -> anyhow::Result<DateTime<Utc>> {
    let now = Utc::now();
    if problem.is_throttling() {
        let until = retry_after.unwrap_or(now + LONG_ENOUGH);
        app.store.throttle(&app.config.acme.directory, until).await?;
        return Ok(schedule::jittered(until, rand::random(), now));
    }

    let refusals = app.store.refusals(lease.domain_id).await? + 1;
    let retry_at = schedule::order_retry(refusals, &app.config.policy, now);
    Ok(schedule::jittered(retry_at, rand::random(), now))
}

/// What the CA no longer knows is placed, or registered, again.
async fn begin_anew_what_is_lost(
    app: &App,
    lease: &Lease,
    order: &OrderRow,
    began: Instant,
    error: &AcmeError,
) -> anyhow::Result<()> {
    if matches!(error, AcmeError::NoOrder(_) | AcmeError::NoAccount(_)) {
        app.store.forget_order_url(lease, order.id).await?;
    }

    if matches!(error, AcmeError::NoAccount(_)) {
        app.acme.forget(app, began).await?;
    }

    Ok(())
}

/// From wherever the order stands to the chain.
async fn issue(app: &App, lease: &Lease, order: &OrderRow) -> anyhow::Result<String> {
    let acme = app.acme.account(app).await?;
    let mut at_ca = open(app, &acme, lease, order).await?;

    for answer in at_ca.answers(order.method).await? {
        publish(app, lease, order, &answer).await?;
        let said = format!("The challenge for {} is answered by {}.", answer.name, answer.method);
        app.store.note_step(order.id, &said).await?;
    }

    let key_pem = app.sealer.open(PRIVATE_KEY, &order.sealed_key)?;
    let request = keypair::request(str::from_utf8(&key_pem)?, &order.names)?;
    Ok(at_ca.finish(order.method, &request).await?)
}

async fn open(app: &App, acme: &Acme, lease: &Lease, order: &OrderRow) -> anyhow::Result<AcmeOrder> {
    if let Some(url) = &order.url {
        return Ok(acme.resume(url).await?);
    }

    let placed = acme.order(&order.names, order.replaces.as_deref()).await?;
    app.store.note_order_url(lease, order.id, placed.url()).await?;

    let said = format!("Placed at the certification authority, for {}.", order.names.join(" and "));
    app.store.note_step(order.id, &said).await?;
    Ok(placed)
}

/// Makes the answer known; for TLS, returns once every address gives it.
async fn publish(app: &App, lease: &Lease, order: &OrderRow, answer: &Answer) -> anyhow::Result<()> {
    let digest = answer.digest();
    let text = answer.txt();
    let tls = match answer.method {
        Method::TlsAlpn => {
            let (chain, key) = keypair::answering(&answer.name, &digest)?;
            Some((chain, app.sealer.seal(TLS_ANSWER, key.as_bytes())))
        }
        Method::Http | Method::Dns => None,
    };

    let new = NewChallenge {
        token: &answer.token,
        name: &answer.name,
        method: answer.method,
        answer: if answer.method == Method::Dns { &text } else { &answer.key_authorization },
        tls: tls.as_ref().map(|(chain, key)| (chain.as_str(), key.as_slice())),
    };

    app.store.add_challenge(lease, order.id, &new).await?;
    if tls.is_some() {
        await_edge(app, order, &answer.name, &digest).await?;
    }

    Ok(())
}

/// Edge servers take the answer from their feed; the CA is not to come before
/// they have it.
async fn await_edge(app: &App, order: &OrderRow, name: &str, digest: &[u8; 32]) -> anyhow::Result<()> {
    let place = order.names.iter().position(|ordered| ordered == name);
    let id = place.and_then(|place| order.domain_ids.get(place)).context("A challenge for another name")?;
    let record = app.store.domain(*id).await?;
    let addresses = match &record.survey {
        Some(survey) => step::addresses_to_probe(&record.domain, &app.config.platform, survey),
        None => Vec::new(),
    };

    let deadline = Instant::now() + EDGE_LIMIT;
    loop {
        match app.prober.answers_by_tls(name, digest, &addresses).await {
            Ok(()) => return Ok(()),
            Err(failure) if Instant::now() > deadline => {
                anyhow::bail!("The edge does not answer the challenge for {name} by TLS: {failure}");
            }
            Err(_) => sleep(EDGE_PAUSE).await,
        }
    }
}
