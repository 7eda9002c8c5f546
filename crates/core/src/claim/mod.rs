//! Claims: several accounts may claim one name, and at most one of them holds it.

pub mod allowance;
pub mod rivals;
pub mod rules;
