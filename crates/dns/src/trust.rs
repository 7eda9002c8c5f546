//! Where the records of the chain of trust are asked for (RFC 4035).
//!
//! Whether a zone is signed as validators see it takes a chain of DS records from the root, or
//! from a trust anchor that a vantage was given. Nomenta checks no signature itself: a vantage
//! that checks them says so with the AD bit of its answer about the DS record, and where none
//! does, the DS records of every zone above tell whether one could.

use std::net::SocketAddr;

use nomenta_core::name::dns::DnsName;
use nomenta_core::reading::answer::{Rcode, Reading};
use nomenta_core::reading::record::RecordType;
use nomenta_core::reading::signature::Signature;
use nomenta_core::reading::survey::{Authority, Survey};
use nomenta_core::reading::target::{Question, Target};
use nomenta_core::reading::trust::{self, Signed, Signer, Trust};
use tokio::time::timeout_at;

use crate::Surveyor;
use crate::ask::{Ask, Got};
use crate::budget::Round;
use crate::signing::{self, TrustRecord};
use crate::wire::{self, Mode};

/// Servers that are asked for one part of the chain.
const ASKED: usize = 3;
/// Refused answers that the zone's servers are asked for again, with their signatures.
const MAX_REFUSED: usize = 3;
/// Zones above one another that are asked about the one below.
const MAX_ZONES: usize = 16;

impl Surveyor {
    /// Adds what is known of the chain of trust, where a vantage refuses an answer for it, where
    /// the servers of the zone differ in what they sign, or where it decides whose word proves
    /// ownership.
    pub(crate) async fn add_trust(&self, target: &Target, survey: &mut Survey, round: Round<'_>) {
        let Some(apex) = survey.apex().cloned() else { return };
        let is_refused = survey.readings.iter().any(Reading::is_refused_for_its_signatures);
        let is_signed_in_part = trust::is_signed_by_some(&starts(survey, &apex), survey.at);
        let is_about_proof = target.is_unproved && target.proofs().any(|name| survey.has_words_at(&name));

        if is_about_proof || is_signed_in_part || is_refused {
            survey.signed = Some(self.signed(&apex, round).await);
        }
        let is_signed = survey.signed == Some(Signed::Signed);
        if is_refused || (is_signed && trust::has_flaw(&starts(survey, &apex), survey.at)) {
            survey.trust = Some(self.trust(survey, &apex, round).await);
        }
        if is_about_proof && is_signed {
            let checked = self.checked_aliases(target, survey, round).await;
            survey.readings.extend(checked);
        }
    }

    /// What can be seen of the zone's chain of trust.
    async fn trust(&self, survey: &Survey, apex: &DnsName, round: Round<'_>) -> Trust {
        let (_, above) = self.walker.above(apex);
        let servers = survey.servers();
        let (signers, keys, soa, mut answers) = tokio::join!(
            self.trust_records(&above, apex, RecordType::Ds, round),
            self.all_trust_records(servers, apex, RecordType::Dnskey, round),
            self.all_trust_records(servers, apex, RecordType::Soa, round),
            self.refused_answers(survey, apex, round),
        );

        let signatures: Vec<Signature> =
            [&keys, &soa].into_iter().flatten().flatten().filter_map(TrustRecord::signature).collect();
        let Ok(owner) = wire::wire_name(apex) else { return Trust::default() };
        let signers = signers.unwrap_or_default();

        answers.extend(starts(survey, apex).into_iter().cloned());
        Trust { answers, ..signing::chain(&owner, &signers, keys.as_deref(), signatures) }
    }

    /// What each server gives, with its signatures, where a vantage refuses the answer.
    async fn refused_answers(&self, survey: &Survey, apex: &DnsName, round: Round<'_>) -> Vec<Reading> {
        let refused = survey.readings.iter().filter(|reading| reading.is_refused_for_its_signatures());
        let mut list: Vec<Question> = Vec::new();
        for Reading { name, rtype, .. } in refused.filter(|reading| reading.name.is_within(apex)) {
            let is_listed = list.iter().any(|question| question.name == *name && question.rtype == *rtype);
            if !is_listed && list.len() < MAX_REFUSED {
                list.push(Question { name: name.clone(), rtype: *rtype, vantages: false });
            }
        }
        self.put(self.plan_in(Mode::Signed, &list, apex, survey.servers()), round).await
    }

    /// Whether validators have to check the signatures of the zone (RFC 4035, section 5.2).
    async fn signed(&self, apex: &DnsName, round: Round<'_>) -> Signed {
        let (_, above) = self.walker.above(apex);
        match self.trust_records(&above, apex, RecordType::Ds, round).await {
            None => Signed::Untold,
            Some(records) if !is_vouched(&records) => Signed::Unsigned,
            Some(_) if self.is_validated(apex, round).await => Signed::Signed,
            Some(_) if self.is_vouched_from_the_root(apex, round).await => Signed::Signed,
            Some(_) => Signed::Unsigned,
        }
    }

    /// Whether a vantage has checked the DS record of the zone, down from its own trust anchor.
    async fn is_validated(&self, apex: &DnsName, round: Round<'_>) -> bool {
        let question = Question { name: apex.clone(), rtype: RecordType::Ds, vantages: true };
        self.read_vantages(&[&question], round).await.iter().any(|reading| reading.authentic)
    }

    /// Whether every zone above vouches for the one below it, from the root on: a DS record below
    /// an unsigned zone is one that nobody can check.
    async fn is_vouched_from_the_root(&self, apex: &DnsName, round: Round<'_>) -> bool {
        let (mut zone, _) = self.walker.above(apex);
        for _ in 0..MAX_ZONES {
            let (next, above) = self.walker.above(&zone);
            let rtype = if zone.is_root() { RecordType::Dnskey } else { RecordType::Ds };
            let records = self.trust_records(&above, &zone, rtype, round).await;
            // Whoever does not say is no reason to ask for less.
            if records.is_some_and(|records| !has_keys(&records) && !is_vouched(&records)) {
                return false;
            }
            if zone.is_root() {
                return true;
            }
            zone = next;
        }
        true
    }

    /// What each vantage says of an alias where the token is looked for, by itself: the answer
    /// about the token goes on to where the alias leads, which may be an unsigned zone.
    async fn checked_aliases(&self, target: &Target, survey: &Survey, round: Round<'_>) -> Vec<Reading> {
        let mut checked = Vec::new();
        for name in target.proofs() {
            let texts = survey.of(&name, RecordType::Txt).filter(|reading| !reading.source.is_authority());
            let is_unchecked = texts.filter(|reading| reading.is_alias()).any(|reading| !reading.authentic);
            if !is_unchecked {
                continue;
            }

            let question = Question { name, rtype: RecordType::Cname, vantages: true };
            checked.extend(self.read_vantages(&[&question], round).await);
        }
        checked
    }

    /// What the first server that answers has of one type, with its signatures.
    async fn trust_records(
        &self,
        servers: &[Authority],
        name: &DnsName,
        rtype: RecordType,
        round: Round<'_>,
    ) -> Option<Vec<TrustRecord>> {
        self.trust_answers(servers, name, rtype, round).await.into_iter().next()
    }

    /// What all servers that answer have of one type: one of them may give less than the others.
    async fn all_trust_records(
        &self,
        servers: &[Authority],
        name: &DnsName,
        rtype: RecordType,
        round: Round<'_>,
    ) -> Option<Vec<TrustRecord>> {
        let answers = self.trust_answers(servers, name, rtype, round).await;
        let is_answered = !answers.is_empty();

        let mut records: Vec<TrustRecord> = Vec::new();
        for record in answers.into_iter().flatten() {
            if !records.contains(&record) {
                records.push(record);
            }
        }
        is_answered.then_some(records)
    }

    async fn trust_answers(
        &self,
        servers: &[Authority],
        name: &DnsName,
        rtype: RecordType,
        round: Round<'_>,
    ) -> Vec<Vec<TrustRecord>> {
        let admitted = servers.iter().filter(|server| self.config.egress.admits(server.address));
        let asks = admitted.take(ASKED).map(|server| {
            let at = SocketAddr::new(server.address, self.config.authority_port);
            Ask::new(at, name, rtype, Mode::Signed)
        });

        let asked = self.exchange.ask_all(asks.collect(), round.budget);
        let Ok(answers) = timeout_at(round.deadline, asked).await else { return Vec::new() };
        answers.into_iter().filter_map(|(got, _)| trust_of(got)).collect()
    }
}

/// What a usable answer says of the chain of trust.
fn trust_of(got: Got) -> Option<Vec<TrustRecord>> {
    match got {
        // A server of both zones may have no delegation from one to the other.
        Got::Reply(reply)
            if reply.authoritative && matches!(reply.rcode, Rcode::NoError | Rcode::NxDomain) =>
        {
            Some(reply.trust)
        }
        _ => None,
    }
}

/// Whether the zone above has a DS record that validators support.
fn is_vouched(records: &[TrustRecord]) -> bool {
    records.iter().filter_map(TrustRecord::signer).any(|signer: Signer| signer.is_supported())
}

/// Whether a zone has keys of its own.
fn has_keys(records: &[TrustRecord]) -> bool {
    records.iter().any(|record| matches!(record, TrustRecord::Key(..)))
}

/// What each server says of the zone's start, with its signatures.
fn starts<'a>(survey: &'a Survey, apex: &'a DnsName) -> Vec<&'a Reading> {
    survey.of(apex, RecordType::Soa).filter(|reading| reading.source.is_authority()).collect()
}
