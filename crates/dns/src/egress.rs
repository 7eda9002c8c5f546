//! Which addresses may be connected to when a customer's zone names them.
//!
//! Without this, a zone could send the service to addresses inside the
//! platform's own network.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// The rule for outbound connections whose destination DNS decides.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Egress {
    /// Publicly routed unicast addresses only.
    Public,
    /// 127.0.0.0/8 and ::1 only: the rule of a closed test world.
    LoopbackOnly,
}

impl Egress {
    /// Whether a packet may go to `address`. An IPv4-mapped IPv6 address is
    /// judged as the IPv4 address that it reaches (RFC 4291, section 2.5.5.2).
    pub fn permits(self, address: IpAddr) -> bool {
        let address = address.to_canonical();
        match (self, address) {
            (Self::LoopbackOnly, address) => address.is_loopback(),
            (Self::Public, IpAddr::V4(address)) => public_v4(address),
            (Self::Public, IpAddr::V6(address)) => public_v6(address),
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
    use super::Egress::{LoopbackOnly, Public};

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
            assert!(!Public.permits(bad.parse().expect(bad)), "{bad}");
        }
        assert!(Public.permits("9.1.2.3".parse().expect("address")));
        assert!(Public.permits("2600::1".parse().expect("address")));
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
            assert_eq!(LoopbackOnly.permits(address.parse().expect(address)), want, "{address}");
        }
    }
}
