//! What goes over the wire, typed: requests and answers, events, problem
//! documents, and [`DomainView`](view::DomainView), which decides what of a
//! domain is shown, with [`HandoffView`](handoff::HandoffView), which decides the same for
//! the customer.
//!
//! The service serves it, the command line prints it, and the console's types
//! are made from its OpenAPI document, so nothing about it is decided twice.

pub mod audit;
pub mod certificate;
pub mod contest;
pub mod domain;
pub mod edge;
pub mod event;
pub mod handoff;
pub mod intake;
pub mod job;
pub mod learned;
pub mod notice;
pub mod problem;
pub mod publication;
pub mod registry;
pub mod role;
mod told;
pub mod view;
