//! Pages of a listing, and the `Link` header that leads to the next (RFC 8288).

use axum::http::{HeaderMap, HeaderValue, header};
use chrono::{DateTime, Duration, Utc};
use nomenta_api::problem::FieldCode;
use nomenta_store::{Page, Place};
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};
use serde::Serialize;
use serde_json::Value;

use crate::problem::Refusal;

/// All but what RFC 3986, section 2.3, leaves as it is.
const RESERVED: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~');
const PAGE: i64 = 100;
const LARGEST_PAGE: i64 = 500;
/// Farthest that a number of days may reach: a century.
const MOST_DAYS: u32 = 36_500;
/// Moments that a cursor may be at, in microseconds: from 1970 to the year 9999.
const MOMENTS: std::ops::Range<i64> = 0..253_402_300_800_000_000;

/// Lines at most on a page, for what was asked.
pub(super) fn limit(asked: Option<i64>) -> Result<i64, Refusal> {
    let limit = asked.unwrap_or(PAGE);
    if (1..=LARGEST_PAGE).contains(&limit) {
        return Ok(limit);
    }
    let message = format!("{limit} lines are no page. Ask for 1 to {LARGEST_PAGE}.");
    Err(Refusal::field("limit", FieldCode::OutOfRange, message))
}

/// The moment so many days from now; `sign` is -1 for those that have been.
pub(super) fn days_from_now(field: &str, days: u32, sign: i32) -> Result<DateTime<Utc>, Refusal> {
    if days <= MOST_DAYS {
        return Ok(Utc::now() + Duration::days(i64::from(days) * i64::from(sign)));
    }
    let message = format!("{days} days are more than a century. Ask for at most {MOST_DAYS}.");
    Err(Refusal::field(field, FieldCode::OutOfRange, message))
}

/// The rows of one page, read as one more than `limit`, with the header that leads to
/// the next page of the listing at `path`, if there is one; `place` is a row's cursor, and
/// `asked` what the listing was asked for.
pub(super) fn page<T>(
    mut rows: Vec<T>,
    limit: i64,
    path: &str,
    place: impl Fn(&T) -> String,
    asked: &[(String, String)],
) -> Result<(HeaderMap, Vec<T>), Refusal> {
    let mut headers = HeaderMap::new();
    let fit = usize::try_from(limit).unwrap_or(usize::MAX);

    if rows.len() > fit {
        rows.truncate(fit);
        if let Some(last) = rows.last() {
            headers.insert(header::LINK, next(path, &place(last), asked)?);
        }
    }
    Ok((headers, rows))
}

/// The rows of one page of the listing at `path`, as [`page()`]; also where it is not full, but leads on.
pub(super) fn page_beyond<T, P>(
    found: Page<T, P>,
    limit: i64,
    path: &str,
    place: impl Fn(&T) -> String,
    written: impl Fn(&P) -> Option<String>,
    asked: &[(String, String)],
) -> Result<(HeaderMap, Vec<T>), Refusal> {
    let (mut headers, rows) = page(found.rows, limit, path, place, asked)?;
    if let Some(beyond) = found.beyond.as_ref().and_then(written) {
        headers.insert(header::LINK, next(path, &beyond, asked)?);
    }
    Ok((headers, rows))
}

/// What a listing was asked for, without the place where its page begins.
pub(super) fn asked(query: &impl Serialize) -> Result<Vec<(String, String)>, Refusal> {
    let query = serde_json::to_value(query).map_err(|error| Refusal::internal(error.to_string()))?;
    let mut asked = Vec::new();
    for (name, value) in query.as_object().into_iter().flatten().filter(|(name, _)| *name != "after") {
        match value {
            Value::Null | Value::Bool(false) => {}
            Value::String(text) => asked.push((name.clone(), text.clone())),
            other => asked.push((name.clone(), other.to_string())),
        }
    }
    Ok(asked)
}

/// The next page of a listing at `path`.
pub(super) fn next(path: &str, after: &str, asked: &[(String, String)]) -> Result<HeaderValue, Refusal> {
    let mut link = format!("/api/v1/{path}?after={}", encode(after));
    for (name, value) in asked {
        link.push_str(&format!("&{name}={}", encode(value)));
    }
    HeaderValue::from_str(&format!("<{link}>; rel=\"next\""))
        .map_err(|error| Refusal::internal(error.to_string()))
}

/// A place as it is written for whoever asks for the next page.
pub(super) trait Cursor: Sized {
    /// The text.
    fn written(&self) -> String;

    /// Reads what was written.
    ///
    /// # Errors
    /// At the field `after`.
    fn read(text: &str) -> Result<Self, Refusal>;
}

/// Its moment in microseconds, and the key.
impl Cursor for Place<DateTime<Utc>> {
    fn written(&self) -> String {
        format!("{}.{}", self.by.timestamp_micros(), self.id)
    }

    fn read(text: &str) -> Result<Self, Refusal> {
        let read = || {
            let (moment, id) = text.split_once('.')?;
            let moment = moment.parse().ok().filter(|moment| MOMENTS.contains(moment))?;
            Some(Self::after(DateTime::from_timestamp_micros(moment)?, id.parse().ok()?))
        };
        read().ok_or_else(no_cursor)
    }
}

/// The name, and the key.
impl Cursor for Place<String> {
    fn written(&self) -> String {
        format!("{}~{}", self.by, self.id)
    }

    fn read(text: &str) -> Result<Self, Refusal> {
        let read =
            text.split_once('~').and_then(|(name, id)| Some(Self::after(name.to_owned(), id.parse().ok()?)));
        read.ok_or_else(no_cursor)
    }
}

/// Said of what is no cursor.
pub(super) fn no_cursor() -> Refusal {
    Refusal::field("after", FieldCode::Cursor, "This is no cursor. Take it from the Link header.")
}

/// A value as it may stand in a query.
fn encode(value: &str) -> String {
    utf8_percent_encode(value, RESERVED).to_string()
}

#[cfg(test)]
mod tests {
    use nomenta_api::domain::RosterQuery;
    use uuid::Uuid;

    use super::*;

    #[test]
    fn a_cursor_is_read_as_it_is_written_and_nonsense_is_refused() {
        let id = Uuid::nil();
        let text = format!("1790000000000000.{id}");
        let place = Place::<DateTime<Utc>>::read(&text).expect("reads");
        assert_eq!((place.by.timestamp(), place.id), (1_790_000_000, id));
        assert_eq!(place.written(), text);

        let bad = ["", "1790000000000000", "x.y", "1.2"].map(str::to_owned);
        for bad in bad.into_iter().chain([format!("-8000000000000000000.{id}"), format!("{}.{id}", i64::MAX)])
        {
            assert!(Place::<DateTime<Utc>>::read(&bad).is_err(), "{bad}");
        }
        let place = Place::<String>::read(&format!("w.example~{id}")).expect("reads");
        assert_eq!((place.by.as_str(), place.id), ("w.example", id));
        assert!(Place::<String>::read("w.example").is_err());
    }

    #[test]
    fn the_next_page_is_of_what_was_asked_and_safely_written() {
        let query = RosterQuery {
            stage: Some("live".into()),
            text: Some("a b&c=\u{e4}".into()),
            limit: Some(50),
            after: Some("before".into()),
            ..RosterQuery::default()
        };
        let link = next("domains", "w1.onswick.example", &asked(&query).expect("asked")).expect("a link");
        assert_eq!(
            link.to_str().expect("text"),
            "</api/v1/domains?after=w1.onswick.example&limit=50&stage=live&text=a%20b%26c%3D%C3%A4>; rel=\"next\""
        );
    }
}
