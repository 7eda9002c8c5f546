//! Leaves the final dot out of a target, so that the editor appends the zone.

use nomenta_core::reading::record::RecordData;

use crate::customer::Right;
use crate::customer::mistakes::{Place, Serving, Slip};
use crate::zones::Change;

pub(super) const SLIP: Slip = Slip { place: Place::Subdomain, records, serving: Serving::by_its_own };

fn records(right: &Right<'_>) -> anyhow::Result<Vec<Change>> {
    let target = right.sheet.zone.child(&right.sheet.canonical);
    Ok(right.instead_of_routing(RecordData::Cname(target)))
}
