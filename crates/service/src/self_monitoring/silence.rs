//! Sources that are not heard of for longer than they say.

use super::{Troubles, name};
use crate::node::Published;
use arvok_api::AlarmItem;
use arvok_core::{
    Kind, Period,
    period::rough,
    source::{Source, is_steady},
};
use arvok_store::{DatabaseConnection, StoreError, read};
use chrono::{DateTime, Utc};

/// The kind of the alarm.
const SILENT: &str = "source.silent";

/// Adds the alarms of the sources that are silent; `steady` is since when this node has taken what
/// came.
pub(super) async fn add(
    db: &DatabaseConnection,
    published: &Published,
    (standing, steady): (&[AlarmItem], DateTime<Utc>),
    troubles: &mut Troubles,
    now: DateTime<Utc>,
) -> Result<(), StoreError> {
    let sources = published.catalog.all::<Source>().map(|(source, _)| source);
    let expected: Vec<(&Source, Period)> =
        sources.filter_map(|source| Some((source, source.silent_after?))).collect();
    if expected.is_empty() {
        return Ok(());
    }
    let names: Vec<String> = expected.iter().map(|(source, _)| source.name.clone()).collect();
    let heard = read::last_heard(db, &names).await?;
    for (source, after) in expected {
        let published_at = published.stamps.get(&(Kind::Source, source.name.clone()));
        let since = heard.get(&source.name).copied().max(published_at.map(|stamp| stamp.at));
        let resource = format!("source/{}", name(&source.name));
        let alarm = standing.iter().find(|a| a.kind == SILENT && a.resource == resource);
        let raised = alarm.map(|alarm| alarm.raised_at);
        if is_silent(since.unwrap_or(steady), after, (raised, steady), now) {
            let words = match heard.get(&source.name) {
                Some(at) => format!(
                    "source {} was last heard of {} ago; {after} at most is expected",
                    source.name,
                    rough(now - *at)
                ),
                None => format!("source {} was not heard of within {after}", source.name),
            };
            troubles.insert((SILENT.to_owned(), resource), words);
        }
    }
    Ok(())
}

/// Whether a source is silent that was heard of, or published, at a moment. While no node could
/// take what came nobody is silent; but what is said to be silent is so until it is heard.
fn is_silent(
    since: DateTime<Utc>,
    after: Period,
    (raised, steady): (Option<DateTime<Utc>>, DateTime<Utc>),
    now: DateTime<Utc>,
) -> bool {
    match raised {
        Some(raised) => since <= raised,
        None => now - since >= after.delta() && is_steady(steady, after, now),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use chrono::TimeDelta;

    #[test]
    fn who_is_silent_is_so_until_heard_and_nobody_is_while_nothing_could_be_taken() {
        let at = |seconds: i64| DateTime::UNIX_EPOCH + TimeDelta::seconds(seconds);
        let after = Period::from_secs(60);
        let silent = |since: i64, raised: Option<i64>, steady: i64, now: i64| {
            is_silent(at(since), after, (raised.map(at), at(steady)), at(now))
        };
        assert!(!silent(100, None, 0, 159));
        assert!(silent(100, None, 0, 160));
        // The node was started, or the records were away, not long ago.
        assert!(!silent(100, None, 130, 189));
        assert!(silent(100, None, 130, 190));
        // One that is expected seldom is not forgotten because nodes are started often.
        let seldom = |steady: i64, now: i64| {
            is_silent(at(0), Period::from_secs(86_400), (None, at(steady)), at(now))
        };
        assert!(!seldom(86_000, 86_599));
        assert!(seldom(86_000, 86_600));
        // Another node that was there has said so.
        assert!(silent(100, Some(165), 170, 175));
        assert!(!silent(171, Some(165), 170, 175));
    }
}
