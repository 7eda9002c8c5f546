//! One module for each group of verbs.

pub(crate) mod audit;
pub(crate) mod certificate;
pub(crate) mod contest;
pub(crate) mod domain;
pub(crate) mod findings;
pub(crate) mod handoff;
pub(crate) mod intake;
pub(crate) mod job;
pub(crate) mod life;
pub(crate) mod notice;
pub(crate) mod operator;
pub(crate) mod publish;
pub(crate) mod registry;
pub(crate) mod rehearse;
pub(crate) mod serve;
