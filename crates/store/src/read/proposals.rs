//! Proposals.

use super::page;
use crate::{
    StoreError,
    entity::proposal::{
        Column::{Id, Rule, Runbook, State, Target, Trial},
        Entity, Model,
    },
    stored::Stored,
};
use arvok_api::{PAGE, Page, ProposalFilter, ProposalItem};
use arvok_core::rule::Urgency;
use sea_orm::{
    ColumnTrait, DatabaseConnection, EntityTrait, QueryFilter, QueryOrder, QuerySelect, QueryTrait,
};

fn item(p: Model) -> ProposalItem {
    ProposalItem {
        id: p.id,
        rule: p.rule,
        rule_version: p.rule_version,
        runbook: p.runbook,
        runbook_version: p.runbook_version,
        inputs: p.inputs,
        target: p.target,
        urgency: Urgency::from_rank(p.urgency),
        alert: p.alert_seq,
        alarm: p.alarm_id,
        reason: p.reason,
        state: p.state.0,
        created_at: p.created_at,
        decided_at: p.decided_at,
        decided_by: p.decided_by.map(|by| by.0),
        note: p.note,
        trial: p.trial.map(|trial| trial.0),
    }
}

/// A page of proposals, newest first.
pub async fn proposals(
    db: &DatabaseConnection,
    filter: ProposalFilter,
) -> Result<Page<ProposalItem>, StoreError> {
    let limit = filter.limit.unwrap_or(PAGE);
    let found = Entity::find()
        .apply_if(filter.state, |q, state| q.filter(State.eq(Stored(state))))
        .apply_if(filter.rule, |q, rule| q.filter(Rule.eq(rule)))
        .apply_if(filter.runbook, |q, runbook| q.filter(Runbook.eq(runbook)))
        .apply_if(filter.target, |q, target| q.filter(Target.eq(target)))
        .apply_if(filter.trial, |q, trial| {
            q.filter(if trial { Trial.is_not_null() } else { Trial.is_null() })
        })
        .apply_if(filter.after, |q, after| q.filter(Id.lt(after)))
        .order_by_desc(Id)
        .limit(limit + 1)
        .all(db)
        .await?;
    Ok(page(found.into_iter().map(item).collect(), limit, |p: &ProposalItem| p.id))
}

/// One proposal.
pub async fn proposal(
    db: &DatabaseConnection,
    id: i64,
) -> Result<Option<ProposalItem>, StoreError> {
    Ok(Entity::find_by_id(id).one(db).await?.map(item))
}
