//! The overview.

use super::{ApiError, caller::Caller};
use crate::{clock, node::Node};
use actix_web::{get, web};
use arvok_api::{MuteFilter, Problem, Watch};
use arvok_core::{Kind, Period};
use arvok_store::{jobs, mutes, read};
use serde::Deserialize;
use utoipa::IntoParams;

/// Most mutes that the overview shows.
const MOST_MUTES: u64 = 20;

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(super) struct WatchQuery {
    /// How far the narrowing looks back, such as `1h` or `1d`; at most `7d`.
    window: Option<String>,
}

/// What is going on and what needs a person.
#[utoipa::path(
    operation_id = "watch", tag = "watch", params(WatchQuery),
    responses((status = 200, body = Watch), (status = 400, body = Problem))
)]
#[get("/watch")]
pub(super) async fn overview(
    node: web::Data<Node>,
    _caller: Caller,
    query: web::Query<WatchQuery>,
) -> Result<web::Json<Watch>, ApiError> {
    let window = Period::parse(query.window.as_deref().unwrap_or("1h"))
        .map_err(|e| ApiError::BadRequest(format!("window: {e}")))?;
    if window > Period::from_secs(7 * 86_400) || window < Period::from_secs(60) {
        return Err(ApiError::BadRequest(format!("window={window}: between 1m and 7d")));
    }
    let mut seen = read::overview(&node.pools.questions, window.delta(), clock::now()).await?;
    let halts = jobs::halts(&node.pools.questions).await?;
    let needing = seen.needs_you.iter_mut().map(|needs| &mut needs.job);
    super::job_steps::set_doing(needing.chain(&mut seen.under_way), &halts);
    let open = MuteFilter { limit: Some(MOST_MUTES), ..MuteFilter::default() };
    Ok(web::Json(Watch {
        halt: jobs::halt(&node.pools.questions).await?,
        halts,
        mutes: mutes::list(&node.pools.questions, &open, clock::now()).await?.items,
        narrowing: seen.narrowing,
        needs_you: seen.needs_you,
        decisions: super::decisions::open(&node).await?,
        broken: seen.broken,
        proposals: seen.proposals,
        under_way: seen.under_way,
        jobs_under_way: seen.jobs_under_way,
        alarms: seen.alarms,
        alarms_open: seen.alarms_open,
        unreadable: seen.unreadable,
        sources: node.published().catalog.entries(Kind::Source).count(),
    }))
}
