//! The watch of a stand-in: looks at what it keeps, posts what goes wrong until it is taken, and
//! that it is well again.

use crate::office::{Running, as_devices_write};
use serde::Serialize;
use serde_json::{Value, json};
use std::{
    collections::BTreeSet,
    sync::atomic::{AtomicI64, Ordering},
    time::Duration,
};

/// How often a watch looks.
const TICK: Duration = Duration::from_millis(250);

/// What a watch sees of one thing.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Sight {
    /// What is looked at, such as `kiosk.page`.
    pub check: &'static str,
    /// Whose it is, such as `kiosk/brack-kiosk-1`.
    pub about: String,
    /// Whether it is as it should not be.
    pub wrong: bool,
    /// For people.
    pub text: String,
    /// Whatever else is known.
    #[serde(flatten)]
    pub more: Value,
}

/// What can be looked at.
pub trait Watched {
    /// Everything that is watched, as it is now.
    fn sights(&mut self) -> Vec<Sight>;
}

impl<S: Watched + Send + 'static> Running<S> {
    /// With a watch that posts to this address, showing this token.
    #[must_use]
    pub fn watched(self, report_to: Option<(String, String)>) -> Self {
        let Some((url, token)) = report_to else { return self };
        let office = self.office();
        self.beside(tokio::spawn(async move {
            let mut posted = Posted::new();
            let mut tick = tokio::time::interval(TICK);
            let Ok(client) = arvok_connect::http_client().timeout(Duration::from_secs(5)).build()
            else {
                return;
            };
            loop {
                tick.tick().await;
                if office.faults().silent {
                    continue;
                }
                for (key, message) in posted.changes(office.with(S::sights)) {
                    let sent = client
                        .post(&url)
                        .bearer_auth(&token)
                        .json(&as_devices_write(message))
                        .send()
                        .await;
                    if sent.is_ok_and(|answer| answer.status().is_success()) {
                        posted.taken(key);
                    }
                }
            }
        }))
    }
}

/// The number of a run: the millisecond of its start, and of several that start in the same one
/// each its own.
pub(crate) fn run() -> i64 {
    static LAST: AtomicI64 = AtomicI64::new(0);
    let now = chrono::Utc::now().timestamp_millis();
    let later = |last: i64| Some(now.max(last + 1));
    let last = LAST.fetch_update(Ordering::Relaxed, Ordering::Relaxed, later).unwrap_or_default();
    now.max(last + 1)
}

/// What was posted and taken.
struct Posted {
    /// Numbers begin anew with every start, so the run is part of what makes a message unique.
    run: String,
    number: u64,
    wrong: BTreeSet<(&'static str, String)>,
}

impl Posted {
    fn new() -> Self {
        Self {
            run: format!("{:x}-{:x}", run(), std::process::id()),
            number: 0,
            wrong: BTreeSet::new(),
        }
    }

    /// What is otherwise than it was posted.
    fn changes(&mut self, sights: Vec<Sight>) -> Vec<((&'static str, String), Value)> {
        let mut changed = Vec::new();
        for sight in sights {
            let key = (sight.check, sight.about.clone());
            if self.wrong.contains(&key) == sight.wrong {
                continue;
            }
            self.number += 1;
            let mut message = json!(sight);
            message["id"] = format!("{}-{}", self.run, self.number).into();
            message["state"] = if sight.wrong { "wrong" } else { "well" }.into();
            changed.push((key, message));
        }
        changed
    }

    fn taken(&mut self, key: (&'static str, String)) {
        if !self.wrong.remove(&key) {
            self.wrong.insert(key);
        }
    }
}
