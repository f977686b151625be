//! Rules at work: why they match or not, their verdicts, examples and drafts.

use super::{
    ApiError,
    caller::Caller,
    query::in_range,
    rehearsal::{published_rule, rule_of_text},
};
use crate::{explanation, node::Node};
use actix_web::{get, post, web};
use arvok_api::{
    AlertWhy, Draft, FunctionItem, OperationItem, Page, Problem, VerdictFilter, VerdictLine,
    Vocabulary, Why, WhyRequest,
};
use arvok_core::{
    Alert, Catalog, Kind, Severity, Verdict,
    connector::{Connection, Connector, Operation},
    expr,
    matcher::{self, Match},
    rehearse::{self, written_alert},
    rule::{self, Rule, WARNINGS},
    runbook::Runbook,
};
use arvok_store::read;
use serde::Deserialize;
use std::sync::Arc;
use utoipa::IntoParams;

/// Why a rule matches an alert or not, clause by clause, and what it decided about it or would
/// decide at this moment. Nothing is changed by asking.
#[utoipa::path(operation_id = "explainRule", tag = "rules", request_body = WhyRequest,
    responses((status = 200, body = Why), (status = 400, body = Problem), (status = 404,
        body = Problem), (status = 422, body = Problem)))]
#[post("/why")]
pub(super) async fn explain(
    node: web::Data<Node>,
    caller: Caller,
    body: web::Json<WhyRequest>,
) -> Result<web::Json<Why>, ApiError> {
    let request = body.into_inner();
    aside(node, &caller, |node| async move { explained(&node, request).await }).await.map(web::Json)
}

/// Runs a question off the workers: it evaluates what a person wrote.
async fn aside<T: Send + 'static, F: Future<Output = Result<T, ApiError>>>(
    node: web::Data<Node>,
    caller: &Caller,
    ask: impl FnOnce(web::Data<Node>) -> F + Send + 'static,
) -> Result<T, ApiError> {
    let runtime = tokio::runtime::Handle::current();
    let mine = node.clone();
    node.capacity.evaluate(&caller.0, move || runtime.block_on(ask(mine))).await?
}

async fn explained(node: &Node, request: WhyRequest) -> Result<Why, ApiError> {
    let (rule, version) = match (&request.rule, &request.text) {
        (name, Some(text)) => (rule_of_text("rule.yaml", text, name.as_deref())?, None),
        (Some(name), None) => {
            let (rule, version) = published_rule(node, name)?;
            (rule, Some(version))
        }
        (None, None) => {
            return Err(ApiError::BadRequest(
                "neither `rule` nor `text` is given; which rule?".into(),
            ));
        }
    };
    let (alert, seq) = match (request.alert, &request.given) {
        (Some(seq), None) => (stored(node, seq).await?, Some(seq)),
        (None, Some(given)) => (given_alert(given)?, None),
        _ => {
            return Err(ApiError::BadRequest(
                "give either `alert`, a handle, or `given`, an alert that never came".into(),
            ));
        }
    };
    explanation::explain(node, &rule, version, &alert, seq).await
}

async fn stored(node: &Node, seq: i64) -> Result<Alert, ApiError> {
    read::whole_alert(&node.pools.questions, seq)
        .await?
        .ok_or_else(|| ApiError::NotFound(format!("alert {seq}")))
}

/// An alert that never came; it is as if it came now.
fn given_alert(given: &serde_json::Value) -> Result<Alert, ApiError> {
    let mut given = given.clone();
    if let Some(fields) = given.as_object_mut() {
        fields.entry("received").or_insert_with(|| serde_json::json!(crate::clock::now()));
    }
    written_alert(&given, 1).map_err(|e| ApiError::BadRequest(format!("given: {e}")))
}

/// What every rule makes of an alert: those that match, and those that are one clause short.
#[utoipa::path(operation_id = "explainAlert", tag = "alerts", params(("seq" = i64, Path)),
    responses((status = 200, body = AlertWhy), (status = 404, body = Problem)))]
#[get("/alerts/{seq}/why")]
pub(super) async fn why_alert(
    node: web::Data<Node>,
    caller: Caller,
    seq: web::Path<i64>,
) -> Result<web::Json<AlertWhy>, ApiError> {
    let seq = *seq;
    let ask = move |node: web::Data<Node>| async move {
        let alert = stored(&node, seq).await?;
        explanation::all(&node, alert, seq).await
    };
    aside(node, &caller, ask).await.map(web::Json)
}

/// Verdicts, those of the newest alerts first.
#[utoipa::path(
    operation_id = "listVerdicts", tag = "rules", params(VerdictFilter),
    responses((status = 200, body = Page<VerdictLine>), (status = 400, body = Problem))
)]
#[get("/verdicts")]
pub(super) async fn verdicts(
    node: web::Data<Node>,
    _caller: Caller,
    query: web::Query<VerdictFilter>,
) -> Result<web::Json<Page<VerdictLine>>, ApiError> {
    let filter = query.into_inner();
    in_range(filter.limit, [filter.since])?;
    Ok(web::Json(read::verdicts(&node.pools.questions, filter).await?))
}

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(super) struct ExampleQuery {
    /// The rule; if left out, the first that matched the alert.
    rule: Option<String>,
}

/// An example for a rule's file, made from an alert that came and those of its episode.
#[utoipa::path(operation_id = "exampleFromAlert", tag = "rules", params(("seq" = i64, Path),
    ExampleQuery),
    responses((status = 200, body = Draft), (status = 404, body = Problem), (status = 409,
        body = Problem)))]
#[get("/alerts/{seq}/example")]
pub(super) async fn example(
    node: web::Data<Node>,
    caller: Caller,
    seq: web::Path<i64>,
    query: web::Query<ExampleQuery>,
) -> Result<web::Json<Draft>, ApiError> {
    let (seq, query) = (*seq, query.into_inner());
    aside(node, &caller, move |node| async move { example_of(&node, seq, query).await })
        .await
        .map(web::Json)
}

async fn example_of(node: &Node, seq: i64, query: ExampleQuery) -> Result<Draft, ApiError> {
    let alert = stored(node, seq).await?;
    let rule: Arc<Rule> = match &query.rule {
        Some(name) => published_rule(node, name)?.0,
        None => {
            let published = node.published();
            let first = published.matcher.matching(&alert).into_iter().find(|h| h.broken.is_none());
            first.map(|h| Arc::clone(h.rule)).ok_or_else(|| {
                ApiError::Conflict(format!("no rule matches alert {seq}; name one with `rule`"))
            })?
        }
    };
    let alerts = read::alerts_around(&node.pools.questions, seq, 50).await?;
    let made = rehearse::example_of(&rule, &alerts, &*node.published().catalog)
        .ok_or_else(|| ApiError::Conflict(format!("no example can be made of alert {seq}")))?;
    Ok(Draft { text: made.as_yaml(&rule.name), rule: Some(rule.name.clone()) })
}

/// A rule to start from, made from an alert.
#[utoipa::path(operation_id = "draftFromAlert", tag = "rules", params(("seq" = i64, Path)),
    responses((status = 200, body = Draft), (status = 404, body = Problem)))]
#[get("/alerts/{seq}/draft")]
pub(super) async fn draft(
    node: web::Data<Node>,
    _caller: Caller,
    seq: web::Path<i64>,
) -> Result<web::Json<Draft>, ApiError> {
    let alert = stored(&node, *seq).await?;
    let published = node.published();
    let mut runbooks: Vec<&Runbook> = published.catalog.all().map(|(runbook, _)| runbook).collect();
    // Those that others dispatch for such an alert come first, then those that need one resource
    // and nothing else.
    let used: Vec<String> =
        published.catalog.rules().flat_map(|(rule, _)| used_for(&alert, &rule)).collect();
    runbooks.sort_by_key(|runbook| (!used.contains(&runbook.name), !needs_a_resource(runbook)));
    Ok(web::Json(Draft { text: rule::draft(&alert, runbooks.into_iter()), rule: None }))
}

/// The runbooks that a rule dispatches, if it would for such an alert.
fn used_for(alert: &Alert, rule: &Rule) -> Vec<String> {
    match matcher::test(rule, alert) {
        Match::Yes => rule.dispatch.iter().map(|dispatch| dispatch.runbook.clone()).collect(),
        _ => Vec::new(),
    }
}

fn needs_a_resource(runbook: &Runbook) -> bool {
    let needed: Vec<_> = runbook
        .inputs
        .properties()
        .iter()
        .filter(|(name, _)| runbook.inputs.is_required(name))
        .collect();
    matches!(needed.as_slice(), [(_, schema)] if schema["format"] == "resource")
}

fn function(f: &expr::Function) -> FunctionItem {
    FunctionItem { name: f.name.to_owned(), form: f.form(), says: f.says.to_owned() }
}

/// A connection with the operations of its connector.
fn operations(catalog: &Catalog, connection: &Connection) -> (String, Vec<OperationItem>) {
    let all =
        catalog.get::<Connector>(&connection.connector).map(|(connector, _)| &connector.operations);
    let item = |(name, operation): (&String, &Operation)| {
        let takes = operation.takes.properties().iter();
        let mut takes: Vec<(bool, &String)> =
            takes.map(|(name, of)| (of.get("default").is_some(), name)).collect();
        takes.sort_by_key(|(optional, _)| *optional);
        OperationItem {
            name: name.clone(),
            summary: operation.summary.clone(),
            takes: takes.into_iter().map(|(_, name)| name.clone()).collect(),
        }
    };
    (connection.name.clone(), all.into_iter().flatten().map(item).collect())
}

/// Names, labels and functions, for completing words in an editor.
#[utoipa::path(
    operation_id = "showVocabulary", tag = "rules", responses((status = 200, body = Vocabulary))
)]
#[get("/vocabulary")]
pub(super) async fn vocabulary(
    node: web::Data<Node>,
    _caller: Caller,
) -> Result<web::Json<Vocabulary>, ApiError> {
    let seen = read::observed(&node.pools.questions, &[]).await?;
    let published = node.published();
    let mut sources = seen.sources;
    sources.extend(published.catalog.entries(Kind::Source).map(|e| e.name.clone()));
    let inputs = |r: &Runbook| (r.name.clone(), r.inputs.properties().keys().cloned().collect());
    let runbooks = published.catalog.all().map(|(runbook, _)| inputs(runbook));
    Ok(web::Json(Vocabulary {
        sources: sources.into_iter().collect(),
        kinds: seen.kinds.into_iter().collect(),
        resources: seen.resources.into_iter().take(2000).collect(),
        labels: seen
            .labels
            .into_iter()
            .map(|(k, v)| (k, v.into_iter().take(200).collect()))
            .collect(),
        runbooks: runbooks.collect(),
        connections: published
            .catalog
            .all::<Connection>()
            .map(|(c, _)| operations(&published.catalog, c))
            .collect(),
        functions: expr::FUNCTIONS.iter().map(function).collect(),
        fields: expr::ALERT_FIELDS.map(str::to_owned).to_vec(),
        severities: Severity::ALL.map(|s| s.as_str().to_owned()).to_vec(),
        verdicts: Verdict::ALL.map(|v| v.as_str().to_owned()).to_vec(),
        warnings: WARNINGS.map(|(name, says)| (name.to_owned(), says.to_owned())).into(),
    }))
}
