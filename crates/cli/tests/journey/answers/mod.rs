//! Answers to questions that come by mail, delivered by a client of Python's own library.

mod lmtp;
mod mailbox;

use crate::kit::{Stage, until};
use reqwest::Method;
use serde_json::{Value, json};
use std::{
    io::Write,
    process::{Command, Stdio},
};

const ADDRESS: &str = "decide@skerrow.example";

const ASKS: &str = "
runbook: asks
target: vm/booking
steps:
  - id: ask
    ask:
      text: Restart vm/booking now?
      choices: { restart: Restart it now, wait: Wait until morning }
      within: 10m
      by_mail: [pat@skerrow.example, '*@pier.skerrow.example']
      tell:
        call: mail.ask
        via: office-mail
        give:
          to: pat@skerrow.example
          subject: A question of Arvok
          text: \"${decision.text} Answer with restart or wait.\"
          answer_to: \"${decision.answer_to}\"
outputs: { choice: '${steps.ask.choice}', by: '${steps.ask.by}', remark: '${steps.ask.remark}' }
";

fn launch(stage: &Stage) -> i64 {
    let body = json!({ "runbook": "asks", "inputs": {} });
    let (status, made) = stage.call(Method::POST, "/api/v1/jobs", Some(&body));
    assert_eq!(status, 201, "{made}");
    made["job"].as_i64().expect("a number")
}

/// The address for answers of the latest question that has gone out.
fn asked(stage: &Stage, before: usize) -> String {
    until("the question to go out", || {
        stage.harbour.mailroom.with(|m| {
            let text = &m.messages.get(before)?.text;
            let line = text.lines().find_map(|line| line.strip_prefix("Reply-To: "))?;
            Some(line.trim().trim_matches(['<', '>']).to_owned())
        })
    })
}

/// What the node says of a message that is delivered to it: of each recipient its status and words.
fn deliver(port: u16, sender: &str, to: &[&str], message: &str) -> Value {
    let script = "import json, smtplib, sys
port, sender, to = int(sys.argv[1]), sys.argv[2], sys.argv[3:]
with smtplib.LMTP('127.0.0.1', port) as lmtp:
    lmtp.ehlo_or_helo_if_needed()
    said = [lmtp.mail(sender)] + [lmtp.rcpt(one) for one in to]
    if any(code == 250 for code, _ in said[1:]):
        lmtp.putcmd('data')
        lmtp.getreply()
        data = sys.stdin.buffer.read().replace(b'\\r\\n', b'\\n').replace(b'\\n', b'\\r\\n')
        lmtp.send(b'\\r\\n'.join(b'.' + l if l.startswith(b'.') else l for l in data.split(b'\\r\\n')))
        lmtp.send(b'\\r\\n.\\r\\n')
        said += [lmtp.getreply() for code, _ in said[1:] if code == 250]
    print(json.dumps([f'{code} {text.decode()}' for code, text in said[1:]]))
";
    let mut python = Command::new("/usr/bin/python3")
        .args(["-c", script, &port.to_string(), sender])
        .args(to)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .expect("python3");
    python.stdin.take().expect("a pipe").write_all(message.as_bytes()).expect("writes");
    let said = python.wait_with_output().expect("it ends").stdout;
    serde_json::from_slice(&said).unwrap_or(Value::Null)
}

fn message(from: &str, more: &str, text: &str) -> String {
    format!("From: Pat <{from}>\nSubject: Re: A question of Arvok\n{more}\n{text}\n")
}
