//! What sources send: its shapes, the mapping that is suggested, and one that is tried.

use super::{ApiError, caller::Caller, definitions::unknown};
use crate::{
    clock,
    intake::bytes_of,
    node::{Node, Published},
};
use actix_web::{delete, get, post, web};
use arvok_api::{
    ForgottenShapes, KindShape, Problem, ShapeFilter, SourceShapes, SuggestedRead, TestSource,
    TestedPayload, TestedSource, UnreadableItem,
};
use arvok_core::{
    Kind, Role,
    definition::Defined,
    document::parse_file,
    source::{self, Delivery, MAX_PAYLOADS, Source},
};
use arvok_store::{entity::unreadable, read as rows, shapes};
use chrono::{DateTime, Utc};
use serde_json::{Map, Value};
use std::{borrow::Cow, sync::Arc};

/// Payloads on which a document is tried.
const TRIED: u64 = 20;
/// Most bytes of payloads that are looked at for a suggestion.
const MOST_BYTES: usize = 8 << 20;

/// What a source sends, by kind: which fields, how often, of which types, with which values. What
/// was made up does not count; values of masked fields and of passwords and the like are not kept.
#[utoipa::path(
    operation_id = "showShapes", tag = "sources", params(("name" = String, Path), ShapeFilter),
    responses((status = 200, body = SourceShapes), (status = 404, body = Problem))
)]
#[get("/sources/{name}/shapes")]
pub(super) async fn list(
    node: web::Data<Node>,
    _caller: Caller,
    name: web::Path<String>,
    query: web::Query<ShapeFilter>,
) -> Result<web::Json<SourceShapes>, ApiError> {
    published_source(&node.published(), &name)?;
    let found = shapes::find(&node.pools.questions, &[name.into_inner()]).await?;
    let wanted = |kind: &String| query.kind.as_ref().is_none_or(|wanted| wanted == kind);
    let found = found.into_iter().filter(|((_, kind), _)| wanted(kind));
    let kinds = found.map(|((_, kind), shape)| KindShape::new(kind, shape)).collect();
    Ok(web::Json(SourceShapes { kinds }))
}

/// Forgets what a source sent, of one kind or of all, as after its sender was changed: rules are
/// checked against what comes from now on. Alerts stay as they are.
#[utoipa::path(
    operation_id = "forgetShapes", tag = "sources", params(("name" = String, Path), ShapeFilter),
    responses((status = 200, body = ForgottenShapes), (status = 403, body = Problem),
        (status = 404, body = Problem))
)]
#[delete("/sources/{name}/shapes")]
pub(super) async fn forget(
    node: web::Data<Node>,
    caller: Caller,
    name: web::Path<String>,
    query: web::Query<ShapeFilter>,
) -> Result<web::Json<ForgottenShapes>, ApiError> {
    caller.must(Role::Author)?;
    published_source(&node.published(), &name)?;
    let kind = query.kind.as_deref();
    let by = caller.principal();
    let forgotten = shapes::forget(&node.pools.questions, (&name, kind), &by).await?;
    Ok(web::Json(ForgottenShapes { forgotten }))
}

/// Lines of `read` to start from, by the payloads that are kept of a source since they could not be
/// read or it does not say yet how.
#[utoipa::path(
    operation_id = "suggestRead", tag = "sources", params(("name" = String, Path)),
    responses((status = 200, body = SuggestedRead), (status = 404, body = Problem))
)]
#[get("/sources/{name}/suggestion")]
pub(super) async fn suggest(
    node: web::Data<Node>,
    caller: Caller,
    name: web::Path<String>,
) -> Result<web::Json<SuggestedRead>, ApiError> {
    let published = node.published();
    published_source(&published, &name)?;
    let kept = newest(&node, &name, MAX_PAYLOADS as u64).await?;
    let name = name.into_inner();
    let suggested = node.capacity.evaluate(&caller.0, move || {
        let bytes: Vec<Cow<'_, [u8]>> = kept.iter().map(bytes_of).collect();
        let raw: Vec<&[u8]> = bytes.iter().map(AsRef::as_ref).collect();
        let (source, _) = published.catalog.get::<Source>(&name)?;
        source::suggest(source, &raw, clock::now())
    });
    Ok(web::Json(suggested.await?.map_or_else(SuggestedRead::default, Into::into)))
}

/// What a document of a source makes of payloads, before it is published. Nothing is recorded.
#[utoipa::path(
    operation_id = "testSource", tag = "sources", request_body = TestSource,
    responses((status = 200, body = TestedSource), (status = 400, body = Problem))
)]
#[post("/sources/test")]
pub(super) async fn test(
    node: web::Data<Node>,
    caller: Caller,
    body: web::Json<TestSource>,
) -> Result<web::Json<TestedSource>, ApiError> {
    let TestSource { text, file, payload, beside } = body.into_inner();
    let checked = move || checked(file.as_deref().unwrap_or("the source"), &text);
    let checked = node.capacity.evaluate(&caller.0, checked).await?;
    let source = match checked {
        Ok(source) => Arc::new(source),
        Err(problems) => {
            let problems = problems.into_iter().map(Into::into).collect();
            return Ok(web::Json(TestedSource { problems, payloads: Vec::new() }));
        }
    };
    let received = clock::now();
    let kept = match &payload {
        Some(_) => Vec::new(),
        None => newest(&node, &source.name, TRIED).await?,
    };
    let payloads = node.capacity.evaluate(&caller.0, move || match payload {
        Some(payload) => vec![read(&source, payload.as_bytes(), &beside, received)],
        None => kept.iter().map(|kept| read_kept(&source, kept)).collect(),
    });
    Ok(web::Json(TestedSource { problems: Vec::new(), payloads: payloads.await? }))
}

/// A payload that could not be read or is caught, whole.
#[utoipa::path(
    operation_id = "showUnreadable", tag = "sources", params(("id" = i64, Path)),
    responses((status = 200, body = UnreadableItem), (status = 404, body = Problem))
)]
#[get("/unreadable/{id}")]
pub(super) async fn one_kept(
    node: web::Data<Node>,
    _caller: Caller,
    id: web::Path<i64>,
) -> Result<web::Json<UnreadableItem>, ApiError> {
    let found = rows::one_unreadable(&node.pools.questions, *id).await?;
    let kept = found.ok_or_else(|| ApiError::NotFound(format!("a kept payload {id}")))?;
    Ok(web::Json(UnreadableItem {
        id: kept.id,
        source: kept.source,
        received: kept.received,
        reason: kept.reason,
        payload: kept.payload,
        is_cut: false,
        beside: kept.beside.filter(|beside| !beside.is_null()),
        caught: kept.caught,
        base64: kept.base64,
    }))
}

fn published_source<'p>(published: &'p Published, name: &str) -> Result<&'p Source, ApiError> {
    let found = published.catalog.get::<Source>(name);
    found.map(|(source, _)| source).ok_or_else(|| unknown(published, Kind::Source, name))
}

/// The newest payloads that are kept of a source.
async fn newest(node: &Node, source: &str, most: u64) -> Result<Vec<unreadable::Model>, ApiError> {
    Ok(rows::newest_unreadable(&node.pools.questions, source, most, MOST_BYTES).await?)
}

/// The source that a text holds.
fn checked(file: &str, text: &str) -> Result<Source, Vec<arvok_core::Problem>> {
    let documents = parse_file(file, text).map_err(|problem| vec![problem])?;
    let document = documents.iter().find(|document| document.kind == Kind::Source.as_str());
    let Some(document) = document else {
        let message = "holds no `source:`";
        return Err(documents.first().map(|d| d.problem("", message)).into_iter().collect());
    };
    Source::check(document)
}

fn read_kept(source: &Source, kept: &unreadable::Model) -> TestedPayload {
    let beside = kept.beside.as_ref().and_then(Value::as_object).cloned().unwrap_or_default();
    let raw = bytes_of(kept);
    TestedPayload { id: Some(kept.id), ..read(source, &raw, &beside, kept.received) }
}

fn read(
    source: &Source,
    raw: &[u8],
    beside: &Map<String, Value>,
    received: DateTime<Utc>,
) -> TestedPayload {
    let outcome = source.read(&Delivery {
        raw,
        properties: beside,
        received,
        fallback_id: "test",
        normal: false,
    });
    let alert = |alert| serde_json::to_value(alert).unwrap_or_default();
    TestedPayload {
        id: None,
        alerts: outcome.alerts.iter().map(alert).collect(),
        left_out: outcome.left_out,
        absent: outcome.absent.into_iter().map(|(line, n)| (line.to_owned(), n)).collect(),
        unreadable: outcome.unreadable.into_iter().map(|unread| unread.reason).collect(),
    }
}
