//! What goes wrong on the way to a customer's own addresses, in words that
//! follow "it".

use std::net::IpAddr;
use std::time::Duration;

use nomenta_dns::NoConnection;
use rustls_pki_types::InvalidDnsNameError;
use thiserror::Error;

use crate::x509::ReadError;

/// Why a probe or a canary did not get through.
#[derive(Debug, Error)]
pub enum Failure {
    /// There is no connection.
    #[error(transparent)]
    Connection(#[from] NoConnection),
    /// The handshake failed.
    #[error(transparent)]
    Handshake(#[from] std::io::Error),
    /// TLS has no room for such a name.
    #[error(transparent)]
    Name(#[from] InvalidDnsNameError),
    /// The certificate that was sent cannot be read.
    #[error(transparent)]
    Certificate(#[from] ReadError),
    /// It does not speak HTTP as it should.
    #[error(transparent)]
    Http(#[from] hyper::Error),
    /// The redirect cannot be put into a request.
    #[error(transparent)]
    Request(#[from] hyper::http::Error),
    /// The body is larger than what is read, in octets.
    #[error("it sends more than {} KiB", .0 / 1024)]
    TooLarge(usize),
    /// The whole of it took too long.
    #[error("no answer within {} s", .0.as_secs())]
    TooSlow(Duration),
    /// The handshake ended without a certificate.
    #[error("no certificate was sent")]
    NoCertificate,
    /// The certificate does not lead to a trusted root, or is not for the name.
    #[error("its certificate is not to be trusted: {0}")]
    Untrusted(String),
    /// It knows nothing of challenges by TLS (RFC 8737, section 4).
    #[error("it does not speak acme-tls/1")]
    NoAcmeTls,
    /// The certificate that it answers with carries no digest.
    #[error("it answers no challenge")]
    NoChallenge,
    /// An address answers a challenge with another digest.
    #[error("{0} answers another challenge")]
    OtherChallenge(IpAddr),
    /// What one of several addresses did.
    #[error("{0}: {1}")]
    At(IpAddr, #[source] Box<Failure>),
    /// A response of another status than wanted.
    #[error("it answers with status {0}")]
    Status(u16),
    /// The page is not the one that the platform's edge gives.
    #[error("another host answers there")]
    OtherHost,
    /// A redirect to a name that has no address.
    #[error("it leads to {0}, which has no address")]
    LeadsNowhere(String),
    /// A redirect to an address that the egress guard bars.
    #[error("it leads to {0}: {1}")]
    LeadsToBarred(IpAddr, #[source] NoConnection),
    /// A redirect that CAs do not follow.
    #[error("it leads to the bare address {0}, which CAs do not follow")]
    LeadsToAddress(IpAddr),
    /// A redirect to another port than the well-known ones.
    #[error("it leads to port {0}, which CAs do not follow")]
    LeadsToPort(u16),
    /// A redirect that cannot be read.
    #[error("it leads to {0}, which is no web address")]
    LeadsToNonsense(String),
    /// A redirect to somewhere else than wanted.
    #[error("it leads to {0}")]
    LeadsTo(String),
    /// The other one of a pair leads visitors astray.
    #[error("it sends visitors on to {0}")]
    SendsOnTo(String),
    /// Redirects without an end.
    #[error("it redirects more than {0} times")]
    TooManyRedirects(usize),
    /// Its network was visited for many domains a moment ago.
    #[error("{0} was visited often just now, and is left alone for a minute")]
    VisitedOften(IpAddr),
    /// Search engines may list the default host.
    #[error("it sends no such header")]
    NoRobots,
}
