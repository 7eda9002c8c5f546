//! Readings: what DNS says, from one record to a whole survey, and what is told
//! from it before anything is judged.

pub mod answer;
pub mod caa;
pub mod climb;
pub mod cut;
pub mod delegation;
pub mod fingerprint;
pub mod method;
pub mod octets;
pub mod recent;
pub mod record;
pub mod registration;
pub mod signature;
pub mod survey;
pub mod target;
pub mod trust;
pub mod view;
