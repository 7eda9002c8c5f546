//! Claims of one name over time, in whatever order things happen: never two holders,
//! never a route without a held and proved claim, and every claim ends or is live.

use GateState::{Lapsed, Passed, Waiting};
use chrono::{DateTime, Duration, Utc};
use nomenta_core::claim::rivals::{self, Change, Claim, ClaimId, Contest, ContestId, Rivals, Side};
use nomenta_core::claim::rules::Rules;
use nomenta_core::judge::gate::GateState;
use nomenta_core::judge::standing::Phase;
use proptest::prelude::*;

/// What may happen to the claims of a name.
#[derive(Clone, Debug)]
enum Happens {
    Enrols,
    Owns(usize, GateState),
    Certifies(usize, GateState),
    Ends(usize),
    Ruled(usize, Side),
    Passes(i64),
}

/// A name as its records would have it.
struct Name {
    rivals: Rivals,
    now: DateTime<Utc>,
    made: u128,
    ended: Vec<ClaimId>,
}

impl Name {
    fn new() -> Self {
        let now = DateTime::from_timestamp(1_790_000_000, 0).expect("a moment");
        Self { rivals: Rivals::default(), now, made: 0, ended: Vec::new() }
    }

    fn id(&mut self) -> u128 {
        self.made += 1;
        self.made
    }

    fn happens(&mut self, what: &Happens) {
        let count = self.rivals.claims.len().max(1);
        match what {
            Happens::Enrols => {
                let id = ClaimId(self.id());
                let now = self.now;
                let new =
                    Claim { id, holds: false, ownership: Waiting, owned_since: now, certificate: Waiting };
                self.rivals.claims.push(new);
            }
            Happens::Owns(index, state) => {
                let now = self.now;
                if let Some(claim) = self.rivals.claims.get_mut(index % count) {
                    // A gate that was never passed does not lapse.
                    let state =
                        if *state == Lapsed && !claim.ownership.is_reached() { Waiting } else { *state };
                    (claim.ownership, claim.owned_since) = (state, now);
                }
            }
            Happens::Certifies(index, state) => {
                let contests = self.rivals.contests.clone();
                if let Some(claim) = self.rivals.claims.get_mut(index % count) {
                    let handed =
                        contests.iter().any(|c| c.challenger == claim.id && c.phase == Phase::Handover);
                    // Nobody else is issued one.
                    claim.certificate = if claim.holds || handed { *state } else { claim.certificate };
                }
            }
            Happens::Ends(index) => {
                if let Some(claim) = self.rivals.claims.get(index % count).copied() {
                    self.end(claim.id);
                }
            }
            Happens::Ruled(index, side) => {
                let count = self.rivals.contests.len().max(1);
                if let Some(contest) = self.rivals.contests.get_mut(index % count) {
                    contest.ruled_for = Some(*side);
                }
            }
            Happens::Passes(hours) => self.now += Duration::hours(*hours),
        }
        self.settle();
    }

    fn end(&mut self, id: ClaimId) {
        self.rivals.claims.retain(|claim| claim.id != id);
        self.ended.push(id);
    }

    fn settle(&mut self) {
        for _ in 0..64 {
            let before = self.rivals.clone();
            let changes = rivals::settle(&self.rivals, &Rules::default(), self.now);
            if changes.is_empty() {
                return self.check();
            }
            for change in &changes {
                self.apply(change, &before);
            }
        }
        panic!("never settles: {:?}", self.rivals);
    }

    fn apply(&mut self, change: &Change, before: &Rivals) {
        match *change {
            Change::Take(id) => self.with(id, |claim| claim.holds = true),
            Change::Drop(id) => self.with(id, |claim| claim.holds = false),
            Change::Lose(id) => {
                let was_holder = before.claims.iter().any(|claim| claim.id == id && claim.holds);
                let is_ready = |claim: &Claim| claim.ownership == Passed && claim.certificate == Passed;
                let next = before.claims.iter().any(|claim| !claim.holds && is_ready(claim));
                assert!(!was_holder || next, "the winner's certificate comes first");
                self.end(id);
            }
            Change::Open { holder, challenger } => {
                let id = ContestId(self.id());
                let phase = Phase::Ruling;
                let contest = Contest { id, holder, challenger, phase, grace_ends_at: None, ruled_for: None };
                self.rivals.contests.push(contest);
            }
            Change::Advance { contest, phase, grace_ends_at } => self.with_contest(contest, |one| {
                (one.phase, one.grace_ends_at) = (phase, grace_ends_at);
            }),
            Change::Face { contest, holder } => self.with_contest(contest, |one| {
                *one = Contest { holder, phase: Phase::Ruling, grace_ends_at: None, ruled_for: None, ..*one };
            }),
            Change::Settle { contest, .. } => self.rivals.contests.retain(|one| one.id != contest),
        }
    }

    fn with(&mut self, id: ClaimId, change: impl Fn(&mut Claim)) {
        self.rivals.claims.iter_mut().filter(|claim| claim.id == id).for_each(change);
    }

    fn with_contest(&mut self, id: ContestId, change: impl Fn(&mut Contest)) {
        self.rivals.contests.iter_mut().filter(|contest| contest.id == id).for_each(change);
    }

    fn check(&self) {
        let claims = &self.rivals.claims;
        let holders: Vec<_> = claims.iter().filter(|claim| claim.holds).collect();
        assert!(holders.len() <= 1, "two holders: {holders:?}");
        assert!(holders.iter().all(|holder| holder.ownership.is_reached()), "held without a proof");

        let proved: Vec<_> = claims.iter().filter(|claim| claim.ownership.is_reached()).collect();
        assert_eq!(holders.is_empty(), proved.is_empty(), "a proved name has a holder");
        assert_eq!(self.rivals.contests.len(), proved.len().saturating_sub(1), "each further proof contends");
        for contest in &self.rivals.contests {
            assert!(holders.iter().any(|holder| holder.id == contest.holder), "it is against the holder");
            assert!(proved.iter().any(|claim| claim.id == contest.challenger && !claim.holds));
        }
        assert!(claims.iter().all(|claim| !self.ended.contains(&claim.id)), "the dead stay dead");
    }

    /// What comes of it all once everyone does what they are there for: the CA issues,
    /// engineers rule, grace and patience run out.
    fn play_out(&mut self) {
        for _ in 0..200 {
            self.happens(&Happens::Passes(25));
            if let Some(index) = self.rivals.claims.iter().position(|claim| claim.ownership == Lapsed) {
                self.happens(&Happens::Owns(index, Waiting));
            }
            for index in 0..self.rivals.claims.len() {
                if self.rivals.claims.get(index).is_some_and(|claim| claim.ownership.is_reached()) {
                    self.happens(&Happens::Certifies(index, Passed));
                }
            }
            if self.rivals.contests.iter().any(|contest| contest.phase == Phase::Ruling) {
                self.happens(&Happens::Ruled(0, Side::Holder));
            }
        }
        while let Some(index) = self.rivals.claims.iter().position(|claim| !claim.ownership.is_reached()) {
            self.happens(&Happens::Ends(index));
        }
    }
}

fn happens() -> impl Strategy<Value = Happens> {
    let state = prop_oneof![3 => Just(Passed), 1 => Just(Lapsed), 1 => Just(Waiting)];
    let side = prop_oneof![Just(Side::Holder), Just(Side::Challenger)];
    prop_oneof![
        2 => Just(Happens::Enrols),
        6 => (0..6usize, state.clone()).prop_map(|(index, state)| Happens::Owns(index, state)),
        4 => (0..6usize, state).prop_map(|(index, state)| Happens::Certifies(index, state)),
        1 => (0..6usize).prop_map(Happens::Ends),
        1 => (0..6usize, side).prop_map(|(index, side)| Happens::Ruled(index, side)),
        2 => (1..40i64).prop_map(Happens::Passes),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig {
        cases: if std::env::var_os("NOMENTA_FULL").is_some() { 20_000 } else { 2_000 },
        failure_persistence: None,
        ..ProptestConfig::default()
    })]

    #[test]
    fn never_two_holders_and_every_claim_ends_or_is_live(story in prop::collection::vec(happens(), 1..60)) {
        let mut name = Name::new();
        for event in &story {
            name.happens(event);
        }

        name.play_out();
        let left = &name.rivals.claims;
        prop_assert!(left.len() <= 1 && name.rivals.contests.is_empty(), "{left:?}");
        let is_live = |claim: &Claim| claim.holds && claim.certificate == Passed;
        prop_assert!(left.iter().all(is_live), "{left:?}");
    }
}
