//! Calendars that are kept elsewhere, and what follows them.

use crate::kit::{Stage, block, spawn, until};
use serde_json::{Value, json};
use std::sync::{
    Arc, Mutex,
    atomic::{AtomicUsize, Ordering},
};
use tokio::io::{AsyncReadExt, AsyncWriteExt};

/// An office that keeps a calendar, and counts who reads it.
struct Office {
    address: String,
    says: Arc<Mutex<(u16, String)>>,
    read: Arc<AtomicUsize>,
}

impl Office {
    fn start() -> Self {
        let says = Arc::new(Mutex::new((503, String::new())));
        let (read, answer) = (Arc::<AtomicUsize>::default(), Arc::clone(&says));
        let listener = block(tokio::net::TcpListener::bind("127.0.0.1:0")).expect("a port");
        let address = format!("http://{}", listener.local_addr().expect("an address"));
        let count = Arc::clone(&read);
        spawn(async move {
            while let Ok((mut line, _)) = listener.accept().await {
                let _ = line.read(&mut [0; 8_192]).await;
                count.fetch_add(1, Ordering::Relaxed);
                let (status, page) = answer.lock().expect("what it says").clone();
                let head = format!(
                    "HTTP/1.1 {status} said\r\ncontent-type: text/calendar\r\ncontent-length: {}\r\n\
                    connection: close\r\n\r\n",
                    page.len()
                );
                let _ = line.write_all(format!("{head}{page}").as_bytes()).await;
            }
        });
        Self { address, says, read }
    }

    fn says(&self, status: u16, page: &str) {
        *self.says.lock().expect("what it says") = (status, page.to_owned());
    }
}

/// A calendar with an event from some hours ago until some hours from now.
fn event(name: &str, from: i64, until: i64) -> String {
    let at = |hours: i64| {
        let at = chrono::Utc::now() + chrono::TimeDelta::hours(hours);
        at.format("%Y%m%dT%H%M%SZ").to_string()
    };
    format!(
        "BEGIN:VCALENDAR\r\nBEGIN:VEVENT\r\nSUMMARY:{name}\r\nDTSTART:{}\r\nDTEND:{}\r\n\
        END:VEVENT\r\nEND:VCALENDAR\r\n",
        at(from),
        at(until)
    )
}

fn definitions(office: &Office, more: &str) -> String {
    format!(
        "
connector: office
operations:
  calendar.read: {{ request: {{ method: GET, path: /harbour.ics }}, repeat: safe }}
---
connection: office
connector: office
base: {}
---
calendar: sailings
call: calendar.read
via: office
{more}---
guard: at-sea
frozen: {{ during: sailings }}
---
runbook: note
inputs: {{ vm: {{ type: string }} }}
target: ${{inputs.vm}}
steps: [ {{ id: seen, require: 'true' }} ]
",
        office.address
    )
}

fn launch(stage: &Stage, vm: &str) -> i64 {
    let input = format!("vm={vm}");
    let said = stage.arvok(&["job", "launch", "note", "--input", &input, "--yes", "--json"]);
    let made: Value = serde_json::from_str(&said.out).expect("JSON");
    made["job"].as_i64().unwrap_or_else(|| panic!("{}", said.all()))
}

fn held(stage: &Stage, job: i64, words: &str) {
    until(words, || {
        let detail = stage.get(&format!("/api/v1/jobs/{job}"));
        detail["job"]["held"]["why"].as_str().is_some_and(|why| why.contains(words)).then_some(())
    });
}

#[test]
fn a_freeze_that_is_read_from_elsewhere_holds_until_it_is_known_and_as_it_changes() {
    let stage = Stage::bare();
    let second = stage.second_node();
    let office = Office::start();
    stage.publish(&definitions(&office, ""));
    let job = launch(&stage, "vm/a");
    held(&stage, job, "what is on in calendar sailings is not known yet");
    let said = stage.arvok(&["calendar", "show", "sailings"]);
    assert!(said.out.contains("Not read yet by calendar.read via office"), "{}", said.all());

    office.says(200, &event("Late sailing", -1, 3));
    held(&second, job, "Late sailing");
    // What is no calendar any more changes nothing.
    office.says(200, "<html>signed out</html>");
    let anew = || stage.publish(&definitions(&office, "every: 2m\n"));
    anew();
    let failure = until("that it failed", || {
        let shown = second.get("/api/v1/definitions/calendar/sailings");
        shown["calendar"]["failure"].as_str().map(str::to_owned)
    });
    assert!(failure.contains("is no calendar"), "{failure}");
    held(&stage, job, "Late sailing");
    let said = stage.arvok(&["calendar", "show", "sailings"]);
    assert!(said.out.contains("The last try failed: is no calendar"), "{}", said.all());
    assert!(said.out.contains("Late sailing"), "{}", said.all());

    office.says(200, &event("Early sailing", 5, 6));
    stage.job_in(job, &["succeeded"]);
    let shown = second.get("/api/v1/definitions/calendar/sailings");
    assert_eq!(shown["calendar"]["events"][0]["summary"], json!("Early sailing"), "{shown}");
}

#[test]
fn one_node_reads_it_at_a_time_and_another_goes_on_when_that_dies() {
    let mut stage = Stage::bare();
    let office = Office::start();
    let page = event("Late sailing", -1, 3);
    office.says(200, &page);
    stage.publish(&definitions(&office, "every: 1m\n"));
    let second = stage.second_node();
    let is_read = |stage: &Stage| {
        let shown = stage.get("/api/v1/definitions/calendar/sailings");
        (shown["calendar"]["known"] == json!(true)).then_some(())
    };
    until("it is read", || is_read(&second));
    assert_eq!(office.read.load(Ordering::Relaxed), 1, "by one of the two");
    stage.kill_node();
    let stands = "SELECT generation FROM catalog";
    let before = second.records().rows(stands);
    // The same event, in the text of another moment.
    let stamped = page.replace("SUMMARY", "DTSTAMP:20261201T120000Z\r\nSUMMARY");
    office.says(200, &stamped);
    second.records().run("UPDATE timer SET due = now() WHERE kind = 'calendar'");
    until("it is read again", || (office.read.load(Ordering::Relaxed) >= 2).then_some(()));
    let read_again = "SELECT 1 AS n FROM calendar_text WHERE seen_at > read_at";
    until("that is noted", || (!second.records().rows(read_again).is_empty()).then_some(()));
    assert_eq!(second.records().rows(stands), before, "and nothing else");

    // Without its calendar nothing is kept of it.
    let gone = json!({ "files": [], "withdraw": [{ "kind": "guard", "name": "at-sea" },
        { "kind": "calendar", "name": "sailings" }] });
    let (status, said) = second.call(reqwest::Method::POST, "/api/v1/publish", Some(&gone));
    assert_eq!(status, 200, "{said}");
    until("its timer goes", || {
        let left = second.records().rows("SELECT key FROM timer WHERE kind = 'calendar'");
        left.is_empty().then_some(())
    });
}

#[test]
fn calendars_whose_office_stalls_keep_no_schedule_waiting() {
    let stage = Stage::bare();
    // Whoever connects is never answered.
    let office = std::net::TcpListener::bind("127.0.0.1:0").expect("a port");
    let address = format!("http://{}", office.local_addr().expect("an address"));
    let silent = Office { address, ..Office::start() };
    // More of them than are read at once.
    let one = |n| format!("---\ncalendar: sailings-{n}\ncall: calendar.read\nvia: office\n");
    let more: String = (0..60).map(one).collect();
    stage.publish(&format!("{}{more}", definitions(&silent, "")));
    let _lines: Vec<_> =
        (0..50).map(|_| until("they are being read", || office.accept().ok())).collect();
    stage.publish("source: quiet-hours\nintake: { schedule: { cron: \"0 0 1 1 *\" } }\n");
    until("its time is known", || {
        let rows = stage.records().rows("SELECT key FROM timer WHERE key = 'quiet-hours'");
        (!rows.is_empty()).then_some(())
    });
    let passed = std::time::Instant::now();
    stage.records().run("UPDATE timer SET due = now() WHERE key = 'quiet-hours'");
    stage.publish("source: waker\nintake: { schedule: { cron: \"0 0 1 1 *\" } }\n");
    until("the message", || {
        let page = stage.get("/api/v1/alerts?source=quiet-hours");
        page["items"].as_array().is_some_and(|all| !all.is_empty()).then_some(())
    });
    let still_read = "SELECT failures FROM timer WHERE kind = 'calendar' AND failures = 0";
    let waits = stage.records().rows(still_read).len() > 60;
    assert!(waits, "calendars were given up after {:?}", passed.elapsed());
}
