//! The release desk.

use super::*;
use crate::{
    Faults,
    releases::{ReleaseOptions, RunningReleases, start},
};
use std::time::Duration;

fn desk(takes: Duration) -> RunningReleases {
    start(ReleaseOptions { port: 0, token: "desk".into(), report_to: None, takes }).expect("starts")
}

#[tokio::test]
async fn a_release_takes_a_moment_and_the_version_before_is_known() {
    let desk = desk(Duration::from_millis(200));
    let caller = Caller::of(desk.url(), "desk");
    let (status, before) = caller.get("/services/booking-web").await;
    assert_eq!(
        (status, &before["version"], &before["before"]),
        (200, &json!("5.1.3"), &Value::Null)
    );
    let release = |version: &str| {
        let body = json!({ "version": version });
        let caller = &caller;
        async move { caller.post("/services/booking-web/release", body).await }
    };
    assert_eq!(release("5.9.9").await.0, 422);
    let (status, told) = release("5.2.0").await;
    assert_eq!(
        (status, &told["version"], &told["under_way"]),
        (202, &json!("5.1.3"), &json!("5.2.0"))
    );
    assert_eq!(release("5.2.0").await.0, 202, "one that is on its way stays so");
    assert_eq!(release("5.1.3").await, (409, error("5.2.0 is on its way")));
    let arrived = async {
        loop {
            let told = caller.get("/services/booking-web").await.1;
            if told["version"] == "5.2.0" {
                return told;
            }
        }
    };
    let told = tokio::time::timeout(Duration::from_secs(20), arrived).await.expect("arrives");
    assert_eq!((&told["before"], &told["failing_percent"]), (&json!("5.1.3"), &json!(14.5)));
    assert_eq!(caller.get("/services/harbour").await, (404, error("there is no service harbour")));
    assert_eq!(Caller::of(desk.url(), "deck").get("/services/fares").await.0, 401);
    desk.stop().await;
}

#[tokio::test]
async fn a_desk_that_hangs_up_has_done_what_it_was_told() {
    let desk = desk(Duration::ZERO);
    let caller = Caller::of(desk.url(), "desk");
    desk.set_faults(Faults { busy: 1, ..Faults::default() });
    let import = |night: &str| {
        let body = json!({ "night": night });
        let caller = &caller;
        async move { caller.post("/services/fares/import", body).await }
    };
    assert_eq!(import("2026-11-25").await.0, 503);
    desk.set_faults(Faults { hang_up: 1, ..Faults::default() });
    assert_eq!(import("2026-11-26").await.0, 0);
    assert_eq!(desk.with("fares", |s| s.imported.clone()).flatten().as_deref(), Some("2026-11-26"));
    assert_eq!(
        import("2026-11-26").await,
        (200, json!({ "rows": 1204, "imported": "2026-11-26" }))
    );
    desk.stop().await;
}
