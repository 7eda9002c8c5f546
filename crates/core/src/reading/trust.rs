//! The chain of trust from the zone above to a zone (RFC 4035), as far as it can
//! be told without checking a signature: who is to have signed, who did, and
//! until when that holds.
//!
//! A DS record whose algorithm or digest no validator supports makes a zone insecure, which is
//! as good as unsigned (RFC 4035, section 5.2; RFC 6840, section 5.2). Where a chain does break,
//! the answers of each server, asked for with their signatures, tell which part of it is at
//! fault: the DS record, the signatures, one server of several, or one answer.

use std::collections::BTreeSet;

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};

use crate::name::dns::DnsName;
use crate::reading::answer::{Reading, Source};
use crate::reading::record::RecordType;
use crate::reading::signature::Signature;

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
    /// Whether its digest is that of a key of the zone; none where no key has its tag and
    /// algorithm.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fits: Option<bool>,
}

impl Signer {
    /// Whether validators support its algorithm and its digest; one that they do not is as good
    /// as none (RFC 4035, section 5.2).
    pub fn is_supported(&self) -> bool {
        ALGORITHMS.contains(&self.algorithm) && DIGESTS.contains(&self.digest_type)
    }
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
    /// What each server gave when it was asked for signatures too: its SOA record, and the
    /// answers that a vantage refuses.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub answers: Vec<Reading>,
}

crate::spelled! {
    /// What the zone above says of a zone's signatures.
    #[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
    pub enum Signed: "answer about signatures" {
        /// It vouches for keys, so resolvers that check signatures accept nothing forged.
        Signed = "signed",
        /// It vouches for none that validators support, or no validator can check that it does.
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
    /// No server of the zone gives its keys.
    NoKeys,
    /// None of the zone's keys is one that the zone above vouches for, by tag.
    NoKey(Vec<u16>),
    /// The keys with these tags are there, and the zone above has digests of others.
    WrongDigest(Vec<u16>),
    /// The signatures ran out then.
    Expired(DateTime<Utc>),
    /// The signatures hold from then on.
    NotYet(DateTime<Utc>),
    /// Some servers of several give what validators refuse.
    Servers(Vec<Source>, Flaw),
    /// Every server signs what it holds, and gives this one answer without a signature: it is
    /// made up while it is asked for, as an alias is that is turned into addresses.
    UnsignedAnswer(DnsName, RecordType),
    /// All is there and in time, so a signature does not fit.
    BadSignature,
}

/// What validators would refuse about an answer, of what shows without checking a signature.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Flaw {
    /// It has no signature.
    Unsigned,
    /// Its signatures ran out then.
    Expired(DateTime<Utc>),
    /// Its signatures hold from then on.
    NotYet(DateTime<Utc>),
}

impl From<Flaw> for Break {
    fn from(flaw: Flaw) -> Self {
        match flaw {
            Flaw::Unsigned => Self::Unsigned,
            Flaw::Expired(at) => Self::Expired(at),
            Flaw::NotYet(at) => Self::NotYet(at),
        }
    }
}

/// Numbers of types that are asked for with their signatures.
const SOA: u16 = RecordType::Soa.number();
const DNSKEY: u16 = RecordType::Dnskey.number();

/// Algorithms that validators support (RFC 8624, section 3.1).
const ALGORITHMS: [u8; 8] = [5, 7, 8, 10, 13, 14, 15, 16];
/// Digests that they support (RFC 8624, section 3.3).
const DIGESTS: [u8; 3] = [1, 2, 4];

impl Trust {
    /// Whether resolvers that check signatures have to check this zone's.
    pub fn is_signed(&self) -> bool {
        self.signers.iter().any(Signer::is_supported)
    }

    /// Where the chain breaks at `now`, of the breaks that show from here; `None`
    /// for an unsigned zone. It says nothing about whether it does break.
    pub fn break_at(&self, now: DateTime<Utc>) -> Option<Break> {
        if !self.is_signed() {
            return None;
        }

        let Some(keys) = &self.keys else { return Some(Break::NoKeys) };
        if keys.is_empty() {
            return Some(Break::Unsigned);
        }

        let found = match self.vouched(keys) {
            Err(broken) => broken,
            Ok(vouched) => self.break_below(&vouched, now),
        };
        Some(found)
    }

    /// Tags of the keys that the zone above vouches for.
    ///
    /// # Errors
    /// The break, where there is none.
    fn vouched(&self, keys: &[ZoneKey]) -> Result<Vec<u16>, Break> {
        let supported: Vec<_> = self.signers.iter().filter(|signer| signer.is_supported()).collect();
        let is_there = |signer: &Signer| {
            keys.iter().any(|k| k.key_tag == signer.key_tag && k.algorithm == signer.algorithm)
        };
        let (there, missing): (Vec<&Signer>, Vec<&Signer>) =
            supported.into_iter().partition(|signer| is_there(signer));
        if there.is_empty() {
            return Err(Break::NoKey(missing.iter().map(|signer| signer.key_tag).collect()));
        }

        let fitting: Vec<_> = there.iter().filter(|signer| signer.fits != Some(false)).collect();
        if fitting.is_empty() {
            return Err(Break::WrongDigest(there.iter().map(|signer| signer.key_tag).collect()));
        }
        Ok(fitting.iter().map(|signer| signer.key_tag).collect())
    }

    /// Where it breaks below keys that are vouched for.
    fn break_below(&self, vouched: &[u16], now: DateTime<Utc>) -> Break {
        if let Some(broken) = self.break_at_some_servers(now) {
            return broken;
        }

        let of_keys = self.over(DNSKEY).filter(|signature| vouched.contains(&signature.key_tag));
        let flaw = flaw_of(of_keys, now).or_else(|| flaw_of(self.over(SOA), now));
        if let Some(flaw) = flaw {
            return flaw.into();
        }

        let mut flaws = self.answers.iter().filter_map(|answer| Some((answer, flaw_in(answer, now)?)));
        match flaws.next() {
            Some((answer, Flaw::Unsigned)) => Break::UnsignedAnswer(answer.name.clone(), answer.rtype),
            Some((_, flaw)) => flaw.into(),
            None => Break::BadSignature,
        }
    }

    /// Servers that answer with a flaw what others answer without one.
    fn break_at_some_servers(&self, now: DateTime<Utc>) -> Option<Break> {
        for answer in &self.answers {
            let of: Vec<_> = self.answers.iter().filter(|other| is_same_question(answer, other)).collect();
            let flawed: Vec<_> = of.iter().filter_map(|one| Some((*one, flaw_in(one, now)?))).collect();
            let usable = of.iter().filter(|one| is_telling(one)).count();

            if let Some((_, flaw)) = flawed.first().filter(|_| flawed.len() < usable) {
                let servers: BTreeSet<_> = flawed.iter().map(|(one, _)| one.source.clone()).collect();
                return Some(Break::Servers(servers.into_iter().collect(), *flaw));
            }
        }
        None
    }

    fn over(&self, covered: u16) -> impl Iterator<Item = &Signature> {
        self.signatures.iter().filter(move |signature| signature.covered == covered)
    }
}

/// Whether servers of one zone differ in what validators make of the same answer, by what shows
/// without checking a signature.
pub fn is_signed_by_some(answers: &[&Reading], now: DateTime<Utc>) -> bool {
    let telling: Vec<_> = answers.iter().filter(|answer| is_telling(answer)).collect();
    let flawed = telling.iter().filter(|answer| flaw_in(answer, now).is_some()).count();
    0 < flawed && flawed < telling.len()
}

/// Whether validators refuse what some server of a signed zone gives, by what shows without
/// checking a signature.
pub fn has_flaw(answers: &[&Reading], now: DateTime<Utc>) -> bool {
    answers.iter().any(|answer| flaw_in(answer, now).is_some())
}

fn is_same_question(one: &Reading, other: &Reading) -> bool {
    one.name == other.name && one.rtype == other.rtype
}

/// Whether an answer says anything about signatures: without EDNS none can be asked for.
fn is_telling(answer: &Reading) -> bool {
    answer.answer().is_some() && !answer.is_lame() && !answer.without_edns
}

/// What validators would refuse about one answer.
fn flaw_in(answer: &Reading, now: DateTime<Utc>) -> Option<Flaw> {
    if is_telling(answer) { flaw_of(answer.signatures.iter(), now) } else { None }
}

/// Why none of these signatures holds now; `None` if one does.
fn flaw_of<'a>(signatures: impl Iterator<Item = &'a Signature>, now: DateTime<Utc>) -> Option<Flaw> {
    let signatures: Vec<_> = signatures.collect();
    let Some(last) = signatures.iter().map(|signature| signature.ends).max() else {
        return Some(Flaw::Unsigned);
    };
    if last < now {
        return Some(Flaw::Expired(last));
    }

    let first = signatures.iter().filter(|s| s.ends >= now).map(|s| s.begins).min();
    first.filter(|begins| *begins > now).map(Flaw::NotYet)
}

#[cfg(test)]
mod tests {
    use chrono::Duration;

    use super::*;
    use crate::reading::answer::{Outcome, Rcode};
    use crate::test;

    const NOW: DateTime<Utc> = DateTime::UNIX_EPOCH;
    const SIGNER: Signer = Signer { key_tag: 7, algorithm: 13, digest_type: 2, fits: Some(true) };

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
            signers: vec![SIGNER],
            keys: Some(vec![ZoneKey { key_tag: 7, algorithm: 13 }]),
            signatures: vec![signature(DNSKEY, 7, -1, 1), signature(SOA, 9, -1, 1)],
            answers: Vec::new(),
        }
    }

    fn answer(server: u8, name: &str, signatures: &[Signature]) -> Reading {
        let outcome = Outcome::Answer { rcode: Rcode::NoError, authoritative: true, records: Vec::new() };
        let reading = Reading::new(test::authority(server), name.into(), RecordType::A, outcome, 1);
        Reading { signatures: signatures.to_vec(), ..reading }
    }

    #[test]
    fn each_break_is_told_from_the_others() {
        let far = NOW + Duration::hours(1);
        let past = NOW - Duration::hours(1);

        for (trust, want) in [
            (Trust { signers: Vec::new(), ..sound() }, None),
            (sound(), Some(Break::BadSignature)),
            (Trust { keys: None, ..sound() }, Some(Break::NoKeys)),
            (Trust { keys: Some(Vec::new()), ..sound() }, Some(Break::Unsigned)),
            (Trust { signatures: Vec::new(), ..sound() }, Some(Break::Unsigned)),
            (
                Trust { keys: Some(vec![ZoneKey { key_tag: 8, algorithm: 13 }]), ..sound() },
                Some(Break::NoKey(vec![7])),
            ),
            (
                Trust { signers: vec![Signer { fits: Some(false), ..SIGNER }], ..sound() },
                Some(Break::WrongDigest(vec![7])),
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

    #[test]
    fn a_ds_record_that_no_validator_supports_signs_nothing() {
        for (algorithm, digest_type) in [(200, 2), (1, 2), (13, 3), (13, 99)] {
            let trust = Trust { signers: vec![Signer { algorithm, digest_type, ..SIGNER }], ..sound() };
            assert!(!trust.is_signed(), "{algorithm} {digest_type}");
            assert_eq!(trust.break_at(NOW), None);
        }
        let beside = Signer { algorithm: 200, ..SIGNER };
        assert!(Trust { signers: vec![beside, SIGNER], ..sound() }.is_signed(), "one that they do is enough");
    }

    #[test]
    fn servers_that_differ_are_named_and_an_answer_that_nobody_signs_too() {
        let good = [signature(1, 9, -1, 1)];
        let old = [signature(1, 9, -2, -1)];
        let broken = |answers: Vec<Reading>| Trust { answers, ..sound() }.break_at(NOW);
        let second = || vec![test::authority(2)];

        assert_eq!(
            broken(vec![answer(1, "a", &good), answer(2, "a", &[])]),
            Some(Break::Servers(second(), Flaw::Unsigned))
        );
        assert_eq!(
            broken(vec![answer(1, "a", &good), answer(2, "a", &old)]),
            Some(Break::Servers(second(), Flaw::Expired(NOW - Duration::hours(1))))
        );
        assert_eq!(
            broken(vec![answer(1, "a", &[]), answer(2, "a", &[])]),
            Some(Break::UnsignedAnswer("a".into(), RecordType::A))
        );
        assert_eq!(broken(vec![answer(1, "a", &good), answer(2, "b", &good)]), Some(Break::BadSignature));
    }

    #[test]
    fn a_server_that_is_asked_without_edns_says_nothing_of_signatures() {
        let signed = answer(1, "a", &[signature(1, 9, -1, 1)]);
        let bare = Reading { without_edns: true, ..answer(2, "a", &[]) };
        assert!(!is_signed_by_some(&[&signed, &bare], NOW));
        assert!(is_signed_by_some(&[&signed, &answer(2, "a", &[])], NOW));
        assert!(!is_signed_by_some(&[&answer(1, "a", &[]), &answer(2, "a", &[])], NOW), "an unsigned zone");
    }
}
