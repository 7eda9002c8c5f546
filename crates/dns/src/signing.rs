//! The records of the chain of trust, read from their octets (RFC 4034).

use chrono::DateTime;
use hickory_proto::dnssec::rdata::{DNSKEY as WireKey, DNSSECRData, DS as WireSigner};
use hickory_proto::rr::{Name, RData, RecordType as WireType};
use hickory_proto::serialize::binary::{BinDecoder, Restrict};
use nomenta_core::reading::record::RecordType;
use nomenta_core::reading::signature::Signature;
use nomenta_core::reading::trust::{Signer, Trust, ZoneKey};

/// Numbers of the types (RFC 4034).
pub(crate) const DS: u16 = RecordType::Ds.number();
pub(crate) const RRSIG: u16 = 46;
pub(crate) const DNSKEY: u16 = RecordType::Dnskey.number();

/// A record of the chain of trust in an answer; of what a digest is made of, the octets too.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum TrustRecord {
    Signer(Signer, Vec<u8>),
    Key(ZoneKey, Vec<u8>),
    Signature(Signature),
}

impl TrustRecord {
    pub(crate) fn signer(&self) -> Option<Signer> {
        match self {
            Self::Signer(signer, _) => Some(*signer),
            Self::Key(..) | Self::Signature(_) => None,
        }
    }

    pub(crate) fn signature(&self) -> Option<Signature> {
        match self {
            Self::Signature(signature) => Some(*signature),
            Self::Signer(..) | Self::Key(..) => None,
        }
    }
}

/// The chain of trust to the zone at `apex` that some records make up; `keys` are none where no
/// server gave any answer about them.
pub(crate) fn chain(
    apex: &Name,
    signers: &[TrustRecord],
    keys: Option<&[TrustRecord]>,
    signatures: impl IntoIterator<Item = Signature>,
) -> Trust {
    let mut trust = Trust { signatures: signatures.into_iter().collect(), ..Trust::default() };

    let mut octets = Vec::new();
    for record in keys.unwrap_or_default() {
        if let TrustRecord::Key(key, rdata) = record {
            trust.keys.get_or_insert_default().push(*key);
            octets.push((*key, rdata.as_slice()));
        }
    }
    trust.keys = trust.keys.or(keys.map(|_| Vec::new()));

    for record in signers {
        if let TrustRecord::Signer(signer, rdata) = record {
            let keys = octets.iter().filter(|(key, _)| is_meant(signer, key));
            let fits = keys.filter_map(|(_, key)| covers(apex, rdata, key)).reduce(|one, other| one || other);
            trust.signers.push(Signer { fits, ..*signer });
        }
    }
    trust
}

fn is_meant(signer: &Signer, key: &ZoneKey) -> bool {
    signer.key_tag == key.key_tag && signer.algorithm == key.algorithm
}

/// Whether a DS record has the digest of a key (RFC 4034, section 5.1.4); `None` where it cannot
/// be made.
fn covers(apex: &Name, signer: &[u8], key: &[u8]) -> Option<bool> {
    match (rdata(WireType::DS, signer)?, rdata(WireType::DNSKEY, key)?) {
        (DNSSECRData::DS(signer), DNSSECRData::DNSKEY(key)) => covered(apex, &signer, &key),
        _ => None,
    }
}

fn covered(apex: &Name, signer: &WireSigner, key: &WireKey) -> Option<bool> {
    signer.covers(apex, key).ok()
}

fn rdata(rtype: WireType, octets: &[u8]) -> Option<DNSSECRData> {
    let length = Restrict::new(u16::try_from(octets.len()).ok()?);
    match RData::read(&mut BinDecoder::new(octets), rtype, length).ok()? {
        RData::DNSSEC(rdata) => Some(rdata),
        _ => None,
    }
}

/// Reads a value of type `rtype`; `None` for another type, or if it is cut short.
pub(crate) fn read(rtype: u16, rdata: &[u8]) -> Option<TrustRecord> {
    match rtype {
        DS => signer(rdata).map(|signer| TrustRecord::Signer(signer, rdata.to_vec())),
        DNSKEY => zone_key(rdata).map(|key| TrustRecord::Key(key, rdata.to_vec())),
        RRSIG => signature(rdata).map(TrustRecord::Signature),
        _ => None,
    }
}

/// Key tag, algorithm, digest type, digest (section 5.1).
fn signer(rdata: &[u8]) -> Option<Signer> {
    let [tag_high, tag_low, algorithm, digest_type] = *rdata.first_chunk()?;
    let key_tag = u16::from_be_bytes([tag_high, tag_low]);
    Some(Signer { key_tag, algorithm, digest_type, fits: None })
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
        assert_eq!(read, Some(TrustRecord::Key(ZoneKey { key_tag: 60485, algorithm: 5 }, rdata)));
    }

    #[test]
    fn the_digest_of_a_key_is_that_of_the_example_in_the_rfc() {
        // RFC 4034, section 5.4, and RFC 4509, section 2.3.
        let key = "AQOeiiR0GOMYkDshWoSKz9XzfwJr1AYtsmx3TGkJaNXVbfi/2pHm822aJ5iI9BMzNXxeYCmZDRD99WYwYqUSdjMm\
                   mAphXdvxegXd/M5+X7OrzKBaMbCVdFLUUh6DhweJBjEVv5f2wwjM9XzcnOf+EPbtG9DMBmADjFDc2w/rljwvFw==";
        let key =
            [&[1, 0, 3, 5], &data_encoding::BASE64.decode(key.as_bytes()).expect("base64")[..]].concat();
        let key = read(DNSKEY, &key).expect("a key");
        let owner = Name::from_ascii("dskey.example.com.").expect("a name");

        let sha1 = "2bb183af5f22588179a53b0a98631fad1a292118";
        let sha256 = "d4b7d520e7bb5f0f67674a0cceb1e3e0614b93c4f9e99b8383f6a1e4469da50a";
        let vouches = |digest_type: u8, digest: &str| {
            let digest = data_encoding::HEXLOWER.decode(digest.as_bytes()).expect("hexadecimal");
            let signer = read(DS, &[&[0xec, 0x45, 5, digest_type][..], &digest].concat()).expect("a signer");
            chain(&owner, &[signer], Some(std::slice::from_ref(&key)), []).signers[0].fits
        };
        assert_eq!([vouches(1, sha1), vouches(2, sha256)], [Some(true); 2]);
        assert_eq!(vouches(2, &sha256.replace("d4b7", "d4b8")), Some(false));
        assert_eq!(vouches(99, sha256), None, "nobody knows how that digest is made");
    }

    #[test]
    fn what_is_cut_short_is_left_out() {
        assert_eq!(read(DS, &[0, 7, 13]), None);
        assert_eq!(read(RRSIG, &[0; 17]), None);
        assert_eq!(read(1, &[0; 40]), None);
        let signer = Signer { key_tag: 7, algorithm: 13, digest_type: 2, fits: None };
        let rdata = vec![0, 7, 13, 2, 9];
        assert_eq!(read(DS, &rdata), Some(TrustRecord::Signer(signer, rdata)));
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
