//! The judgement of Nomenta: names, tokens, sheets, readings, verdicts,
//! findings and gates, as functions from values to values.
//!
//! Nothing here opens a socket, reads a clock or knows a database. What was
//! read comes in as [`survey::Survey`] and [`evidence::Evidence`], the time
//! comes in as an argument, and [`step::step`] answers with the new gates, the
//! findings, what to do next and when to look again.

pub mod baseline;
pub mod caa;
pub mod certificate;
pub mod domain;
pub mod drift;
pub mod evidence;
pub mod finding;
pub mod findings;
pub mod form;
pub mod gate;
pub mod hostname;
pub mod ingress;
pub mod names;
pub mod policy;
pub mod preflight;
pub mod reading;
pub mod rehearsal;
pub mod rendering;
pub mod schedule;
pub mod sheet;
pub mod spelled;
pub mod step;
pub mod survey;
pub mod todo;
pub mod token;
pub mod verdict;
pub mod waiting;
pub mod zonefile;
pub mod zonetext;

#[doc(hidden)]
pub use serde;

#[cfg(test)]
pub(crate) mod test;

// So that what `spelled!` writes reads the same inside this crate and outside.
extern crate self as nomenta_core;
