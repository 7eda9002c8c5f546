//! The token, where people put it.

use nomenta_core::judge::code::Code;

use super::At::Operator;
use super::{State, state};

pub(super) const STATES: &[State] = &[
    // The token.
    state(
        "token cut off",
        "www",
        Operator,
        &["_quaymark-challenge.www TXT token=u6t2pj5hu6"],
        &[Code::TokenAltered],
    ),
    state(
        "token without its start",
        "www",
        Operator,
        &["_quaymark-challenge.www TXT BARE"],
        &[Code::TokenAltered],
    ),
    state(
        "token in capitals",
        "www",
        Operator,
        &["_quaymark-challenge.www TXT UPPER"],
        &[Code::TokenAltered],
    ),
    state(
        "token in quotation marks",
        "www",
        Operator,
        &["_quaymark-challenge.www TXT \"\\\"TOKEN\\\"\""],
        &[Code::TokenAltered],
    ),
    state(
        "token with a dot",
        "www",
        Operator,
        &["_quaymark-challenge.www TXT \"TOKEN.\""],
        &[Code::TokenAltered],
    ),
    state(
        "token with a space",
        "www",
        Operator,
        &["_quaymark-challenge.www TXT \"token= BARE\""],
        &[Code::TokenAltered],
    ),
    state(
        "a text of somebody else",
        "www",
        Operator,
        &["_quaymark-challenge.www TXT \"verify=1\""],
        &[Code::TokenAltered],
    ),
    state("token of before", "www", Operator, &["_quaymark-challenge.www TXT OLD"], &[Code::TokenSuperseded]),
    state("token at the host", "www", Operator, &["www TXT TOKEN"], &[Code::TokenMisplaced]),
    state("token at the apex", "www", Operator, &["@ TXT TOKEN"], &[Code::TokenMisplaced]),
    state("token at www", "@", Operator, &["www TXT TOKEN"], &[Code::TokenMisplaced]),
    state(
        "token at the label of www",
        "@",
        Operator,
        &["_quaymark-challenge.www TXT TOKEN"],
        &[Code::TokenMisplaced],
    ),
    state(
        "token at the label above",
        "www",
        Operator,
        &["_quaymark-challenge TXT TOKEN"],
        &[Code::TokenMisplaced],
    ),
    state(
        "token without underscore",
        "www",
        Operator,
        &["quaymark-challenge.www TXT TOKEN"],
        &[Code::TokenMisplaced],
    ),
    state("boxes swapped", "www", Operator, &["NAMED TXT _quaymark-challenge.www"], &[Code::TokenMisplaced]),
    state(
        "token's host doubled",
        "www",
        Operator,
        &["_quaymark-challenge.www.ZONE TXT TOKEN"],
        &[Code::HostDoubled],
    ),
    state(
        "alias host doubled",
        "www",
        Operator,
        &["_quaymark-challenge.www TXT TOKEN", "www.ZONE CNAME CANONICAL"],
        &[Code::HostDoubled],
    ),
    state(
        "token behind an alias within the zone",
        "www",
        Operator,
        &["_quaymark-challenge.www CNAME elsewhere", "elsewhere TXT TOKEN", "www CNAME CANONICAL"],
        &[],
    ),
    state(
        "token's alias leads nowhere",
        "www",
        Operator,
        &["_quaymark-challenge.www CNAME gone"],
        &[Code::TokenAltered],
    ),
    // More of the token.
    state(
        "token twice",
        "www",
        Operator,
        &["_quaymark-challenge.www TXT TOKEN", "_quaymark-challenge.www TXT OLD", "www CNAME CANONICAL"],
        &[],
    ),
    state(
        "the type typed into the value",
        "www",
        Operator,
        &["_quaymark-challenge.www TXT \"TXT TOKEN\""],
        &[Code::TokenAltered],
    ),
    state(
        "a semicolon behind the token",
        "www",
        Operator,
        &["_quaymark-challenge.www TXT \"TOKEN;\""],
        &[Code::TokenAltered],
    ),
    state("an empty text", "www", Operator, &["_quaymark-challenge.www TXT \"\""], &[Code::TokenAltered]),
    state(
        "half of the token only",
        "www",
        Operator,
        &["_quaymark-challenge.www TXT \"token=u6t2pj5hu6t2pj5h\""],
        &[Code::TokenAltered],
    ),
    state(
        "an alias to another proof",
        "www",
        Operator,
        &["_quaymark-challenge.www CNAME other.proof.quaymark.example."],
        &[Code::TokenAltered],
    ),
    state(
        "token behind an alias to another zone",
        "www",
        Operator,
        &["_quaymark-challenge.www CNAME _quaymark-challenge.www.good.habits.test.", "www CNAME CANONICAL"],
        &[],
    ),
    state("token in capitals at the apex", "www", Operator, &["@ TXT UPPER"], &[Code::TokenMisplaced]),
];
