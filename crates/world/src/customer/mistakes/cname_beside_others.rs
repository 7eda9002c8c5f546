//! Leaves text where the CNAME has to stand.

use nomenta_core::reading::record::RecordData;

use crate::customer::Right;
use crate::customer::mistakes::{Place, Serving, Slip};
use crate::zones::Change;

pub(super) const SLIP: Slip = Slip { place: Place::Subdomain, records, serving: Serving::by_its_own };

fn records(right: &Right<'_>) -> anyhow::Result<Vec<Change>> {
    Ok(right.instead_of_routing(RecordData::Txt("checked-by=former-host".into())))
}
