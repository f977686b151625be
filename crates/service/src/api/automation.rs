//! Who may let what act by itself: the right that a token has, and what a publication would change
//! of what acts.

use super::{ApiError, caller::Caller};
use arvok_api::{ActsByItself, AutomationRight};
use arvok_core::{
    Catalog, Kind, Role,
    automation::{Acting, Automation, acting_anew},
    catalog::Checked,
    glob::GlobListError,
};

/// What somebody may let act, as it is kept.
pub(super) fn read(right: &AutomationRight) -> Result<Option<Automation>, GlobListError> {
    Automation::of(&right.rules, &right.plans, &right.connections)
}

/// What whoever publishes may let act by itself; an admin anything.
pub(super) enum Right {
    Everything,
    Of(Automation),
}

impl Right {
    pub(super) fn of(caller: &Caller) -> Result<Self, ApiError> {
        if caller.0.role >= Role::Admin {
            return Ok(Self::Everything);
        }
        // What is kept was checked when it was set.
        let right = read(&caller.0.automate).map_err(|e| {
            tracing::error!(token = caller.0.name, "a right to automate cannot be read: {e}");
            ApiError::Internal
        })?;
        Ok(Self::Of(right.unwrap_or_default()))
    }
}

/// What acts by itself after a publication, and did not before or otherwise.
pub(super) fn acts(
    checked: &Checked,
    gone: &[(Kind, String)],
    published: &Catalog,
    right: &Right,
) -> Vec<ActsByItself> {
    let whole = published.clone().without(gone).with(checked.entries.iter().cloned());
    let one = |acting: Acting| {
        let lacking = match right {
            Right::Everything => None,
            Right::Of(right) => right.lacks(&acting).map(|lacking| {
                let own = acting.changed.iter().any(|(kind, name)| {
                    (*kind, name.as_str()) == (acting.kind, acting.name.as_str())
                });
                let changed = acting.changed.first().map(|(kind, name)| format!("{kind} `{name}`"));
                match (own, changed) {
                    (false, Some(changed)) => format!("{lacking}; {changed} belongs to it"),
                    _ => lacking.to_string(),
                }
            }),
        };
        ActsByItself {
            kind: acting.kind.to_string(),
            name: acting.name,
            connections: acting.connections.into_iter().collect(),
            changed: acting.changed.iter().map(|(kind, name)| format!("{kind}/{name}")).collect(),
            lacking,
        }
    };
    acting_anew(&whole, published).into_iter().map(one).collect()
}
