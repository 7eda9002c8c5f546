//! Publishes the target as text.

use nomenta_core::reading::record::RecordData;

use crate::customer::Right;
use crate::customer::mistakes::{Place, Serving, Slip};
use crate::zones::Change;

pub(super) const SLIP: Slip = Slip { place: Place::Subdomain, records, serving: Serving::by_its_own };

fn records(right: &Right<'_>) -> anyhow::Result<Vec<Change>> {
    let target = right.sheet.canonical.to_string();
    Ok(right.instead_of_routing(RecordData::Txt(target.as_str().into())))
}
