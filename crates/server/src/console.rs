//! The console's files, built into the program.

use axum::http::header::{CACHE_CONTROL, CONTENT_SECURITY_POLICY, CONTENT_TYPE, REFERRER_POLICY};
use axum::http::{StatusCode, Uri};
use axum::response::{IntoResponse, Response};

include!(concat!(env!("OUT_DIR"), "/console_files.rs"));

/// Scripts, styles and connections of our own and nothing else.
const POLICY: &str = "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; \
                      frame-ancestors 'none'; base-uri 'none'; form-action 'self'";

fn kind(path: &str) -> &'static str {
    match path.rsplit('.').next() {
        Some("html") => "text/html; charset=utf-8",
        Some("js") => "text/javascript; charset=utf-8",
        Some("css") => "text/css; charset=utf-8",
        Some("svg") => "image/svg+xml",
        Some("woff2") => "font/woff2",
        Some("json") => "application/json",
        _ => "application/octet-stream",
    }
}

/// A file of the console. Addresses that are no file's are pages, which the console tells apart.
pub(crate) async fn file(uri: Uri) -> Response {
    let path = uri.path().trim_start_matches('/');
    let find = |path: &str| FILES.iter().find(|(name, _)| *name == path);
    let is_asset = path.starts_with("assets/");
    match find(path).or_else(|| if is_asset { None } else { find("index.html") }) {
        None => StatusCode::NOT_FOUND.into_response(),
        Some((name, bytes)) => {
            // Names of assets carry a digest of what is in them.
            let cache = if is_asset { "public, max-age=31536000, immutable" } else { "no-cache" };
            let headers = [
                (CONTENT_TYPE, kind(name)),
                (CACHE_CONTROL, cache),
                (CONTENT_SECURITY_POLICY, POLICY),
                (REFERRER_POLICY, "same-origin"),
            ];
            (headers, *bytes).into_response()
        }
    }
}
