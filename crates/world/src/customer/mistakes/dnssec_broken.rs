//! Has a signature announced at the registry that the zone does not have.

use crate::customer::as_on_the_sheet;
use crate::customer::mistakes::{Place, Serving, Slip};

pub(super) const SLIP: Slip = Slip { place: Place::Anywhere, records: as_on_the_sheet, serving };

fn serving(_zone: &str) -> Serving {
    Serving::Signed
}
