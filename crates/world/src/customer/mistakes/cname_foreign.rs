//! Leads the host to a name of the former host.

use nomenta_core::name::dns::DnsName;
use nomenta_core::reading::record::RecordData;

use crate::customer::Right;
use crate::customer::mistakes::{Place, Serving, Slip};
use crate::layout::FORMER_HOST;
use crate::zones::Change;

pub(super) const SLIP: Slip = Slip { place: Place::Subdomain, records, serving: Serving::by_its_own };

fn records(right: &Right<'_>) -> anyhow::Result<Vec<Change>> {
    Ok(right.instead_of_routing(RecordData::Cname(DnsName::from(FORMER_HOST).child("sites"))))
}
