//! What no sound server holds, and what no zone tells by itself.

use nomenta_core::judge::code::Code;
use nomenta_world::stub::Habit;

use super::At::{Operator, Stub};
use super::Known::{Forwarding, Mail};
use super::{APEX, State, knowing, state};

pub(super) const STATES: &[State] = &[
    state(
        "an alias at the apex",
        "@",
        Stub(Habit::AliasBeside),
        &["_quaymark-challenge TXT TOKEN", "@ CNAME sites.formerhost.example."],
        &[Code::CnameAtApex],
    ),
    state(
        "an alias at the apex, beside addresses",
        "@",
        Stub(Habit::AliasBeside),
        &["_quaymark-challenge TXT TOKEN", "@ CNAME sites.formerhost.example.", "@ A 127.77.0.10"],
        &[Code::CnameAtApex],
    ),
    state(
        "cut away at the host itself",
        "www",
        Operator,
        &["_quaymark-challenge.www TXT TOKEN", "www NS hollow.habits.test."],
        &[Code::DelegatedAway],
    ),
    state(
        "cut away to a hollow zone",
        "www.shop",
        Operator,
        &[
            "_quaymark-challenge.www.shop TXT TOKEN",
            "www.shop CNAME CANONICAL",
            "shop NS hollow.habits.test.",
        ],
        &[Code::DelegatedAway],
    ),
    knowing(Mail, state("mail that went, at the apex", "@", Operator, APEX, &[Code::MailLost])),
    knowing(
        Mail,
        state(
            "mail that stayed",
            "@",
            Operator,
            &[
                "_quaymark-challenge TXT TOKEN",
                "@ A 127.77.0.10",
                "@ A 127.77.0.11",
                "@ AAAA ::1",
                "@ MX 10 mx.ZONE.",
            ],
            &[],
        ),
    ),
    knowing(
        Forwarding,
        state(
            "forwarding elsewhere",
            "@",
            Operator,
            &["_quaymark-challenge TXT TOKEN", "@ A 192.0.2.7"],
            &[Code::ForwardingElsewhere],
        ),
    ),
    state(
        "both choices at once",
        "www",
        Stub(Habit::AliasBeside),
        &["_quaymark-challenge.www TXT TOKEN", "www CNAME CANONICAL", "www A 127.77.0.10"],
        &[Code::ChoicesMixed],
    ),
];
