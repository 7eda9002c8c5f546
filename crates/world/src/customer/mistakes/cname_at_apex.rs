//! Uses an operator that publishes a CNAME in the place of the zone itself.

use crate::customer::as_on_the_sheet;
use crate::customer::mistakes::{Place, Serving, Slip};
use crate::odd::{self, Manner};

pub(super) const SLIP: Slip = Slip { place: Place::Apex, records: as_on_the_sheet, serving };

fn serving(_zone: &str) -> Serving {
    Serving::At(vec![odd::server(Manner::Alias)])
}
