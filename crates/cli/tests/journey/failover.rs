//! A cluster as it stands in production: three nodes behind a balancer, over a database with a
//! synchronous standby. Nodes are restarted one after the other while senders send, and no sender
//! sees it; then the database dies and its standby is promoted, and nothing that was taken is lost
//! or done twice.
//!
//! Short in `make test`; `make chaos` runs it at length.

use crate::kit::{Balancer, Leads, Peer, Records, Stage, asked, block, spawn, until};
use arvok_postgres::{Cluster, Durability};
use nix::sys::signal::Signal;
use serde_json::json;
use std::{
    collections::BTreeMap,
    fs,
    path::PathBuf,
    sync::{
        Arc, Mutex, PoisonError,
        atomic::{AtomicBool, AtomicUsize, Ordering},
    },
    time::Duration,
};

const NODES: usize = 3;
const LANES: usize = 10;
/// One alert of so many leads to a job.
const TELLS: usize = 10;
const DRAIN: [(&str, &str); 1] = [("ARVOK_DRAIN", "3s")];

/// What the senders share.
struct Sending {
    door: String,
    token: String,
    pause: Duration,
    stop: AtomicBool,
    accepted: AtomicUsize,
    /// What they were answered but 202, or how a request failed, with how often.
    else_answered: Mutex<BTreeMap<String, usize>>,
}

impl Sending {
    fn else_answered(&self) -> BTreeMap<String, usize> {
        std::mem::take(&mut *self.else_answered.lock().unwrap_or_else(PoisonError::into_inner))
    }
}

/// Sends alert after alert, each until it is accepted; the ids that were.
async fn send(sending: Arc<Sending>, lane: usize) -> Vec<String> {
    let http =
        arvok_connect::http_client().timeout(Duration::from_secs(8)).build().expect("a client");
    let mut accepted = Vec::new();
    for n in 0.. {
        if sending.stop.load(Ordering::Relaxed) {
            break;
        }
        let (id, kind) =
            (format!("{lane}-{n}"), if n % TELLS == 0 { "test.tell" } else { "test.plain" });
        let alert = json!({ "id": id, "kind": kind, "resource": format!("vm/{lane}-{n}"),
                "state": "raised" })
        .to_string();
        loop {
            let request = http.post(&sending.door).bearer_auth(&sending.token);
            let request = request
                .header("content-type", "application/vnd.arvok.alert+json")
                .body(alert.clone());
            let else_answered = match request.send().await {
                Ok(answer) if answer.status() == 202 => break,
                Ok(answer) => answer.status().as_u16().to_string(),
                Err(e) => format!("{e:?}"),
            };
            *sending
                .else_answered
                .lock()
                .unwrap_or_else(PoisonError::into_inner)
                .entry(else_answered)
                .or_default() += 1;
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
        accepted.push(id);
        sending.accepted.fetch_add(1, Ordering::Relaxed);
        tokio::time::sleep(sending.pause).await;
    }
    accepted
}

/// A database with a synchronous standby, and the address at which whichever is the first is found.
fn databases() -> (Cluster, Cluster, Leads, String) {
    let target = PathBuf::from(env!("CARGO_TARGET_TMPDIR")).join("..").join("failover");
    // What an earlier run has left would wait for its standby.
    let _ = fs::remove_dir_all(&target);
    let primary = Cluster::start(&target.join("primary"), Durability::Full).expect("a PostgreSQL");
    block(primary.create("failover")).expect("a database");
    let admin = |cluster: &Cluster| Records::open(&cluster.url("postgres"));
    let standby = primary.standby(&target.join("standby")).expect("a standby");
    admin(&primary).run("ALTER SYSTEM SET synchronous_standby_names = '*'");
    admin(&primary).rows("SELECT pg_reload_conf()");
    until("the standby to be synchronous", || {
        let rows = admin(&primary)
            .rows("SELECT count(*) AS n FROM pg_stat_replication WHERE sync_state = 'sync'");
        (rows[0]["n"] == 1).then_some(())
    });
    let leads = Leads::to(primary.port());
    let address = primary
        .url("failover")
        .replace(&format!(":{}/", primary.port()), &format!(":{}/", leads.port));
    (primary, standby, leads, address)
}

#[test]
fn nodes_are_restarted_unseen_and_a_standby_is_promoted_without_a_loss() {
    let (primary, standby, leads, address) = databases();
    let mut nodes = vec![Stage::over(address)];
    for _ in 1..NODES {
        let other = nodes[0].second_node();
        nodes.push(other);
    }
    let peer = Peer::start();
    nodes[0].secret("pier-sender", "pier-sender-token", &["source/pier"]);
    nodes[0].publish(
        "source: pier\nintake: { webhook: { credential: { \
        bearer: \"${secret('pier-sender')}\" } } }\n",
    );
    nodes[0].publish(&peer.definitions("never"));
    nodes.iter_mut().for_each(|node| node.restart_with_env(&DRAIN));
    let balancer = Balancer::before(&nodes.iter().map(|n| n.address.as_str()).collect::<Vec<_>>());

    let rate = asked("RATE", 100);
    let sending = Arc::new(Sending {
        door: format!("{}/in/pier", balancer.url),
        token: "pier-sender-token".into(),
        pause: Duration::from_millis(u64::try_from(1_000 * LANES / rate).expect("small")),
        stop: AtomicBool::new(false),
        accepted: AtomicUsize::new(0),
        else_answered: Mutex::default(),
    });
    let lanes: Vec<_> = (0..LANES).map(|lane| spawn(send(Arc::clone(&sending), lane))).collect();
    let more_than = |more: usize| {
        let wanted = sending.accepted.load(Ordering::Relaxed) + more;
        until("senders to get on", || {
            (sending.accepted.load(Ordering::Relaxed) >= wanted).then_some(())
        });
    };
    more_than(100);

    // Nodes are restarted one after the other.
    for _ in 0..asked("ROLLS", 1) {
        for node in &mut nodes {
            node.signal(Signal::SIGTERM);
            until("the node to end", || (!node.is_running()).then_some(()));
            more_than(20);
            node.restart_with_env(&DRAIN);
            balancer.sends_to(NODES);
        }
    }
    assert_eq!(sending.else_answered(), BTreeMap::new(), "no sender has seen it");

    // The database dies, its standby is promoted, and the address leads there.
    primary.die();
    std::thread::park_timeout(Duration::from_secs(2));
    block(standby.promote()).expect("is promoted");
    leads.now_to(standby.port());
    more_than(200);
    nodes.iter().for_each(Stage::until_ready);
    sending.stop.store(true, Ordering::Relaxed);
    let accepted: Vec<String> =
        lanes.into_iter().flat_map(|lane| block(lane).expect("a lane")).collect();
    let answers = sending.else_answered();
    assert!(
        !answers.keys().any(|status| status.starts_with('4')),
        "no good alert is refused: {answers:?}"
    );

    let records = Records::open(&standby.url("failover"));
    let count = |sql: &str| {
        records.rows(&format!("SELECT count(*) AS n FROM ({sql}) q"))[0]["n"]
            .as_u64()
            .expect("a number")
    };
    let open = "SELECT 1 FROM job WHERE state NOT IN ('succeeded', 'unsure') UNION ALL SELECT 1
        FROM outbox";
    until("all jobs to end", || (count(open) == 0).then_some(()));
    let ids = serde_json::to_string(&accepted).expect("a list");
    let lost = format!(
        "SELECT 1 FROM jsonb_array_elements_text('{ids}') t (id) WHERE NOT EXISTS (SELECT 1
            FROM alerts a WHERE a.source = 'pier' AND a.id = t.id)"
    );
    let undone = "SELECT 1 FROM alerts a WHERE kind = 'test.tell' AND NOT EXISTS (SELECT 1
        FROM job j WHERE j.target = a.resource)";
    let twice = "SELECT id FROM alerts WHERE source = 'pier' GROUP BY id HAVING count(*) > 1
        UNION ALL SELECT target FROM job GROUP BY target HAVING count(*) > 1";
    let kept = "SELECT 1 FROM unreadable";
    assert_eq!(
        [count(&lost), count(undone), count(twice), count(kept)],
        [0; 4],
        "of {} alerts",
        accepted.len()
    );
    let mut told: BTreeMap<String, u64> = BTreeMap::new();
    peer.told().into_iter().for_each(|t| *told.entry(t.body).or_default() += 1);
    assert!(told.values().all(|times| *times == 1), "{told:?}");
    let jobs = count("SELECT 1 FROM job WHERE state = 'succeeded'");
    assert!(
        told.len() as u64 >= jobs && jobs > 20,
        "{} were told of {jobs} that succeeded",
        told.len()
    );
}
