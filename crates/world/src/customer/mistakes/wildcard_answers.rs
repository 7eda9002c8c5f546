//! Publishes a wildcard in the place of the host.

use nomenta_core::name::dns::{self, DnsName};
use nomenta_core::reading::record::RecordData;

use crate::customer::mistakes::{Place, Serving, Slip};
use crate::customer::{Right, TTL};
use crate::layout::FORMER;
use crate::zones::Change;

pub(super) const SLIP: Slip = Slip { place: Place::Subdomain, records, serving: Serving::by_its_own };

fn records(right: &Right<'_>) -> anyhow::Result<Vec<Change>> {
    let owner = DnsName::from(dns::parent(right.sheet.host.as_str())).child("*");
    Ok(vec![Change::Add { owner: owner.to_string(), ttl: TTL, data: RecordData::A(FORMER) }])
}
