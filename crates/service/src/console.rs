//! The console's files, carried in the binary.

use axum::body::Body;
use axum::http::{Uri, header};
use axum::response::{IntoResponse, Response};
use rust_embed::{EmbeddedFile, RustEmbed};

use crate::problem::Refusal;

#[derive(RustEmbed)]
#[folder = "../../console/dist"]
#[allow_missing = true]
struct Files;

/// Any path that is not the API's: a file, or the page that routes by itself.
pub(crate) async fn serve(uri: Uri) -> Response {
    let path = uri.path().trim_start_matches('/');
    if path.starts_with("api/") {
        return Refusal::not_found(format!("There is no call at {}.", uri.path())).into_response();
    }

    match (Files::get(path), Files::get("index.html")) {
        (Some(file), _) if !path.is_empty() => respond(file, path.starts_with("assets/")),
        (_, Some(page)) => respond(page, false),
        _ => Refusal::unavailable("The console was not built into this service. Run: npm ci && npm run build in console/, then build again.")
            .into_response(),
    }
}

/// Built assets carry a hash in their name and never change.
fn respond(file: EmbeddedFile, forever: bool) -> Response {
    let cache = if forever { "public, max-age=31536000, immutable" } else { "no-cache" };
    let kind = file.metadata.mimetype().to_owned();
    let body = Body::from(file.data);
    ([(header::CONTENT_TYPE, kind), (header::CACHE_CONTROL, cache.to_owned())], body).into_response()
}
