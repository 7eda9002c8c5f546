//! Whatever octets a zone may hold, and several slips at once.

use nomenta_core::judge::code::Code;

use super::At::Operator;
use super::{State, state};

pub(super) const STATES: &[State] = &[
    // Octets.
    state(
        "a nul in a text",
        "@",
        Operator,
        &[
            "_quaymark-challenge TXT TOKEN",
            "@ A 127.77.0.10",
            "@ A 127.77.0.11",
            "@ AAAA ::1",
            "@ TXT \"a\\000b\"",
        ],
        &[],
    ),
    state(
        "no utf-8 in a text",
        "@",
        Operator,
        &[
            "_quaymark-challenge TXT TOKEN",
            "@ A 127.77.0.10",
            "@ A 127.77.0.11",
            "@ AAAA ::1",
            "@ TXT \"\\255\\254\"",
        ],
        &[],
    ),
    state(
        "a terminal's escapes in a text",
        "@",
        Operator,
        &[
            "_quaymark-challenge TXT TOKEN",
            "@ A 127.77.0.10",
            "@ A 127.77.0.11",
            "@ AAAA ::1",
            "@ TXT \"\\027[2J\"",
        ],
        &[],
    ),
    state(
        "many large texts",
        "@",
        Operator,
        &["_quaymark-challenge TXT TOKEN", "@ A 127.77.0.10", "@ A 127.77.0.11", "@ AAAA ::1", "MANY @"],
        &[],
    ),
    state(
        "odd octets in a target",
        "www",
        Operator,
        &["_quaymark-challenge.www TXT TOKEN", "www CNAME a\\001b.formerhost.example."],
        &[Code::CnameChainBroken],
    ),
    // Two slips at once.
    state(
        "token and address wrong",
        "@",
        Operator,
        &["_quaymark-challenge TXT token=u6t2pj5hu6", "@ A 192.0.2.7"],
        &[Code::TokenAltered, Code::AddressForeign],
    ),
    state(
        "token misplaced, alias wrong",
        "www",
        Operator,
        &["@ TXT TOKEN", "www CNAME sites.formerhost.example."],
        &[Code::TokenMisplaced, Code::CnameForeign],
    ),
    // More octets.
    state(
        "marks that turn the writing",
        "@",
        Operator,
        &[
            "_quaymark-challenge TXT TOKEN",
            "@ A 127.77.0.10",
            "@ A 127.77.0.11",
            "@ AAAA ::1",
            "@ TXT \"a\\226\\128\\174b\"",
        ],
        &[],
    ),
    state(
        "a dot within a label",
        "www",
        Operator,
        &["_quaymark-challenge.www TXT TOKEN", "www CNAME a\\.b.formerhost.example."],
        &[Code::CnameChainBroken],
    ),
];
