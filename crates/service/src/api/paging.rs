//! Pages of a listing, and the `Link` header that leads to the next (RFC 8288).

use axum::http::{HeaderMap, HeaderValue, header};
use chrono::{DateTime, Utc};
use nomenta_api::problem::FieldCode;
use uuid::Uuid;

use crate::problem::Refusal;

const PAGE: i64 = 100;
const LARGEST_PAGE: i64 = 500;

/// Lines at most on a page, for what was asked.
pub(super) fn limit(asked: Option<i64>) -> i64 {
    asked.unwrap_or(PAGE).clamp(1, LARGEST_PAGE)
}

/// The rows of one page, read as one more than `limit`, with the header that leads to
/// the next page of the listing at `path`, if there is one; `place` is a row's cursor.
pub(super) fn page<T>(
    mut rows: Vec<T>,
    limit: i64,
    path: &str,
    place: impl Fn(&T) -> String,
    filters: &[(&str, Option<String>)],
) -> Result<(HeaderMap, Vec<T>), Refusal> {
    let mut headers = HeaderMap::new();
    let fit = usize::try_from(limit).unwrap_or(usize::MAX);

    if rows.len() > fit {
        rows.truncate(fit);
        if let Some(last) = rows.last() {
            headers.insert(header::LINK, next(path, &place(last), limit, filters)?);
        }
    }
    Ok((headers, rows))
}

/// The next page of a listing at `path`, with the filters that were given.
fn next(
    path: &str,
    after: &str,
    limit: i64,
    filters: &[(&str, Option<String>)],
) -> Result<HeaderValue, Refusal> {
    let mut link = format!("/api/v1/{path}?after={after}&limit={limit}");
    for (name, value) in filters {
        if let Some(value) = value {
            link.push_str(&format!("&{name}={}", encode(value)));
        }
    }
    HeaderValue::from_str(&format!("<{link}>; rel=\"next\""))
        .map_err(|error| Refusal::internal(error.to_string()))
}

/// The cursor of the page after a row: its moment in microseconds, and its key.
pub(super) fn at(moment: DateTime<Utc>, id: Uuid) -> String {
    format!("{}.{id}", moment.timestamp_micros())
}

/// Reads such a cursor.
pub(super) fn moment(text: &str) -> Result<(DateTime<Utc>, Uuid), Refusal> {
    let read = || {
        let (moment, id) = text.split_once('.')?;
        Some((DateTime::from_timestamp_micros(moment.parse().ok()?)?, id.parse().ok()?))
    };
    read().ok_or_else(no_cursor)
}

/// Said of what is no cursor.
pub(super) fn no_cursor() -> Refusal {
    Refusal::field("after", FieldCode::Cursor, "This is no cursor. Take it from the Link header.")
}

/// A value as it may stand in a query.
fn encode(value: &str) -> String {
    value.bytes().map(percent).collect()
}

/// RFC 3986, section 2.1.
fn percent(byte: u8) -> String {
    match byte {
        b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'-' | b'.' | b'_' | b'~' => char::from(byte).to_string(),
        other => format!("%{other:02X}"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_cursor_is_read_as_it_is_written_and_nonsense_is_refused() {
        let id = Uuid::nil();
        let (end, read) = moment(&format!("1790000000000000.{id}")).expect("reads");
        assert_eq!((end.timestamp(), read), (1_790_000_000, id));
        assert_eq!(at(end, id), format!("1790000000000000.{id}"));

        for bad in ["", "1790000000000000", "x.y", "1.2"] {
            assert!(moment(bad).is_err(), "{bad}");
        }
    }

    #[test]
    fn the_next_page_keeps_the_filter_and_is_safely_written() {
        let filters = [
            ("stage", Some("live".to_owned())),
            ("account", None),
            ("text", Some("a b&c=\u{e4}".to_owned())),
        ];
        let link = next("domains", "w1.onswick.example", 50, &filters).expect("a link");
        assert_eq!(
            link.to_str().expect("text"),
            "</api/v1/domains?after=w1.onswick.example&limit=50&stage=live&text=a%20b%26c%3D%C3%A4>; rel=\"next\""
        );
    }
}
