//! Migrations over data: what an earlier version has written is there afterwards, and says the same.

use crate::kit::{alert, block, database, now, one, parcels, rows, run, take};
use arvok_api::AlertFilter;
use arvok_store::{
    DatabaseConnection,
    intake::{self, Parcel, Rules, Writer},
    read, schema,
};
use serde_json::{Value, json};

const STEPS: [(&str, &str); 27] = [
    ("0001_foundation", include_str!("../../migrations/0001_foundation.sql")),
    ("0002_settling", include_str!("../../migrations/0002_settling.sql")),
    ("0003_firm_ground", include_str!("../../migrations/0003_firm_ground.sql")),
    ("0004_days", include_str!("../../migrations/0004_days.sql")),
    ("0005_read_again", include_str!("../../migrations/0005_read_again.sql")),
    ("0006_jobs_over_time", include_str!("../../migrations/0006_jobs_over_time.sql")),
    ("0007_key_order", include_str!("../../migrations/0007_key_order.sql")),
    ("0008_places", include_str!("../../migrations/0008_places.sql")),
    ("0009_outside", include_str!("../../migrations/0009_outside.sql")),
    ("0010_subscribers", include_str!("../../migrations/0010_subscribers.sql")),
    ("0011_requests", include_str!("../../migrations/0011_requests.sql")),
    ("0012_heard_bounded", include_str!("../../migrations/0012_heard_bounded.sql")),
    ("0013_first_record", include_str!("../../migrations/0013_first_record.sql")),
    ("0014_calls", include_str!("../../migrations/0014_calls.sql")),
    ("0015_several_at_once", include_str!("../../migrations/0015_several_at_once.sql")),
    ("0016_lighter_jobs", include_str!("../../migrations/0016_lighter_jobs.sql")),
    ("0017_trust", include_str!("../../migrations/0017_trust.sql")),
    ("0018_hearing", include_str!("../../migrations/0018_hearing.sql")),
    ("0019_aside", include_str!("../../migrations/0019_aside.sql")),
    ("0020_kept_whole", include_str!("../../migrations/0020_kept_whole.sql")),
    ("0021_turns", include_str!("../../migrations/0021_turns.sql")),
    ("0022_saw", include_str!("../../migrations/0022_saw.sql")),
    ("0023_counted_apart", include_str!("../../migrations/0023_counted_apart.sql")),
    ("0024_walked_otherwise", include_str!("../../migrations/0024_walked_otherwise.sql")),
    ("0025_seen", include_str!("../../migrations/0025_seen.sql")),
    ("0026_operation", include_str!("../../migrations/0026_operation.sql")),
    ("0027_acts", include_str!("../../migrations/0027_acts.sql")),
];

/// What the first version would have written in a night, and a later one.
const NIGHT: &str = "
    INSERT INTO definition (kind, name, version, file, text, published_at, published_by)
        VALUES ('runbook', 'note', 1, 'a.yaml', 'runbook: note', now(), 'pat');
    INSERT INTO token (name, role, hash, created_at) VALUES ('admin', 'admin', '\\x00', now());
    INSERT INTO alert (source, id, kind, severity, state, resource, time, received, summary, value, labels, body)
        SELECT 'yard', 'n' || n, 'disk.usage', 4, 'raised', 'vm/r' || n % 10, now(), now() - n * interval '1 minute',
            'full: ' || n, n, '{\"site\": \"quill\"}', '{\"n\": 1}' FROM generate_series(1, 200) n;
    INSERT INTO alarm (source, resource, kind, severity, state, summary, count, raised_at, changed_at)
        SELECT 'yard', 'vm/r' || n, 'disk.usage', 4, 'raised', 'full', 20, now(), now() FROM generate_series(0, 9) n;
    INSERT INTO verdict (alert_seq, rule, rule_version, verdict, reason, at)
        SELECT seq, 'full', 1, CASE WHEN seq % 10 = 0 THEN 'dispatched' ELSE 'resting' END, 'because', received FROM alert;
    INSERT INTO unreadable (source, received, reason, payload) VALUES ('yard', now(), 'odd', '{}');
    INSERT INTO job (id, runbook, runbook_version, inputs, target, urgency, state, rule, rule_version, alert_seq, progress, created_at)
        SELECT n, 'note', 1, '{}', 'vm/r' || n, 1, 'succeeded', 'full', 1, n * 10,
            '{\"started\": null, \"step\": 1, \"attempt\": 0, \"phase\": \"ended\", \"outputs\": {}}', now()
        FROM generate_series(1, 8) n;";

/// Brings an empty database to the first steps, as a version of then has left it.
async fn at_step(db: &DatabaseConnection, steps: usize) {
    run(db, "CREATE TABLE seaql_migrations (version varchar PRIMARY KEY, applied_at bigint NOT NULL)").await;
    for (name, sql) in &STEPS[..steps] {
        run(db, sql).await;
        run(db, &format!("INSERT INTO seaql_migrations VALUES ('{name}', 0)")).await;
    }
}

async fn listed(db: &DatabaseConnection) -> (Vec<i64>, Vec<(String, i64)>) {
    let filter = AlertFilter { rule: Some("full".into()), limit: Some(500), ..AlertFilter::default() };
    let page = read::alerts(db, filter).await.expect("lists");
    let counts = read::verdict_counts(db, "full").await.expect("counts");
    let mut counts: Vec<(String, i64)> = counts.iter().map(|c| (c.verdict.to_string(), c.count)).collect();
    counts.sort();
    (page.items.iter().map(|i| i.seq).collect(), counts)
}

#[test]
fn from_every_version_on_all_that_was_written_is_there() {
    for steps in 1..=3 {
        let db = database();
        block(async {
            at_step(&db, steps).await;
            run(&db, NIGHT).await;
            let before =
                rows(&db, "SELECT seq, source, id, summary, value, labels, body FROM alert ORDER BY seq").await;
            schema::migrate(&db).await.expect("migrates");
            let after =
                rows(&db, "SELECT seq, source, id, summary, value, labels, body FROM alerts ORDER BY seq").await;
            assert_eq!(after, before, "from step {steps}");
            let (seqs, counts) = listed(&db).await;
            assert_eq!(seqs.len(), 200, "from step {steps}");
            assert!(seqs.windows(2).all(|w| w[0] > w[1]), "newest first");
            assert_eq!(
                counts,
                [("dispatched".to_owned(), 20), ("resting".to_owned(), 180)],
                "from step {steps}: they are counted"
            );
            assert_eq!(one(&db, "SELECT count(*) AS x FROM unreadable WHERE NOT item").await, 1);
            assert_eq!(one(&db, "SELECT count(*) AS x FROM job WHERE state = 'succeeded'").await, 8);
            // A delivery of the night before that comes again is still known, and what is new is numbered on.
            let batch = parcels([alert(json!({ "id": "n7" }), now()), alert(json!({ "id": "new" }), now())]);
            let batch: Vec<&Parcel> = batch.iter().collect();
            let (catalog, generation) = Default::default();
            let matcher = arvok_core::Catalog::matcher(&catalog);
            let generation: i64 = one(&db, "SELECT generation AS x FROM catalog").await.as_i64().unwrap_or(generation);
            let rules = Rules { catalog: &catalog, matcher: &matcher, generation };
            let taken = intake::take(&db, rules, &batch, &mut Writer::default()).await.expect("takes").taken;
            assert!(taken[0].alerts[0].duplicate && taken[1].alerts[0].seq > seqs.first().copied(), "{taken:?}");
        });
    }
}

#[test]
fn nodes_that_start_together_migrate_once() {
    let db = database();
    block(async {
        at_step(&db, 2).await;
        run(&db, NIGHT).await;
        let done = futures_util::future::join_all((0..4).map(|_| schema::migrate(&db))).await;
        assert!(done.iter().all(Result::is_ok), "{done:?}");
        assert_eq!(one(&db, "SELECT count(*) AS x FROM seaql_migrations").await, STEPS.len() as i64);
        schema::migrate(&db).await.expect("nothing to do");
    });
}

#[test]
fn a_migration_that_breaks_off_leaves_what_was_there() {
    let db = database();
    block(async {
        at_step(&db, 2).await;
        run(&db, NIGHT).await;
        // Something that the third step makes is in its way.
        run(&db, "CREATE TABLE delivery_count (odd int)").await;
        let failed = schema::migrate(&db).await;
        assert!(failed.is_err(), "it stands in the way");
        assert_eq!(one(&db, "SELECT count(*) AS x FROM seaql_migrations").await, 2);
        assert_eq!(
            one(&db, "SELECT to_regclass('installation') AS x").await,
            Value::Null,
            "nothing of the step stands"
        );
        run(&db, "DROP TABLE delivery_count").await;
        schema::migrate(&db).await.expect("goes on");
        assert_eq!(listed(&db).await.0.len(), 200);
    });
}

#[test]
fn nodes_of_the_release_before_make_jobs_and_walk_none() {
    let db = database();
    block(async {
        at_step(&db, 7).await;
        schema::migrate(&db).await.expect("migrates");
        // As they made jobs: all columns of the table, of which they know only theirs.
        run(
            &db,
            "INSERT INTO job SELECT * FROM jsonb_populate_recordset(NULL::job, '[{
                \"id\": 1, \"runbook\": \"note\", \"runbook_version\": 1, \"inputs\": {}, \"target\": \"vm/a\", \"urgency\": 1,
                \"state\": \"queued\", \"created_at\": \"2026-11-25T03:00:00Z\", \"lapses\": 0,
                \"progress\": {\"started\": null, \"step\": 0, \"attempt\": 0, \"phase\": \"ready\", \"outputs\": {}}}]')",
        )
        .await;
        // As they claimed jobs.
        run(
            &db,
            "UPDATE job SET state = 'running', node = 'old', claim = nextval('claim_number'),
                lease_until = now() + interval '10 seconds' WHERE state = 'queued'",
        )
        .await;
        assert_eq!(one(&db, "SELECT state AS x FROM job").await, "queued", "they take none");
        let job = take(&db, "new", &[]).await.expect("the job");
        assert_eq!(job.id.0, 1);
        assert_eq!(one(&db, "SELECT state AS x FROM job").await, "running");
    });
}

#[test]
fn a_node_goes_on_with_a_database_that_a_newer_release_has_migrated_as_long_as_that_lets_it() {
    let db = database();
    block(async {
        schema::migrate(&db).await.expect("migrates");
        assert_eq!(schema::migrate(&db).await.expect("nothing to do"), 0);
        run(&db, "ALTER TABLE job ADD COLUMN later text; INSERT INTO seaql_migrations VALUES ('0099_later', 0)").await;
        assert_eq!(schema::migrate(&db).await.expect("goes on"), 1);
        run(&db, "UPDATE migration_floor SET migration = '0099_later'").await;
        let said = schema::migrate(&db).await.expect_err("refused").to_string();
        assert!(said.contains("brought to `0099_later` by a newer release"), "{said}");
        // One that lacks what this release would make is none that it knows.
        run(&db, "UPDATE migration_floor SET migration = '0026_operation'").await;
        run(&db, "DELETE FROM seaql_migrations WHERE version = '0025_seen'").await;
        assert!(schema::migrate(&db).await.is_err());
    });
}
