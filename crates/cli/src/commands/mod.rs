//! One module for each group of verbs.

pub mod certificate;
pub mod domain;
pub mod findings;
pub mod registry;
pub mod rehearse;
pub mod serve;
