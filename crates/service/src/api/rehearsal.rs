//! Rehearsing a rule over stored or given alerts: the answer is a stream of JSON lines, progress
//! first and the result at the end. Whoever hangs up stops it.

use super::{ApiError, caller::Caller, definitions::unknown};
use crate::{clock, node::Node};
use actix_web::{HttpResponse, http::header, post, web};
use arvok_api::{Problem, RehearsalLine, RehearsalRequest, RehearsalResult};
use arvok_core::{
    Alert, AlertId, Kind, Period,
    rehearse::{Rehearsal, written_alert},
    rule::{NotOne, Rule, only_rule},
};
use arvok_store::read::{self, Replay};
use chrono::{DateTime, Utc};
use futures_util::{StreamExt, stream};
use std::{
    sync::Arc,
    time::{Duration, Instant},
};
use tokio::sync::{OwnedSemaphorePermit, mpsc};

/// Alerts between two looks at whether anybody still listens.
const STRIDE: u64 = 1000;
/// Time between two lines of progress.
const PROGRESS: Duration = Duration::from_millis(if cfg!(test) { 0 } else { 250 });
/// How long a line may wait for its reader. Who does not read keeps others from rehearsing.
const UNREAD: Duration = Duration::from_secs(if cfg!(test) { 3 } else { 30 });
/// Most alerts of a request.
const MAX_GIVEN: usize = 100_000;
/// Furthest look back.
const MAX_SINCE: Period = Period::from_secs(90 * 86_400);

/// Rehearses a rule, published or not, as if it acted: what it would have done.
///
/// Each line of the answer is a `RehearsalLine`. Nothing is changed by it.
#[utoipa::path(operation_id = "rehearse", tag = "rules", request_body = RehearsalRequest, responses(
    (status = 200, body = RehearsalLine, content_type = "application/x-ndjson"), (status = 400,
        body = Problem),
    (status = 404, body = Problem), (status = 422, body = Problem), (status = 429,
        body = Problem)))]
#[post("/rehearsals")]
pub(super) async fn rehearse(
    node: web::Data<Node>,
    caller: Caller,
    body: web::Json<RehearsalRequest>,
) -> Result<HttpResponse, ApiError> {
    let (asking, request) = (node.clone(), body.into_inner());
    let plan = node.capacity.evaluate(&caller.0, move || plan(&asking, request)).await??;
    let room = Arc::clone(&node.capacity.rehearsals)
        .try_acquire_owned()
        .map_err(|_| ApiError::Rehearsing)?;
    let (lines, heard) = mpsc::channel(8);
    // What comes in pieces passes by where whole answers are hidden.
    let redactor = node.published().redactor.clone();
    let runtime = tokio::runtime::Handle::current();
    tokio::task::spawn_blocking(move || runtime.block_on(run(node, plan, lines, room)));
    let text = move |line: RehearsalLine| {
        let text = serde_json::to_vec(&line).unwrap_or_default();
        let mut text = redactor.json(&text).unwrap_or(text);
        text.push(b'\n');
        Ok::<_, actix_web::Error>(web::Bytes::from(text))
    };
    let lines =
        stream::unfold(heard, |mut heard| async { heard.recv().await.map(|line| (line, heard)) });
    Ok(HttpResponse::Ok()
        .content_type("application/x-ndjson")
        .insert_header((header::CACHE_CONTROL, "no-store, no-transform"))
        .streaming(lines.map(text)))
}

struct RehearsalPlan {
    rule: Arc<Rule>,
    before: Option<Arc<Rule>>,
    from: DateTime<Utc>,
    to: DateTime<Utc>,
    given: Option<Vec<Alert>>,
}

fn plan(node: &Node, request: RehearsalRequest) -> Result<RehearsalPlan, ApiError> {
    let rule = wanted_rule(node, &request)?;
    let published = node.published();
    let before = request
        .against_published
        .then(|| published.catalog.shared::<Rule>(&rule.name).map(|(r, _)| r));
    let to = clock::now();
    let mut plan = RehearsalPlan { rule, before: before.flatten(), from: to, to, given: None };
    match request.alerts {
        None => {
            let since = Period::parse(request.since.as_deref().unwrap_or("1d"))
                .map_err(|e| ApiError::BadRequest(format!("since: {e}")))?;
            if since > MAX_SINCE {
                return Err(ApiError::BadRequest(format!("since={since}: at most {MAX_SINCE}")));
            }
            plan.from = to - since.delta();
        }
        Some(values) if values.is_empty() || values.len() > MAX_GIVEN => {
            return Err(ApiError::BadRequest(format!(
                "alerts: are {}; 1 to {MAX_GIVEN} are allowed",
                values.len()
            )));
        }
        Some(values) => {
            let alerts = values.iter().enumerate().map(|(i, value)| {
                written_alert(value, i + 1)
                    .map_err(|e| ApiError::BadRequest(format!("alerts/{i}: {e}")))
            });
            let mut alerts: Vec<Alert> = alerts.collect::<Result<_, _>>()?;
            alerts.sort_by_key(|a| a.received);
            plan.from = alerts.first().map_or(to, |a| a.received);
            // Time goes on behind the last alert, so that what waits comes to its end.
            plan.to = alerts.last().map_or(to, |a| a.received) + chrono::TimeDelta::hours(1);
            plan.given = Some(alerts);
        }
    }
    Ok(plan)
}

/// The rule of the given file, or a published one.
pub(super) fn wanted_rule(node: &Node, request: &RehearsalRequest) -> Result<Arc<Rule>, ApiError> {
    let Some(file) = &request.file else {
        let name = request.rule.as_deref().ok_or_else(|| {
            ApiError::BadRequest(
                "neither `file` nor `rule` is given; which rule is to be rehearsed?".into(),
            )
        })?;
        return published_rule(node, name).map(|(rule, _)| rule);
    };
    rule_of_text(&file.file, &file.text, request.rule.as_deref())
}

pub(super) fn published_rule(node: &Node, name: &str) -> Result<(Arc<Rule>, i32), ApiError> {
    let published = node.published();
    published.catalog.shared::<Rule>(name).ok_or_else(|| unknown(&published, Kind::Rule, name))
}

/// The only rule of a text, or the one of that name.
pub(super) fn rule_of_text(
    file: &str,
    text: &str,
    name: Option<&str>,
) -> Result<Arc<Rule>, ApiError> {
    only_rule(file, text, name).map(Arc::new).map_err(|e| match e {
        NotOne::Faulty(problems) => {
            ApiError::Faulty(problems.into_iter().map(Into::into).collect())
        }
        NotOne::None => ApiError::BadRequest(format!("{file} holds no such rule")),
        NotOne::Many(names) => ApiError::BadRequest(format!(
            "{file} holds {} rules; name one of {}",
            names.len(),
            names.join(", ")
        )),
    })
}

async fn run(
    node: web::Data<Node>,
    plan: RehearsalPlan,
    lines: mpsc::Sender<RehearsalLine>,
    room: OwnedSemaphorePermit,
) {
    let line = match play(&node, &plan, &lines).await {
        Ok(Some(result)) => RehearsalLine::Result(Box::new(result)),
        // Nobody listens any more.
        Ok(None) => return,
        Err(detail) => RehearsalLine::Failed { detail },
    };
    let _ = lines.send_timeout(line, UNREAD).await;
    drop(room);
}

/// Both versions go through the same alerts at the same time.
struct Play<'a> {
    now: Rehearsal<'a>,
    before: Option<Rehearsal<'a>>,
    told: Instant,
    of: Option<u64>,
}

impl Play<'_> {
    fn feed(&mut self, id: AlertId, alert: Alert) -> Result<(), String> {
        if let Some(before) = &mut self.before {
            before.feed(id, alert.clone()).map_err(|e| e.to_string())?;
        }
        self.now.feed(id, alert).map_err(|e| e.to_string())
    }

    /// Tells how far it is now and then; whether anybody listens.
    async fn tell(&mut self, at: DateTime<Utc>, lines: &mpsc::Sender<RehearsalLine>) -> bool {
        let alerts = self.now.report().alerts;
        if !alerts.is_multiple_of(STRIDE) {
            return true;
        }
        if self.told.elapsed() >= PROGRESS {
            self.told = Instant::now();
            let line = RehearsalLine::Progress { alerts, of: self.of, at: Some(at) };
            return lines.send_timeout(line, UNREAD).await.is_ok();
        }
        !lines.is_closed()
    }
}

async fn play(
    node: &Node,
    plan: &RehearsalPlan,
    lines: &mpsc::Sender<RehearsalLine>,
) -> Result<Option<RehearsalResult>, String> {
    let store = |e: arvok_store::StoreError| {
        tracing::error!("a rehearsal: {e}");
        "the records cannot be read at the moment".to_owned()
    };
    let catalog = Arc::clone(&node.published().catalog);
    let mut play = Play {
        now: Rehearsal::new(&plan.rule, &*catalog),
        before: plan.before.as_deref().map(|rule| Rehearsal::new(rule, &*catalog)),
        told: Instant::now(),
        of: None,
    };
    play.now.begin(plan.from);
    if let Some(before) = &mut play.before {
        before.begin(plan.from);
    }
    if let Some(alerts) = &plan.given {
        play.of = Some(alerts.len() as u64);
        for (i, alert) in alerts.iter().enumerate() {
            let at = alert.received;
            play.feed(AlertId(i as i64 + 1), alert.clone())?;
            if !play.tell(at, lines).await {
                return Ok(None);
            }
        }
    } else {
        let rules: Vec<&Rule> =
            [Some(&*plan.rule), plan.before.as_deref()].into_iter().flatten().collect();
        let replay = Replay::of_rules(&rules, plan.from, plan.to);
        play.of = u64::try_from(
            read::count_for_replay(&node.pools.replay, &replay).await.map_err(store)?,
        )
        .ok();
        let first = RehearsalLine::Progress { alerts: 0, of: play.of, at: Some(plan.from) };
        let _ = lines.send_timeout(first, UNREAD).await;
        let mut alerts = Box::pin(read::replay(&node.pools.replay, &replay).await.map_err(store)?);
        while let Some(next) = alerts.next().await {
            let (id, alert) = next.map_err(store)?;
            let at = alert.received;
            play.feed(id, alert)?;
            if !play.tell(at, lines).await {
                return Ok(None);
            }
        }
    }
    let now = play.now.finish(plan.to);
    let before = play.before.map(|b| b.finish(plan.to));
    let difference = before.as_ref().map(|b| now.against(b));
    Ok(Some(RehearsalResult {
        rule: plan.rule.name.clone(),
        from: plan.from,
        to: plan.to,
        now: (&now).into(),
        before: before.as_ref().map(Into::into),
        difference: difference.as_ref().map(Into::into),
    }))
}
