//! Names: what a person types as a domain, what DNS holds as a name, the
//! platform's own names, and the token that is published under one.

pub mod dns;
pub mod hostname;
pub(crate) mod international;
pub mod lookalike;
pub mod mask;
pub mod nearby;
mod pasted;
pub mod plain;
pub mod platform;
mod refused;
pub mod sought;
pub mod special;
pub mod subject;
pub mod token;
