//! Which addresses may be connected to when a customer's zone names them.
//!
//! Without this, a zone could send the service to addresses inside the
//! platform's own network.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::sync::Arc;
use std::time::Duration;

use ipnet::IpNet;
use thiserror::Error;
use tokio::net::TcpStream;
use tokio::time::timeout;

/// What may be connected to, apart from the networks that are listed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Base {
    Public,
    Loopback,
    Nothing,
}

/// The guard of outbound connections whose destination DNS decides. A name is
/// resolved once, its address vetted here, and that very address connected to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Egress {
    base: Base,
    listed: Arc<[IpNet]>,
}

/// Why there is no connection, in words that follow "it".
#[derive(Debug, Error)]
pub enum NoConnection {
    /// The guard does not let it out.
    #[error("this address may not be visited")]
    Refused,
    /// Nobody answers in time.
    #[error("no answer within {0} s")]
    Silent(u64),
    /// It was turned down.
    #[error("no connection: {0}")]
    Failed(std::io::ErrorKind),
}

impl Egress {
    /// Publicly routed unicast addresses.
    pub fn public() -> Self {
        Self { base: Base::Public, listed: Arc::default() }
    }

    /// 127.0.0.0/8 and ::1 alone: the rule of a closed test world.
    pub fn loopback() -> Self {
        Self { base: Base::Loopback, listed: Arc::default() }
    }

    /// Nothing but what [`and`](Self::and) lists.
    pub fn nothing() -> Self {
        Self { base: Base::Nothing, listed: Arc::default() }
    }

    /// The same with these networks permitted too, whatever they are.
    #[must_use]
    pub fn and(self, listed: impl IntoIterator<Item = IpNet>) -> Self {
        Self { listed: listed.into_iter().collect(), ..self }
    }

    /// Whether a packet may go to `address`. An IPv4-mapped IPv6 address is
    /// judged as the IPv4 address that it reaches (RFC 4291, section 2.5.5.2).
    pub fn permits(&self, address: IpAddr) -> bool {
        let address = address.to_canonical();

        let by_rule = match (self.base, address) {
            (Base::Nothing, _) => false,
            (Base::Loopback, address) => address.is_loopback(),
            (Base::Public, IpAddr::V4(address)) => public_v4(address),
            (Base::Public, IpAddr::V6(address)) => public_v6(address),
        };
        by_rule || self.listed.iter().any(|net| net.contains(&address))
    }

    /// As [`permits`](Self::permits), for a destination that is about to be
    /// used; refusals are counted.
    pub fn admits(&self, address: IpAddr) -> bool {
        let admitted = self.permits(address);
        if !admitted {
            metrics::counter!("nomenta_egress_refused_total").increment(1);
        }
        admitted
    }

    /// Connects to this very address, if it is permitted.
    ///
    /// # Errors
    /// [`NoConnection`]; if refused, no packet was sent.
    pub async fn connect(&self, address: SocketAddr, limit: Duration) -> Result<TcpStream, NoConnection> {
        if !self.admits(address.ip()) {
            return Err(NoConnection::Refused);
        }

        match timeout(limit, TcpStream::connect(address)).await {
            Ok(Ok(stream)) => Ok(stream),
            Ok(Err(error)) => Err(NoConnection::Failed(error.kind())),
            Err(_) => Err(NoConnection::Silent(limit.as_secs())),
        }
    }
}

fn public_v4(address: Ipv4Addr) -> bool {
    let [a, b, c, _] = address.octets();

    let special = address.is_private()
        || address.is_loopback()
        || address.is_link_local()
        || address.is_multicast()
        || address.is_broadcast()
        || address.is_documentation();
    let carrier_shared = a == 100 && (64..128).contains(&b);
    let protocol_assignments = (a, b, c) == (192, 0, 0);
    let benchmarking = a == 198 && (18..20).contains(&b);

    !special && !carrier_shared && !protocol_assignments && !benchmarking && a != 0 && a < 240
}

/// Global unicast is 2000::/3; parts of it are not for traffic, or carry an
/// IPv4 address that could be anything (6to4, Teredo).
fn public_v6(address: Ipv6Addr) -> bool {
    let [first, second, ..] = address.segments();

    let global = first & 0xe000 == 0x2000;
    let documentation = (first, second) == (0x2001, 0xdb8) || first == 0x3fff;
    let embedding = first == 0x2002 || (first, second) == (0x2001, 0);

    global && !documentation && !embedding
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_public_rule_refuses_everything_internal() {
        for bad in [
            "10.0.0.1",
            "172.16.3.4",
            "192.168.1.1",
            "127.0.0.1",
            "169.254.169.254",
            "100.64.0.1",
            "0.0.0.0",
            "224.0.0.1",
            "255.255.255.255",
            "192.0.2.7",
            "198.18.0.1",
            "::",
            "::1",
            "::ffff:10.0.0.1",
            "fe80::1",
            "fd00::1",
            "ff02::1",
            "2001:db8::1",
            "2002:a00:1::",
            "64:ff9b::a00:1",
        ] {
            assert!(!Egress::public().permits(bad.parse().expect(bad)), "{bad}");
        }
        assert!(Egress::public().permits("9.1.2.3".parse().expect("address")));
        assert!(Egress::public().permits("2600::1".parse().expect("address")));
    }

    #[test]
    fn the_closed_rule_knows_loopback_alone() {
        for (address, want) in [
            ("127.53.1.1", true),
            ("::1", true),
            ("::ffff:127.0.0.1", true),
            ("192.0.2.7", false),
            ("9.1.2.3", false),
        ] {
            assert_eq!(Egress::loopback().permits(address.parse().expect(address)), want, "{address}");
        }
    }

    #[test]
    fn listed_networks_are_let_out_to_beside_the_rule() {
        let nets = ["127.77.0.0/16", "10.9.0.0/24"].map(|net| net.parse().expect(net));
        let (closed, open) = (Egress::nothing().and(nets), Egress::public().and(nets));
        for (address, by_list, by_both) in [
            ("127.77.0.10", true, true),
            ("::ffff:127.77.0.10", true, true),
            ("127.0.0.1", false, false),
            ("10.9.1.1", false, false),
            ("9.1.2.3", false, true),
        ] {
            let address = address.parse().expect(address);
            assert_eq!((closed.permits(address), open.permits(address)), (by_list, by_both), "{address}");
        }
    }

    #[tokio::test]
    async fn a_refused_address_is_never_connected_to() {
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.expect("bound");
        let address = listener.local_addr().expect("an address");
        let limit = Duration::from_secs(2);
        let refused = Egress::public().connect(address, limit).await;
        assert!(matches!(refused, Err(NoConnection::Refused)));
        Egress::loopback().connect(address, limit).await.expect("connected");
        let (_, from) = listener.accept().await.expect("the permitted one, and no other before it");
        assert!(from.ip().is_loopback());
    }
}
