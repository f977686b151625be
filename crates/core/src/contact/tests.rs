//! Persons and teams as they are written, who comes first, and what is wrong with them.

use super::{Contact, Hours, HoursDoc, PlannedWay};
use crate::{
    Catalog,
    catalog::{Observed, check_files},
    document::{Checker, parse_file},
};
use chrono::{DateTime, Utc};
use serde_json::{Value, json};

const WORLD: &str = "\
connector: chat
operations:
  post:
    takes: { to: { type: string }, text: { type: string } }
    request: { method: POST, path: /post, body: { to: '${give.to}', text: '${give.text}' } }
  rota:
    request: { method: GET, path: /rota }
    repeat: safe
  ring:
    request: { method: POST, path: /ring }
    callback: { within: 5m }
---
connection: crew-chat
connector: chat
base: http://127.0.0.1:9
";

const CREW: &str = "\
contact: vera-lund
mail: vera.lund@skerrow.example
ways:
  - { call: post, via: crew-chat, give: { to: vera, text: '${message.text}' }, wait: 2m }
  - call: post
    via: crew-chat
    give: { to: '${contact.name}', text: '${message.text} ${message.link}' }
    hours: { from: '22:00', to: '06:00' }
---
contact: pat-moen
token: pat
hours: { days: [mon, tue, wed, thu, fri], from: '07:00', to: '19:00', zone: Europe/Oslo }
ways: [{ call: post, via: crew-chat, give: { to: pat, text: '${message.text}' } }]
";

fn catalog(text: &str) -> (Catalog, Vec<String>) {
    let all = format!("{WORLD}---\n{CREW}---\n{text}");
    let checked = check_files([("c.yaml", &*all)], &[], &Catalog::default(), &Observed::default());
    let before = WORLD.lines().count() + CREW.lines().count() + 2;
    let problems = checked.problems.iter().map(|p| {
        let line = p.line.saturating_sub(before);
        format!("{line}:{}: {}", p.column, p.message)
    });
    let problems = problems.collect();
    (Catalog::new(checked.entries), problems)
}

fn at(text: &str) -> DateTime<Utc> {
    text.parse().expect("a time")
}

fn order(catalog: &Catalog, team: &str, now: &str) -> Vec<String> {
    let (contact, _) = catalog.get::<Contact>(team).expect("is there");
    let on_duty = contact.on_duty(catalog, at(now));
    let shown = |planned: &PlannedWay| {
        let is_time = planned.now(catalog, at(now)).is_some();
        format!("{}/{}{}", planned.contact, planned.way, if is_time { "" } else { " later" })
    };
    contact.ways(catalog, &on_duty).iter().map(shown).collect()
}

const ROSTER: &str = "
    BEGIN:VCALENDAR
    BEGIN:VEVENT
    SUMMARY:Pat-Moen
    DTSTART:20260302T080000Z
    DTEND:20260309T080000Z
    END:VEVENT
    BEGIN:VEVENT
    SUMMARY:standby
    ATTENDEE:mailto:vera.lund@skerrow.example
    DTSTART:20260309T080000Z
    DTEND:20260316T080000Z
    END:VEVENT
    END:VCALENDAR
";

#[test]
fn those_on_duty_come_first_and_each_way_has_its_time() {
    let members = "contact: booking\nmembers: [vera-lund, pat-moen]\n";
    let (all, problems) = catalog(&format!("{members}duty:\n  calendar: |{ROSTER}"));
    assert_eq!(problems, Vec::<String>::new());
    // A Tuesday: Pat is on duty, and it is day.
    assert_eq!(
        order(&all, "booking", "2026-03-03T10:00:00Z"),
        ["pat-moen/0", "vera-lund/0", "vera-lund/1 later"]
    );
    // A week later Vera is, by her address, at night.
    assert_eq!(
        order(&all, "booking", "2026-03-10T23:00:00Z"),
        ["vera-lund/0", "vera-lund/1", "pat-moen/0 later"]
    );
    // Then nobody is.
    assert_eq!(order(&all, "booking", "2026-03-18T10:00:00Z").len(), 3);
    let (alone, _) = catalog(&format!("{members}duty:\n  alone: true\n  calendar: |{ROSTER}"));
    assert_eq!(order(&alone, "booking", "2026-03-03T10:00:00Z"), ["pat-moen/0"]);
    assert_eq!(order(&alone, "booking", "2026-03-18T10:00:00Z").len(), 3);
    assert_eq!(order(&alone, "vera-lund", "2026-03-03T10:00:00Z").len(), 2);
}

#[test]
fn another_system_says_who_is_on_duty_by_name_or_by_address() {
    let team = "contact: booking\nmembers: [vera-lund, pat-moen]\nduty: { call: rota, via: \
                crew-chat, who: result.names }\n";
    let (all, problems) = catalog(team);
    assert_eq!(problems, Vec::<String>::new());
    let (contact, _) = all.get::<Contact>("booking").expect("is there");
    let super::Who::Team(team) = &contact.who else { panic!("a team") };
    let asked = team.duty.as_ref().and_then(|duty| duty.asked()).expect("asks");
    let people = |names: Value| asked.people(&json!({ "names": names }), &contact.persons(&all));
    assert_eq!(people(json!("Vera.Lund@skerrow.example")), Ok(vec!["vera-lund".to_owned()]));
    assert_eq!(people(json!(["kim", "PAT-MOEN"])), Ok(vec!["pat-moen".to_owned()]));
    assert_eq!(people(json!(["kim"])), Err("says kim, who is no member".to_owned()));
    assert_eq!(people(json!([])), Err("says nobody".to_owned()));
    let missing = asked.people(&json!({}), &contact.persons(&all)).expect_err("has none");
    assert!(missing.starts_with("who: "), "{missing}");
}

#[test]
fn the_examples_of_a_runbook_reach_people_at_any_hour() {
    let night = "contact: night\nhours: { from: '03:00', to: '03:01' }\nways: [{ call: post, via: \
                 crew-chat, give: { to: n, text: x } }]\n---\ncontact: all\nmembers: [night]\n---\n\
                 runbook: r\ntarget: vm/a\nsteps:\n  - { id: w, tell: full, to: { team: all } }\n  - \
                 { id: q, ask: { to: { contact: night }, text: 'Go?', choices: { go: Go }, within: 1m } \
                 }\nexamples:\n  - summary: they are told and asked\n    answers: { q: { after: 10s, \
                 gives: go } }\n    expect: { state: succeeded, calls: [w.reached, q.reached] }\n  - \
                 summary: and not reached\n    answers: { w.reached: { refused: engaged } }\n    expect: \
                 { state: failed, failure: no way to `all` took the message }\n";
    assert_eq!(catalog(night).1, Vec::<String>::new());
}

#[test]
fn a_way_is_given_the_message_as_it_is() {
    let (all, _) = catalog("");
    let (vera, _) = all.get::<Contact>("vera-lund").expect("is there");
    let planned = PlannedWay { contact: "vera-lund".into(), way: 1 };
    let (_, way) = planned.find(&all).expect("a way");
    let message = json!({ "text": "Q \"${x}\" \n", "link": "L" });
    let give = way.fill(vera, &message).expect("fills");
    assert_eq!(Value::Object(give), json!({ "to": "vera-lund", "text": "Q \"${x}\" \n L" }));
}

#[test]
fn hours_over_midnight_are_those_of_the_day_on_which_they_begin() {
    let text = "contact: x\nways: []\n";
    let documents = parse_file("c.yaml", text).expect("reads");
    let hours = |doc: Value| -> Hours {
        let doc: HoursDoc = serde_json::from_value(doc).expect("hours");
        let (_, mut check) =
            Checker::decoding::<super::ContactDoc>(&documents[0]).expect("decodes");
        doc.check(&mut check, "").expect("checks")
    };
    let night = hours(json!({ "days": ["fri"], "from": "22:00", "to": "06:00",
        "zone": "Europe/Oslo" }));
    assert_eq!(night.to_string(), "fri 22:00-06:00 Europe/Oslo");
    // The 6th of March 2026 is a Friday; Oslo is an hour ahead.
    for (now, holds) in [
        ("2026-03-06T20:59:59Z", false),
        ("2026-03-06T21:00:00Z", true),
        ("2026-03-07T04:59:59Z", true),
        ("2026-03-07T05:00:00Z", false),
        ("2026-03-06T02:00:00Z", false),
        ("2026-03-07T22:00:00Z", false),
    ] {
        assert_eq!(night.hold(&Catalog::default(), at(now)), holds, "{now}");
    }
    let day = hours(json!({ "from": "07:00", "to": "22:00" }));
    assert!({
        let hold = |now: &str| day.hold(&Catalog::default(), at(now));
        hold("2026-03-08T07:00:00Z") && !hold("2026-03-08T22:00:00Z")
    });
}

#[test]
fn what_is_wrong_is_said_where_it_stands() {
    let way = "{ call: post, via: crew-chat, give: { to: v, text: x } }";
    let wrong: Vec<String> = [
        "contact: a\n".to_owned(),
        format!("contact: a\nways: [{way}]\nmembers: [pat-moen]\n"),
        "contact: a\nmembers: [pat-moen, kim, pat-moen]\nhours: { from: '1', to: '2' }\n".into(),
        "contact: a\nmembers: [pat-moen]\nduty: {}\nrounds: 11\n".into(),
        "contact: a\nmembers: [pat-moen]\nduty: { call: post }\n".into(),
        "contact: a\nmembers: [pat-moen]\nduty: { call: post, via: crew-chat, who: result }\n".into(),
        "contact: a\nmembers: [pat-moen]\nduty: { calendar: monday, via: x }\n".into(),
        "contact: a\nmembers: [vera-lund]\nduty:\n  calendar: |".to_owned()
            + &ROSTER.replace("vera.lund", "kim"),
        "contact: a\nmembers: [b]\n---\ncontact: b\nmembers: [pat-moen]\n".into(),
        format!("contact: a\nmail: ['*@skerrow.example', a]\nduty: {{}}\nways: [{way}]\n"),
        "contact: a\nways: [{ call: post, via: crew-chat, give: { to: v, text: '${message.txt}' } \
         }]\n"
            .into(),
        "contact: a\nways: [{ call: post, via: crew-chat, give: { text: '${steps.x}' } }]\n".into(),
        "contact: a\nways: [{ call: psot, via: crew-chat }, { call: ring, via: crew-chat }, { \
         call: post, via: crew }]\n"
            .into(),
        "contact: a\nhours: { days: [monday], from: '25:00', to: '7', zone: Pier }\nways: [{ call: \
         ring, via: crew-chat, wait: 0s }]\n"
            .into(),
    ]
    .iter()
    .map(|text| format!("{text}=> {}\n", catalog(text).1.join("\n=> ")))
    .collect();
    insta::assert_snapshot!(wrong.join("\n"));
}

#[test]
fn hours_may_be_the_events_of_a_calendar() {
    let shifts = |events: &str| {
        format!(
            "contact: ines\nhours: {{ during: shifts{events} }}\nways: [{{ call: post, via: crew-chat, \
             give: {{ to: i, text: x }} }}]\n---\ncalendar: shifts\nevents: |{}",
            ROSTER.replace("    ", "  ")
        )
    };
    let (all, problems) = catalog(&shifts(""));
    assert_eq!(problems, Vec::<String>::new());
    assert_eq!(order(&all, "ines", "2026-03-03T10:00:00Z"), ["ines/0"]);
    assert_eq!(order(&all, "ines", "2026-03-18T10:00:00Z"), ["ines/0 later"]);
    let (some, _) = catalog(&shifts(", events: stand*"));
    assert_eq!(order(&some, "ines", "2026-03-03T10:00:00Z"), ["ines/0 later"]);
    assert_eq!(order(&some, "ines", "2026-03-10T10:00:00Z"), ["ines/0"]);
    let used = all.used_by(crate::Kind::Calendar, "shifts");
    assert_eq!(used, [(crate::Kind::Contact, "ines")]);
    let way = "ways: [{ call: post, via: crew-chat, give: { to: i, text: x } }]";
    let wrong: Vec<String> = [
        "{ during: shift }",
        "{ during: shifts, from: '07:00', zone: Europe/Oslo }",
        "{ events: a, from: '07:00', to: '08:00' }",
        "{ days: [mon] }",
    ]
    .iter()
    .map(|hours| catalog(&format!("contact: a\nhours: {hours}\n{way}\n")).1.join("\n"))
    .collect();
    insta::assert_snapshot!(wrong.join("\n"), @r"
    2:18: there is no calendar `shift`
    2:32: does not go with `during`: its calendar says when
    2:47: does not go with `during`: its calendar says when
    2:18: stands beside `during`: of which calendar?
    2:8: says when: give it `from` and `to`, or `during`, a calendar
    ");
}
