//! Runs of plans: one at a time, one for each time, and none for a time that was skipped, whoever
//! launches at once.

use crate::kit::{block, by_hand, migrated, now, rows};
use arvok_core::{
    Principal,
    plan::{self, Omission},
    rule::Urgency,
};
use arvok_store::{
    DatabaseConnection, Limits,
    launches::Launch,
    plans::{self, OmittedRun, RunLaunched, RunOmitted},
    sweep,
};
use chrono::{DateTime, SubsecRound, TimeDelta, Utc};
use futures_util::future::join_all;
use serde_json::json;

async fn launch(
    db: &DatabaseConnection,
    due: Option<DateTime<Utc>>,
    by: &Principal,
) -> RunLaunched {
    let (name, key) = (plan::job_name("fares"), due.map(plans::key_of));
    let launch = Launch {
        runbook: &name,
        version: 1,
        inputs: json!({ "due": due, "resources": [] }),
        target: name.clone(),
        urgency: Urgency::Normal,
        deadline: None,
        alert: None,
        by,
        key: key.as_deref(),
        reason: "due".into(),
        trace: None,
    };
    plans::launch(db, "fares", due, &launch, now()).await.expect("asks")
}

fn omitted<'a>(due: DateTime<Utc>, by: &'a Principal) -> OmittedRun<'a> {
    let (plan, why, reason) = ("fares", Omission::Skipped, "the harbour counts its stock");
    OmittedRun { plan, due, why, reason, by }
}

async fn end_all(db: &DatabaseConnection) {
    by_hand(db, "UPDATE job SET state = 'succeeded', effect = 'not checked', finished_at = now()")
        .await;
}

#[test]
fn of_all_who_launch_a_run_for_a_time_one_does() {
    let db = migrated();
    block(async {
        let (due, by) = (now().trunc_subsecs(0), Principal::plan("fares"));
        let made = join_all((0..8).map(|_| launch(&db, Some(due), &by))).await;
        let new = made.iter().filter(|made| matches!(made, RunLaunched::New(_))).count();
        assert_eq!(new, 1, "{made:?}");
        assert!(
            made.iter().all(|m| matches!(m, RunLaunched::New(_) | RunLaunched::Known(_))),
            "{made:?}"
        );
        let acts = rows(&db, "SELECT 1 AS n FROM audit WHERE act = 'job.launched'").await;
        assert!(acts.is_empty(), "nobody has done it: {acts:?}");
        // As by a node that takes up what another left behind, when it is long over.
        end_all(&db).await;
        assert!(matches!(launch(&db, Some(due), &by).await, RunLaunched::Known(_)));
        // It is not missed, however late whoever handles it comes to it again.
        let late = plans::omit(&db, &omitted(due, &by)).await.expect("asks");
        assert!(matches!(late, RunOmitted::Ran(_)), "{late:?}");
    });
}

#[test]
fn no_run_is_launched_while_another_is_under_way() {
    let db = migrated();
    block(async {
        let (due, by) = (now().trunc_subsecs(0), Principal::plan("fares"));
        let by_hand = Principal::token("maren");
        let at_once = join_all((0..4).map(|n| launch(&db, Some(due + TimeDelta::minutes(n)), &by)));
        let (at_once, own) = futures_util::join!(at_once, launch(&db, None, &by_hand));
        let mut made: Vec<RunLaunched> = at_once;
        made.push(own);
        let new = made.iter().filter(|made| matches!(made, RunLaunched::New(_))).count();
        let waits = made.iter().filter(|made| matches!(made, RunLaunched::UnderWay(_))).count();
        assert_eq!((new, waits), (1, 4), "{made:?}");
        end_all(&db).await;
        assert!(matches!(launch(&db, None, &by_hand).await, RunLaunched::New(_)));
    });
}

#[test]
fn a_time_is_skipped_or_has_its_run_and_never_both() {
    let db = migrated();
    block(async {
        let (by, maren) = (Principal::plan("fares"), Principal::token("maren"));
        for minute in 0..10 {
            let due = now().trunc_subsecs(0) + TimeDelta::minutes(minute);
            let skip =
                async { plans::skip(&db, &omitted(due, &maren), now()).await.expect("asks") };
            let (ran, skipped) = futures_util::join!(launch(&db, Some(due), &by), skip);
            match (&ran, &skipped) {
                (RunLaunched::New(ran), RunOmitted::Ran(known)) => assert_eq!(ran, known),
                (RunLaunched::Omitted, RunOmitted::Done) => {}
                _ => panic!("{ran:?} {skipped:?}"),
            }
            end_all(&db).await;
        }
        let due = now().trunc_subsecs(0) + TimeDelta::hours(1);
        let skip = async || plans::skip(&db, &omitted(due, &maren), now()).await.expect("asks");
        assert_eq!(skip().await, RunOmitted::Done);
        assert_eq!(skip().await, RunOmitted::Known(Omission::Skipped));
        assert_eq!(launch(&db, Some(due), &by).await, RunLaunched::Omitted);
        assert!(plans::unskip(&db, "fares", due, &maren).await.expect("asks"));
        assert!(!plans::unskip(&db, "fares", due, &maren).await.expect("asks"), "it is no more");
        assert!(matches!(launch(&db, Some(due), &by).await, RunLaunched::New(_)));
        for minute in 0..plans::MOST_SKIPPED {
            let due = now().trunc_subsecs(0) + TimeDelta::hours(2) + TimeDelta::minutes(minute);
            plans::omit(&db, &omitted(due, &maren)).await.expect("writes");
        }
        end_all(&db).await;
        let later = now().trunc_subsecs(0) + TimeDelta::days(9);
        let skip = plans::skip(&db, &omitted(later, &maren), now()).await.expect("asks");
        assert_eq!(skip, RunOmitted::Many, "there is an end to it");
        assert!(matches!(launch(&db, Some(later), &by).await, RunLaunched::New(_)), "as it was");
        let acts =
            "SELECT act FROM audit WHERE act LIKE 'plan.%' AND at > now() - interval '1 hour'
            AND what LIKE 'plan fares at %' ORDER BY id DESC LIMIT 2";
        let acts = rows(&db, acts).await;
        assert_eq!(acts, [json!({ "act": "plan.unskipped" }), json!({ "act": "plan.skipped" })]);
    });
}

#[test]
fn what_was_omitted_long_ago_goes() {
    let db = migrated();
    block(async {
        let by = Principal::plan("fares");
        for days in [1, 399, 401, 800] {
            let due = now() - TimeDelta::days(days);
            assert_eq!(
                plans::omit(&db, &omitted(due, &by)).await.expect("writes"),
                RunOmitted::Done
            );
        }
        sweep(&db, Limits::default(), now()).await.expect("sweeps");
        let left = rows(&db, "SELECT count(*) AS n FROM plan_omission").await;
        assert_eq!(left, [json!({ "n": 2 })]);
    });
}
