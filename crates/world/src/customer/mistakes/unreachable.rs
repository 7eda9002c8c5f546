//! Has the zone delegated to a server that is gone.

use crate::customer::mistakes::{Place, Serving, Slip};
use crate::customer::{as_on_the_sheet, gone};

pub(super) const SLIP: Slip = Slip { place: Place::Anywhere, records: as_on_the_sheet, serving };

fn serving(zone: &str) -> Serving {
    Serving::Delegated(vec![gone(zone)])
}
