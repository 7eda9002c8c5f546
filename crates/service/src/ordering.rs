//! Bringing a certificate order to its end, whichever process began it.

use chrono::Utc;
use nomenta_certs::acme::{Acme, AcmeError, AcmeOrder};
use nomenta_certs::{keypair, x509};
use nomenta_core::schedule;
use nomenta_store::{DomainRecord, Issued, Lease, OrderRow};
use tokio::sync::Mutex;

use crate::App;
use crate::look::PRIVATE_KEY;

const ACCOUNT: &str = "acme account";

/// The account at the CA, opened when it is first needed.
#[derive(Default)]
pub(crate) struct Issuer(Mutex<Option<Acme>>);

impl Issuer {
    async fn account(&self, app: &App) -> anyhow::Result<Acme> {
        let mut slot = self.0.lock().await;
        if let Some(acme) = &*slot {
            return Ok(acme.clone());
        }
        let config = &app.config.acme;
        let sealed = match app.store.acme_account(&config.directory).await? {
            Some(sealed) => sealed,
            None => {
                let (_, credentials) = Acme::register(config).await?;
                let sealed = app.sealer.seal(ACCOUNT, &credentials);
                app.store.keep_acme_account(&config.directory, &sealed).await?
            }
        };
        let acme = Acme::load(config, &app.sealer.open(ACCOUNT, &sealed)?).await?;
        *slot = Some(acme.clone());
        Ok(acme)
    }

    async fn forget(&self, app: &App) -> anyhow::Result<()> {
        *self.0.lock().await = None;
        app.store.drop_acme_account(&app.config.acme.directory).await?;
        Ok(())
    }
}

/// Works on the open order of one domain.
pub(crate) async fn perform(app: &App, lease: &Lease) -> anyhow::Result<()> {
    let record = app.store.domain(lease.domain_id).await?;
    let Some(order) = app.store.open_order(record.id).await? else {
        app.store.drop_task(lease).await?;
        return Ok(());
    };
    match issue(app, &record, &order).await {
        Ok(chain_pem) => {
            let issued = Issued { facts: x509::facts(&chain_pem)?, chain_pem };
            app.store.finish_issued(lease, &record, &order, &issued).await?;
            metrics::counter!("nomenta_orders_total", "result" => "issued").increment(1);
        }
        Err(error) => match error.downcast::<AcmeError>()? {
            AcmeError::Refused(problem) => {
                let refusals = app.store.refusals(record.id).await? + 1;
                let retry_at = schedule::order_retry(refusals, &app.config.policy, Utc::now());
                app.store.finish_refused(lease, &record, &order, &problem, retry_at).await?;
                metrics::counter!("nomenta_orders_total", "result" => "refused").increment(1);
            }
            // What the CA has lost is begun anew.
            lost @ (AcmeError::NoOrder(_) | AcmeError::NoAccount(_)) => {
                app.store.forget_order_url(order.id).await?;
                if matches!(lost, AcmeError::NoAccount(_)) {
                    app.acme.forget(app).await?;
                }
                return Err(lost.into());
            }
            unavailable => return Err(unavailable.into()),
        },
    }
    Ok(())
}

/// From wherever the order stands to the chain.
async fn issue(app: &App, record: &DomainRecord, order: &OrderRow) -> anyhow::Result<String> {
    let host = record.domain.host.as_str();
    let acme = app.acme.account(app).await?;
    let mut at_ca = open(app, &acme, host, order).await?;
    for answer in at_ca.answers().await? {
        app.store.add_challenge(order.id, &answer.token, &answer.key_authorization).await?;
    }
    let key_pem = String::from_utf8(app.sealer.open(PRIVATE_KEY, &order.sealed_key)?)?;
    Ok(at_ca.finish(&keypair::request(&key_pem, host)?).await?)
}

async fn open(app: &App, acme: &Acme, host: &str, order: &OrderRow) -> anyhow::Result<AcmeOrder> {
    if let Some(url) = &order.url {
        return Ok(acme.resume(url).await?);
    }
    let placed = acme.order(host).await?;
    app.store.note_order_url(order.id, placed.url()).await?;
    Ok(placed)
}
