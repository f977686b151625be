//! Sources whose messages are fetched: each once, whatever dies, and no further than was looked.

use crate::kit::{Stage, block, spawn, until};
use serde_json::{Value, json};
use std::sync::{
    Arc, Mutex, MutexGuard, PoisonError,
    atomic::{AtomicU64, Ordering},
};
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    net::{TcpListener, TcpStream},
};

/// What a watch holds and was asked.
#[derive(Default)]
struct Held {
    /// The numbers of its alerts.
    alerts: Vec<u64>,
    /// The first line of each request, with what it says of its condition.
    asked: Vec<String>,
    /// What it answers instead.
    instead: Option<(u16, String)>,
    /// Bytes that come along with each alert.
    pad: usize,
}

/// A watch that keeps alerts until somebody fetches them, twenty at once.
struct HarbourWatch {
    address: String,
    held: Arc<Mutex<Held>>,
    delay: Arc<AtomicU64>,
}

impl HarbourWatch {
    fn start() -> Self {
        let listener = block(TcpListener::bind("127.0.0.1:0")).expect("a port");
        let address = format!("http://{}", listener.local_addr().expect("an address"));
        let (held, delay) = (Arc::<Mutex<Held>>::default(), Arc::<AtomicU64>::default());
        let (holds, waits) = (Arc::clone(&held), Arc::clone(&delay));
        spawn(async move {
            while let Ok((line, _)) = listener.accept().await {
                tokio::spawn(answer(line, Arc::clone(&holds), waits.load(Ordering::Relaxed)));
            }
        });
        Self { address, held, delay }
    }

    fn held(&self) -> MutexGuard<'_, Held> {
        self.held.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn rings(&self, alerts: std::ops::Range<u64>) {
        self.held().alerts.extend(alerts);
    }

    fn asked(&self) -> Vec<String> {
        self.held().asked.clone()
    }

    fn definitions(&self, every: &str) -> String {
        format!(
            "
connector: watch
operations:
  alerts.after:
    takes:
      after: {{ type: integer, default: null }}
      etag: {{ type: string, default: null }}
    request:
      method: GET
      path: /alerts
      query: {{ after: '${{give.after}}' }}
      headers: {{ If-None-Match: '${{give.etag}}' }}
    output: \"response.status == 304
      ? {{'etag': give.etag, 'alerts': [], 'more': false}}
      : {{'etag': response.headers.etag, 'alerts': response.body.alerts,
        'more': response.body.more}}\"
    repeat: safe
---
connection: watch
connector: watch
base: {}
---
source: pier-watch
intake:
  poll:
    call: alerts.after
    via: watch
    give: {{ after: '${{cursor.last}}', etag: '${{cursor.etag}}' }}
    cursor: \"result.alerts.size() > 0
      ? {{'last': result.alerts[result.alerts.size() - 1].number, 'etag': result.etag}}
      : cursor\"
    more: result.more
    every: {every}
read:
  each: body.alerts
  id: string(item.number)
  kind: '\"disk.usage\"'
  severity: '\"minor\"'
  resource: '\"vm/quill-\" + string(item.number)'
",
            self.address
        )
    }
}

async fn answer(mut line: TcpStream, held: Arc<Mutex<Held>>, delay: u64) {
    let mut buffer = vec![0; 8_192];
    let Ok(read) = line.read(&mut buffer).await else { return };
    let head = String::from_utf8_lossy(&buffer[..read]).to_ascii_lowercase();
    let first = head.lines().next().unwrap_or_default().to_owned();
    let condition = head.lines().find_map(|line| line.strip_prefix("if-none-match: "));
    tokio::time::sleep(std::time::Duration::from_millis(delay)).await;
    let (status, etag, page) = {
        let mut held = held.lock().unwrap_or_else(PoisonError::into_inner);
        held.asked.push(format!("{first} {}", condition.unwrap_or("without a condition")));
        let after = first
            .split_once("after=")
            .and_then(|(_, rest)| rest.split_whitespace().next()?.parse::<u64>().ok());
        let after = after.unwrap_or(0);
        let new: Vec<u64> = held.alerts.iter().copied().filter(|n| *n > after).collect();
        let etag = held.alerts.last().map_or(0, |last| *last).to_string();
        match &held.instead {
            Some((status, page)) => (*status, etag, page.clone()),
            None if condition == Some(&etag) && new.is_empty() => (304, etag, String::new()),
            None => {
                let pad = "-".repeat(held.pad);
                let one = |number: &u64| json!({ "number": number, "pad": pad });
                let page: Vec<Value> = new.iter().take(20).map(one).collect();
                (200, etag, json!({ "alerts": page, "more": new.len() > 20 }).to_string())
            }
        }
    };
    let head = format!(
        "HTTP/1.1 {status} said\r\ncontent-type: application/json\r\netag: {etag}\r\n\
        content-length: {}\r\nconnection: close\r\n\r\n",
        page.len()
    );
    let _ = line.write_all(format!("{head}{page}").as_bytes()).await;
}

/// How often each of a source's alerts was recorded, by its id.
fn recorded(stage: &Stage) -> Vec<(u64, i64)> {
    let sql = "SELECT id, count(*) AS n FROM alerts WHERE source = 'pier-watch'
        GROUP BY 1";
    let number = |row: &Value| Some((row["id"].as_str()?.parse().ok()?, row["n"].as_i64()?));
    let mut all: Vec<(u64, i64)> = stage.records().rows(sql).iter().filter_map(number).collect();
    all.sort_unstable();
    all
}

fn each_once(numbers: std::ops::Range<u64>) -> Vec<(u64, i64)> {
    numbers.map(|number| (number, 1)).collect()
}

fn shown(stage: &Stage) -> Value {
    stage.get("/api/v1/definitions/source/pier-watch")["poll"].clone()
}

/// Has the next look come at once.
fn look_now(stage: &Stage) {
    stage.records().run("UPDATE timer SET due = now(), held_until = NULL WHERE kind = 'poll'");
    // A node that sleeps until the time it knew is woken by what is published.
    let woken = format!("source: waker\nsummary: '{}'\n", uuid());
    stage.publish(&format!("{woken}intake: {{ schedule: {{ cron: \"0 0 1 1 *\" }} }}\n"));
}

fn uuid() -> u128 {
    let passed = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH);
    passed.expect("after 1970").as_nanos()
}

#[test]
fn what_a_watch_holds_is_fetched_once_whatever_dies() {
    let mut stage = Stage::bare();
    let second = stage.second_node();
    let watch = HarbourWatch::start();
    watch.rings(1..401);
    watch.delay.store(100, Ordering::Relaxed);
    stage.publish(&watch.definitions("1m"));
    // Page after page without a pause; in the middle of them a node dies, and then begins again.
    until("some are taken", || (recorded(&second).len() >= 40).then_some(()));
    stage.kill_node();
    stage.start_node();
    until("all are taken", || (recorded(&second) == each_once(1..401)).then_some(()));
    let state = until("how far was looked", || {
        let state = shown(&second);
        state["cursor"].as_str().is_some_and(|c| c.contains("400")).then_some(state)
    });
    assert_eq!(state["operation"], "alerts.after via watch");
    watch.delay.store(0, Ordering::Relaxed);

    // What comes later is fetched from there on, and by one of the two.
    let before = watch.asked().len();
    watch.rings(401..411);
    look_now(&second);
    until("the later ones", || (recorded(&second) == each_once(1..411)).then_some(()));
    let asked = watch.asked()[before..].to_vec();
    assert!(asked.iter().all(|line| line.contains("after=400")), "{asked:?}");
    assert_eq!(asked.len(), 1, "{asked:?}");

    // Nothing new: the watch says so in an answer without a body, which is no failure.
    until("it is remembered", || shown(&second)["cursor"].as_str()?.contains("410").then_some(()));
    let looked_at = shown(&second)["looked_at"].clone();
    look_now(&second);
    until("the look", || (shown(&second)["looked_at"] != looked_at).then_some(()));
    assert_eq!(
        watch.asked().last().map(String::as_str),
        Some("get /alerts?after=410 http/1.1 410")
    );
    assert_eq!((recorded(&second).len(), &shown(&second)["failure"]), (410, &Value::Null));
    let said = second.arvok(&["source", "show", "pier-watch"]);
    assert!(said.out.contains("Fetched by alerts.after via watch, every 1m"), "{}", said.all());
    assert!(said.out.contains(r#"Remembered: {"etag":"410","last":410}"#), "{}", said.all());
}

#[test]
fn a_look_that_fails_forgets_nothing_takes_nothing_twice_and_is_told() {
    let stage = Stage::bare();
    let watch = HarbourWatch::start();
    watch.rings(1..6);
    stage.publish(&watch.definitions("1d"));
    until("the first ones", || (recorded(&stage) == each_once(1..6)).then_some(()));
    watch.rings(6..9);
    for (instead, words) in [
        ((503, "{}".to_owned()), "answered 503"),
        // As if it were another service: `output` cannot be made of it.
        ((200, "<html>signed out</html>".to_owned()), "alerts"),
    ] {
        watch.held().instead = Some(instead);
        look_now(&stage);
        until(words, || {
            shown(&stage)["failure"].as_str().is_some_and(|why| why.contains(words)).then_some(())
        });
    }
    let said = stage.arvok(&["source", "show", "pier-watch"]);
    assert!(said.out.contains("The last look failed: "), "{}", said.all());
    let alarm = || stage.get("/api/v1/alarms?source=arvok&kind=timer.failing");
    until("it is told", || {
        stage.records().run("UPDATE timer SET held_until = NULL WHERE kind = 'poll'");
        (alarm()["items"][0]["resource"] == "timer/poll/pier-watch").then_some(())
    });
    assert_eq!(recorded(&stage), each_once(1..6));
    watch.held().instead = None;
    look_now(&stage);
    until("the others", || (recorded(&stage) == each_once(1..9)).then_some(()));
    until("it is over", || (alarm()["items"][0]["state"] == "cleared").then_some(()));
    assert_eq!(shown(&stage)["failure"], Value::Null);
}

#[test]
fn what_cannot_be_read_is_kept_and_the_next_look_goes_on_behind_it() {
    let stage = Stage::bare();
    let watch = HarbourWatch::start();
    watch.rings(1..4);
    let blind = watch.definitions("1d").replace("'\"disk.usage\"'", "item.kind");
    stage.publish(&blind);
    let kept = until("what is kept", || {
        let page = stage.get("/api/v1/unreadable?source=pier-watch");
        page["items"].as_array().filter(|all| !all.is_empty()).cloned()
    });
    assert!(kept[0]["reason"].as_str().is_some_and(|why| why.contains("kind")), "{kept:?}");
    // The mended source goes on behind what is kept, which is read again when somebody says so.
    stage.publish(&watch.definitions("1d"));
    watch.rings(4..6);
    look_now(&stage);
    until("the later ones", || (recorded(&stage) == each_once(4..6)).then_some(()));
    let said = stage.arvok(&["source", "retry", "pier-watch"]);
    assert_eq!(said.code, 0, "{}", said.all());
    until("the earlier ones", || (recorded(&stage) == each_once(1..6)).then_some(()));

    // What is large is kept whole.
    stage.publish(&blind.replace("kind: item.kind", "kind: item.kind + body.long"));
    watch.rings(6..9);
    watch.held().pad = 70_000;
    look_now(&stage);
    let kept = until("what is large to be kept", || {
        let page = stage.get("/api/v1/unreadable?source=pier-watch");
        page["items"].as_array().filter(|all| !all.is_empty()).cloned()
    });
    assert_eq!(kept[0]["is_cut"], true, "the list shows its beginning");
    stage.publish(&watch.definitions("1d"));
    let said = stage.arvok(&["source", "retry", "pier-watch"]);
    assert_eq!(said.code, 0, "{}", said.all());
    until("the last ones", || (recorded(&stage) == each_once(1..9)).then_some(()));
}
