//! Names: what a person types as a domain, what DNS holds as a name, the
//! platform's own names, and the token that is published under one.

pub mod dns;
pub mod hostname;
pub mod mask;
pub mod platform;
pub mod subject;
pub mod token;
