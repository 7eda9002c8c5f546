//! The platform and a domain of its, for tests and benchmarks from outside.

use std::collections::BTreeSet;
use std::net::Ipv6Addr;

use chrono::{DateTime, Duration, Utc};
use nomenta_core::judge::domain::{Domain, Ties};
use nomenta_core::judge::gate::Gates;
use nomenta_core::name::platform::Platform;
use nomenta_core::name::subject::Subject;
use nomenta_core::name::token::Token;
use nomenta_core::sheet::ingress::{CanonicalHost, Ingress};

/// The zone of every domain.
pub(crate) const ZONE: &str = "onswick.example";

/// A moment.
pub(crate) fn start() -> DateTime<Utc> {
    DateTime::from_timestamp(1_790_000_000, 0).expect("in range")
}

/// The platform.
pub(crate) fn platform() -> Platform {
    Platform {
        zone: "quaymark.example".into(),
        brand: "quaymark".into(),
        proof_zone: Some("proof.quaymark.example".into()),
        acme_zone: None,
        dns_for_all: false,
        special_use: vec!["example".into(), "test".into()],
        reserved: Vec::new(),
    }
}

/// A domain that was just taken in, its token replaced once.
pub(crate) fn domain(typed: &str) -> Domain {
    let subject = Subject::parse(typed).expect("a name");
    Domain {
        host: subject.host,
        wildcard: subject.wildcard,
        site: "onswick".into(),
        ingress: Ingress {
            name: "harbour".into(),
            revision: 1,
            ipv4: BTreeSet::from([[127, 77, 0, 10].into(), [127, 77, 0, 11].into()]),
            ipv6: BTreeSet::from([Ipv6Addr::LOCALHOST]),
            canonical: CanonicalHost::parse("{site}.edge.quaymark.example").expect("valid"),
            name_servers: ["ns1.quaymark.example".into()].into(),
            subdomain_addresses: true,
        },
        token: Token::from_random([7; 20]),
        token_expires_at: start() + Duration::days(30),
        superseded: vec![Token::from_random([9; 20])],
        mail_before: Vec::new(),
        moved_at: start() - Duration::days(1),
        gates: Gates::new(start()),
        zone: ZONE.into(),
        fingerprint: None,
        enrolled_at: start(),
        pair: None,
        ties: Ties::default(),
    }
}
