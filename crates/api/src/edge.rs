//! What the platform's edge servers are given.

use nomenta_core::name::dns::DnsName;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// What the platform's edge needs.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct EdgeFeed {
    /// Number of the latest change that is in it: where a stream of changes is
    /// to begin.
    pub position: i64,
    /// Hosts and what they show.
    pub routes: Vec<EdgeRoute>,
    /// Chains and keys, by host.
    pub certificates: Vec<EdgeCertificate>,
    /// Certificates for the protocol `acme-tls/1` alone (RFC 8737), by host.
    pub challenges: Vec<EdgeCertificate>,
}

/// One host.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct EdgeRoute {
    /// The customer's domain, `*.` before it for every name under it; or a
    /// site's default host.
    pub host: DnsName,
    /// The site to show.
    pub site: String,
    /// The site's default host.
    pub default_host: DnsName,
    /// Where visitors of `/` enter.
    pub entry_path: String,
    /// What they get when something is missing.
    pub error_path: String,
    /// The primary of the pair: every visitor is sent on there, by HTTPS and
    /// with one hop.
    pub redirect_to: Option<DnsName>,
    /// Whether its hour is still to come: until then visitors are sent on to the default
    /// host, for now and not for good (307).
    #[serde(default)]
    pub is_staged: bool,
    /// Whether to answer with `X-Robots-Tag: noindex`.
    pub noindex: bool,
}

/// A certificate with its key.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct EdgeCertificate {
    /// The name it is served for.
    pub host: DnsName,
    /// Chain as PEM, leaf first.
    pub chain_pem: String,
    /// Private key as PKCS #8 PEM.
    pub key_pem: String,
}

/// What the edge needs for one host from now on; what is missing is to be
/// dropped.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct EdgeChange {
    /// The host.
    pub host: DnsName,
    /// Its route.
    pub route: Option<EdgeRoute>,
    /// Its certificate.
    pub certificate: Option<EdgeCertificate>,
    /// Its certificate for `acme-tls/1`.
    pub challenge: Option<EdgeCertificate>,
}

/// Long poll of the feed.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct FeedQuery {
    /// Seconds to wait for a change when the ETag still holds.
    #[param(minimum = 0, maximum = 55)]
    pub wait: Option<u64>,
}

/// Where to begin the stream of changes.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct ChangesQuery {
    /// Position of the snapshot, or number of the last change seen.
    #[param(minimum = 0)]
    pub after: Option<i64>,
}
