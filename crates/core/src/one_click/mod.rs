//! One click: what the open Domain Connect protocol (an IETF draft) says between the platform
//! and the operator of a customer's DNS.
//!
//! The platform is a service provider with a [`template::Template`] for each of its ingresses.
//! A zone whose operator speaks the protocol has a TXT record that leads to the operator's
//! [`settings::Settings`]; the customer's browser is sent to [`apply::Apply::url`], where the
//! operator asks them and publishes. That they come back proves nothing: only DNS does.

pub mod apply;
pub mod settings;
pub mod template;
