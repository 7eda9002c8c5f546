//! A domain as the judgement sees it.

use chrono::{DateTime, Utc};

use crate::gate::Gates;
use crate::hostname::Hostname;
use crate::ingress::{Ingress, Platform};
use crate::sheet::Sheet;
use crate::token::Token;

/// A domain and what the platform expects of it.
#[derive(Clone, Debug)]
pub struct Domain {
    /// The name.
    pub host: Hostname,
    /// The site it will show.
    pub site: String,
    /// The ingress of that site.
    pub ingress: Ingress,
    /// The verification token.
    pub token: Token,
    /// The gates as they stood before this look.
    pub gates: Gates,
    /// The zone's apex as last found, else the registered domain.
    pub zone: String,
    /// Fingerprint of the survey before this one.
    pub fingerprint: Option<i64>,
    /// Looks in a row that found nothing new.
    pub quiet_looks: i32,
    /// When the domain was taken in.
    pub enrolled_at: DateTime<Utc>,
}

impl Domain {
    /// The sheet, relative to `zone`.
    pub fn sheet(&self, platform: &Platform, zone: &str) -> Sheet {
        Sheet::draw(platform, &self.host, zone, &self.token, &self.ingress, &self.site)
    }
}
