//! Visits to a domain's own addresses: the canary before an order, the probe
//! after it. Every connection goes through the egress guard.

use std::io;
use std::net::{IpAddr, SocketAddr};
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use futures::future::{BoxFuture, join_all};
use nomenta_core::evidence::{CanaryFetch, Forward, Probe, ProbeResult};
use nomenta_dns::Egress;
use rustls::RootCertStore;
use tokio::net::TcpStream;
use tokio::time::timeout;

use crate::http::{self, Page};
use crate::seal::Sealer;
use crate::tls::{Handshaker, Served};
use crate::url::{Place, Target};

/// Foreign addresses that are visited.
const MOST_FOREIGN: usize = 4;
/// Redirects followed on the way to a canary.
const MOST_REDIRECTS: usize = 5;

/// How visits are made.
#[derive(Clone, Debug)]
pub struct VisitorConfig {
    /// Port of plain HTTP; 80 outside of test worlds.
    pub http_port: u16,
    /// Port of HTTPS; 443 outside of test worlds.
    pub https_port: u16,
    /// Longest time for one visit.
    pub patience: Duration,
    /// Which addresses may be visited.
    pub egress: Egress,
}

/// Finds the addresses of a host that a redirect names.
pub type Resolve<'a> = &'a (dyn Fn(String) -> BoxFuture<'a, Vec<IpAddr>> + Sync);

/// What a visitor should find.
#[derive(Clone, Copy, Debug)]
pub struct Wish<'a> {
    /// The name to visit.
    pub host: &'a str,
    /// The primary of the pair, where it is not that itself.
    pub primary: Option<&'a str>,
    /// Whether it must lead there by now.
    pub must_lead: bool,
    /// The site's default host, which should be kept out of search indexes.
    pub default_host: &'a str,
}

/// Makes visits.
pub struct Visitor {
    config: VisitorConfig,
    tls: Handshaker,
}

impl Visitor {
    /// A visitor that trusts the roots in the PEM file `roots`.
    ///
    /// # Errors
    /// If the file cannot be read or holds no certificate.
    pub fn new(config: VisitorConfig, roots: &Path) -> io::Result<Self> {
        Ok(Self { config, tls: Handshaker::new(roots)? })
    }

    /// The roots that served chains must lead to.
    pub fn roots(&self) -> &Arc<RootCertStore> {
        &self.tls.roots
    }

    /// Fetches a canary of `host` through each address, on the path that a CA
    /// will use (RFC 8555, section 8.3), following redirects as a CA does.
    pub async fn canary(
        &self,
        host: &str,
        addresses: &[IpAddr],
        sealer: &Sealer,
        resolve: Resolve<'_>,
    ) -> Vec<CanaryFetch> {
        let token = sealer.canary_token();
        let answer = sealer.canary_answer(&token).unwrap_or_default();
        let path = format!("/.well-known/acme-challenge/{token}");
        join_all(addresses.iter().map(|address| async {
            let fetched = self.within(self.fetch(host, *address, &path, resolve)).await;
            let failure = fetched.and_then(|page| arrived(&page, &answer)).err();
            CanaryFetch { address: *address, failure }
        }))
        .await
    }

    /// GETs a path, following redirects: on the same host through the same
    /// address, on another one through the first address that it has.
    async fn fetch(
        &self,
        host: &str,
        address: IpAddr,
        path: &str,
        resolve: Resolve<'_>,
    ) -> Result<Page, String> {
        let mut at =
            Target { secure: false, place: Place::Host(host.to_owned()), port: None, path: path.to_owned() };
        for _ in 0..=MOST_REDIRECTS {
            let (to, name) = match &at.place {
                Place::Host(name) if name == host => (address, name.clone()),
                Place::Host(name) => {
                    let found = resolve(name.clone()).await;
                    let first =
                        found.first().ok_or_else(|| format!("it leads to {name}, which has no address"))?;
                    (*first, name.clone())
                }
                // CAs follow redirects to names alone; the guard has its say first.
                Place::Address(ip) => {
                    drop(self.connect(*ip, at.secure).await.map_err(|e| format!("it leads to {ip}: {e}"))?);
                    return Err(format!("it leads to the bare address {ip}, which CAs do not follow"));
                }
            };
            self.check_port(&at)?;
            let page = self.get(&at, to, &name).await?;
            let Some(location) = page.redirect() else { return Ok(page) };
            at = at
                .join(location)
                .ok_or_else(|| format!("it leads to {location}, which is no web address"))?;
        }
        Err(format!("it redirects more than {MOST_REDIRECTS} times"))
    }

    /// CAs follow redirects to the two well-known ports alone.
    fn check_port(&self, target: &Target) -> Result<(), String> {
        let own = if target.secure { self.config.https_port } else { self.config.http_port };
        match target.port {
            Some(port) if port != own => Err(format!("it leads to port {port}, which CAs do not follow")),
            _ => Ok(()),
        }
    }

    async fn get(&self, target: &Target, address: IpAddr, host: &str) -> Result<Page, String> {
        let stream = self.connect(address, target.secure).await?;
        if target.secure {
            let served = self.tls.visit(host, stream).await?;
            return http::get(served.stream, host, &target.path).await;
        }
        http::get(stream, host, &target.path).await
    }

    /// Where each foreign address sends visitors of `host` on to, if anywhere
    /// else.
    pub async fn forwards(&self, host: &str, addresses: &[IpAddr]) -> Vec<Forward> {
        let visits = addresses.iter().copied().take(MOST_FOREIGN).map(|address| async move {
            let page = self.within(self.plain(address, host)).await.ok()?;
            let location = page.redirect()?.to_owned();
            let to = Target::parse(&location)?;
            (to.host() != Some(host)).then_some(Forward { address, location })
        });
        join_all(visits).await.into_iter().flatten().collect()
    }

    async fn plain(&self, address: IpAddr, host: &str) -> Result<Page, String> {
        let stream = self.connect(address, false).await?;
        http::get(stream, host, "/").await
    }

    /// Visits each address as a browser does: certificate, names and dates; HTTP
    /// to HTTPS; the other one of a pair to the primary with one hop.
    pub async fn probe(&self, wish: &Wish<'_>, addresses: &[IpAddr], ingress: Option<IpAddr>) -> Probe {
        let results = join_all(addresses.iter().map(|address| self.probe_one(wish, *address)));
        let default_host = async {
            let address = ingress?;
            self.within(self.default_host(wish.default_host, address)).await.err()
        };
        let (results, default_host) = tokio::join!(results, default_host);
        Probe { results, default_host }
    }

    async fn probe_one(&self, wish: &Wish<'_>, address: IpAddr) -> ProbeResult {
        let secure = self.within(async {
            let stream = self.connect(address, true).await?;
            let Served { stream, facts, fault } = self.tls.visit(wish.host, stream).await?;
            let page = http::get(stream, wish.host, "/").await;
            Ok((facts, fault, page))
        });
        let plain = self.within(self.plain(address, wish.host));
        let (secure, plain) = tokio::join!(secure, plain);
        let redirect_failure = plain.and_then(|page| leads_to_https(&page, wish)).err();
        match secure {
            Err(failure) => ProbeResult {
                address,
                served: None,
                tls_failure: Some(failure),
                redirect_failure,
                pair_failure: None,
            },
            Ok((facts, fault, page)) => {
                let pair_failure = page.and_then(|page| leads_on(&page, wish)).err();
                let (served, tls_failure) = (Some(facts), fault);
                ProbeResult { address, served, tls_failure, redirect_failure, pair_failure }
            }
        }
    }

    async fn default_host(&self, host: &str, address: IpAddr) -> Result<(), String> {
        let stream = self.connect(address, true).await?;
        let served = self.tls.visit(host, stream).await?;
        let page = http::get(served.stream, host, "/").await?;
        let robots = page.robots.unwrap_or_default().to_ascii_lowercase();
        match robots.split(',').any(|word| matches!(word.trim(), "noindex" | "none")) {
            true => Ok(()),
            false => Err("it sends no such header".into()),
        }
    }

    /// Whether every address answers a challenge for `host` by TLS with this
    /// digest; the error names the first that does not.
    ///
    /// # Errors
    /// A sentence.
    pub async fn answers_by_tls(
        &self,
        host: &str,
        digest: &[u8; 32],
        addresses: &[IpAddr],
    ) -> Result<(), String> {
        for address in addresses {
            let answered = self.within(async {
                let stream = self.connect(*address, true).await?;
                self.tls.challenge(host, stream).await
            });
            match answered.await {
                Ok(found) if found.ends_with(digest) => {}
                Ok(_) => return Err(format!("{address} answers another challenge")),
                Err(failure) => return Err(format!("{address}: {failure}")),
            }
        }
        Ok(())
    }

    async fn connect(&self, address: IpAddr, secure: bool) -> Result<TcpStream, String> {
        let port = if secure { self.config.https_port } else { self.config.http_port };
        let connected = self.config.egress.connect(SocketAddr::new(address, port), self.config.patience);
        connected.await.map_err(|e| e.to_string())
    }

    async fn within<T>(&self, visit: impl Future<Output = Result<T, String>>) -> Result<T, String> {
        let seconds = self.config.patience.as_secs();
        timeout(self.config.patience, visit).await.map_err(|_| format!("no answer within {seconds} s"))?
    }
}

fn arrived(page: &Page, answer: &str) -> Result<(), String> {
    match page.status {
        200 if page.body.trim() == answer => Ok(()),
        200 => Err("another host answers there".into()),
        status => Err(format!("it answers with status {status}")),
    }
}

/// Plain HTTP leads to HTTPS with one hop: of the host, or of the primary.
fn leads_to_https(page: &Page, wish: &Wish<'_>) -> Result<(), String> {
    let Some(location) = page.redirect() else {
        return Err(format!("it answers with status {}", page.status));
    };
    let to = Target::parse(location).filter(|to| to.secure);
    let host = to.as_ref().and_then(Target::host);
    let own = host == Some(wish.host) && !wish.must_lead;
    match own || (host.is_some() && host == wish.primary) {
        true => Ok(()),
        false => Err(format!("it leads to {location}")),
    }
}

/// The primary answers itself, the other leads there.
fn leads_on(page: &Page, wish: &Wish<'_>) -> Result<(), String> {
    let to = page.redirect().and_then(Target::parse);
    match to.as_ref().and_then(Target::host) {
        Some(host) if Some(host) == wish.primary => Ok(()),
        Some(host) if host == wish.host && !wish.must_lead => Ok(()),
        Some(host) => Err(format!("it sends visitors on to {host}")),
        None if wish.must_lead => Err(format!("it answers with status {}", page.status)),
        None => Ok(()),
    }
}
