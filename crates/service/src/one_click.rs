//! One click: whether a zone's operator offers it, and the signed link that a customer is sent
//! to. Whatever fails on the way, the sheet is there instead.

use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use axum::http::HeaderMap;
use axum::http::header::COOKIE;
use data_encoding::HEXLOWER;
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
use crate::access;
use crate::detail::draw;

/// How long what an operator said is held.
const HELD: Duration = Duration::from_secs(600);
/// Zones of which it is held at most.
const MOST_HELD: usize = 1_000;
/// What the names of cookies begin with that lead back from an operator.
const COOKIE_BEGIN: &str = "nomenta_way_";
/// How long somebody may take at their operator, in seconds.
const KEPT: u32 = 3600;

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
            // Mostly it is known, and asking takes a call more room than all else.
            let found = Box::pin(discovered(app, &sheet.zone, &apply)).await;
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
        Ok(flow) => match one_click.signer.sign(&apply.query()) {
            Ok(signature) => {
                Offered { url: Some(apply.url(&flow, &one_click.key_label, &signature)), ..known }
            }
            Err(error) => Offered { because: Some(error.to_string()), ..known },
        },
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

/// What somebody is sent to an operator with. It comes back with the browser, and leads that
/// browser alone to the page: the operator has nothing that opens it.
pub(crate) struct Way {
    /// What the operator is given, and gives back.
    pub state: String,
    /// What the browser keeps: the secret of the link, under a name that the state leads to.
    pub cookie: String,
}

impl Way {
    /// That of a link in a browser; the same until somebody has come back by it.
    pub(crate) fn of(secret: &str, headers: &HeaderMap, is_by_https: bool) -> Self {
        let begin = format!("{COOKIE_BEGIN}{}.", mark(secret));
        let mut kept = access::cookies_of(cookies(headers), &begin, is_by_https);
        let nonce = kept.find_map(|(nonce, of)| (of == secret).then(|| nonce.to_owned()));
        // Each has a name of its own: two answers on their way at once do not undo each other's.
        let nonce = nonce.unwrap_or_else(|| access::secret(""));

        let state = format!("{}.{nonce}", mark(secret));
        Self { cookie: kept_for(&format!("{COOKIE_BEGIN}{state}"), secret, KEPT, is_by_https), state }
    }

    /// The secret of the link that a browser comes back to, and what lets it forget the way.
    pub(crate) fn back(state: &str, headers: &HeaderMap, is_by_https: bool) -> Option<(String, String)> {
        let name = format!("{COOKIE_BEGIN}{state}");
        let secret = access::cookie_value(cookies(headers), &name, is_by_https)?;
        let is_of_link = state.split_once('.').is_some_and(|(of, _)| of == mark(secret));
        is_of_link.then(|| (secret.to_owned(), kept_for(&name, "", 0, is_by_https)))
    }
}

/// What tells the ways of several links apart.
fn mark(secret: &str) -> String {
    HEXLOWER.encode(&access::hash(&format!("{COOKIE_BEGIN}{secret}"))[..8])
}

fn cookies(headers: &HeaderMap) -> &str {
    headers.get(COOKIE).and_then(|value| value.to_str().ok()).unwrap_or_default()
}

fn kept_for(name: &str, value: &str, seconds: u32, is_by_https: bool) -> String {
    // The operator's page leads back here, and that is when it is wanted.
    access::named_cookie(name, value, &format!("; SameSite=Lax; Max-Age={seconds}"), is_by_https)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn with(cookie: &str) -> HeaderMap {
        with_pair(cookie.split(';').next().unwrap_or_default())
    }

    fn with_pair(pair: &str) -> HeaderMap {
        HeaderMap::from_iter([(COOKIE, pair.parse().expect("a header"))])
    }

    #[test]
    fn only_the_browser_that_was_sent_comes_back_and_only_once() {
        let way = Way::of("nmh_secret", &HeaderMap::new(), true);
        assert!(!way.state.contains("nmh_secret"), "the operator has it not");
        let browser = with(&way.cookie);
        assert_eq!(Way::of("nmh_secret", &browser, true).state, way.state, "of two domains of one page");

        let (secret, forgotten) = Way::back(&way.state, &browser, true).expect("back");
        assert_eq!(secret, "nmh_secret");
        assert!(Way::back(&way.state, &with(&forgotten), true).is_none());
        assert!(Way::back(&way.state, &HeaderMap::new(), true).is_none(), "another browser");
        let other = Way::of("nmh_secret", &HeaderMap::new(), true);
        assert!(Way::back(&other.state, &browser, true).is_none(), "another time");
        let pairs = [&way, &other].map(|way| way.cookie.split(';').next().unwrap_or_default());
        let both = with_pair(&pairs.join("; "));
        assert!(
            [&way, &other].iter().all(|way| Way::back(&way.state, &both, true).is_some()),
            "two answers that came at once"
        );
        for nonsense in ["", ".", "0011223344556677", "0011223344556677.x"] {
            assert!(Way::back(nonsense, &browser, true).is_none(), "{nonsense}");
        }
    }
}
