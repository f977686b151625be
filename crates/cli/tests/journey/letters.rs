//! Alerts that come as mail, delivered over LMTP by the machine's own Python.

use crate::kit::{Stage, outage, until};
use arvok_postgres::free_port;
use reqwest::Method;
use std::{
    io::{BufRead, BufReader, Write},
    net::TcpStream,
    process::Command,
};

/// Speaks with a node as a mail server does; what it was answered, a line each.
struct Server(BufReader<TcpStream>);

impl Server {
    fn connect(port: u16) -> Self {
        let stream = until("the node to listen", || TcpStream::connect(("127.0.0.1", port)).ok());
        let mut server = Self(BufReader::new(stream));
        server.answer();
        server
    }

    fn answer(&mut self) -> String {
        let mut line = String::new();
        self.0.read_line(&mut line).expect("answers");
        line.trim_end().to_owned()
    }

    fn says(&mut self, line: &str) -> String {
        self.0.get_mut().write_all(format!("{line}\r\n").as_bytes()).expect("writes");
        let mut answer = self.answer();
        while answer.as_bytes().get(3) == Some(&b'-') {
            answer = self.answer();
        }
        answer
    }

    /// Delivers a message to an address; what is said of it.
    fn delivers(&mut self, to: &str, message: &str) -> String {
        self.says("MAIL FROM:<boiler@skerrow.example>");
        let known = self.says(&format!("RCPT TO:<{to}>"));
        if !known.starts_with("250") {
            self.says("RSET");
            return known;
        }
        self.says("DATA");
        self.says(&format!("{message}\r\n."))
    }
}

fn letter(id: &str, subject: &str) -> String {
    format!(
        "From: boiler@skerrow.example\r\nSubject: {subject}\r\nMessage-ID: <{id}@skerrow.example>\r\n\
         \r\nBelow 1 bar."
    )
}

#[test]
fn mail_is_taken_once_answered_after_the_commit_and_delivered_again_while_that_cannot_be() {
    let stage = Stage::bare();
    let port = free_port().expect("a port");
    stage.publish(&format!(
        "source: pier-letters\nintake:\n  mail: {{ lmtp: '127.0.0.1:{port}', \
         to: [alarms@skerrow.example], senders: ['boiler@*'] }}\n"
    ));
    let taken = || {
        until("the records to answer", || {
            let path = "/api/v1/alerts?source=pier-letters";
            let (status, found) = stage.call(Method::GET, path, None);
            (status == 200).then(|| found["items"].as_array().cloned().unwrap_or_default())
        })
    };
    let mut server = Server::connect(port);
    assert!(server.says("LHLO mail.skerrow.example").starts_with("250"));
    let said = server.delivers("alarms@skerrow.example", &letter("m-1", "it is cold"));
    assert_eq!(said, "250 2.0.0 taken");
    let alert = taken()[0].clone();
    assert_eq!((&alert["kind"], &alert["summary"]), (&"mail".into(), &"it is cold".into()));
    // Delivered again, as after an answer that was lost.
    let again = server.delivers("alarms@skerrow.example", &letter("m-1", "it is cold"));
    assert_eq!(again, "250 2.0.0 taken");
    assert_eq!(taken().len(), 1);
    let said = server.delivers("other@skerrow.example", &letter("m-2", "it is cold"));
    assert_eq!(said, "550 5.1.1 no alerts come to that address");
    let other = letter("m-3", "it is cold").replace("boiler@", "stranger@");
    let said = server.delivers("alarms@skerrow.example", &other);
    assert!(said.starts_with("250 2.0.0 kept, since it cannot be read: is from"), "{said}");

    let database = stage.database.clone();
    let away = std::thread::spawn(move || outage(&database, std::time::Duration::from_secs(3)));
    let said = until("the records to be back", || {
        let said = server.delivers("alarms@skerrow.example", &letter("m-4", "it is colder"));
        match said.as_str() {
            "250 2.0.0 taken" => Some(said),
            later => {
                assert!(later.starts_with("451"), "{later}");
                None
            }
        }
    });
    assert_eq!(said, "250 2.0.0 taken");
    away.join().expect("ends");
    assert_eq!(until("the records to be back", || (taken().len() == 2).then_some(2)), 2);
    assert_eq!(server.says("QUIT"), "221 2.0.0 so long");

    // The printed line is one that works.
    let shown = stage.arvok(&["source", "lines", "pier-letters"]);
    let line = shown.out.lines().find(|line| line.starts_with("python3")).expect("a line");
    let sent = Command::new("sh").args(["-c", line]).status().expect("it runs");
    assert!(sent.success(), "{line}");
    assert_eq!(taken().len(), 3);
}
