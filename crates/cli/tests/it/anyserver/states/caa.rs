//! Who may issue.

use nomenta_core::judge::code::Code;

use super::At::Operator;
use super::{State, state};

pub(super) const STATES: &[State] = &[
    // CAA.
    state(
        "caa for another issuer",
        "@",
        Operator,
        &[
            "_quaymark-challenge TXT TOKEN",
            "@ A 127.77.0.10",
            "@ A 127.77.0.11",
            "@ AAAA ::1",
            "@ CAA 0 issue \"otherstamp-ca.example\"",
        ],
        &[Code::CaaForbids],
    ),
    state(
        "caa for ours",
        "@",
        Operator,
        &[
            "_quaymark-challenge TXT TOKEN",
            "@ A 127.77.0.10",
            "@ A 127.77.0.11",
            "@ AAAA ::1",
            "@ CAA 0 issue \"stampworks-ca.example\"",
        ],
        &[],
    ),
    state(
        "caa above a subdomain",
        "www.shop",
        Operator,
        &["_quaymark-challenge.www.shop TXT TOKEN", "www.shop CNAME CANONICAL", "shop CAA 0 issue \";\""],
        &[Code::CaaForbids],
    ),
    state(
        "caa with a property unknown and critical",
        "@",
        Operator,
        &[
            "_quaymark-challenge TXT TOKEN",
            "@ A 127.77.0.10",
            "@ A 127.77.0.11",
            "@ AAAA ::1",
            "@ CAA 128 tbs \"x\"",
        ],
        &[Code::CaaForbids],
    ),
    // CAA to the letter.
    state(
        "caa with an unknown critical property behind known ones",
        "@",
        Operator,
        &[
            "_quaymark-challenge TXT TOKEN",
            "@ A 127.77.0.10",
            "@ A 127.77.0.11",
            "@ AAAA ::1",
            "@ CAA 128 issue \"stampworks-ca.example\"",
            "@ CAA 128 tbs \"x\"",
        ],
        &[Code::CaaForbids],
    ),
    state(
        "caa for ours with a dot too many",
        "@",
        Operator,
        &[
            "_quaymark-challenge TXT TOKEN",
            "@ A 127.77.0.10",
            "@ A 127.77.0.11",
            "@ AAAA ::1",
            "@ CAA 0 issue \"stampworks-ca.example.\"",
        ],
        &[Code::CaaForbids],
    ),
    state(
        "caa for ours with two account parameters",
        "@",
        Operator,
        &[
            "_quaymark-challenge TXT TOKEN",
            "@ A 127.77.0.10",
            "@ A 127.77.0.11",
            "@ AAAA ::1",
            "@ CAA 0 issue \"stampworks-ca.example; accounturi=https://ca.example/1; accounturi=https://ca.example/2\"",
        ],
        &[Code::CaaForbids],
    ),
    state(
        "caa for ours with spaces where they may stand",
        "@",
        Operator,
        &[
            "_quaymark-challenge TXT TOKEN",
            "@ A 127.77.0.10",
            "@ A 127.77.0.11",
            "@ AAAA ::1",
            "@ CAA 0 issue \"  StampWorks-CA.example ; policy = ev \"",
        ],
        &[],
    ),
    // More of CAA.
    state(
        "caa for another account",
        "@",
        Operator,
        &[
            "_quaymark-challenge TXT TOKEN",
            "@ A 127.77.0.10",
            "@ A 127.77.0.11",
            "@ AAAA ::1",
            "@ CAA 0 issue \"stampworks-ca.example; accounturi=https://ca.example/1\"",
        ],
        &[Code::CaaForbids],
    ),
    state(
        "caa for another method",
        "@",
        Operator,
        &[
            "_quaymark-challenge TXT TOKEN",
            "@ A 127.77.0.10",
            "@ A 127.77.0.11",
            "@ AAAA ::1",
            "@ CAA 0 issue \"stampworks-ca.example; validationmethods=dns-01\"",
        ],
        &[Code::CaaForbids],
    ),
    state(
        "caa for nobody",
        "@",
        Operator,
        &[
            "_quaymark-challenge TXT TOKEN",
            "@ A 127.77.0.10",
            "@ A 127.77.0.11",
            "@ AAAA ::1",
            "@ CAA 0 issue \";\"",
        ],
        &[Code::CaaForbids],
    ),
    state(
        "caa for wildcards alone",
        "@",
        Operator,
        &[
            "_quaymark-challenge TXT TOKEN",
            "@ A 127.77.0.10",
            "@ A 127.77.0.11",
            "@ AAAA ::1",
            "@ CAA 0 issuewild \"otherstamp-ca.example\"",
        ],
        &[],
    ),
    state(
        "caa that tells whom to write to",
        "@",
        Operator,
        &[
            "_quaymark-challenge TXT TOKEN",
            "@ A 127.77.0.10",
            "@ A 127.77.0.11",
            "@ AAAA ::1",
            "@ CAA 0 iodef \"mailto:desk@onswick.example\"",
        ],
        &[],
    ),
    state(
        "caa in capitals",
        "@",
        Operator,
        &[
            "_quaymark-challenge TXT TOKEN",
            "@ A 127.77.0.10",
            "@ A 127.77.0.11",
            "@ AAAA ::1",
            // ISSUE "STAMPWORKS-CA.EXAMPLE", as octets: some readers of zones take no
            // capitals.
            r"@ TYPE257 \# 28 0005 4953535545 5354414D50574F524B532D43412E4558414D504C45",
        ],
        &[],
    ),
    state(
        "caa with a property unknown",
        "@",
        Operator,
        &[
            "_quaymark-challenge TXT TOKEN",
            "@ A 127.77.0.10",
            "@ A 127.77.0.11",
            "@ AAAA ::1",
            "@ CAA 0 tbs \"x\"",
        ],
        &[],
    ),
];
