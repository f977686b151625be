//! The schema: made once by nodes that start together, left as it was by what breaks off, worked
//! with by nodes that a newer release has overtaken; and its functions, made anew when they change.

use crate::kit::{block, database, one, run};
use arvok_store::{routines, schema};
use serde_json::Value;

#[test]
fn nodes_that_start_together_migrate_once() {
    let db = database();
    block(async {
        let done = futures_util::future::join_all((0..4).map(|_| schema::migrate(&db))).await;
        assert!(done.iter().all(Result::is_ok), "{done:?}");
        assert_eq!(
            one(&db, "SELECT count(*) AS x FROM seaql_migrations").await,
            schema::migrations()
        );
        assert_eq!(one(&db, "SELECT count(*) AS x FROM routines").await, 1);
        schema::migrate(&db).await.expect("nothing to do");
    });
}

#[test]
fn a_migration_that_breaks_off_leaves_what_was_there() {
    let db = database();
    block(async {
        // Something that it makes at its end is in its way.
        run(&db, "CREATE TABLE job_count (odd int)").await;
        assert!(schema::migrate(&db).await.is_err(), "it stands in the way");
        assert_eq!(
            one(&db, "SELECT to_regclass('installation') AS x").await,
            Value::Null,
            "nothing of it stands"
        );
        run(&db, "DROP TABLE job_count").await;
        schema::migrate(&db).await.expect("goes on");
        assert_eq!(one(&db, "SELECT count(*) AS x FROM alerts").await, 0);
    });
}

/// Whoever is still at work is waited for a little at a time, so that nobody waits behind.
#[test]
fn functions_are_made_anew_behind_whoever_holds_a_table() {
    let db = database();
    block(async {
        schema::migrate(&db).await.expect("migrates");
        run(&db, "UPDATE routines SET text_hash = 'of before'").await;
        let held = async {
            run(&db, "BEGIN; LOCK TABLE job IN ROW EXCLUSIVE MODE; SELECT pg_sleep(3); COMMIT")
                .await;
        };
        let (_, made) = tokio::join!(held, schema::migrate(&db));
        made.expect("was not cut off");
    });
}

#[test]
fn functions_that_change_are_made_anew_and_those_of_a_later_revision_are_left() {
    let db = database();
    block(async {
        schema::migrate(&db).await.expect("migrates");
        let far = "SELECT how_far('dispatched') AS x";
        let otherwise = "CREATE OR REPLACE FUNCTION how_far(verdict text) RETURNS smallint \
            LANGUAGE sql IMMUTABLE
            PARALLEL SAFE AS 'SELECT 9::smallint'";
        run(&db, otherwise).await;
        schema::migrate(&db).await.expect("nothing to do");
        assert_eq!(one(&db, far).await, 9, "what stands as it is here is not made again");
        run(&db, "UPDATE routines SET revision = 0, text_hash = 'of before'").await;
        schema::migrate(&db).await.expect("makes them anew");
        assert_eq!(one(&db, far).await, 1);
        let revision = one(&db, "SELECT revision AS x FROM routines").await;
        assert_eq!(revision, routines::REVISION);

        run(&db, otherwise).await;
        run(&db, "UPDATE routines SET revision = 999, text_hash = 'of a later one'").await;
        schema::migrate(&db).await.expect("leaves them");
        assert_eq!(one(&db, far).await, 9, "a node of before does not put its own in their place");
    });
}

/// Whoever changes a function or a trigger counts the revision up, or nodes of the release before
/// would put theirs back.
#[test]
fn a_revision_has_one_text() {
    let db = database();
    block(async {
        schema::migrate(&db).await.expect("migrates");
        let made = one(&db, "SELECT revision || ' ' || text_hash AS x FROM routines").await;
        insta::assert_snapshot!(made.as_str().expect("a text"), @"19 3ecd318118a7c2d5108e88184b32f768");
    });
}

#[test]
fn a_node_goes_on_with_a_database_that_a_newer_release_has_migrated_as_long_as_that_lets_it() {
    let db = database();
    block(async {
        schema::migrate(&db).await.expect("migrates");
        assert_eq!(schema::migrate(&db).await.expect("nothing to do"), 0);
        run(
            &db,
            "ALTER TABLE job ADD COLUMN later text; INSERT INTO seaql_migrations
            VALUES ('0099_later', 0)",
        )
        .await;
        assert_eq!(schema::migrate(&db).await.expect("goes on"), 1);
        run(&db, "UPDATE migration_floor SET migration = '0099_later'").await;
        let said = schema::migrate(&db).await.expect_err("refused").to_string();
        assert!(said.contains("brought to `0099_later` by a newer release"), "{said}");
        // One that lacks what this release would make is none that it knows.
        run(&db, "UPDATE migration_floor SET migration = '0001_baseline'").await;
        run(&db, "DELETE FROM seaql_migrations WHERE version = '0001_baseline'").await;
        assert!(schema::migrate(&db).await.is_err());
        assert_eq!(
            one(&db, "SELECT count(*) AS x FROM seaql_migrations").await,
            schema::migrations()
        );
    });
}
