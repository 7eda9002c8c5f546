//! Which form of an answer is wanted (RFC 9110, section 12.5.1).

use std::str::FromStr;

use axum::http::{HeaderMap, StatusCode, header};
use headers_accept::Accept;
use mediatype::MediaType;
use nomenta_api::problem::ProblemKind;

use crate::problem::Refusal;

/// The form among `offered` that is wanted most; the first of them where any will do.
///
/// # Errors
/// If none is wanted.
pub(crate) fn wanted<'a>(headers: &HeaderMap, offered: &'a [&'a str]) -> Result<&'a str, Refusal> {
    let asked: Vec<_> =
        headers.get_all(header::ACCEPT).iter().filter_map(|value| value.to_str().ok()).collect();
    let asked = asked.join(", ");
    // What is no list of types asks for nothing in particular.
    let Ok(accept) = Accept::from_str(&asked) else { return Ok(offered[0]) };
    if asked.trim().is_empty() {
        return Ok(offered[0]);
    }

    let types: Vec<_> = offered.iter().filter_map(|offered| MediaType::parse(offered).ok()).collect();
    let found = accept.negotiate(&types).and_then(|found| types.iter().position(|one| one == found));
    found.and_then(|place| offered.get(place).copied()).ok_or_else(|| {
        let detail = format!("There is no such form of the answer. Ask for one of: {}.", offered.join(", "));
        Refusal::new(StatusCode::NOT_ACCEPTABLE, ProblemKind::NotAcceptable, detail)
    })
}

#[cfg(test)]
mod tests {
    use axum::http::HeaderValue;

    use super::*;

    #[test]
    fn order_and_weight_decide_and_what_browsers_and_clients_send_gets_json() {
        const OFFERED: [&str; 3] = ["application/json", "text/plain", "text/csv"];
        for (accept, want) in [
            ("", Some("application/json")),
            ("*/*", Some("application/json")),
            ("application/json, text/plain, */*", Some("application/json")),
            ("text/html,application/xhtml+xml,application/xml;q=0.9,*/*;q=0.8", Some("application/json")),
            ("text/plain, application/json", Some("text/plain")),
            ("text/plain;q=0.5, application/json;q=0.9", Some("application/json")),
            ("text/csv;q=0.1, text/plain;q=0.2", Some("text/plain")),
            ("TEXT/CSV", Some("text/csv")),
            ("text/*", Some("text/plain")),
            ("application/json;q=0, text/csv", Some("text/csv")),
            ("image/png", None),
            ("nonsense", Some("application/json")),
        ] {
            let mut headers = HeaderMap::new();
            headers.insert(header::ACCEPT, HeaderValue::from_static(accept));
            assert_eq!(wanted(&headers, &OFFERED).ok(), want, "{accept}");
        }
        assert_eq!(wanted(&HeaderMap::new(), &OFFERED).ok(), Some("application/json"));
    }
}
