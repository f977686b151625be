//! The console's files, from inside the binary.
//!
//! Compressed copies made at build time are preferred; files below `assets/` carry their hash in
//! their names and may be kept for a year; a path of the console's own answers `index.html`.

use crate::problem::ApiError;
use actix_web::{
    HttpRequest, HttpResponse, ResponseError,
    http::{Method, StatusCode, header},
};
use rust_embed::RustEmbed;

#[derive(RustEmbed)]
#[folder = "../../console/dist"]
struct Files;

/// The paths of the console's own pages.
const PAGES: [&str; 24] = [
    "",
    "decide",
    "alerts",
    "alarms",
    "jobs",
    "rules",
    "proposals",
    "runbooks",
    "library",
    "connections",
    "subscribers",
    "contacts",
    "shared",
    "steps",
    "calendars",
    "groups",
    "guards",
    "plans",
    "safety",
    "sources",
    "system",
    "access",
    "record",
    "keys",
];

/// Answers any path that is not the API's: files and pages to GET and HEAD, nothing to anything
/// else, so that nobody who sends alerts to a wrong path believes that they were taken.
pub(crate) async fn file(request: HttpRequest) -> HttpResponse {
    let whole = request.path();
    let shown = arvok_core::text::cut(whole, 80);
    let reads = matches!(*request.method(), Method::GET | Method::HEAD);
    let path = whole.strip_prefix('/').unwrap_or(whole);
    if reads && !path.starts_with('/') {
        if let Some(answer) = serve(&request, path) {
            return answer;
        }
        let first = path.split('/').next().unwrap_or_default();
        let accepted =
            request.headers().get(header::ACCEPT).and_then(|v| v.to_str().ok()).unwrap_or_default();
        if let Some(mut answer) = serve(&request, "index.html") {
            if PAGES.contains(&first) {
                return answer;
            }
            // A person sees the page that says so, and everybody the status.
            if accepted.contains("text/html") && first != "in" && first != "api" {
                *answer.status_mut() = StatusCode::NOT_FOUND;
                return answer;
            }
        }
    }
    let hint = if reads {
        ""
    } else {
        "; alerts are posted to /in/{source}, and the API is under /api/v1"
    };
    ApiError::NotFound(format!("{} {shown}{hint}", request.method())).error_response()
}

fn serve(request: &HttpRequest, path: &str) -> Option<HttpResponse> {
    if path.is_empty() || path.ends_with(".br") || path.ends_with(".gz") {
        return None;
    }
    let accepted = request
        .headers()
        .get(header::ACCEPT_ENCODING)
        .and_then(|v| v.to_str().ok())
        .unwrap_or_default();
    let wanted = [("br", ".br"), ("gzip", ".gz"), ("", "")];
    let (encoding, found) = wanted
        .into_iter()
        .filter(|(name, _)| {
            name.is_empty() || accepted.split(',').any(|a| a.trim().split(';').next() == Some(name))
        })
        .find_map(|(name, suffix)| Files::get(&format!("{path}{suffix}")).map(|f| (name, f)))?;
    let etag = format!("\"{}{encoding}\"", hex::encode(&found.metadata.sha256_hash()[..12]));
    let cache = if path.starts_with("assets/") {
        "public, max-age=31536000, immutable"
    } else {
        "no-cache"
    };
    let same = request
        .headers()
        .get(header::IF_NONE_MATCH)
        .is_some_and(|v| v.as_bytes() == etag.as_bytes());
    let mut answer =
        HttpResponse::build(if same { StatusCode::NOT_MODIFIED } else { StatusCode::OK });
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

fn media_type(path: &str) -> String {
    let found = mime_guess::from_path(path).first_or_octet_stream();
    if found.type_() == "text" { format!("{found}; charset=utf-8") } else { found.to_string() }
}

#[cfg(test)]
mod tests {
    use super::PAGES;
    use std::collections::BTreeSet;

    /// The console's router and this list say the same: of what one forgets the other would answer
    /// 404.
    #[test]
    fn every_view_of_the_router_has_a_page() {
        let router = include_str!("../../../console/src/routes.tsx");
        let paths = router.split("path: '").skip(1).filter_map(|rest| rest.split('\'').next());
        let first =
            paths.filter_map(|path| path.split('/').find(|part| !part.is_empty() && *part != "*"));
        let pages: BTreeSet<&str> = PAGES.into_iter().filter(|page| !page.is_empty()).collect();
        assert_eq!(first.collect::<BTreeSet<_>>(), pages);
    }
}
