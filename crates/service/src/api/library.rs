//! The library: ready-made runbooks, how they stand to what is published, and copies of them.

use super::{ApiError, caller::Caller};
use crate::node::{Node, Published};
use actix_web::{get, post, web};
use arvok_api::{
    Copied, CopyRequest, LibraryCopy, LibraryDetail, LibraryItem, LibraryRunbook, Page, Problem,
};
use arvok_core::{Kind, catalog::Entry, runbook::Runbook, text::cut};
use arvok_library::{LibraryError, ReadyMade};
use std::sync::Arc;

/// The ready-made runbooks, by name.
#[utoipa::path(
    operation_id = "listLibrary", tag = "library",
    responses((status = 200, body = Page<LibraryItem>))
)]
#[get("/library")]
pub(super) async fn list(node: web::Data<Node>, _caller: Caller) -> web::Json<Page<LibraryItem>> {
    let published = node.published();
    let items = arvok_library::all().iter().map(|ready| item(&published, ready)).collect();
    web::Json(Page { items, next: None, bounded: false })
}

/// One ready-made runbook with its text.
#[utoipa::path(operation_id = "showReadyMade", tag = "library", params(("name" = String, Path)),
    responses((status = 200, body = LibraryDetail), (status = 404, body = Problem)))]
#[get("/library/{name}")]
pub(super) async fn one(
    node: web::Data<Node>,
    _caller: Caller,
    name: web::Path<String>,
) -> Result<web::Json<LibraryDetail>, ApiError> {
    let ready = arvok_library::get(&name)?;
    Ok(web::Json(LibraryDetail {
        item: item(&node.published(), ready),
        text: ready.text().to_owned(),
    }))
}

/// Makes a copy of a ready-made runbook: a text, to be changed and published.
#[utoipa::path(operation_id = "copyReadyMade", tag = "library", params(("name" = String, Path)),
    request_body = CopyRequest,
    responses((status = 200, body = Copied), (status = 400, body = Problem), (status = 404,
        body = Problem)))]
#[post("/library/{name}/copy")]
pub(super) async fn copy(
    node: web::Data<Node>,
    _caller: Caller,
    name: web::Path<String>,
    asked: web::Json<CopyRequest>,
) -> Result<web::Json<Copied>, ApiError> {
    let CopyRequest { name: own, via, with_needs } = asked.into_inner();
    let published = node.published();
    let missing =
        |kind: Kind, name: &str| with_needs && published.catalog.entry(kind, name).is_none();
    let text = arvok_library::get(&name)?.copied(own.as_deref().unwrap_or(&name), &via, missing)?;
    Ok(web::Json(Copied { text }))
}

impl From<LibraryError> for ApiError {
    fn from(error: LibraryError) -> Self {
        match error {
            LibraryError::Missing(missing) => {
                let near = missing
                    .near
                    .map_or_else(String::new, |near| format!("; did you mean `{near}`?"));
                Self::NotFound(format!(
                    "{} `{}` in the library{near}",
                    missing.what,
                    cut(&missing.name, 64)
                ))
            }
            LibraryError::Copy(wrong) => Self::BadRequest(wrong.to_string()),
        }
    }
}

fn item(published: &Published, ready: &ReadyMade) -> LibraryItem {
    let runbook = LibraryRunbook::from(ready);
    let catalog = &published.catalog;
    let connections = runbook.connections.iter().map(|name| (Kind::Connection, name));
    let needs = connections.chain(runbook.runbooks.iter().map(|name| (Kind::Runbook, name)));
    let missing = needs
        .filter(|(kind, name)| catalog.entry(*kind, name).is_none())
        .map(|(_, name)| name.clone());
    let copies = catalog.entries(Kind::Runbook).filter(|entry| {
        let copied_from = entry.as_kind::<Runbook>().and_then(|own| own.copied_from.as_ref());
        copied_from.unwrap_or(&entry.name) == &runbook.name
    });
    let told = |entry: &Arc<Entry>| LibraryCopy {
        name: entry.name.clone(),
        version: entry.version,
        same: ready.is_same(&entry.name, &entry.document.text),
    };
    LibraryItem { missing: missing.collect(), copies: copies.map(told).collect(), runbook }
}
