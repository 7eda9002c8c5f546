//! Leaves an HTTPS record behind whose hints lead elsewhere.

use nomenta_core::name::dns::DnsName;
use nomenta_core::reading::record::RecordData;

use crate::customer::Right;
use crate::customer::mistakes::{Place, Serving, Slip};
use crate::layout::FORMER;
use crate::zones::Change;

pub(super) const SLIP: Slip = Slip { place: Place::Apex, records, serving: Serving::by_its_own };

fn records(right: &Right<'_>) -> anyhow::Result<Vec<Change>> {
    let hints = vec![FORMER.into()];
    Ok(right.beside(RecordData::Https { priority: 1, target: DnsName::root(), hints }))
}
