//! The canary: a file that is fetched on the path on which the CA will fetch its own.

use std::net::IpAddr;

use serde::{Deserialize, Serialize};

/// A canary fetched through one address.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CanaryFetch {
    /// The address connected to.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub address: IpAddr,
    /// `None` if it arrived, else what came instead.
    pub failure: Option<String>,
}
