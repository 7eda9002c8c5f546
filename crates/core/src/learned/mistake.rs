//! Mistakes that people make while they type records, and that one can be warned of.

use crate::judge::code::Code;

/// Findings that come of what was just typed, or left standing; what a zone was like before
/// anybody began is none of them.
pub const MISTAKES: [Code; 15] = [
    Code::HostDoubled,
    Code::ValueDoubled,
    Code::TokenAltered,
    Code::TokenMisplaced,
    Code::TokenSuperseded,
    Code::WrongType,
    Code::CnameAtApex,
    Code::CnameBesideOthers,
    Code::CnameChainBroken,
    Code::ChoicesMixed,
    Code::AddressSurplus,
    Code::AddressPartial,
    Code::Ipv6Stray,
    Code::Fronted,
    Code::MailLost,
];

/// Whether a finding is such a mistake.
pub fn is_mistake(code: Code) -> bool {
    MISTAKES.contains(&code)
}
