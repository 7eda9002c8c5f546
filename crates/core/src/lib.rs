//! The judgement of Nomenta: names, tokens, sheets, readings, verdicts,
//! findings and gates, as functions from values to values.
//!
//! Nothing here opens a socket, reads a clock or knows a database. What was
//! read comes in as [`Survey`](reading::survey::Survey) and
//! [`Evidence`](judge::evidence::Evidence), the time comes in as an argument,
//! and [`step`](judge::step::step) answers with the new gates, the findings,
//! what to do next and when to look again.
//!
//! The folders are floors, and each uses those below it: `name`, `reading`,
//! `zonefile`, `sheet`, `one_click`, `judge`, `learned`, `claim`, `rehearsal`,
//! `publish`, `notice`, `intake`.

pub mod claim;
pub mod intake;
pub mod judge;
pub mod learned;
pub mod name;
pub mod notice;
pub mod one_click;
pub mod publish;
pub mod reading;
pub mod rehearsal;
pub mod sheet;
pub mod spelled;
pub mod zonefile;

#[doc(hidden)]
pub use serde;

#[cfg(test)]
pub(crate) mod test;

// So that what `spelled!` writes reads the same inside this crate and outside.
extern crate self as nomenta_core;
