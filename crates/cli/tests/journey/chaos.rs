//! Chaos: nodes are killed and frozen, the database restarted and cut off, rules published, while
//! senders that repeat themselves as real ones do pour alerts in. Then what the senders were told,
//! what the tables say and what a counting peer heard are laid side by side.
//!
//! Short in `make test`; `make chaos` runs it at length. The summary is written to
//! `target/chaos/summary.json`.

use crate::kit::{Peer, Records, Runner, Stage, asked, block, spawn, until};
use arvok_postgres::{Cluster, Durability, Restart};
use arvok_store::{Purpose, days};
use chrono::{TimeDelta, Utc};
use nix::sys::signal::Signal;
use serde_json::{Value, json};
use std::{
    collections::BTreeMap,
    fs,
    path::PathBuf,
    sync::{
        Arc,
        atomic::{AtomicBool, AtomicUsize, Ordering},
    },
    time::{Duration, Instant},
};

const NODES: usize = 3;
const LANES: usize = 24;
/// Alerts about each problem.
const EACH: usize = 5;
/// Longer than a lease.
const FROZEN: Duration = Duration::from_secs(12);

/// Numbers that look like chance and are the same in each run.
struct Dice(u64);

impl Dice {
    fn roll(&mut self, sides: usize) -> usize {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        usize::try_from(self.0 % sides as u64).expect("small")
    }
}

/// What the senders share.
struct Pouring {
    doors: Vec<String>,
    token: String,
    stop: AtomicBool,
    accepted: AtomicUsize,
}

/// The kinds of problems: told about at once; held until it stands for a while; gone before that.
const KINDS: [&str; 3] = ["tell", "late", "gone"];

/// Problem after problem, each alert until some node accepts it; the ids that were.
async fn pour(pouring: Arc<Pouring>, lane: usize) -> Vec<String> {
    let http =
        arvok_connect::http_client().timeout(Duration::from_secs(4)).build().expect("a client");
    let mut dice = Dice(lane as u64 * 7919 + 1);
    let mut accepted = Vec::new();
    for n in 0.. {
        let kind = KINDS[n % KINDS.len()];
        for each in 0..EACH {
            let cleared = kind == "gone" && each == EACH - 1;
            let id = format!("{kind}-{lane}-{n}-{each}");
            let alert = json!({"id": id, "kind": format!("test.{kind}"),
                "resource": format!("vm/{kind}-{lane}-{n}"),
                "severity": "major", "state": if cleared { "cleared" } else { "raised" }});
            loop {
                let door = &pouring.doors[dice.roll(pouring.doors.len())];
                let request = http.post(door).bearer_auth(&pouring.token);
                let request = request.header("content-type", "application/vnd.arvok.alert+json");
                if request.body(alert.to_string()).send().await.is_ok_and(|r| r.status() == 202) {
                    break;
                }
                tokio::time::sleep(Duration::from_millis(20 + dice.roll(200) as u64)).await;
            }
            accepted.push(id);
            pouring.accepted.fetch_add(1, Ordering::Relaxed);
        }
        if pouring.stop.load(Ordering::Relaxed) {
            break;
        }
    }
    accepted
}

fn rules(peer: &Peer) -> String {
    let rule = |name: &str, settle: &str| {
        format!(
            "---\nrule: {name}\nstance: act\nlisten: {{ kinds: test.{name} }}\nsettle: {{ fold: \
            [alert.resource]{settle} }}\n\
             dispatch: {{ runbook: tell-all, inputs: {{ what: \"${{alert.resource}}\" }} }}\n"
        )
    };
    let plain = peer
        .definitions("never")
        .replace("dispatch: { runbook: tell,", "dispatch: { runbook: tell-all,");
    let far = format!(
        "---\nconnection: far\nconnector: peer\nbase: {}\nthrough: {{ site: nessfold }}\n\
        timeout: 5s\n",
        peer.url
    );
    [plain, far, MANY.to_owned(), rule("late", ", still: 1s"), rule("gone", ", still: 10m")]
        .concat()
}

/// Each job tells its peer six times what must not be told twice: two ways at once, two items of a
/// list at once, one in a job of its own, and one by itself; the last two by way of runners.
/// Between them it asks a question, tells of something, and waits to hear of it.
const MANY: &str = "---
runbook: tell-all
inputs: { what: { type: string } }
target: ${inputs.what}
steps:
  - id: both
    together:
      one: [ { id: tell_one, call: peer.tell, via: peer, retry: { times: 20, wait: 200ms }, give: { what: '${inputs.what}/one' } } ]
      two:
        - { id: nap, pause: 20ms }
        - { id: tell_two, call: peer.tell, via: peer, retry: { times: 20, wait: 200ms }, give: { what: '${inputs.what}/two' } }
  - id: parts
    each: '[\"x\", \"y\"]'
    as: part
    at_once: 2
    steps: [ { id: tell_part, call: peer.tell, via: peer, retry: { times: 20, wait: 200ms }, give: { what: '${inputs.what}/${part}' } } ]
  - id: agree
    ask: { text: 'Go on with ${inputs.what}?', choices: { go: Go on, on: On }, within: 1s, unanswered: on }
  - { id: said, emit: test.said, labels: { said: '${inputs.what}' } }
  - { id: heard, await: { sources: arvok, kinds: test.said, where: event.labels.said == inputs.what }, since: job, within: 10m }
  - { id: below, runbook: tell-below, give: { what: '${inputs.what}' } }
  - { id: last, call: peer.tell, via: far, retry: { times: 20, wait: 200ms }, give: { what: '${inputs.what}' } }
---
runbook: tell-below
inputs: { what: { type: string } }
target: ${inputs.what}/below
steps: [ { id: tell_below, call: peer.tell, via: far, retry: { times: 20, wait: 200ms }, give: { what: '${inputs.what}/below' } } ]
";

/// What a job that succeeded has told.
const TOLD: [&str; 6] = ["", "/one", "/two", "/x", "/y", "/below"];

#[derive(Default)]
struct Done {
    kills: usize,
    db_restarts: usize,
    freezes: usize,
    days: usize,
    runners: usize,
    /// Decisions of which a node said that they are taken.
    decided: Vec<i64>,
}

/// Somebody takes some of the decisions that are open, at any node.
fn decide(nodes: &[Stage], dice: &mut Dice, done: &mut Done) {
    let node = &nodes[dice.roll(nodes.len())];
    let (status, open) = node.call(reqwest::Method::GET, "/api/v1/decisions?limit=20", None);
    for id in open["items"]
        .as_array()
        .into_iter()
        .flatten()
        .filter_map(|d| d["id"].as_i64())
        .filter(|_| status == 200)
    {
        let other = &nodes[dice.roll(nodes.len())];
        let path = format!("/api/v1/decisions/{id}");
        let (status, _) =
            other.call(reqwest::Method::POST, &path, Some(&json!({ "choice": "go" })));
        done.decided.extend((status == 200).then_some(id));
    }
}

/// Runners of one site, each at a node of its own: one is killed and begun anew, frozen for longer
/// than a node believes in it, or let go on.
struct Site(Vec<Runner>);

impl Site {
    fn begin(nodes: &[Stage]) -> Self {
        let labels = "site=nessfold";
        Self((0..2).map(|n| Runner::start(&nodes[n], &format!("nessfold-{n}"), labels)).collect())
    }

    fn harm(&mut self, round: usize, nodes: &[Stage], done: &mut Done) {
        let n = round / 3 % self.0.len();
        match round % 3 {
            0 => {
                let token = self.0[n].token.clone();
                self.0[n] = Runner::with_token(&nodes[n], &token, &[]);
                done.runners += 1;
            }
            1 => self.0[n].signal(Signal::SIGSTOP),
            _ => self.0[n].signal(Signal::SIGCONT),
        }
    }

    fn go_on(&self) {
        self.0.iter().for_each(|runner| runner.signal(Signal::SIGCONT));
    }
}

/// One harm.
fn harm(
    round: usize,
    dice: &mut Dice,
    nodes: &mut [Stage],
    cluster: &mut Cluster,
    done: &mut Done,
) {
    let records = |cluster: &Cluster| Records::open(&cluster.url("postgres"));
    let cut =
        "SELECT count(pg_terminate_backend(pid)) FROM pg_stat_activity WHERE datname = 'chaos'";
    let victim = dice.roll(nodes.len());
    match round % 12 {
        3 => {
            cluster.restart(Restart::Fast).expect("restarts");
            done.db_restarts += 1;
        }
        5 => drop(records(cluster).rows(cut)),
        7 => {
            cluster.restart(Restart::Immediate).expect("restarts");
            done.db_restarts += 1;
        }
        9 => {
            records(cluster).run("ALTER DATABASE chaos ALLOW_CONNECTIONS false");
            records(cluster).rows(cut);
            std::thread::park_timeout(Duration::from_millis(500 + 100 * dice.roll(30) as u64));
            records(cluster).run("ALTER DATABASE chaos ALLOW_CONNECTIONS true");
        }
        // A day begins at a time that is no better than any other.
        2 | 6 | 10 => {
            let begun = block(async {
                let db = arvok_store::connect(&cluster.url("chaos"), 1, Purpose::Work).await?;
                let day = i64::try_from(round).unwrap_or(0) + 1;
                days::begin(&db, Utc::now() + TimeDelta::days(day)).await
            });
            done.days += usize::from(begun.unwrap_or(false));
        }
        // What is published while a node sleeps it must know before it decides again.
        1 => {
            nodes[victim].signal(Signal::SIGSTOP);
            let other = &nodes[(victim + 1) % nodes.len()];
            let text = format!(
                "runbook: unused\ntarget: group/n{round}\nsteps: [ {{ id: fine, require: 'true' }} \
                ]\n"
            );
            let body = json!({ "files": [{ "file": "a.yaml", "text": text }] });
            other.call(reqwest::Method::POST, "/api/v1/publish", Some(&body));
            nodes[victim].signal(Signal::SIGCONT);
        }
        11 => {
            nodes[victim].signal(Signal::SIGSTOP);
            std::thread::park_timeout(FROZEN);
            nodes[victim].signal(Signal::SIGCONT);
            done.freezes += 1;
        }
        _ => {}
    }
    // Every round ends with a death, at any moment.
    std::thread::park_timeout(Duration::from_millis(dice.roll(700) as u64));
    nodes[victim].kill_node();
    nodes[victim].start_node();
    done.kills += 1;
}

fn count(records: &Records, sql: &str) -> u64 {
    let rows = records.rows(&format!("SELECT count(*) AS n FROM ({sql}) q"));
    rows[0]["n"].as_u64().expect("a number")
}

#[test]
fn whatever_dies_nothing_is_lost_and_nothing_is_done_twice() {
    let (rounds, most) = (asked("ROUNDS", 12), asked("SECONDS", 150));
    let alerts = asked("ALERTS", 0);
    let target = PathBuf::from(env!("CARGO_TARGET_TMPDIR")).join("..").join("chaos");
    fs::create_dir_all(&target).expect("a folder");
    let mut cluster =
        Cluster::start(&target.join("postgres"), Durability::Full).expect("a PostgreSQL");
    let database = block(async {
        cluster.remove("chaos").await.expect("an old database goes");
        cluster.create("chaos").await.expect("a new database comes")
    });
    let first = Stage::over(database.clone());
    let peer = Peer::start();
    peer.delay(Duration::from_millis(15));
    let text = fs::read_to_string(format!("{}/sources/yard-hypervisor.yaml", crate::kit::DEMO))
        .expect("the demo");
    first.publish(&text);
    first.publish(&rules(&peer));
    let mut nodes = vec![first];
    for _ in 1..NODES {
        let other = nodes[0].second_node();
        nodes.push(other);
    }
    let pouring = Arc::new(Pouring {
        doors: nodes.iter().map(|n| format!("{}/in/yard-hypervisor?trial=no", n.address)).collect(),
        token: nodes[0].token.clone(),
        stop: AtomicBool::new(false),
        accepted: AtomicUsize::new(0),
    });
    let mut site = Site::begin(&nodes);
    let lanes: Vec<_> = (0..LANES).map(|lane| spawn(pour(Arc::clone(&pouring), lane))).collect();
    let (begun, mut done, mut dice) = (Instant::now(), Done::default(), Dice(20_261_125));
    let in_time = || begun.elapsed() < Duration::from_secs(most as u64);
    let mut round = 0;
    while round < rounds && in_time() {
        decide(&nodes, &mut dice, &mut done);
        site.harm(round, &nodes, &mut done);
        harm(round, &mut dice, &mut nodes, &mut cluster, &mut done);
        round += 1;
        // The harm is spread over all that is poured in.
        while pouring.accepted.load(Ordering::Relaxed) < alerts * round / rounds && in_time() {
            std::thread::park_timeout(Duration::from_millis(50));
        }
    }
    site.go_on();
    // However slow it all is, somebody comes to decide something.
    until("a decision to be taken", || {
        decide(&nodes, &mut dice, &mut done);
        (!done.decided.is_empty()).then_some(())
    });
    pouring.stop.store(true, Ordering::Relaxed);
    let accepted: Vec<String> = lanes.into_iter().flat_map(|l| block(l).expect("a lane")).collect();
    let records = Records::open(&database);
    let summary = judge(&records, &peer, &accepted, round, &done);
    fs::write(target.join("summary.json"), format!("{summary:#}\n")).expect("writes");
    println!("{summary}");
    for wrong in ["lost", "dispatched_twice", "stuck"] {
        assert_eq!(summary[wrong], 0, "{summary:#}\n{:#?}", records.rows(WRONG));
    }
    assert!(
        done.kills >= rounds.min(10) && accepted.len() > 300 && !done.decided.is_empty(),
        "{summary:#}"
    );
}

/// Jobs that look odd, for whoever looks into it.
const WRONG: &str = "SELECT id, target, state, failure, lapses, node, lease_until FROM job
    WHERE state NOT IN ('succeeded', 'unsure') ORDER BY id LIMIT 20";

/// What is left when nothing of it has ended for a minute. A backlog is not stuck: however much
/// there is, a slow machine gets through with it.
fn left_when_nothing_moves(left: impl Fn() -> u64) -> u64 {
    let (mut least, mut moved) = (left(), Instant::now());
    while least > 0 && moved.elapsed() < Duration::from_secs(60) {
        std::thread::park_timeout(Duration::from_millis(200));
        let now = left();
        if now < least {
            (least, moved) = (now, Instant::now());
        }
    }
    left()
}

/// Lays side by side what was told, what is kept and what went out.
fn judge(records: &Records, peer: &Peer, accepted: &[String], rounds: usize, done: &Done) -> Value {
    // A job whose own job is unsure waits for a person as well.
    let open = "SELECT 1 FROM job j WHERE state IN ('queued', 'running', 'waiting')
            AND NOT EXISTS (SELECT 1 FROM job c WHERE c.parent = j.id AND c.state = 'unsure')
        UNION ALL SELECT 1 FROM outbox UNION ALL SELECT 1 FROM job_change";
    let held = "SELECT 1 FROM tally WHERE rule = 'late' AND due < now() + interval '1 minute'";
    let stuck = left_when_nothing_moves(|| count(records, open) + count(records, held));
    // Accepted and not there; there without exactly one verdict; a problem without its job.
    let list = serde_json::to_string(accepted).expect("a list").replace('\'', "''");
    let missing = format!(
        "SELECT 1 FROM jsonb_array_elements_text('{list}') AS t (id)
        WHERE NOT EXISTS (SELECT 1 FROM alerts a WHERE a.source = 'yard-hypervisor'
        AND a.id = t.id)"
    );
    let undecided = "SELECT 1 FROM alerts a WHERE a.kind LIKE 'test.%' AND a.state = 'raised'
        AND (SELECT count(*) FROM verdicts v WHERE v.alert_seq = a.seq) <> 1";
    let forgotten =
        "SELECT DISTINCT resource FROM alerts a WHERE kind IN ('test.tell', 'test.late')
        AND NOT EXISTS (SELECT 1 FROM job j WHERE j.target = a.resource
        AND (j.state IN ('succeeded', 'unsure')
            OR EXISTS (SELECT 1 FROM job c WHERE c.parent = j.id AND c.state = 'unsure')))";
    // What each job told of its beginning and its end, and what a person decided and the job did
    // not hear of.
    let untold =
        "SELECT 1 FROM job j WHERE NOT EXISTS (SELECT 1 FROM alerts a WHERE a.source = 'arvok'
            AND a.kind = 'job.queued' AND a.labels ->> 'job' = j.id::text)
        OR state = 'succeeded' AND NOT EXISTS (SELECT 1 FROM alerts a WHERE a.source = 'arvok'
            AND a.kind = 'job.succeeded' AND a.labels ->> 'job' = j.id::text)";
    let decided = serde_json::to_string(&done.decided).expect("a list");
    let unheard_of = format!(
        "SELECT 1 FROM jsonb_array_elements_text('{decided}') AS t (id)
            JOIN decision d ON d.id = t.id::bigint
        LEFT JOIN attempt a ON a.job_id = d.job_id AND a.place = d.place AND a.state = 'done'
        WHERE a.output ->> 'choice' IS DISTINCT FROM 'go'"
    );
    // A clearing that was lost leaves its alarm raised, or its alert waiting. A node that is
    // missing may be so twice.
    let uncleared = "SELECT 1 FROM alerts c JOIN alarm r USING (source, kind, resource)
        WHERE c.kind LIKE 'test.%' AND c.state = 'cleared' AND r.state <> 'cleared'";
    let wanted = "SELECT 1 FROM job WHERE target LIKE 'vm/gone-%'";
    let mut lost = 0;
    for sql in [missing.as_str(), undecided, forgotten, uncleared, untold, &unheard_of] {
        let n = count(records, sql);
        if n > 0 {
            // Only what is found is shown, so that whoever looks into it knows where to begin.
            println!(
                "{n} lost: {:?}",
                records.rows(&format!("{} LIMIT 5", sql.replace("SELECT 1 ", "SELECT * ")))
            );
        }
        lost += n;
    }
    let mut told: BTreeMap<String, u64> = BTreeMap::new();
    for t in peer.told() {
        *told.entry(t.body).or_default() += 1;
    }
    let recorded_twice = "SELECT source, id FROM alerts GROUP BY source, id HAVING count(*) > 1";
    let twice = told.values().filter(|n| **n > 1).count() as u64
        + count(records, "SELECT target FROM job GROUP BY target HAVING count(*) > 1")
        + count(records, wanted)
        + count(records, recorded_twice);
    // Succeeded, though nobody heard of it: that would be lost as well.
    let succeeded =
        records.rows("SELECT target FROM job WHERE state = 'succeeded' AND parent IS NULL");
    let heard = |target: &str, part: &str| {
        told.contains_key(&json!({ "what": format!("{target}{part}") }).to_string())
    };
    let unheard = succeeded.iter().filter_map(|j| j["target"].as_str());
    let unheard =
        unheard.filter(|target| !TOLD.iter().all(|part| heard(target, part))).count() as u64;
    json!({
        "rounds": rounds, "kills": done.kills, "db_restarts": done.db_restarts,
            "freezes": done.freezes, "days": done.days, "runners": done.runners,
        "accepted": accepted.len(), "lost": lost + unheard, "dispatched": count(records, "SELECT 1
            FROM job WHERE parent IS NULL"),
        "decided": done.decided.len(),
        "dispatched_twice": twice, "unsure": count(records, "SELECT 1 FROM job
            WHERE state = 'unsure'"), "stuck": stuck,
    })
}
