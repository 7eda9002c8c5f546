//! Probes of a domain's own addresses: the canary before an order, the visit
//! as a browser makes it after that. Every connection goes through the egress
//! guard.

use std::io;
use std::net::{IpAddr, SocketAddr};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant, SystemTime};

use futures::future::{BoxFuture, join_all};
use nomenta_core::judge::behind::{Foreign, Forward, Visit};
use nomenta_core::judge::canary::CanaryFetch;
use nomenta_core::judge::certificate::CertificateFacts;
use nomenta_core::judge::evidence::{Probe, ProbeResult};
use nomenta_dns::{Egress, NoConnection, Quota};
use rustls::RootCertStore;
use tokio::net::TcpStream;
use tokio::time::timeout;

use crate::failure::Failure;
use crate::http::{self, Page};
use crate::seal::Sealer;
use crate::tls::{Handshaker, Served};
use crate::url::{Place, Target};

/// Time for which visits to a network are counted.
const VISITED: Duration = Duration::from_secs(60);
/// Redirects followed on the way to a canary.
const MOST_REDIRECTS: usize = 5;

/// How probes are made.
#[derive(Clone, Debug)]
pub struct ProberConfig {
    /// Port of plain HTTP; 80 outside of test worlds.
    pub http_port: u16,
    /// Port of HTTPS; 443 outside of test worlds.
    pub https_port: u16,
    /// Longest time for one probe.
    pub time_limit: Duration,
    /// Which addresses may be probed.
    pub egress: Egress,
    /// Most connections in a minute to one network of others: /24, or /48 of IPv6.
    pub visits: u32,
}

/// By whose word an address is connected to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Word {
    /// The platform's: its own addresses, those through which it was just reached, registries.
    Ours,
    /// A stranger's, who may mean harm to whoever is there.
    Theirs,
}

/// Finds the addresses of a host that a redirect names.
pub type Resolve<'a> = &'a (dyn Fn(String) -> BoxFuture<'a, Vec<IpAddr>> + Sync);

/// What a browser should find.
#[derive(Clone, Copy, Debug)]
pub struct Expected<'a> {
    /// The name to ask for.
    pub host: &'a str,
    /// The primary of the pair, where it is not that itself.
    pub primary: Option<&'a str>,
    /// Whether it must lead there by now.
    pub must_lead: bool,
    /// Whether it leads to the default host before its hour.
    pub is_staged: bool,
    /// The site's default host, which should be kept out of search indexes.
    pub default_host: &'a str,
}

/// Makes probes.
pub struct Prober {
    config: ProberConfig,
    bundle: PathBuf,
    /// Made anew when the bundle of roots has been replaced.
    tls: Mutex<Trusting>,
    visits: Quota,
}

struct Trusting {
    since: Option<SystemTime>,
    handshaker: Arc<Handshaker>,
}

impl Prober {
    /// A prober that trusts the roots in the PEM file `roots`.
    ///
    /// # Errors
    /// If the file cannot be read or holds no certificate: name another.
    pub fn new(config: ProberConfig, roots: &Path) -> io::Result<Self> {
        let handshaker = Arc::new(Handshaker::new(roots)?);
        let tls = Mutex::new(Trusting { since: changed(roots), handshaker });
        let visits = Quota::new(config.visits, VISITED);
        Ok(Self { config, bundle: roots.to_owned(), tls, visits })
    }

    /// Whether `times` connections may go to each of some addresses that strangers publish: not
    /// where many domains have led to the same networks a moment ago. If so, they count.
    fn may_visit(&self, addresses: &[IpAddr], times: u32) -> bool {
        let may_visit = self.visits.take_each(addresses, times, Instant::now());
        if !may_visit {
            metrics::counter!("nomenta_visits_put_off_total").increment(1);
        }
        may_visit
    }

    /// The roots that served chains must lead to.
    pub fn roots(&self) -> Arc<RootCertStore> {
        self.handshaker().roots.clone()
    }

    /// Trusts what the bundle holds now; what it held before, while it cannot
    /// be read.
    fn handshaker(&self) -> Arc<Handshaker> {
        let mut tls = self.tls.lock().unwrap_or_else(PoisonError::into_inner);
        let since = changed(&self.bundle);

        if since != tls.since {
            match Handshaker::new(&self.bundle) {
                Ok(handshaker) => *tls = Trusting { since, handshaker: Arc::new(handshaker) },
                Err(error) => tracing::warn!(%error, "the roots to trust cannot be read anew"),
            }
        }
        tls.handshaker.clone()
    }

    /// Visits addresses that are somebody else's: where each sends visitors of `host` on to, and,
    /// where these are all that it has, whether a canary arrives through each. `None` where their
    /// network, or one that they lead on to, has been visited often just now.
    pub async fn visit(
        &self,
        host: &str,
        foreign: Foreign,
        sealer: &Sealer,
        resolve: Resolve<'_>,
    ) -> Option<Visit> {
        let addresses = &foreign.addresses;
        if !self.may_visit(addresses, if foreign.are_all { 2 } else { 1 }) {
            return None;
        }

        let fronts = async {
            match foreign.are_all {
                true => self.arrivals(host, addresses, Word::Theirs, sealer, resolve).await,
                false => Vec::new(),
            }
        };
        let (forwards, fronts) = tokio::join!(self.forwards(host, addresses), fronts);
        if fronts.iter().any(|(_, arrived)| matches!(arrived, Err(Failure::VisitedOften(_)))) {
            return None;
        }
        Some(Visit { forwards, fronts: fronts.into_iter().map(as_fetched).collect(), at: foreign })
    }

    /// Fetches a canary of `host` through each address of the platform, on the path that a CA
    /// will use (RFC 8555, section 8.3), following redirects as a CA does.
    pub async fn canary(
        &self,
        host: &str,
        addresses: &[IpAddr],
        sealer: &Sealer,
        resolve: Resolve<'_>,
    ) -> Vec<CanaryFetch> {
        let arrivals = self.arrivals(host, addresses, Word::Ours, sealer, resolve).await;
        arrivals.into_iter().map(as_fetched).collect()
    }

    /// Whether a canary of `host` arrives through each address.
    async fn arrivals(
        &self,
        host: &str,
        addresses: &[IpAddr],
        word: Word,
        sealer: &Sealer,
        resolve: Resolve<'_>,
    ) -> Vec<(IpAddr, Result<(), Failure>)> {
        let token = sealer.canary_token();
        let answer = sealer.canary_answer(&token).unwrap_or_default();
        let path = format!("/.well-known/acme-challenge/{token}");

        let fetches = addresses.iter().map(|address| async {
            let fetched = self.within(self.fetch(host, *address, word, &path, resolve)).await;
            (*address, fetched.and_then(|page| arrived(&page, &answer)))
        });
        join_all(fetches).await
    }

    /// GETs a path, following redirects: on the same host through the same
    /// address, on another one through the first address that it has. What redirects lead to counts
    /// as visited, but for what is the platform's.
    async fn fetch(
        &self,
        host: &str,
        address: IpAddr,
        word: Word,
        path: &str,
        resolve: Resolve<'_>,
    ) -> Result<Page, Failure> {
        let place = Place::Host(host.to_owned());
        let mut at = Target { secure: false, place, port: None, path: path.to_owned() };

        for hop in 0..=MOST_REDIRECTS {
            let name = self.name_to_follow(&at)?;
            let to = if name == host { address } else { first_address(&name, resolve).await? };
            self.check_port(&at)?;
            let is_led_on = hop > 0 && (name != host || word == Word::Theirs);
            if is_led_on {
                self.count_visit(to)?;
            }

            let page = self.get(&at, to, &name).await?;
            let Some(location) = page.redirect() else { return Ok(page) };
            at = at.join(location).ok_or_else(|| Failure::LeadsToNonsense(location.to_owned()))?;
        }
        Err(Failure::TooManyRedirects(MOST_REDIRECTS))
    }

    /// One more connection to where a stranger leads.
    fn count_visit(&self, to: IpAddr) -> Result<(), Failure> {
        if self.may_visit(&[to], 1) { Ok(()) } else { Err(Failure::VisitedOften(to)) }
    }

    /// The name that a target is at: CAs follow redirects to names alone. The
    /// guard has its say first; nothing is sent to a bare address.
    fn name_to_follow(&self, target: &Target) -> Result<String, Failure> {
        match &target.place {
            Place::Host(name) => Ok(name.clone()),
            Place::Address(ip) if self.config.egress.admits(*ip) => Err(Failure::LeadsToAddress(*ip)),
            Place::Address(ip) => Err(Failure::LeadsToBarred(*ip, NoConnection::Refused)),
        }
    }

    /// CAs follow redirects to the two well-known ports alone.
    fn check_port(&self, target: &Target) -> Result<(), Failure> {
        match target.port {
            Some(port) if port != self.port(target.secure) => Err(Failure::LeadsToPort(port)),
            _ => Ok(()),
        }
    }

    async fn get(&self, target: &Target, address: IpAddr, host: &str) -> Result<Page, Failure> {
        let stream = self.connect(address, target.secure).await?;
        if target.secure {
            let served = self.handshaker().greet(host, stream).await?;
            return http::get(served.stream, host, &target.path).await;
        }
        http::get(stream, host, &target.path).await
    }

    /// GETs a document by its HTTPS URL, from an address that its host has: the status, and the
    /// body up to a cap. A certificate that does not lead to a trusted root is a failure, and
    /// redirects are not followed.
    ///
    /// # Errors
    /// [`Failure`], in words that follow "it".
    pub async fn document(
        &self,
        url: &str,
        word: Word,
        resolve: Resolve<'_>,
    ) -> Result<(u16, String), Failure> {
        let nonsense = || Failure::LeadsToNonsense(url.to_owned());
        let target = Target::parse(url).filter(|target| target.secure).ok_or_else(nonsense)?;
        let host = target.host().ok_or_else(nonsense)?;

        self.within(async {
            let address = first_address(host, resolve).await?;
            if word == Word::Theirs {
                self.count_visit(address)?;
            }
            let at = SocketAddr::new(address, target.port.unwrap_or(self.config.https_port));
            let stream = self.config.egress.connect(at, self.config.time_limit).await?;

            let served = self.handshaker().greet(host, stream).await?;
            if let Some(fault) = served.fault {
                return Err(Failure::Untrusted(fault));
            }
            let page = http::get(served.stream, host, &target.path).await?;
            Ok((page.status, page.body))
        })
        .await
    }

    /// Where each address sends visitors of `host` on to, if anywhere else.
    async fn forwards(&self, host: &str, addresses: &[IpAddr]) -> Vec<Forward> {
        let followed = addresses.iter().copied().map(|address| async move {
            let page = self.within(self.plain(address, host)).await.ok()?;
            let location = page.redirect()?.to_owned();
            let to = Target::parse(&location)?;
            (to.host() != Some(host)).then_some(Forward { address, location })
        });
        join_all(followed).await.into_iter().flatten().collect()
    }

    async fn plain(&self, address: IpAddr, host: &str) -> Result<Page, Failure> {
        let stream = self.connect(address, false).await?;
        http::get(stream, host, "/").await
    }

    /// Looks at each address as a browser does: certificate, names and dates;
    /// HTTP to HTTPS; the other one of a pair to the primary with one hop.
    pub async fn probe(
        &self,
        expected: &Expected<'_>,
        addresses: &[IpAddr],
        ingress: Option<IpAddr>,
    ) -> Probe {
        let results = join_all(addresses.iter().map(|address| self.probe_one(expected, *address)));
        let default_host = async {
            let asked = self.default_host(expected.default_host, ingress?);
            self.within(asked).await.err()
        };

        let (results, default_host) = tokio::join!(results, default_host);
        Probe { results, default_host: default_host.map(|f| f.to_string()) }
    }

    async fn probe_one(&self, expected: &Expected<'_>, address: IpAddr) -> ProbeResult {
        let secure = self.within(self.secure(address, expected.host));
        let plain = self.within(self.plain(address, expected.host));
        let (secure, plain) = tokio::join!(secure, plain);

        let redirect_failure = plain.and_then(|page| leads_to_https(&page, expected)).err();
        let mut result = ProbeResult {
            address,
            served: None,
            tls_failure: None,
            redirect_failure: redirect_failure.map(|f| f.to_string()),
            pair_failure: None,
        };
        match secure {
            Err(failure) => result.tls_failure = Some(failure.to_string()),
            Ok(secure) => {
                let pair_failure = secure.page.and_then(|page| leads_on(&page, expected)).err();
                result.served = Some(secure.facts);
                result.tls_failure = secure.fault;
                result.pair_failure = pair_failure.map(|f| f.to_string());
            }
        }
        result
    }

    async fn secure(&self, address: IpAddr, host: &str) -> Result<Secure, Failure> {
        let stream = self.connect(address, true).await?;
        let Served { stream, facts, fault } = self.handshaker().greet(host, stream).await?;
        let page = http::get(stream, host, "/").await;
        Ok(Secure { facts, fault, page })
    }

    async fn default_host(&self, host: &str, address: IpAddr) -> Result<(), Failure> {
        let stream = self.connect(address, true).await?;
        let served = self.handshaker().greet(host, stream).await?;
        let page = http::get(served.stream, host, "/").await?;

        let robots = page.robots.unwrap_or_default().to_ascii_lowercase();
        let is_kept_out = robots.split(',').any(|word| matches!(word.trim(), "noindex" | "none"));
        if is_kept_out { Ok(()) } else { Err(Failure::NoRobots) }
    }

    /// Whether every address answers a challenge for `host` by TLS with this
    /// digest.
    ///
    /// # Errors
    /// The first address that does not: its edge may need another moment.
    pub async fn answers_by_tls(
        &self,
        host: &str,
        digest: &[u8; 32],
        addresses: &[IpAddr],
    ) -> Result<(), Failure> {
        for address in addresses {
            let answered = self.within(async {
                let stream = self.connect(*address, true).await?;
                self.handshaker().challenge(host, stream).await
            });

            match answered.await {
                Ok(found) if found.ends_with(digest) => {}
                Ok(_) => return Err(Failure::OtherChallenge(*address)),
                Err(failure) => return Err(Failure::At(*address, failure.into())),
            }
        }
        Ok(())
    }

    async fn connect(&self, address: IpAddr, secure: bool) -> Result<TcpStream, Failure> {
        let at = SocketAddr::new(address, self.port(secure));
        Ok(self.config.egress.connect(at, self.config.time_limit).await?)
    }

    fn port(&self, secure: bool) -> u16 {
        if secure { self.config.https_port } else { self.config.http_port }
    }

    async fn within<T>(&self, work: impl Future<Output = Result<T, Failure>>) -> Result<T, Failure> {
        let limit = self.config.time_limit;
        timeout(limit, work).await.map_err(|_| Failure::TooSlow(limit))?
    }
}

/// What came over one TLS connection.
struct Secure {
    facts: CertificateFacts,
    fault: Option<String>,
    page: Result<Page, Failure>,
}

fn changed(file: &Path) -> Option<SystemTime> {
    std::fs::metadata(file).and_then(|meta| meta.modified()).ok()
}

async fn first_address(name: &str, resolve: Resolve<'_>) -> Result<IpAddr, Failure> {
    let found = resolve(name.to_owned()).await;
    found.first().copied().ok_or_else(|| Failure::LeadsNowhere(name.to_owned()))
}

fn as_fetched((address, arrived): (IpAddr, Result<(), Failure>)) -> CanaryFetch {
    CanaryFetch { address, failure: arrived.err().map(|failure| failure.to_string()) }
}

fn arrived(page: &Page, answer: &str) -> Result<(), Failure> {
    match page.status {
        200 if page.body.trim() == answer => Ok(()),
        200 => Err(Failure::OtherHost),
        status => Err(Failure::Status(status)),
    }
}

/// Plain HTTP leads to HTTPS with one hop: of the host, or of the primary.
fn leads_to_https(page: &Page, expected: &Expected<'_>) -> Result<(), Failure> {
    let Some(location) = page.redirect() else { return Err(Failure::Status(page.status)) };
    let to = Target::parse(location).filter(|to| to.secure);
    let host = to.as_ref().and_then(Target::host);

    let is_own = host == Some(expected.host) && !expected.must_lead;
    let is_primary = host.is_some() && host == expected.primary;
    if is_own || is_primary { Ok(()) } else { Err(Failure::LeadsTo(location.to_owned())) }
}

/// The primary answers itself, the other leads there.
fn leads_on(page: &Page, expected: &Expected<'_>) -> Result<(), Failure> {
    let to = page.redirect().and_then(Target::parse);

    match to.as_ref().and_then(Target::host) {
        Some(host) if Some(host) == expected.primary => Ok(()),
        Some(host) if host == expected.host && !expected.must_lead => Ok(()),
        Some(host) if host == expected.default_host && expected.is_staged => Ok(()),
        Some(host) => Err(Failure::SendsOnTo(host.to_owned())),
        None if expected.must_lead => Err(Failure::Status(page.status)),
        None => Ok(()),
    }
}
