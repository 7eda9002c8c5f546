//! One click: whether a zone's operator offers it, and the signed link that a customer is sent
//! to. Whatever fails on the way, the sheet is there instead.

use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use data_encoding::BASE64URL_NOPAD;
use futures::FutureExt;
use nomenta_api::handoff::Offered;
use nomenta_certs::sign::QuerySigner;
use nomenta_certs::{Failure, Word};
use nomenta_core::name::dns::DnsName;
use nomenta_core::one_click::apply::Apply;
use nomenta_core::one_click::settings::{Flow, NotOffered, Pointer, Settings};
use nomenta_core::one_click::template::{DISCOVERY_LABEL, Provider};
use nomenta_store::DomainRecord;

use crate::App;
use crate::detail::draw;

/// How long what an operator said is held.
const HELD: Duration = Duration::from_secs(600);
/// Zones of which it is held at most.
const MOST_HELD: usize = 1_000;
/// What secrets of links are sealed for.
const SEALED_FOR: &str = "one click";

/// The platform as a provider of templates.
#[derive(Clone, Debug)]
pub struct OneClick {
    /// Who it is.
    pub provider: Provider,
    /// The label of its key under the key domain.
    pub key_label: String,
    /// What signs.
    pub signer: QuerySigner,
}

impl OneClick {
    /// The name whose TXT records hold the public key.
    pub(crate) fn key_name(&self) -> DnsName {
        DnsName::new(&self.provider.key_domain).child(&self.key_label)
    }
}

/// What an operator offers for a zone.
#[derive(Clone, Debug)]
pub(crate) struct Offer {
    /// What to call it.
    pub operator: String,
    /// Where its customers edit records.
    pub control_panel: Option<String>,
    /// The flow, or why there is none.
    pub flow: Result<Flow, NotOffered>,
}

type Known = Result<Offer, NotOffered>;

/// What operators said a moment ago, by zone and template.
#[derive(Debug, Default)]
pub(crate) struct Offers {
    held: Mutex<HashMap<(String, String), (Instant, Known)>>,
}

impl Offers {
    fn get(&self, key: &(String, String)) -> Option<Known> {
        let held = self.held.lock().unwrap_or_else(PoisonError::into_inner);
        let (at, known) = held.get(key)?;
        (at.elapsed() < HELD).then(|| known.clone())
    }

    fn keep(&self, key: (String, String), known: Known) {
        let mut held = self.held.lock().unwrap_or_else(PoisonError::into_inner);
        if held.len() >= MOST_HELD {
            held.clear();
        }
        held.insert(key, (Instant::now(), known));
    }
}

/// What is offered for a domain, and the link to it; afterwards the browser comes back to
/// `redirect` with `state`.
pub(crate) async fn offered(app: &App, record: &DomainRecord, redirect: &str, state: &str) -> Offered {
    let Some(one_click) = &app.config.one_click else {
        return not_offered("The service signs nothing for DNS operators.");
    };
    let domain = &record.domain;
    let sheet = draw(app, record);
    let apply = Apply::of(
        &sheet,
        &domain.ingress,
        &domain.site,
        domain.token.as_str(),
        &app.config.platform,
        redirect,
        state,
    );
    let Some(apply) = apply else { return not_offered("There is no template for a wildcard.") };

    let key = (sheet.zone.as_str().to_owned(), apply.service.clone());
    let known = match app.offers.get(&key) {
        Some(known) => known,
        None => {
            let found = discovered(app, &sheet.zone, &apply).await;
            metrics::counter!("nomenta_one_click_asked_total", "offered" => is_offered(&found).to_string())
                .increment(1);
            app.offers.keep(key, found.clone());
            found
        }
    };

    let offer = match known {
        Ok(offer) => offer,
        Err(error) => return not_offered(&error.to_string()),
    };
    let known =
        Offered { operator: Some(offer.operator), control_panel: offer.control_panel, ..Offered::default() };
    match offer.flow {
        Ok(flow) => {
            let signature = one_click.signer.sign(&apply.query());
            Offered { url: Some(apply.url(&flow, &one_click.key_label, &signature)), ..known }
        }
        Err(error) => Offered { because: Some(error.to_string()), ..known },
    }
}

fn not_offered(because: &str) -> Offered {
    Offered { because: Some(because.to_owned()), ..Offered::default() }
}

fn is_offered(known: &Known) -> bool {
    known.as_ref().is_ok_and(|offer| offer.flow.is_ok())
}

/// Asks the operator of a zone: its TXT record, its settings, and whether it knows the
/// template.
async fn discovered(app: &App, zone: &DnsName, apply: &Apply) -> Known {
    let texts = app.surveyor.texts(zone.child(DISCOVERY_LABEL)).await;
    let texts = texts.ok_or_else(|| NotOffered::Silent("no vantage answers".into()))?;
    let text = texts.first().ok_or(NotOffered::NotThere)?;
    let pointer = Pointer::parse(text)?;

    let settings = match fetched(app, &pointer.settings_url(zone)).await? {
        (200, body) => Settings::read(body.as_bytes())?,
        (404, _) => return Err(NotOffered::NotThere),
        (status, _) => return Err(NotOffered::Silent(Failure::Status(status).to_string())),
    };

    let flow = match settings.flow() {
        Ok(flow) => is_known(app, &flow, apply).await.map(|()| flow),
        Err(error) => Err(error),
    };
    Ok(Offer { operator: settings.name().to_owned(), control_panel: settings.control_panel(zone), flow })
}

/// Whether the operator knows the template.
async fn is_known(app: &App, flow: &Flow, apply: &Apply) -> Result<(), NotOffered> {
    match fetched(app, &flow.template_url(&apply.provider, &apply.service)).await? {
        (200, _) => Ok(()),
        (404, _) => Err(NotOffered::UnknownTemplate(apply.service.clone())),
        (status, _) => Err(NotOffered::Silent(Failure::Status(status).to_string())),
    }
}

async fn fetched(app: &App, url: &str) -> Result<(u16, String), NotOffered> {
    let resolve = |name: String| app.surveyor.addresses(name).boxed();
    let fetched = app.prober.document(url, Word::Theirs, &resolve).await;
    fetched.map_err(|failure| NotOffered::Silent(failure.to_string()))
}

/// What a browser comes back with: the secret of its link, sealed, since the operator is not to
/// have it.
pub(crate) fn state_of(app: &App, secret: &str) -> String {
    BASE64URL_NOPAD.encode(&app.sealer.seal(SEALED_FOR, secret.as_bytes()))
}

/// The secret of the link that somebody comes back to.
pub(crate) fn secret_of(app: &App, state: &str) -> Option<String> {
    let sealed = BASE64URL_NOPAD.decode(state.as_bytes()).ok()?;
    String::from_utf8(app.sealer.open(SEALED_FOR, &sealed).ok()?.to_vec()).ok()
}
