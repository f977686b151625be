//! Shapes of sources that several nodes add to.

use crate::kit::{Published, block, rows, run};
use arvok_core::{
    Principal,
    shape::{Masks, Shape},
};
use arvok_store::{
    DatabaseConnection,
    shapes::{self, MAX_KINDS, ShapeKey},
};
use chrono::DateTime;
use serde_json::json;
use std::collections::BTreeMap;

fn seen(kinds: &[&str], payloads: u64) -> BTreeMap<ShapeKey, Shape> {
    let mut shape = Shape::new(DateTime::UNIX_EPOCH);
    for n in 0..payloads {
        let payload = json!({ "host": format!("kiosk-{n}"), "odd\u{0}": 1 });
        shape.note_payload(&payload, DateTime::UNIX_EPOCH, &Masks::default());
    }
    kinds.iter().map(|kind| (("pier".to_owned(), (*kind).to_owned()), shape.clone())).collect()
}

async fn count(db: &DatabaseConnection, kind: &str) -> u64 {
    let all = shapes::find(db, &["pier".to_owned()]).await.expect("is read");
    all.get(&("pier".to_owned(), kind.to_owned())).map_or(0, |shape| shape.count)
}

#[test]
fn nodes_that_add_at_once_lose_nothing_and_wait_for_each_other_in_one_order() {
    let published = Published::with(&[]);
    let db = &published.db;
    block(async {
        let adding = (0..8).map(|node: usize| async move {
            // Each names its kinds in an order of its own.
            let mut kinds = ["a", "b", "c", "d"];
            kinds.rotate_left(node % 4);
            for _ in 0..5 {
                shapes::add(db, &seen(&kinds, 2)).await.expect("is added");
            }
        });
        futures_util::future::join_all(adding).await;
        for kind in ["a", "b", "c", "d"] {
            assert_eq!(count(db, kind).await, 80, "{kind}");
        }
    });
}

#[test]
fn of_kinds_without_end_so_many_are_kept_and_what_is_caught_always() {
    let published = Published::with(&[]);
    let db = &published.db;
    block(async {
        let kinds: Vec<String> = (0..MAX_KINDS + 50).map(|n| format!("k{n}")).collect();
        for part in kinds.chunks(60) {
            let part: Vec<&str> = part.iter().map(String::as_str).collect();
            shapes::add(db, &seen(&part, 1)).await.expect("is added");
        }
        shapes::add(db, &seen(&[""], 3)).await.expect("is added");
        let kept = rows(db, "SELECT count(*)::int AS n FROM shape").await.remove(0);
        assert_eq!(kept["n"], MAX_KINDS + 1);
        assert_eq!(count(db, "").await, 3);

        // One that was written by another build, in a form that this one does not know, begins
        // anew.
        run(db, "UPDATE shape SET profile = '{\"odd\": 1}' WHERE kind = ''").await;
        assert_eq!(count(db, "").await, 0);
        shapes::add(db, &seen(&[""], 2)).await.expect("is added");
        assert_eq!(count(db, "").await, 2);

        let by = Principal::token("pat");
        let forgotten = shapes::forget(db, ("pier", Some("k1")), &by).await;
        assert_eq!(forgotten.expect("is forgotten"), 1);
        shapes::add(db, &seen(&["late"], 1)).await.expect("is added");
        assert_eq!(count(db, "late").await, 1, "there is room again");
    });
}

#[test]
fn for_a_check_those_sources_are_read_that_its_rules_name() {
    let published = Published::with(&[]);
    let db = &published.db;
    block(async {
        let mut all = seen(&["web.page", "web.tls", ""], 1);
        for (source, kind) in [("lift", "door.open"), ("gate", "web.page")] {
            let shape = all[&("pier".to_owned(), "web.page".to_owned())].clone();
            all.insert((source.to_owned(), kind.to_owned()), shape);
        }
        shapes::add(db, &all).await.expect("is added");
        let named = async |text: &str| {
            let found = shapes::named_in(db, &[text]).await.expect("is read");
            let name = |(source, kind): &ShapeKey| format!("{source} {kind}");
            found.keys().map(name).collect::<Vec<_>>()
        };
        assert_eq!(
            named("rule: a\nlisten: { sources: [pier] }").await,
            ["pier web.page", "pier web.tls"]
        );
        assert_eq!(
            named("rule: a\nlisten: { kinds: \"web.tls\" }").await,
            ["pier web.page", "pier web.tls"]
        );
        assert_eq!(named("rule: a\nlisten: { kinds: door.* }").await, ["lift door.open"]);
        assert_eq!(named("rule: a\nlisten: { kinds: lift.* }").await, [""; 0]);
        assert_eq!(named("runbook: pier").await, [""; 0], "nothing else is checked against them");
    });
}
