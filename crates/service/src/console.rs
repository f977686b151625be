//! The console's files, from inside the binary.
//!
//! Compressed copies made at build time are preferred; files below `assets/` carry their hash in
//! their names and may be kept for a year; a path of the console's own answers `index.html`.

use actix_web::{
    HttpRequest, HttpResponse,
    http::{StatusCode, header},
};
use rust_embed::RustEmbed;

#[derive(RustEmbed)]
#[folder = "../../console/dist"]
struct Files;

/// Answers any path that is not the API's.
pub(crate) async fn file(request: HttpRequest) -> HttpResponse {
    let path = request.path().trim_start_matches('/');
    if let Some(answer) = serve(&request, path) {
        return answer;
    }
    let looks_like_file = path.rsplit('/').next().is_some_and(|name| name.contains('.'));
    if !looks_like_file && let Some(answer) = serve(&request, "index.html") {
        return answer;
    }
    HttpResponse::NotFound().content_type("text/plain; charset=utf-8").body("There is nothing here.\n")
}

fn serve(request: &HttpRequest, path: &str) -> Option<HttpResponse> {
    if path.is_empty() || path.ends_with(".br") || path.ends_with(".gz") {
        return None;
    }
    let accepted = request.headers().get(header::ACCEPT_ENCODING).and_then(|v| v.to_str().ok()).unwrap_or_default();
    let wanted = [("br", ".br"), ("gzip", ".gz"), ("", "")];
    let (encoding, found) = wanted
        .into_iter()
        .filter(|(name, _)| name.is_empty() || accepted.split(',').any(|a| a.trim().split(';').next() == Some(name)))
        .find_map(|(name, suffix)| Files::get(&format!("{path}{suffix}")).map(|f| (name, f)))?;
    let hash: String = found.metadata.sha256_hash().iter().take(12).map(|b| format!("{b:02x}")).collect();
    let etag = format!("\"{hash}{encoding}\"");
    let cache = if path.starts_with("assets/") { "public, max-age=31536000, immutable" } else { "no-cache" };
    let same = request.headers().get(header::IF_NONE_MATCH).is_some_and(|v| v.as_bytes() == etag.as_bytes());
    let mut answer = HttpResponse::build(if same { StatusCode::NOT_MODIFIED } else { StatusCode::OK });
    answer.insert_header((header::ETAG, etag)).insert_header((header::CACHE_CONTROL, cache));
    answer.insert_header((header::VARY, "Accept-Encoding"));
    if same {
        return Some(answer.finish());
    }
    if !encoding.is_empty() {
        answer.insert_header((header::CONTENT_ENCODING, encoding));
    }
    Some(answer.content_type(media_type(path)).body(found.data.into_owned()))
}

fn media_type(path: &str) -> &'static str {
    match path.rsplit('.').next().unwrap_or_default() {
        "html" => "text/html; charset=utf-8",
        "js" => "text/javascript; charset=utf-8",
        "css" => "text/css; charset=utf-8",
        "svg" => "image/svg+xml",
        "woff2" => "font/woff2",
        "json" => "application/json",
        "png" => "image/png",
        _ => "application/octet-stream",
    }
}
