//! The open claims of one name and the contests between them, and what has to
//! become of them.
//!
//! [`settle`] is one pure function, asked after anything has happened to any of
//! them: a look, the end of a claim, a ruling. It never leaves two holders, nor
//! one that is not proved.

use chrono::{DateTime, Utc};

use crate::claim::rules::Rules;
use crate::judge::gate::GateState;
use crate::judge::standing::Phase;

/// Tells claims apart.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct ClaimId(pub u128);

/// Tells contests apart.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct ContestId(pub u128);

crate::spelled! {
    /// A side of a contest.
    #[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
    pub enum Side: "side of a contest" {
        /// Who has the name.
        Holder = "holder",
        /// Who has proved itself beside.
        Challenger = "challenger",
    }
}

crate::spelled! {
    /// How a contest ended.
    #[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
    pub enum Outcome: "outcome of a contest" {
        /// The challenger has the name now.
        Switched = "switched",
        /// The holder kept it.
        Kept = "kept",
        /// The challenger is no longer there, or no longer proved.
        Withdrawn = "withdrawn",
    }
}

/// An open claim, as far as it matters to the others.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Claim {
    /// Which.
    pub id: ClaimId,
    /// Whether it holds the name.
    pub holds: bool,
    /// Its ownership gate.
    pub ownership: GateState,
    /// Since when that stands as it does.
    pub owned_since: DateTime<Utc>,
    /// Its certificate gate.
    pub certificate: GateState,
}

impl Claim {
    fn is_proved(&self) -> bool {
        self.ownership.is_reached()
    }

    /// Whether the name can be switched to it without a visitor noticing.
    fn is_ready(&self) -> bool {
        self.ownership == GateState::Passed && self.certificate == GateState::Passed
    }
}

/// A contest that is not settled.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Contest {
    /// Which.
    pub id: ContestId,
    /// Who has the name, or had it until now.
    pub holder: ClaimId,
    /// Who has proved itself beside.
    pub challenger: ClaimId,
    /// How far it has come.
    pub phase: Phase,
    /// Until when the holder may put its token back.
    pub grace_ends_at: Option<DateTime<Utc>>,
    /// What an engineer has ruled.
    pub ruled_for: Option<Side>,
}

/// One thing that has to be done to the records.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Change {
    /// The claim holds the name from now on.
    Take(ClaimId),
    /// It no longer does, and stays a claim.
    Drop(ClaimId),
    /// It has lost the name for good.
    Lose(ClaimId),
    /// Two claims contend from now on.
    Open {
        /// Who has the name.
        holder: ClaimId,
        /// Who has proved itself.
        challenger: ClaimId,
    },
    /// A contest comes to another phase.
    Advance {
        /// Which.
        contest: ContestId,
        /// To which.
        phase: Phase,
        /// Until when the holder may put its token back.
        grace_ends_at: Option<DateTime<Utc>>,
    },
    /// A contest goes on against a new holder, from the start.
    Face {
        /// Which.
        contest: ContestId,
        /// Whom.
        holder: ClaimId,
    },
    /// A contest is over.
    Settle {
        /// Which.
        contest: ContestId,
        /// How.
        outcome: Outcome,
    },
}

/// The open claims of one name and the contests between them.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Rivals {
    /// Claims that have not ended.
    pub claims: Vec<Claim>,
    /// Contests that are not settled, oldest first.
    pub contests: Vec<Contest>,
}

/// What has to be done now, in order. Once it is done, there is nothing left to
/// do until something happens again.
pub fn settle(rivals: &Rivals, rules: &Rules, now: DateTime<Utc>) -> Vec<Change> {
    let mut board = Board { rivals: rivals.clone(), changes: Vec::new() };
    board.drop_unproved();
    board.withdraw();
    board.fill_vacancy();
    board.go_on(rules, now);
    board.challenge();
    board.changes
}

/// The claims and contests while they are being settled.
struct Board {
    rivals: Rivals,
    changes: Vec<Change>,
}

impl Board {
    /// Who loses its proof for good does not hold the name.
    fn drop_unproved(&mut self) {
        for claim in self.rivals.claims.iter_mut().filter(|claim| claim.holds && !claim.is_proved()) {
            claim.holds = false;
            self.changes.push(Change::Drop(claim.id));
        }
    }

    /// A contest ends with its challenger, or its proof.
    fn withdraw(&mut self) {
        let claims = &self.rivals.claims;
        let stays = |contest: &Contest| {
            claims.iter().any(|claim| claim.id == contest.challenger && claim.is_proved())
        };
        for contest in self.rivals.contests.iter().filter(|contest| !stays(contest)) {
            self.changes.push(Change::Settle { contest: contest.id, outcome: Outcome::Withdrawn });
        }
        self.rivals.contests.retain(stays);
    }

    /// A name that nobody holds goes to the claim that was proved first.
    fn fill_vacancy(&mut self) {
        if self.holder().is_some() {
            return;
        }
        let proved = self.rivals.claims.iter().filter(|claim| claim.is_proved());
        if let Some(first) = proved.min_by_key(|claim| (claim.owned_since, claim.id)).copied() {
            self.give(first.id);
        }
    }

    /// Each contest comes as far as it can; a switch changes what the others are
    /// about.
    fn go_on(&mut self, rules: &Rules, now: DateTime<Utc>) {
        for contest in self.rivals.contests.clone() {
            let (Some(holder), Some(challenger)) = (self.holder(), self.claim(contest.challenger)) else {
                continue;
            };
            if contest.ruled_for == Some(Side::Holder) {
                self.end(contest.id, Outcome::Kept);
                self.lose(challenger.id);
                continue;
            }

            let (phase, grace_ends_at) = phase(&contest, &holder, &challenger, rules, now);
            if phase == Phase::Handover && challenger.is_ready() {
                self.lose(holder.id);
                self.give(challenger.id);
                return;
            }
            if (phase, grace_ends_at) != (contest.phase, contest.grace_ends_at) {
                self.changes.push(Change::Advance { contest: contest.id, phase, grace_ends_at });
            }
        }
    }

    /// Every other claim that is proved contends with the holder.
    fn challenge(&mut self) {
        let Some(holder) = self.holder() else { return };
        let contends = |id: ClaimId| self.rivals.contests.iter().any(|contest| contest.challenger == id);
        for claim in &self.rivals.claims {
            if !claim.holds && claim.is_proved() && !contends(claim.id) {
                self.changes.push(Change::Open { holder: holder.id, challenger: claim.id });
            }
        }
    }

    /// Gives the name to a claim. Its own contest is over, and the others go on
    /// against it.
    fn give(&mut self, id: ClaimId) {
        for claim in self.rivals.claims.iter_mut().filter(|claim| claim.id == id) {
            claim.holds = true;
        }
        self.changes.push(Change::Take(id));

        for contest in self.rivals.contests.clone() {
            if contest.challenger == id {
                self.end(contest.id, Outcome::Switched);
            } else if contest.holder != id {
                self.changes.push(Change::Face { contest: contest.id, holder: id });
            }
        }
    }

    fn lose(&mut self, id: ClaimId) {
        self.rivals.claims.retain(|claim| claim.id != id);
        self.changes.push(Change::Lose(id));
    }

    fn end(&mut self, id: ContestId, outcome: Outcome) {
        self.rivals.contests.retain(|contest| contest.id != id);
        self.changes.push(Change::Settle { contest: id, outcome });
    }

    fn holder(&self) -> Option<Claim> {
        self.rivals.claims.iter().find(|claim| claim.holds).copied()
    }

    fn claim(&self, id: ClaimId) -> Option<Claim> {
        self.rivals.claims.iter().find(|claim| claim.id == id).copied()
    }
}

/// How far a contest comes by what stands in the zone now, and until when the
/// holder has time.
fn phase(
    contest: &Contest,
    holder: &Claim,
    challenger: &Claim,
    rules: &Rules,
    now: DateTime<Utc>,
) -> (Phase, Option<DateTime<Utc>>) {
    if contest.ruled_for == Some(Side::Challenger) {
        return (Phase::Handover, None);
    }
    if holder.ownership == GateState::Passed {
        return (Phase::Ruling, None);
    }

    // A challenger that is in doubt itself wins nothing by waiting.
    let ends_at = contest.grace_ends_at.unwrap_or(now + rules.contest_grace);
    let is_over = now >= ends_at && challenger.ownership == GateState::Passed;
    (if is_over { Phase::Handover } else { Phase::Grace }, Some(ends_at))
}

#[cfg(test)]
mod tests {
    use chrono::Duration;

    use super::*;
    use crate::test::now;
    use GateState::{Lapsed, Passed, Waiting};

    const A: ClaimId = ClaimId(1);
    const B: ClaimId = ClaimId(2);

    fn claim(id: ClaimId, holds: bool, ownership: GateState, certificate: GateState) -> Claim {
        Claim { id, holds, ownership, owned_since: now() + Duration::seconds(id.0 as i64), certificate }
    }

    fn contest(phase: Phase, ruled_for: Option<Side>) -> Contest {
        let grace_ends_at = (phase == Phase::Grace).then(|| now() + Duration::hours(24));
        Contest { id: ContestId(7), holder: A, challenger: B, phase, grace_ends_at, ruled_for }
    }

    fn changes(claims: &[Claim], contests: &[Contest], later: Duration) -> Vec<Change> {
        let rivals = Rivals { claims: claims.to_vec(), contests: contests.to_vec() };
        settle(&rivals, &Rules::default(), now() + later)
    }

    #[test]
    fn the_first_that_is_proved_holds_the_name_and_the_second_contends() {
        let zero = Duration::zero();
        let unproved = [claim(A, false, Waiting, Waiting), claim(B, false, Passed, Waiting)];
        assert_eq!(changes(&unproved, &[], zero), [Change::Take(B)]);

        let both = [claim(A, false, Passed, Waiting), claim(B, true, Passed, Passed)];
        assert_eq!(changes(&both, &[], zero), [Change::Open { holder: B, challenger: A }]);

        let tied = [claim(B, false, Passed, Waiting), claim(A, false, Passed, Waiting)];
        let want = [Change::Take(A), Change::Open { holder: A, challenger: B }];
        assert_eq!(changes(&tied, &[], zero), want);
    }

    #[test]
    fn while_both_tokens_stand_only_a_ruling_moves_anything() {
        let sides = [claim(A, true, Passed, Passed), claim(B, false, Passed, Passed)];
        let days = Duration::days(90);
        assert_eq!(changes(&sides, &[contest(Phase::Ruling, None)], days), []);

        let kept = changes(&sides, &[contest(Phase::Ruling, Some(Side::Holder))], days);
        let settled = |outcome| Change::Settle { contest: ContestId(7), outcome };
        assert_eq!(kept, [settled(Outcome::Kept), Change::Lose(B)]);

        let switched = changes(&sides, &[contest(Phase::Ruling, Some(Side::Challenger))], days);
        assert_eq!(switched, [Change::Lose(A), Change::Take(B), settled(Outcome::Switched)]);
    }

    #[test]
    fn a_token_that_is_gone_gives_the_name_away_after_the_grace_and_not_before_a_certificate() {
        let sides = |certificate| [claim(A, true, Lapsed, Passed), claim(B, false, Passed, certificate)];
        let ends_at = Some(now() + Duration::hours(24));
        let to = |phase| Change::Advance { contest: ContestId(7), phase, grace_ends_at: ends_at };
        let begun = changes(&sides(Passed), &[contest(Phase::Ruling, None)], Duration::zero());
        assert_eq!(begun, [to(Phase::Grace)]);

        let grace = [contest(Phase::Grace, None)];
        assert_eq!(changes(&sides(Passed), &grace, Duration::hours(23)), []);
        assert_eq!(changes(&sides(Waiting), &grace, Duration::hours(24)), [to(Phase::Handover)]);
        let won = changes(&sides(Passed), &grace, Duration::hours(24));
        assert_eq!(won[..2], [Change::Lose(A), Change::Take(B)]);

        let back = [claim(A, true, Passed, Passed), claim(B, false, Passed, Waiting)];
        let again = changes(&back, &grace, Duration::hours(25));
        let want = Change::Advance { contest: ContestId(7), phase: Phase::Ruling, grace_ends_at: None };
        assert_eq!(again, [want]);
    }

    #[test]
    fn a_challenger_that_is_gone_has_withdrawn_and_a_holder_that_is_gone_leaves_the_name() {
        let contests = [contest(Phase::Ruling, None)];
        let settled = |outcome| Change::Settle { contest: ContestId(7), outcome };
        let zero = Duration::zero();
        let alone = changes(&[claim(A, true, Passed, Passed)], &contests, zero);
        assert_eq!(alone, [settled(Outcome::Withdrawn)]);
        let unproved = [claim(A, true, Passed, Passed), claim(B, false, Waiting, Waiting)];
        assert_eq!(changes(&unproved, &contests, zero), [settled(Outcome::Withdrawn)]);

        let left = changes(&[claim(B, false, Passed, Waiting)], &contests, zero);
        assert_eq!(left, [Change::Take(B), settled(Outcome::Switched)]);
        let dropped = [claim(A, true, Waiting, Passed), claim(B, false, Passed, Waiting)];
        let want = [Change::Drop(A), Change::Take(B), settled(Outcome::Switched)];
        assert_eq!(changes(&dropped, &contests, zero), want);
    }

    #[test]
    fn whoever_else_contends_goes_on_against_the_new_holder() {
        let c = ClaimId(3);
        let third = Contest { id: ContestId(8), challenger: c, ..contest(Phase::Ruling, None) };
        let sides = [
            claim(A, true, Passed, Passed),
            claim(B, false, Passed, Passed),
            claim(c, false, Passed, Passed),
        ];
        let switched =
            changes(&sides, &[contest(Phase::Handover, Some(Side::Challenger)), third], Duration::zero());
        assert!(switched.contains(&Change::Face { contest: ContestId(8), holder: B }), "{switched:?}");
    }
}
