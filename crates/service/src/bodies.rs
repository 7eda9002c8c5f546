//! How large a body may be, in octets, by the call that it comes with.

use nomenta_api::problem::FieldCode;

use crate::problem::Refusal;

/// What whoever is not known may send: a form of a page, or a key to sign in with.
const MOST_FORM: usize = 64 << 10;
/// Most bodies.
pub(crate) const MOST_BODY: usize = 1 << 20;
/// A table of domains.
const MOST_TABLE: usize = 16 << 20;
/// A zone file.
const MOST_ZONE: usize = 32 << 20;

/// The calls that take more than most: what each takes, the field that it is told at, and what it is.
const LARGE: [(&str, usize, &str, &str); 2] = [
    (
        "/api/v1/intake",
        MOST_TABLE,
        "table",
        "The table is larger than {most} MiB, the most that is read. Give it in parts.",
    ),
    (
        "/api/v1/domains/{host}/rehearsal",
        MOST_ZONE,
        "zone",
        "The file is larger than {most} MiB, the most that is read. Give the part of the zone at and under the domain.",
    ),
];

/// How large the body of a call may be.
pub(crate) fn most(path: &str, is_unknown: bool) -> usize {
    let large = LARGE.iter().find(|(of, ..)| *of == path);
    match large {
        _ if is_unknown => MOST_FORM,
        Some((_, most, ..)) => *most,
        None => MOST_BODY,
    }
}

/// Said of a body that is larger.
pub(crate) fn too_large(path: &str) -> Refusal {
    match LARGE.iter().find(|(of, ..)| *of == path) {
        Some((_, most, field, said)) => {
            let most = (most >> 20).to_string();
            Refusal::field(field, FieldCode::TooLarge, said.replace("{most}", &most))
        }
        None => Refusal::too_large(),
    }
}
