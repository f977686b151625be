//! The cases of `settle` live: the same files, taken in and made due over the database in virtual
//! time, each alert in a transaction of its own. What a rehearsal holds in memory as a whole is
//! loaded here piece by piece.

use crate::{
    kit::{Records, block, database},
    settle_cases::{alerts, at, cases, expected, offset, rule, until},
};
use arvok_core::{
    Alert, Catalog,
    catalog::{Observed, check_files},
    document::Document,
    matcher::Matcher,
    rehearse::written_alert,
};
use arvok_store::{
    DatabaseConnection, Purpose, definitions,
    intake::{self, Payload, Rules, Slots, Writer},
    schema,
};
use chrono::{DateTime, Utc};
use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet};

struct Live {
    db: DatabaseConnection,
    records: Records,
    catalog: Catalog,
    matcher: Matcher,
    generation: i64,
    told: Vec<String>,
    known: Vec<Value>,
    jobs: usize,
}

/// No guard lets nothing begin.
const NO_GUARDS: &arvok_core::guard::Guards = &arvok_core::guard::Guards::NONE;
/// No rule proposes what it would dispatch.
const NO_RULES: &BTreeMap<String, String> = &BTreeMap::new();

impl Live {
    fn rules(&self) -> Rules<'_> {
        Rules {
            catalog: &self.catalog,
            matcher: &self.matcher,
            mutes: &[],
            guards: NO_GUARDS,
            proposing: NO_RULES,
            generation: self.generation,
        }
    }

    fn take(&mut self, alert: Alert) {
        let now = alert.received;
        self.due(now);
        let payload = Payload {
            source: alert.source.clone(),
            received: now,
            alerts: vec![alert],
            malformed: Vec::new(),
            is_past: false,
        };
        block(intake::record(&self.db, self.rules(), &[&payload], &mut Writer::default()))
            .expect("is taken");
        self.tell(now);
    }

    /// Lets everything happen that is due until then, each at its own time.
    fn due(&mut self, until: DateTime<Utc>) {
        loop {
            let next = self.records.rows(
                "SELECT min(due) AS at FROM (SELECT due FROM tally UNION ALL SELECT due
                    FROM pool) d",
            );
            let next: Option<DateTime<Utc>> =
                next[0]["at"].as_str().map(|t| t.parse().expect("a time"));
            let Some(now) = next.filter(|at| *at <= until) else { return };
            for slots in [Slots::Tallies, Slots::Pools] {
                block(intake::settle_due(&self.db, self.rules(), slots, &BTreeSet::new(), now))
                    .expect("is settled");
            }
            self.tell(now);
        }
    }

    /// Notes what has changed since the last look, in the words of the case files.
    fn tell(&mut self, now: DateTime<Utc>) {
        let sql = "SELECT v.alert_seq, split_part(a.resource, '/', 2) AS lane, v.verdict, v.reason,
            v.decided_at
            FROM verdicts v JOIN alerts a
                ON a.seq = (SELECT min(f.alert_seq) FROM verdicts f WHERE f.tally = v.tally)
                ORDER BY v.alert_seq";
        let verdicts = self.records.rows(sql);
        let offset = offset(&serde_json::json!(now));
        let words = |reason: &Value| reason.as_str().expect("a reason").replace("1970-01-01T", "");
        let mut fired = false;
        for v in verdicts.iter().filter(|v| !self.known.contains(v)) {
            let (lane, verdict) =
                (v["lane"].as_str().expect("a lane"), v["verdict"].as_str().expect("a verdict"));
            fired |= verdict == "dispatched";
            self.told.push(format!("{offset} {lane} {verdict}: {}", words(&v["reason"])));
        }
        let jobs = self.records.rows("SELECT id, reason FROM job ORDER BY id");
        for job in jobs.iter().skip(self.jobs).filter(|_| !fired) {
            self.told.push(format!("{offset} job {}: {}", job["id"], words(&job["reason"])));
        }
        (self.known, self.jobs) = (verdicts, jobs.len());
    }
}

fn played(case: &Document, db: &DatabaseConnection, url: &str) -> Vec<String> {
    let records = Records::open(url);
    records.run(
        "TRUNCATE alerts, alarm, tally, pool, verdicts, job, proposal RESTART IDENTITY CASCADE;
            ALTER SEQUENCE alert_seq_seq RESTART; ALTER SEQUENCE job_number RESTART",
    );
    let text = rule(case);
    let checked =
        check_files([("case.yaml", text.as_str())], &[], &Catalog::default(), &Observed::default());
    let catalog = Catalog::new(checked.entries);
    let matcher = catalog.matcher();
    let generation = block(definitions::generation(db)).expect("a generation");
    let (told, known) = (Vec::new(), Vec::new());
    let mut live =
        Live { db: db.clone(), records, catalog, matcher, generation, told, known, jobs: 0 };
    for (i, alert) in alerts(case).iter().enumerate() {
        live.take(written_alert(alert, i + 1).expect("an alert"));
    }
    live.due(at("0s") + until(case).delta());
    live.told
}

#[test]
fn what_is_live_settles_as_the_core_does() {
    let url = database();
    let db = block(async {
        let db = arvok_store::connect(&url, 4, Purpose::Work).await.expect("connects");
        schema::migrate(&db).await.expect("migrates");
        db
    });
    for case in cases() {
        let (mut told, mut wanted) = (played(&case, &db, &url), expected(&case));
        told.sort();
        wanted.sort();
        assert_eq!(told, wanted, "{}", case.name);
    }
}
