//! Who really calls, where a proxy stands in front: only proxies that are named are believed.

use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;

use axum::extract::{ConnectInfo, Request, State};
use axum::http::{HeaderMap, HeaderName, header};
use axum::middleware::Next;
use axum::response::Response;
use ipnet::IpNet;

use crate::App;

/// What proxies add that do not speak RFC 7239.
const X_FORWARDED_FOR: HeaderName = HeaderName::from_static("x-forwarded-for");

/// Takes the caller's address from what trusted proxies say.
pub(crate) async fn behind_proxies(
    State(app): State<Arc<App>>,
    mut request: Request,
    next: Next,
) -> Response {
    let trusted = &app.config.trusted_proxies;
    let peer = request.extensions().get::<ConnectInfo<SocketAddr>>().map(|ConnectInfo(peer)| *peer);
    if let Some(peer) = peer.filter(|_| !trusted.is_empty()) {
        let caller = caller(peer.ip(), request.headers(), trusted);
        request.extensions_mut().insert(ConnectInfo(SocketAddr::new(caller, peer.port())));
    }
    next.run(request).await
}

/// Whether an address is one of a proxy that is believed.
pub(crate) fn is_trusted(trusted: &[IpNet], address: IpAddr) -> bool {
    trusted.iter().any(|network| network.contains(&address.to_canonical()))
}

/// The last address on the way that no trusted proxy has.
fn caller(peer: IpAddr, headers: &HeaderMap, trusted: &[IpNet]) -> IpAddr {
    let mut caller = peer;
    for before in way(headers).into_iter().rev() {
        if !is_trusted(trusted, caller) {
            break;
        }
        // Whoever hides is not to be told from the proxy.
        let Some(before) = before else { break };
        caller = before;
    }
    caller
}

/// The addresses on the way, the one that began it first (RFC 7239, section 4).
fn way(headers: &HeaderMap) -> Vec<Option<IpAddr>> {
    let lines = |name: HeaderName| headers.get_all(name).into_iter().filter_map(|line| line.to_str().ok());
    let told = lines(header::FORWARDED).flat_map(|line| line.split(','));
    let way: Vec<_> = told.map(|hop| hop.split(';').find_map(of_pair)).collect();
    if !way.is_empty() {
        return way;
    }
    lines(X_FORWARDED_FOR).flat_map(|line| line.split(',')).map(address).collect()
}

fn of_pair(pair: &str) -> Option<IpAddr> {
    let (name, value) = pair.trim().split_once('=')?;
    if name.eq_ignore_ascii_case("for") { address(value) } else { None }
}

/// An address as proxies write it: in quotes, in brackets, with a port.
fn address(text: &str) -> Option<IpAddr> {
    let text = text.trim().trim_matches('"');
    let bare = text.strip_prefix('[').and_then(|rest| rest.split(']').next());
    let parsed = bare.unwrap_or(text).parse().ok();
    parsed.or_else(|| text.parse::<SocketAddr>().ok().map(|with_port| with_port.ip()))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn caller_by(name: &'static str, value: &str) -> String {
        let trusted = ["10.0.0.0/8", "2001:db8:1::/48"].map(|network| network.parse().expect("a network"));
        let mut headers = HeaderMap::new();
        headers.insert(name, value.parse().expect("a value"));
        caller([10, 0, 0, 1].into(), &headers, &trusted).to_string()
    }

    #[test]
    fn the_last_address_that_is_no_proxys_is_the_callers() {
        for (value, caller) in [
            ("192.0.2.7", "192.0.2.7"),
            ("198.51.100.1, 192.0.2.7", "192.0.2.7"),
            ("198.51.100.1, 192.0.2.7, 10.0.0.9", "192.0.2.7"),
            ("[2001:db8:2::7]:4711", "2001:db8:2::7"),
            ("192.0.2.7:4711", "192.0.2.7"),
            ("nobody", "10.0.0.1"),
        ] {
            assert_eq!(caller_by("x-forwarded-for", value), caller, "{value}");
        }
        for (value, caller) in [
            ("for=192.0.2.7;proto=https", "192.0.2.7"),
            ("for=198.51.100.1, proto=https;For=\"[2001:db8:2::7]:80\", for=10.1.1.1", "2001:db8:2::7"),
            ("for=_hidden", "10.0.0.1"),
        ] {
            assert_eq!(caller_by("forwarded", value), caller, "{value}");
        }
    }

    #[test]
    fn whoever_is_no_trusted_proxy_is_the_caller_whatever_they_say() {
        let mut headers = HeaderMap::new();
        headers.insert("x-forwarded-for", "192.0.2.7".parse().expect("a value"));
        let peer = IpAddr::from([203, 0, 113, 5]);
        assert_eq!(caller(peer, &headers, &["10.0.0.0/8".parse().expect("a network")]), peer);
    }
}
