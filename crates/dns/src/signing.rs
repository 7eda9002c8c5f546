//! The records of the chain of trust, read from their octets (RFC 4034).

use chrono::DateTime;
use nomenta_core::reading::record::RecordType;
use nomenta_core::reading::trust::{Signature, Signer, ZoneKey};

/// Numbers of the types (RFC 4034).
pub(crate) const DS: u16 = RecordType::Ds.number();
pub(crate) const RRSIG: u16 = 46;
pub(crate) const DNSKEY: u16 = RecordType::Dnskey.number();

/// A record of the chain of trust in an answer.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum TrustRecord {
    Signer(Signer),
    Key(ZoneKey),
    Signature(Signature),
}

/// Reads a value of type `rtype`; `None` for another type, or if it is cut short.
pub(crate) fn read(rtype: u16, rdata: &[u8]) -> Option<TrustRecord> {
    match rtype {
        DS => signer(rdata).map(TrustRecord::Signer),
        DNSKEY => zone_key(rdata).map(TrustRecord::Key),
        RRSIG => signature(rdata).map(TrustRecord::Signature),
        _ => None,
    }
}

/// Key tag, algorithm, digest type, digest (section 5.1).
fn signer(rdata: &[u8]) -> Option<Signer> {
    let [tag_high, tag_low, algorithm, digest_type] = *rdata.first_chunk()?;
    Some(Signer { key_tag: u16::from_be_bytes([tag_high, tag_low]), algorithm, digest_type })
}

/// Flags, protocol, algorithm, key (section 2.1); the tag is a sum over all of
/// it (appendix B).
fn zone_key(rdata: &[u8]) -> Option<ZoneKey> {
    let [_, _, _, algorithm] = *rdata.first_chunk()?;

    let mut sum = 0_u32;
    for pair in rdata.chunks(2) {
        let low = pair.get(1).copied().unwrap_or(0);
        sum = sum.wrapping_add(u16::from_be_bytes([pair[0], low]).into());
    }
    let folded = sum.wrapping_add(sum >> 16) & 0xffff;

    Some(ZoneKey { key_tag: u16::try_from(folded).ok()?, algorithm })
}

/// Type covered, algorithm, labels, TTL, end, begin, key tag, signer and
/// signature (section 3.1).
fn signature(rdata: &[u8]) -> Option<Signature> {
    let head: &[u8; 18] = rdata.first_chunk()?;
    let moment = |at: usize| {
        let seconds = u32::from_be_bytes([head[at], head[at + 1], head[at + 2], head[at + 3]]);
        DateTime::from_timestamp(seconds.into(), 0)
    };

    Some(Signature {
        covered: u16::from_be_bytes([head[0], head[1]]),
        key_tag: u16::from_be_bytes([head[16], head[17]]),
        begins: moment(12)?,
        ends: moment(8)?,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_tag_of_a_key_is_that_of_the_example_in_the_rfc() {
        // RFC 4034, section 5.4: the DNSKEY of dskey.example.com has the tag 60485.
        let key = "AQOeiiR0GOMYkDshWoSKz9XzfwJr1AYtsmx3TGkJaNXVbfi/2pHm822aJ5iI9BMzNXxeYCmZDRD99WYwYqUSdjMm\
                   mAphXdvxegXd/M5+X7OrzKBaMbCVdFLUUh6DhweJBjEVv5f2wwjM9XzcnOf+EPbtG9DMBmADjFDc2w/rljwvFw==";
        let key = data_encoding::BASE64.decode(key.as_bytes()).expect("base64");
        let rdata = [&[1, 0, 3, 5], &key[..]].concat();
        let read = read(DNSKEY, &rdata);
        assert_eq!(read, Some(TrustRecord::Key(ZoneKey { key_tag: 60485, algorithm: 5 })));
    }

    #[test]
    fn what_is_cut_short_is_left_out() {
        assert_eq!(read(DS, &[0, 7, 13]), None);
        assert_eq!(read(RRSIG, &[0; 17]), None);
        assert_eq!(read(1, &[0; 40]), None);
        let signer = Signer { key_tag: 7, algorithm: 13, digest_type: 2 };
        assert_eq!(read(DS, &[0, 7, 13, 2, 9]), Some(TrustRecord::Signer(signer)));
    }

    #[test]
    fn a_signature_has_its_times() {
        let rdata = [&[0, 6, 13, 2, 0, 0, 0, 60][..], &100_u32.to_be_bytes(), &50_u32.to_be_bytes(), &[0, 7]]
            .concat();
        let Some(TrustRecord::Signature(read)) = read(RRSIG, &rdata) else { panic!("unread") };
        assert_eq!((read.covered, read.key_tag), (6, 7));
        assert_eq!((read.begins.timestamp(), read.ends.timestamp()), (50, 100));
    }
}
