//! Intake: many domains taken in at once, from a table with a line for each.
//!
//! A table is read ([`table`]), each of its rows is read as what is wanted ([`row`]), and
//! all of them are judged in order against what there is ([`judge`](judge::judge)). Judging
//! is the same for a dry run and for taking in, so that what was shown is what is done.

pub mod judge;
pub mod row;
pub mod table;
