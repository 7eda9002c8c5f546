//! Changes of one version (RFC 9110, sections 8.8.3 and 13.1.1).
//!
//! The tag of a record is that of its version: it grows with each change of what people
//! have set, not with what is found out meanwhile.

use std::sync::Arc;

use axum::extract::FromRequestParts;
use axum::http::request::Parts;
use axum::http::{HeaderName, HeaderValue, StatusCode, header};
use axum::response::AppendHeaders;
use nomenta_api::problem::{FieldCode, ProblemKind};
use nomenta_store::{Expected, Version};

use crate::App;
use crate::problem::Refusal;

/// Longest header that is read, in characters; the document says so too.
pub(crate) const LONGEST: usize = 400;

/// The versions that a change is asked for, as `If-Match` has them.
#[derive(Clone, Debug)]
pub(crate) struct IfMatch(pub Expected);

impl FromRequestParts<Arc<App>> for IfMatch {
    type Rejection = Refusal;

    async fn from_request_parts(parts: &mut Parts, app: &Arc<App>) -> Result<Self, Refusal> {
        let given: Vec<_> = parts.headers.get_all(header::IF_MATCH).iter().collect();
        if given.is_empty() && app.config.versions_needed {
            let detail =
                "A change has to say which version it is of. Send the ETag that was read as If-Match, or *.";
            return Err(Refusal::new(StatusCode::PRECONDITION_REQUIRED, ProblemKind::VersionNeeded, detail));
        }
        if given.iter().any(|value| value.len() > LONGEST) {
            let message =
                format!("The header is longer than {LONGEST} characters. Send the ETag that was read.");
            return Err(Refusal::field("If-Match", FieldCode::TooLarge, message));
        }
        Ok(Self(expected(given.iter().filter_map(|value| value.to_str().ok()))))
    }
}

/// What the headers ask for; `*` asks for any.
fn expected<'a>(headers: impl Iterator<Item = &'a str>) -> Expected {
    let tags: Vec<_> = headers.flat_map(|header| header.split(',')).map(str::trim).collect();
    if tags.is_empty() || tags.contains(&"*") {
        return Expected::default();
    }
    Expected(Some(tags.into_iter().filter_map(version).collect()))
}

/// The tag of a version, quotes and all.
fn tag(version: Version) -> String {
    format!("\"{}.{}\"", version.id.simple(), version.number)
}

fn version(tag: &str) -> Option<Version> {
    let (id, number) = tag.strip_prefix('"')?.strip_suffix('"')?.split_once('.')?;
    Some(Version { id: id.parse().ok()?, number: number.parse().ok()? })
}

/// The header that tells which version was read.
pub(crate) type Tagged = AppendHeaders<[(HeaderName, HeaderValue); 1]>;

/// The tag of a record as a header.
pub(crate) fn tagged(id: uuid::Uuid, number: i64) -> Tagged {
    // A key and a number are no more than letters that any header may have.
    let value = HeaderValue::from_str(&tag(Version { id, number }));
    AppendHeaders([(header::ETAG, value.unwrap_or(HeaderValue::from_static("\"\"")))])
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_tag_is_read_as_it_is_written_and_is_of_its_record_alone() {
        let own = Version { id: uuid::Uuid::from_u128(7), number: 3 };
        let tags = format!("W/\"x\", {}", tag(own));
        let wanted = expected([tags.as_str()].into_iter());
        assert!(wanted.meets(own.id, own.number).is_ok(), "its own");
        let refused = |wanted: &Expected, id| {
            Refusal::from(wanted.meets(id, own.number).expect_err("another")).problem.status
        };
        assert_eq!(refused(&wanted, uuid::Uuid::nil()), 412);
        assert!(wanted.meets(own.id, own.number + 1).is_err(), "another version");

        for any in [&["*"][..], &[]] {
            assert_eq!(expected(any.iter().copied()), Expected::default());
        }
        for bad in ["\"\"", "x", "\"7.x\"", "W/\"7.1\""] {
            assert_eq!(refused(&expected([bad].into_iter()), own.id), 412, "{bad}");
        }
    }
}
