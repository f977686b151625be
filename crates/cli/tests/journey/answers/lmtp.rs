//! Answers that a mail server delivers over LMTP.

use super::{ADDRESS, ASKS, asked, deliver, launch, message};
use crate::kit::{Stage, outage, until};
use arvok_postgres::free_port;
use serde_json::json;
use std::{
    io::{Read, Write},
    net::TcpStream,
    time::Duration,
};

/// Where a node takes answers.
fn taking(stage: &mut Stage) -> u16 {
    let port = free_port().expect("a port");
    let at = format!("127.0.0.1:{port}");
    stage.restart_with_env(&[("ARVOK_ANSWERS_ADDRESS", ADDRESS), ("ARVOK_ANSWERS_LISTEN", &at)]);
    port
}

#[test]
fn a_person_decides_by_answering_and_what_is_no_answer_is_noted() {
    let mut stage = Stage::with_demo();
    stage.publish(ASKS);
    let port = taking(&mut stage);
    let job = launch(&stage);
    let to = asked(&stage, 0);
    assert!(to.starts_with("decide+") && to.ends_with("@skerrow.example") && to.len() < 80, "{to}");
    let local = to.split('@').next().expect("a local part");
    assert!(local.len() <= 64, "{to}");
    let said = |from: &str, more: &str, text: &str| {
        let all = deliver(port, from, &[&to], &message(from, more, text));
        all[1].as_str().unwrap_or_default().to_owned()
    };
    let pat = "pat@skerrow.example";
    for (from, more, text, says) in [
        (
            "mal@example.net",
            "",
            "restart",
            "250 2.0.0 whoever has written this is not one of those who are asked",
        ),
        (
            pat,
            "Auto-Submitted: auto-replied\n",
            "restart",
            "250 2.0.0 an automatic answer (Auto-Submitted: auto-replied) decides nothing",
        ),
        (
            pat,
            "",
            "Yes please, restart it",
            "550 5.6.0 its first line is none of the choices: restart, wait",
        ),
    ] {
        assert_eq!(said(from, more, text), says);
    }
    let bounce = deliver(port, "", &[&to], &message(pat, "", "restart"));
    assert_eq!(bounce[1], "250 2.0.0 a report of a mail server decides nothing");
    let large = message(pat, "", &"restart it\n".repeat(200_000));
    assert_eq!(
        deliver(port, pat, &[&to], &large)[1],
        "552 5.3.4 a message is no larger than 1 MiB"
    );
    for stranger in
        ["decide@skerrow.example", "decide+1.0@skerrow.example", &to.replace('.', ".0"), "x@y"]
    {
        let all = deliver(port, pat, &[stranger], &message(pat, "", "restart"));
        assert_eq!(all, json!(["550 5.1.1 that is the address of no question"]), "{stranger}");
    }
    assert_eq!(
        stage.get(&format!("/api/v1/jobs/{job}"))["job"]["state"],
        "waiting",
        "nothing is decided"
    );
    // Capitals of an address do not count for mail servers.
    let all = deliver(
        port,
        pat,
        &[&to.to_uppercase()],
        &message("Ole@pier.skerrow.example", "", "Wait until  morning.\n\nIt is busy\n> restart"),
    );
    assert_eq!(all[1], "250 2.0.0 decided: wait");
    let gave = stage.job_in(job, &["succeeded"])["outputs"].clone();
    assert_eq!(json!([gave["choice"], gave["remark"]]), json!(["wait", "It is busy"]));
    assert!(
        gave["by"].as_str().is_some_and(|by| by.contains("ole@pier.skerrow.example")),
        "{gave}"
    );
    let ole = "ole@pier.skerrow.example";
    assert_eq!(said(ole, "", "wait"), "250 2.0.0 decided: wait", "the same again changes nothing");
    assert!(
        said(pat, "", "restart").starts_with("550 5.6.0 decision 1 was taken already: wait, by")
    );
    let acts: Vec<String> = stage.get("/api/v1/audit?limit=100")["items"]
        .as_array()
        .expect("acts")
        .iter()
        .filter_map(|act| act["act"].as_str()?.strip_prefix("answer.").map(str::to_owned))
        .collect();
    for act in ["stranger", "automatic", "unclear", "late"] {
        assert!(acts.iter().any(|a| a == act), "{act}: {acts:?}");
    }
    // The address is in no record: whoever reads along could decide.
    let told = stage.get(&format!("/api/v1/jobs/{job}")).to_string();
    assert!(!told.contains(&to) && !stage.log().contains(&to), "{told}");
}

#[test]
fn of_answers_that_come_at_once_one_counts_and_without_the_database_they_come_again() {
    let mut stage = Stage::with_demo();
    stage.publish(ASKS);
    let port = taking(&mut stage);
    let job = launch(&stage);
    let to = asked(&stage, 0);
    let answers: Vec<String> = std::thread::scope(|s| {
        let all: Vec<_> = (0..8)
            .map(|n| {
                let to = &to;
                s.spawn(move || {
                    let (from, text) = match n % 2 {
                        0 => (format!("a{n}@pier.skerrow.example"), "restart"),
                        _ => (format!("b{n}@pier.skerrow.example"), "wait"),
                    };
                    let all = deliver(port, &from, &[to], &message(&from, "", text));
                    all[1].as_str().unwrap_or_default().to_owned()
                })
            })
            .collect();
        all.into_iter().map(|t| t.join().expect("answers")).collect()
    });
    let taken = answers.iter().filter(|said| said.starts_with("250 2.0.0 decided")).count();
    let late = answers.iter().filter(|said| said.contains("was taken already")).count();
    assert_eq!((taken, late), (1, 7), "{answers:?}");
    stage.job_in(job, &["succeeded"]);
    let job = launch(&stage);
    let to = asked(&stage, 1);
    let url = stage.database.clone();
    let away = std::thread::spawn(move || outage(&url, Duration::from_secs(6)));
    until("the database to be away", || {
        let all = deliver(
            port,
            "pat@skerrow.example",
            &[&to],
            &message("pat@skerrow.example", "", "restart"),
        );
        let said = all.to_string();
        assert!(!said.contains("550"), "{said}");
        (said.contains("451 4.3.0") || said.contains("decided")).then_some(())
    });
    away.join().expect("it is back");
    until("the answer to be taken", || {
        let all = deliver(
            port,
            "pat@skerrow.example",
            &[&to],
            &message("pat@skerrow.example", "", "restart"),
        );
        (all[1] == "250 2.0.0 decided: restart").then_some(())
    });
    assert_eq!(stage.job_in(job, &["succeeded"])["outputs"]["choice"], "restart");
}

#[test]
fn whoever_speaks_no_lmtp_or_never_ends_keeps_nobody_out() {
    let mut stage = Stage::bare();
    let port = taking(&mut stage);
    let speak = |lines: &[u8]| {
        let mut line = TcpStream::connect(("127.0.0.1", port)).expect("a line");
        line.set_read_timeout(Some(Duration::from_secs(20))).expect("a time");
        let _ = line.write_all(lines);
        let _ = line.shutdown(std::net::Shutdown::Write);
        let mut said = Vec::new();
        let _ = line.read_to_end(&mut said);
        String::from_utf8_lossy(&said).into_owned()
    };
    assert!(speak(b"EHLO a\r\n").contains("500 5.5.1 this is LMTP"));
    assert!(speak(b"MAIL FROM:<a@b>\r\n").contains("503 5.5.1 not in this order"));
    assert!(speak(b"LHLO a\r\nMAIL FROM:<a@b> SIZE=9999999\r\n").contains("552 5.3.4"));
    assert!(speak(b"LHLO a\r\nRSET\r\nNOOP\r\nSTARTTLS\r\nQUIT\r\n").contains("221 2.0.0"));
    let many = speak(&b"GET / HTTP/1.1\r\n".repeat(40));
    assert!(many.contains("421 4.7.0 too many mistakes"), "{many}");
    assert!(many.matches("500 5.5.2").count() < 21, "{many}");
    assert!(speak(&vec![b'x'; 100_000]).contains("500 5.5.2"), "a line without an end");
    // All places are taken by those who say nothing: the next is told, and the node goes on.
    let silent: Vec<TcpStream> =
        (0..32).map(|_| TcpStream::connect(("127.0.0.1", port)).expect("a line")).collect();
    until("the next to be told", || speak(b"").contains("421 4.3.2 too many").then_some(()));
    drop(silent);
    until("there to be room again", || speak(b"QUIT\r\n").contains("221 2.0.0").then_some(()));
    let wrong = stage.arvok_with(&["config", "check"], &[("ARVOK_ANSWERS_ADDRESS", "x@y")], "");
    assert!(
        wrong.all().contains("answers has an `address`, and `listen` or `mailbox` by which they come; or none of them"),
        "{}",
        wrong.all()
    );
}

/// A team of one, who answers from an address of her own.
const TEAM: &str = "
contact: vera
mail: Vera.Lund@skerrow.example
ways:
  - call: mail.ask
    via: office-mail
    give:
      to: vera.lund@skerrow.example
      subject: A question of Arvok
      text: \"${message.text} Answer with restart or wait.\"
      answer_to: \"${message.answer_to}\"
---
contact: booking
members: [vera]
---
runbook: asks
target: vm/booking
steps:
  - id: ask
    ask:
      to: { team: booking }
      text: Restart vm/booking now?
      choices: { restart: Restart it now, wait: Wait until morning }
      within: 10m
outputs: { choice: '${steps.ask.choice}', by: '${steps.ask.by}' }
";

#[test]
fn a_member_of_a_team_answers_by_mail_from_an_address_of_the_contact() {
    let mut stage = Stage::with_demo();
    stage.publish(TEAM);
    let port = taking(&mut stage);
    let job = launch(&stage);
    let to = asked(&stage, 0);
    let said = |from: &str| deliver(port, from, &[&to], &message(from, "", "restart"))[1].clone();
    let stranger = said("pat@skerrow.example");
    assert_eq!(stranger, "250 2.0.0 whoever has written this is not one of those who are asked");
    assert_eq!(said("vera.lund@skerrow.example"), "250 2.0.0 decided: restart");
    assert_eq!(stage.job_in(job, &["succeeded"])["outputs"]["choice"], "restart");
}
