//! The console's files, carried in the binary.

use std::borrow::Cow;
use std::collections::BTreeMap;
use std::sync::LazyLock;

use axum::body::Body;
use axum::extract::Request;
use axum::http::{HeaderMap, HeaderValue, Method, StatusCode, header};
use axum::response::{IntoResponse, Response};
use data_encoding::HEXLOWER;
use rust_embed::{EmbeddedFile, RustEmbed};

use crate::problem::Refusal;

/// The files, and what each is compressed to when the console is built.
#[derive(RustEmbed)]
#[folder = "../../console/dist"]
#[allow_missing = true]
struct Files;

/// Places of the console, as its router has them: names and paths with `:` before what
/// stands for anything.
static PLACES: LazyLock<BTreeMap<String, String>> = LazyLock::new(|| {
    serde_json::from_str(include_str!("../../../console/src/places.json")).unwrap_or_default()
});

/// Compressed forms of a file, best first: what follows its name, and the coding's name.
const CODINGS: [(&str, &str); 2] = [(".br", "br"), (".gz", "gzip")];

/// Any path that is not the API's: a file, or the page that routes by itself.
pub(crate) async fn serve(request: Request) -> Response {
    let path = request.uri().path();
    let name = path.trim_start_matches('/');
    let file = (!name.is_empty()).then(|| Files::get(name)).flatten();
    let is_file = file.is_some() && !CODINGS.iter().any(|(end, _)| name.ends_with(end));

    if !is_file && !is_place(path) {
        return Refusal::no_such_call(path).into_response();
    }
    if ![Method::GET, Method::HEAD].contains(request.method()) {
        let mut refusal = Refusal::no_such_method(request.method().as_str(), path).into_response();
        refusal.headers_mut().insert(header::ALLOW, HeaderValue::from_static("GET, HEAD"));
        return refusal;
    }

    match (file, Files::get("index.html")) {
        (Some(file), _) if is_file => respond(name, &file, request.headers(), name.starts_with("assets/")),
        (_, Some(page)) => respond("index.html", &page, request.headers(), false),
        _ => Refusal::unavailable("The console was not built into this service. Run: npm ci && npm run build in console/, then build again.")
            .into_response(),
    }
}

/// A file as it was built.
pub(crate) fn file(name: &str) -> Option<Cow<'static, [u8]>> {
    Files::get(name).map(|file| file.data)
}

/// Whether the console has a page there.
fn is_place(path: &str) -> bool {
    let parts: Vec<_> = path.split('/').collect();
    PLACES.values().any(|place| {
        let wanted: Vec<_> = place.split('/').collect();
        let fits =
            |(wanted, part): (&&str, &&str)| wanted == part || (wanted.starts_with(':') && !part.is_empty());
        wanted.len() == parts.len() && wanted.iter().zip(&parts).all(fits)
    })
}

/// Built assets carry a hash in their name and never change.
fn respond(name: &str, file: &EmbeddedFile, asked: &HeaderMap, forever: bool) -> Response {
    let cache = if forever { "public, max-age=31536000, immutable" } else { "no-cache" };
    let tag = format!("\"{}\"", HEXLOWER.encode(&file.metadata.sha256_hash()[..16]));
    let mut headers = HeaderMap::new();
    for (name, value) in
        [(header::CACHE_CONTROL, cache), (header::VARY, "Accept-Encoding"), (header::ETAG, &tag)]
    {
        headers.extend(HeaderValue::from_str(value).ok().map(|value| (name, value)));
    }

    if has_it(asked, &tag) {
        return (StatusCode::NOT_MODIFIED, headers).into_response();
    }

    headers.extend(
        HeaderValue::from_str(file.metadata.mimetype()).ok().map(|kind| (header::CONTENT_TYPE, kind)),
    );
    let coded = CODINGS.iter().find_map(|(end, coding)| {
        let file = takes(asked, coding).then(|| Files::get(&format!("{name}{end}"))).flatten()?;
        Some((file, *coding))
    });
    match coded {
        Some((file, coding)) => {
            headers.insert(header::CONTENT_ENCODING, HeaderValue::from_static(coding));
            (headers, Body::from(file.data)).into_response()
        }
        None => (headers, Body::from(file.data.clone())).into_response(),
    }
}

/// Whether the caller has this version already (RFC 9110, section 13.1.2).
fn has_it(asked: &HeaderMap, tag: &str) -> bool {
    let known = asked.get_all(header::IF_NONE_MATCH).iter().filter_map(|value| value.to_str().ok());
    known
        .flat_map(|value| value.split(','))
        .map(str::trim)
        .any(|known| known == "*" || known.strip_prefix("W/").unwrap_or(known) == tag)
}

/// Whether the caller takes a coding (RFC 9110, section 12.5.3).
fn takes(asked: &HeaderMap, coding: &str) -> bool {
    let listed = asked.get_all(header::ACCEPT_ENCODING).iter().filter_map(|value| value.to_str().ok());
    listed.flat_map(|value| value.split(',')).any(|one| {
        let (name, weight) = one.split_once(';').unwrap_or((one, ""));
        let is_refused = weight.trim().strip_prefix("q=").is_some_and(|q| q.trim().parse() == Ok(0.0));
        name.trim().eq_ignore_ascii_case(coding) && !is_refused
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pages_are_where_the_console_has_them_and_nowhere_else() {
        for path in ["/", "/accounts", "/domains/www.onswick.example", "/sign-in"] {
            assert!(is_place(path), "{path}");
        }
        for path in ["", "/nonsense", "/domains/", "/domains/a/b", "/api/v2", "/accounts/", "//"] {
            assert!(!is_place(path), "{path}");
        }
    }

    #[test]
    fn a_coding_is_sent_to_whoever_takes_it() {
        let asked = |value: &'static str| {
            let mut headers = HeaderMap::new();
            headers.insert(header::ACCEPT_ENCODING, HeaderValue::from_static(value));
            headers
        };
        assert!(takes(&asked("gzip, deflate, br"), "br") && takes(&asked("BR;q=0.5"), "br"));
        assert!(!takes(&asked("br;q=0, gzip"), "br") && !takes(&asked("gzip"), "br"));
        assert!(!takes(&HeaderMap::new(), "gzip"));
    }
}
