//! What the fleet has learned of those who run its customers' DNS.
//!
//! Each domain has a [`Course`](course::Course): how its records got from the editor to the
//! world, and what went wrong on the way. The [`Lessons`](lessons::Lessons) of a DNS operator are
//! drawn from the courses of many, so that they tell nothing of anybody in particular.

pub mod course;
pub mod lessons;
pub mod mistake;
