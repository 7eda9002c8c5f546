//! The judgement: evidence against the sheet, into findings, gates, and when to
//! look again.

pub mod action;
pub mod baseline;
pub mod behind;
pub mod canary;
pub mod case;
pub mod certificate;
pub mod code;
pub mod domain;
pub mod drift;
pub mod edit;
pub mod evidence;
pub mod finding;
pub mod findings;
pub mod gate;
pub mod moment;
pub mod policy;
pub mod preflight;
pub mod schedule;
pub mod served;
pub mod sighting;
pub mod standing;
pub mod step;
pub mod todo;
pub mod verdict;
pub mod waiting;
