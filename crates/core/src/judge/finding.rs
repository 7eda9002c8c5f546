//! A diagnosed problem, and an entry of the catalogue of problems.

use serde::{Deserialize, Serialize};

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::edit::{Edit, ON_THE_SHEET};
use crate::judge::gate::GateName;
use crate::judge::sighting::Sighting;
use crate::name::mask::Mask;

crate::spelled! {
    /// How much a finding matters.
    #[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
    pub enum Severity: "severity" {
        /// Keeps its gate from passing.
        Blocker = "blocker",
        /// Works, but not for everyone or not for long.
        Warning = "warning",
        /// Worth knowing.
        Note = "note",
    }
}

/// A diagnosed problem.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Finding {
    /// Code in the catalogue.
    pub code: Code,
    /// How much it matters.
    pub severity: Severity,
    /// The gate it concerns.
    pub gate: GateName,
    /// What the customer is to do, the record first.
    pub remedy: String,
    /// What the engineer should know.
    pub remark: String,
    /// What was read, and where.
    pub evidence: Vec<Sighting>,
    /// The records to add, change, delete or keep.
    pub edits: Vec<Edit>,
}

impl Finding {
    /// Names the sheet wherever the customer is to type the token.
    pub fn refer_to_sheet(&mut self, token: &str) {
        self.remedy = self.remedy.replace(token, ON_THE_SHEET);
        self.edits.iter_mut().for_each(|edit| edit.refer_to_sheet(token));
    }

    /// Hides tokens in everything that is said. Edits are to be followed, and stay as they are.
    pub fn hide(&mut self, mask: &Mask) {
        self.remedy = mask.hide(&self.remedy);
        self.remark = mask.hide(&self.remark);

        for sighting in &mut self.evidence {
            sighting.source = mask.hide(&sighting.source);
            sighting.said = mask.hide(&sighting.said);
        }
    }
}

/// An entry of the catalogue: one kind of problem.
pub struct Entry {
    /// Code, stable for machines.
    pub code: Code,
    /// How much it matters.
    pub severity: Severity,
    /// The gate it concerns.
    pub gate: GateName,
    /// What it means, for the catalogue.
    pub about: &'static str,
    /// What explains it away.
    pub yields: Yields,
    /// Looks for it.
    pub detect: fn(&Case<'_>) -> Option<Diagnosis>,
}

/// What explains a finding away, so that one mistake is one finding.
#[derive(Clone, Copy, Debug)]
pub enum Yields {
    /// Any of these.
    To(&'static [Code]),
    /// Whatever keeps a gate from passing.
    AnyBlocker,
}

impl Yields {
    /// Whether one of `found` explains it away.
    pub fn is_explained_by(self, found: &[Finding]) -> bool {
        match self {
            Self::To(codes) => found.iter().any(|finding| codes.contains(&finding.code)),
            Self::AnyBlocker => found.iter().any(|finding| finding.severity == Severity::Blocker),
        }
    }
}

/// What a detector found.
#[derive(Debug, Default, PartialEq, Eq)]
pub struct Diagnosis {
    /// The gate it concerns, where that depends on the case.
    pub gate: Option<GateName>,
    /// How much it matters, where that depends on the case.
    pub severity: Option<Severity>,
    /// See [`Finding::remedy`].
    pub remedy: String,
    /// See [`Finding::remark`].
    pub remark: String,
    /// See [`Finding::evidence`].
    pub evidence: Vec<Sighting>,
    /// See [`Finding::edits`].
    pub edits: Vec<Edit>,
}
