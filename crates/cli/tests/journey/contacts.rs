//! People who are asked and told by the ways of their contacts: one after another, until one of
//! them answers.

use crate::kit::{Browser, Stage, answers_with, until};
use arvok_standins::Faults;
use reqwest::Method;
use serde_json::{Value, json};
use std::time::Duration;

/// Two persons and their team: Vera by chat and by mail, Pat by chat.
const CREW: &str = "
contact: vera-lund
token: vera
ways:
  - call: chat.post
    via: crew-chat
    give: { channel: vera, text: '${message.text} ${message.link}' }
    wait: 3s
  - call: mail.send
    via: office-mail
    give:
      to: vera@skerrow.example
      subject: A question about ${message.target}
      text: '${message.text} ${message.link}'
    wait: 3s
---
contact: pat-moen
token: pat
ways:
  - call: chat.post
    via: crew-chat
    give: { channel: pat, text: '${contact.name}: ${message.text} ${message.link}' }
---
contact: booking
summary: Whoever keeps the booking service
members: [vera-lund, pat-moen]
";

const ASKS: &str = "
runbook: asks
target: vm/booking
steps:
  - id: agree
    ask:
      to: { team: booking }
      text: Restart vm/booking?
      choices: { restart: Restart it now, wait: Wait until morning }
      within: 10m
outputs: { by: '${steps.agree.by}' }
";

fn launch(stage: &Stage, runbook: &str) -> i64 {
    let body = json!({ "runbook": runbook, "inputs": {} });
    let (status, made) = stage.call(Method::POST, "/api/v1/jobs", Some(&body));
    assert_eq!(status, 201, "{made}");
    made["job"].as_i64().expect("a number")
}

/// The messages in the channel of somebody.
fn messages_in(stage: &Stage, channel: &str) -> Vec<String> {
    let all = stage.harbour.chat.messages().into_iter();
    all.filter(|m| m.channel == channel).map(|m| m.text).collect()
}

/// To whom a step's messages went, or what came of each try instead.
fn tries(stage: &Stage, job: i64, place: &str) -> Vec<String> {
    let job = stage.get(&format!("/api/v1/jobs/{job}"));
    let attempts = &part(&job["steps"], place).expect("tries")["attempts"];
    let one = |attempt: &Value| {
        let given = &attempt["give"];
        let whom = [&given["contact"], &given["via"]].map(|of| of.as_str().unwrap_or("?"));
        let why = attempt["error"].as_str().unwrap_or_default();
        format!("{} via {} {} {why}", whom[0], whom[1], attempt["state"].as_str().unwrap_or("?"))
    };
    attempts.as_array().expect("a list").iter().map(one).collect()
}

fn part<'v>(value: &'v Value, place: &str) -> Option<&'v Value> {
    match value {
        Value::Object(map) if map.get("place").is_some_and(|at| at == place) => Some(value),
        Value::Object(map) => map.values().find_map(|inner| part(inner, place)),
        Value::Array(all) => all.iter().find_map(|inner| part(inner, place)),
        _ => None,
    }
}

fn token(stage: &Stage, name: &str, role: &str) -> String {
    let body = json!({ "name": name, "role": role });
    let (status, made) = stage.call(Method::POST, "/api/v1/tokens", Some(&body));
    assert_eq!(status, 201, "{made}");
    made["token"].as_str().expect("a token").to_owned()
}

fn decision(stage: &Stage, job: i64) -> i64 {
    let job = stage.get(&format!("/api/v1/jobs/{job}"));
    job["decisions"][0]["id"].as_i64().expect("a decision")
}

#[test]
fn people_are_reached_one_after_another_until_one_of_them_decides() {
    let stage = Stage::with_demo();
    stage.publish(&format!("{CREW}---{ASKS}"));
    let (pat, kim) = (token(&stage, "pat", "responder"), token(&stage, "kim", "responder"));
    let job = launch(&stage, "asks");
    let to_pat = until("Pat to be reached", || messages_in(&stage, "pat").into_iter().next());
    assert!(to_pat.starts_with("pat-moen: Restart vm/booking? http"), "{to_pat}");
    assert_eq!(messages_in(&stage, "vera").len(), 1);
    let mails = stage.harbour.mailroom.with(|m| m.messages.len());
    assert_eq!(mails, 1, "between the two the mail was tried");
    let id = decision(&stage, job);
    let path = format!("/api/v1/decisions/{id}");
    let asked = stage.get(&path);
    assert_eq!(asked["to"], "booking", "{asked}");
    let choice = json!({ "choice": "restart" });
    let (status, refused) = stage.call_as(&kim, Method::POST, &path, Some(&choice));
    assert_eq!((status, &refused["code"]), (403, &json!("not-asked")), "{refused}");
    let (status, taken) = stage.call_as(&pat, Method::POST, &path, Some(&choice));
    assert_eq!(status, 200, "{taken}");
    assert_eq!(stage.job_in(job, &["succeeded"])["outputs"]["by"], "pat");
    assert_eq!(
        tries(&stage, job, "agree.reached"),
        [
            "vera-lund via crew-chat done ",
            "vera-lund via office-mail done ",
            "pat-moen via crew-chat done "
        ]
    );
    let records = stage.get(&format!("/api/v1/jobs/{job}")).to_string();
    let link = to_pat.split('#').nth(1).expect("a link");
    assert!(!records.contains(link) && records.contains("⟨link to the decision⟩"));
    let shown = stage.arvok(&["job", "show", &job.to_string()]);
    assert!(shown.out.contains("Reach people, one way after another"), "{}", shown.all());
}

#[test]
fn when_a_node_dies_another_reaches_whoever_comes_next_and_nobody_twice() {
    let mut stage = Stage::with_demo();
    stage.publish(&format!("{CREW}---{ASKS}"));
    let job = launch(&stage, "asks");
    until("Vera to be reached", || messages_in(&stage, "vera").into_iter().next());
    stage.kill_node();
    let other = stage.second_node();
    until("Pat to be reached", || messages_in(&other, "pat").into_iter().next());
    let all = tries(&other, job, "agree.reached");
    assert_eq!(messages_in(&other, "vera").len(), 1, "{all:?}");
    let mails = other.harbour.mailroom.with(|m| m.messages.len());
    assert_eq!((mails, messages_in(&other, "pat").len()), (1, 1), "{all:?}");
    let (status, _) = other.call(
        Method::POST,
        &format!("/api/v1/decisions/{}", decision(&other, job)),
        Some(&json!({ "choice": "wait" })),
    );
    assert_eq!(status, 200, "an admin decides as well");
    other.job_in(job, &["succeeded"]);
}

/// On duty all day and every day is Pat.
const ROSTER: &str = "
duty:
  zone: Europe/Oslo
  calendar: |
    BEGIN:VCALENDAR
    BEGIN:VEVENT
    SUMMARY:pat-moen
    DTSTART;VALUE=DATE:20260101
    RRULE:FREQ=DAILY
    END:VEVENT
    END:VCALENDAR
";

#[test]
fn whoever_is_on_duty_comes_first_and_a_message_is_told_by_the_first_way_that_takes_it() {
    let stage = Stage::with_demo();
    let tells = "
runbook: tells
target: vm/booking
steps: [{ id: word, tell: 'It is full: ${40 + 4} GiB', to: { team: booking } }]
outputs: { by: '${steps.word.contact}' }
";
    stage.publish(&format!("{}{ROSTER}---{tells}", CREW.trim_end()));
    let shown = stage.arvok(&["contact", "show", "booking"]);
    insta::assert_snapshot!(shown.out);
    let listed = stage.arvok(&["contact", "list"]);
    insta::assert_snapshot!(listed.out);
    let job = launch(&stage, "tells");
    assert_eq!(stage.job_in(job, &["succeeded"])["outputs"]["by"], "pat-moen");
    assert_eq!(messages_in(&stage, "pat"), ["pat-moen: It is full: 44 GiB "]);
    assert_eq!(messages_in(&stage, "vera").len(), 0);
    // The chat is away: by mail then.
    stage.harbour.chat.set_faults(Faults { busy: 2, ..Faults::default() });
    let job = launch(&stage, "tells");
    assert_eq!(stage.job_in(job, &["succeeded"])["outputs"]["by"], "vera-lund");
    let all = tries(&stage, job, "word.reached");
    assert_eq!(all.len(), 3, "{all:?}");
    assert!(all[0].contains("pat-moen via crew-chat failed") && all[2].contains("done"), "{all:?}");
    // Who is reached by a runbook is not withdrawn.
    let refused = stage.arvok(&["withdraw", "contact", "booking", "--yes"]);
    assert!(
        refused.code != 0 && refused.all().contains("there is no contact `booking`"),
        "{}",
        refused.all()
    );
    let held = stage.arvok(&["withdraw", "contact", "pat-moen", "--yes"]);
    assert!(
        held.code != 0 && held.all().contains("there is no contact `pat-moen`"),
        "{}",
        held.all()
    );
}

/// Who is on duty, as a system of its own says.
const ROTA: &str = "
connector: rota
operations:
  rota.now:
    takes: { team: { type: string } }
    request: { method: GET, path: '/now/${give.team}' }
    output: response.body
    repeat: safe
---
connection: duty-rota
connector: rota
base: BASE
";

#[test]
fn another_system_is_asked_who_is_on_duty_and_may_be_away() {
    let stage = Stage::with_demo();
    let says =
        answers_with("200 OK\r\ncontent-type: application/json", "{\"names\": [\"Pat-Moen\"]}");
    let duty =
        "duty: { call: rota.now, via: duty-rota, give: { team: booking }, who: result.names }";
    let world = |base: &str| {
        format!("{CREW}{duty}\n---{}---{ASKS}", ROTA.replace("BASE", base))
            .replace("within: 10m", "within: 1m")
    };
    stage.publish(&world(&says));
    let job = launch(&stage, "asks");
    until("Pat to be reached", || messages_in(&stage, "pat").into_iter().next());
    // A message is there before it is recorded that it went out.
    until("both to be recorded", || {
        let all = tries(&stage, job, "agree.reached");
        (all == ["? via duty-rota done ", "pat-moen via crew-chat done "]).then_some(())
    });
    assert_eq!(messages_in(&stage, "vera").len(), 0);
    // Away, it leaves the order in which the members are written.
    stage.publish(&world("http://127.0.0.1:9"));
    let job = launch(&stage, "asks");
    until("Vera to be reached", || messages_in(&stage, "vera").into_iter().next());
    let all = tries(&stage, job, "agree.reached");
    assert!(all[0].starts_with("? via duty-rota failed"), "{all:?}");
    let shown = stage.arvok(&["contact", "show", "booking"]);
    assert!(shown.out.contains("as rota.now via duty-rota says"), "{}", shown.all());
    assert!(shown.out.contains("no token    vera-lund, pat-moen"), "{}", shown.all());
}

#[test]
fn nobody_is_forgotten_while_the_database_is_away() {
    let stage = Stage::with_demo();
    stage.publish(&format!("{CREW}---{ASKS}"));
    let job = launch(&stage, "asks");
    until("Vera to be reached", || messages_in(&stage, "vera").into_iter().next());
    crate::kit::outage(&stage.database, Duration::from_secs(5));
    until("Pat to be reached", || messages_in(&stage, "pat").into_iter().next());
    let all = tries(&stage, job, "agree.reached");
    let mails = stage.harbour.mailroom.with(|m| m.messages.len());
    assert_eq!(
        (messages_in(&stage, "vera").len(), mails, messages_in(&stage, "pat").len()),
        (1, 1, 1),
        "{all:?}"
    );
}

#[test]
fn the_console_says_who_would_be_reached_now_and_who_was() {
    let stage = Stage::with_demo();
    let crew = CREW.replace("token: pat\n", "token: pat\nhours: { from: '00:00', to: '00:01' }\n");
    stage.publish(&format!("{}{ROSTER}---{ASKS}", crew.trim_end()));
    let job = launch(&stage, "asks");
    until("the mail", || stage.harbour.mailroom.with(|m| m.messages.first().map(|_| ())));
    let browser = Browser::open(&stage, true);
    browser.sign_in(&stage.token);
    browser.see("Sign out");
    browser.size(1280, 800);
    browser.go("/contacts");
    browser.see("vera-lund: chat.post via crew-chat");
    browser.go("/contacts/booking");
    browser.see("in the order in which they would be tried now");
    browser.see("not now");
    browser.go(&format!("/jobs/{job}"));
    browser.see("asked of booking");
    browser.see("Reach people, one way after another");
}
