//! The chain of trust from the zone above to a zone (RFC 4035), as far as it can
//! be told without checking a signature: who is to have signed, who did, and
//! until when that holds.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};

/// A DS record at the zone above (RFC 4034, section 5).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Signer {
    /// Tag of the key that it vouches for.
    pub key_tag: u16,
    /// That key's algorithm, by its number in the IANA registry.
    pub algorithm: u8,
    /// How the digest was made, by its number in the IANA registry.
    pub digest_type: u8,
}

/// A DNSKEY record of the zone (RFC 4034, section 2).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ZoneKey {
    /// Tag (RFC 4034, appendix B).
    pub key_tag: u16,
    /// Algorithm, by its number in the IANA registry.
    pub algorithm: u8,
}

/// An RRSIG record of the zone (RFC 4034, section 3).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Signature {
    /// The type of what is signed, by its number.
    pub covered: u16,
    /// Tag of the key that made it.
    pub key_tag: u16,
    /// From when on it holds.
    pub begins: DateTime<Utc>,
    /// Until when it holds.
    pub ends: DateTime<Utc>,
}

/// What is known of a zone's chain of trust.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Trust {
    /// The DS set at the zone above. Without any the zone is unsigned, whatever
    /// stands in it (RFC 4035, section 5.2).
    pub signers: Vec<Signer>,
    /// The zone's own keys; `None` where no server gave them.
    pub keys: Option<Vec<ZoneKey>>,
    /// Signatures over the keys and over the SOA record.
    pub signatures: Vec<Signature>,
}

crate::spelled! {
    /// What the zone above says of a zone's signatures.
    #[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
    pub enum Signed: "answer about signatures" {
        /// It vouches for keys, so resolvers that check signatures accept nothing forged.
        Signed = "signed",
        /// It vouches for none.
        Unsigned = "unsigned",
        /// Its servers did not say.
        Untold = "untold",
    }
}

/// Where a chain of trust breaks.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Break {
    /// The zone is not signed, although the zone above says so.
    Unsigned,
    /// None of the zone's keys is one that the zone above vouches for, by tag.
    NoKey(Vec<u16>),
    /// The zone above vouches for keys of algorithms that resolvers do not know.
    UnknownAlgorithm(Vec<u8>),
    /// The signatures ran out then.
    Expired(DateTime<Utc>),
    /// The signatures hold from then on.
    NotYet(DateTime<Utc>),
    /// All is there that can be told apart, so a digest or a signature is wrong.
    Wrong,
}

/// Numbers of types that are asked for with their signatures.
const SOA: u16 = 6;
const DNSKEY: u16 = 48;

/// Algorithms that validators know (RFC 8624, section 3.1).
const KNOWN: [u8; 8] = [5, 7, 8, 10, 13, 14, 15, 16];

impl Trust {
    /// Whether resolvers that check signatures have to check this zone's.
    pub fn is_signed(&self) -> bool {
        !self.signers.is_empty()
    }

    /// Where the chain breaks at `now`, of the breaks that show from here; `None`
    /// for an unsigned zone. It says nothing about whether it does break.
    pub fn break_at(&self, now: DateTime<Utc>) -> Option<Break> {
        if !self.is_signed() {
            return None;
        }

        let known: Vec<_> = self.signers.iter().filter(|s| KNOWN.contains(&s.algorithm)).collect();
        if known.is_empty() {
            return Some(Break::UnknownAlgorithm(self.signers.iter().map(|s| s.algorithm).collect()));
        }

        let Some(keys) = &self.keys else { return Some(Break::Wrong) };
        if keys.is_empty() {
            return Some(Break::Unsigned);
        }

        let vouched: Vec<u16> = known
            .iter()
            .filter(|s| keys.iter().any(|k| k.key_tag == s.key_tag && k.algorithm == s.algorithm))
            .map(|signer| signer.key_tag)
            .collect();
        if vouched.is_empty() {
            return Some(Break::NoKey(known.iter().map(|signer| signer.key_tag).collect()));
        }

        let of_keys = self.over(DNSKEY).filter(|signature| vouched.contains(&signature.key_tag));
        let untimely = untimely(of_keys, now).or_else(|| untimely(self.over(SOA), now));
        Some(untimely.unwrap_or(Break::Wrong))
    }

    fn over(&self, covered: u16) -> impl Iterator<Item = &Signature> {
        self.signatures.iter().filter(move |signature| signature.covered == covered)
    }
}

/// Why none of these signatures holds now; `None` if one does.
fn untimely<'a>(signatures: impl Iterator<Item = &'a Signature>, now: DateTime<Utc>) -> Option<Break> {
    let signatures: Vec<_> = signatures.collect();
    let Some(last) = signatures.iter().map(|signature| signature.ends).max() else {
        return Some(Break::Unsigned);
    };
    if last < now {
        return Some(Break::Expired(last));
    }

    let first = signatures.iter().filter(|s| s.ends >= now).map(|s| s.begins).min();
    first.filter(|begins| *begins > now).map(Break::NotYet)
}

#[cfg(test)]
mod tests {
    use chrono::Duration;

    use super::*;

    const NOW: DateTime<Utc> = DateTime::UNIX_EPOCH;

    fn signature(covered: u16, key_tag: u16, begins: i64, ends: i64) -> Signature {
        Signature {
            covered,
            key_tag,
            begins: NOW + Duration::hours(begins),
            ends: NOW + Duration::hours(ends),
        }
    }

    fn sound() -> Trust {
        Trust {
            signers: vec![Signer { key_tag: 7, algorithm: 13, digest_type: 2 }],
            keys: Some(vec![ZoneKey { key_tag: 7, algorithm: 13 }]),
            signatures: vec![signature(DNSKEY, 7, -1, 1), signature(SOA, 9, -1, 1)],
        }
    }

    #[test]
    fn each_break_is_told_from_the_others() {
        let far = NOW + Duration::hours(1);
        let past = NOW - Duration::hours(1);
        let unknown = vec![Signer { key_tag: 7, algorithm: 200, digest_type: 2 }];

        for (trust, want) in [
            (Trust { signers: Vec::new(), ..sound() }, None),
            (sound(), Some(Break::Wrong)),
            (Trust { keys: None, ..sound() }, Some(Break::Wrong)),
            (Trust { keys: Some(Vec::new()), ..sound() }, Some(Break::Unsigned)),
            (Trust { signatures: Vec::new(), ..sound() }, Some(Break::Unsigned)),
            (Trust { signers: unknown, ..sound() }, Some(Break::UnknownAlgorithm(vec![200]))),
            (
                Trust { keys: Some(vec![ZoneKey { key_tag: 8, algorithm: 13 }]), ..sound() },
                Some(Break::NoKey(vec![7])),
            ),
            (Trust { signatures: vec![signature(DNSKEY, 7, -2, -1)], ..sound() }, Some(Break::Expired(past))),
            (
                Trust { signatures: vec![signature(DNSKEY, 7, -1, 1), signature(SOA, 9, 1, 2)], ..sound() },
                Some(Break::NotYet(far)),
            ),
        ] {
            assert_eq!(trust.break_at(NOW), want);
        }
    }
}
