//! Leaves an IPv6 address behind that leads elsewhere.

use std::net::Ipv6Addr;

use nomenta_core::reading::record::{RecordData, RecordType};
use nomenta_core::sheet::line::Purpose;

use crate::customer::mistakes::{Place, Serving, Slip};
use crate::customer::{Right, add, chosen};
use crate::zones::Change;

/// An address that nobody is at.
const STRAY: Ipv6Addr = Ipv6Addr::new(0x2001, 0xdb8, 0, 0, 0, 0, 0, 7);

pub(super) const SLIP: Slip = Slip { place: Place::Apex, records, serving: Serving::by_its_own };

fn records(right: &Right<'_>) -> anyhow::Result<Vec<Change>> {
    let mut changes = right.ownership.clone();

    for line in chosen(right.sheet, Purpose::Routing) {
        if line.rtype == RecordType::A {
            changes.push(add(line)?);
        }
    }

    changes.push(right.at_host(RecordData::Aaaa(STRAY)));
    Ok(changes)
}
