//! Leases: one holder at a time, over many who want one.

use crate::kit::{block, migrated};
use arvok_store::leases;
use futures_util::future::join_all;

#[test]
fn of_many_one_holds_a_lease_until_it_gives_it_up_or_its_time_has_passed() {
    let db = migrated();
    block(async {
        let hold = async |who: &str, seconds: f64| {
            leases::hold(&db, "answers", who, seconds).await.expect("is asked")
        };
        let names: Vec<String> = (0..10).map(|n| format!("node-{n}")).collect();
        let held = join_all(names.iter().map(|name| hold(name, 60.0))).await;
        assert_eq!(held.iter().filter(|held| **held).count(), 1, "{held:?}");
        let holder = &names[held.iter().position(|held| *held).expect("one")];
        assert!(hold(holder, 60.0).await, "is renewed");
        assert!(!hold("other", 60.0).await);
        leases::release(&db, "answers", "other").await.expect("is asked");
        assert!(!hold("other", 60.0).await, "nobody gives up what another holds");
        assert!(leases::hold(&db, "something else", "other", 60.0).await.expect("is asked"));
        leases::release(&db, "answers", holder).await.expect("is asked");
        assert!(hold("other", 0.0).await);
        assert!(hold(holder, 60.0).await, "the time of the other has passed");
        assert!(!hold("other", 60.0).await);
    });
}
