//! Answers to questions that come by mail (RFC 5322): who writes, whether it is a person, and what
//! is chosen.

use crate::{glob::Glob, html_text::text_of_html, text::cut};
use mail_parser::{HeaderName, HeaderValue, Message, MessageParser, MimeHeaders};

/// Most lines that are looked at.
const MAX_LINES: usize = 500;
/// Longest remark, in bytes.
const MAX_REMARK: usize = 1000;
/// Most recipients that are looked at, and the longest address (RFC 5321, section 4.5.3.1).
const MAX_RECIPIENTS: usize = 20;
const LONGEST_ADDRESS: usize = 320;

/// A message that may be an answer.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct MailAnswer {
    /// Who has written it, in small letters; none if nobody or several say so.
    pub from: Option<String>,
    /// What shows that no person has written it.
    pub automatic: Option<String>,
    /// What its writer has written, without what is quoted and the signature.
    lines: Vec<String>,
    recipients: Vec<String>,
}

impl MailAnswer {
    /// Reads a message; none if it is none. The sender is the envelope's, or what the mail server
    /// that delivered it has noted of that (`Return-Path`). Where it is empty, the message is a
    /// report of a mail server (RFC 5321, section 4.5.5).
    pub fn read(message: &[u8], envelope_sender: Option<&str>) -> Option<Self> {
        let message = MessageParser::default().parse(message)?;
        let writers: Vec<String> = message
            .header_values(HeaderName::From)
            .filter_map(HeaderValue::as_address)
            .flat_map(|list| list.iter())
            .map(|one| one.address().unwrap_or_default().trim().to_lowercase())
            .collect();
        let from = match writers.as_slice() {
            [one] if !one.is_empty() => Some(one.clone()),
            _ => None,
        };
        let value = |name: &'static str| {
            let mut all = message.headers_raw();
            let (_, value) = all.find(|(of, _)| of.eq_ignore_ascii_case(name))?;
            Some(value.trim().to_lowercase())
        };
        let is_report = message.content_type().is_some_and(|of| {
            of.ctype().eq_ignore_ascii_case("multipart")
                && of.subtype().is_some_and(|sub| sub.eq_ignore_ascii_case("report"))
        });
        let sender = envelope_sender.map(str::to_owned).or_else(|| value("Return-Path"));
        let has_no_sender = sender.is_some_and(|of| of.trim_matches(['<', '>', ' ']).is_empty());
        let automatic = if has_no_sender || is_report {
            Some("a report of a mail server".to_owned())
        } else {
            // RFC 3834, section 5; RFC 2919; and what programs wrote before these.
            let submitted = value("Auto-Submitted").filter(|value| value != "no");
            let submitted = submitted.map(|value| ("Auto-Submitted", value));
            let precedence = value("Precedence");
            let precedence = precedence
                .filter(|v| matches!(v.as_str(), "bulk" | "junk" | "list" | "auto_reply"));
            let others = ["List-Id", "X-Autoreply", "X-Autorespond", "X-Auto-Response-Suppress"];
            let other = others.into_iter().find_map(|name| Some((name, value(name)?)));
            let shown = submitted.or(precedence.map(|value| ("Precedence", value))).or(other);
            shown.map(|(name, value)| format!("an automatic answer ({name}: {})", cut(&value, 60)))
        };
        let is_html = message.text_part(0).is_some_and(|part| part.is_text_html());
        let text = match message.body_html(0).filter(|_| is_html) {
            Some(html) => text_of_html(&html),
            None => message.body_text(0).unwrap_or_default().into_owned(),
        };
        Some(Self { from, automatic, lines: written(&text), recipients: recipients(&message) })
    }

    /// Whom it was delivered to and whom it names, the first of them: those are looked at that have
    /// a part behind a `+`, as the address of a question has.
    pub fn recipients(&self) -> &[String] {
        &self.recipients
    }

    /// Whether whoever has written it is one of those who may answer.
    pub fn is_from(&self, allowed: &[String]) -> bool {
        self.from.as_deref().is_some_and(|from| {
            let fits = |allowed: &String| {
                Glob::parse(&allowed.to_lowercase()).is_ok_and(|glob| glob.matches(from))
            };
            allowed.iter().any(fits)
        })
    }

    /// The choice that is its first line, by its name or its words, and the remark behind it.
    ///
    /// # Errors
    /// What may be chosen.
    pub fn chosen<'c>(&self, choices: &'c [(String, String)]) -> Result<(&'c str, String), String> {
        let plain = |text: &str| {
            let text = text.trim().trim_matches(|c: char| c.is_ascii_punctuation());
            text.split_whitespace().collect::<Vec<_>>().join(" ").to_lowercase()
        };
        let mut lines = self.lines.iter();
        let first = lines.find(|line| !line.trim().is_empty()).map(|line| plain(line));
        let fits = |(name, words): &&(String, String)| {
            let first = first.as_deref();
            first == Some(plain(name).as_str()) || first == Some(plain(words).as_str())
        };
        let mut found = choices.iter().filter(fits);
        match (found.next(), found.next()) {
            (Some((name, _)), None) => {
                let rest: Vec<&str> = lines.map(String::as_str).collect();
                Ok((name, cut(rest.join("\n").trim(), MAX_REMARK).to_owned()))
            }
            _ => {
                let names: Vec<&str> = choices.iter().map(|(name, _)| name.as_str()).collect();
                Err(names.join(", "))
            }
        }
    }
}

/// The addresses of a message's recipients that have a part behind a `+`, each once.
fn recipients(message: &Message<'_>) -> Vec<String> {
    let names = ["Delivered-To", "X-Original-To", "Envelope-To", "To", "Cc"];
    let of = |name: &'static str| {
        let all = message.headers_raw();
        all.filter(move |(header, _)| header.eq_ignore_ascii_case(name)).map(|(_, value)| value)
    };
    let mut found: Vec<String> = Vec::new();
    let between = |c: char| c.is_whitespace() || "<>,;\"".contains(c);
    for word in names.into_iter().flat_map(of).flat_map(|value| value.split(between)) {
        let is_one = word.contains('@') && word.contains('+') && word.len() <= LONGEST_ADDRESS;
        if found.len() < MAX_RECIPIENTS && is_one && !found.iter().any(|f| f == word) {
            found.push(word.to_owned());
        }
    }
    found
}

/// What was written of a text, up to what is quoted, forwarded or a signature (RFC 3676, section
/// 4.3).
fn written(text: &str) -> Vec<String> {
    let mut lines: Vec<String> = Vec::new();
    for line in text.lines().take(MAX_LINES) {
        let bare = line.trim();
        let is_end = line.trim_end_matches('\r') == "-- "
            || bare.starts_with('>')
            || bare.starts_with("-----")
            || bare.starts_with("_____");
        if is_end {
            // A line that introduces a quotation stands right above it.
            if bare.starts_with('>')
                && let Some(above) = lines.iter().rposition(|line| !line.is_empty())
                && lines[above].ends_with(':')
            {
                lines.truncate(above);
            }
            break;
        }
        lines.push(bare.to_owned());
    }
    lines
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn read(headers: &str, text: &str) -> MailAnswer {
        let message = format!("From: Pat <Pat@skerrow.example>\r\n{headers}\r\n{text}");
        MailAnswer::read(message.as_bytes(), Some("pat@skerrow.example")).expect("a message")
    }

    fn choices() -> Vec<(String, String)> {
        [("restart", "Restart it now"), ("wait", "Wait until morning")]
            .map(|(name, words)| (name.to_owned(), words.to_owned()))
            .into()
    }

    fn chosen(text: &str) -> Result<(String, String), String> {
        read("", text).chosen(&choices()).map(|(name, remark)| (name.to_owned(), remark))
    }

    #[test]
    fn the_first_line_is_the_choice_and_what_follows_the_remark() {
        let is = |name: &str, remark: &str| Ok((name.to_owned(), remark.to_owned()));
        assert_eq!(chosen("restart"), is("restart", ""));
        assert_eq!(
            chosen("\r\n  Restart it  now!\r\n\r\nI am on it.\r\n-- \r\nPat"),
            is("restart", "I am on it.")
        );
        let quoted =
            "WAIT.\r\nnobody is there\r\n\r\nOn Monday Arvok wrote:\r\n> restart\r\n> wait\r\n";
        assert_eq!(chosen(quoted), is("wait", "nobody is there"));
        let none = Err("restart, wait".to_owned());
        for text in
            ["", "yes", "> restart", "I would restart it", "-----Original Message-----\r\nrestart"]
        {
            assert_eq!(chosen(text), none, "{text}");
        }
        let long = chosen(&format!("wait\r\n{}", "é".repeat(2000))).expect("chosen");
        assert!(long.1.len() <= MAX_REMARK);
    }

    #[test]
    fn html_and_encodings_are_read_as_their_text() {
        let html =
            "Content-Type: text/html; charset=utf-8\r\nContent-Transfer-Encoding: base64\r\n";
        // <div>Restart it now</div><blockquote>wait</blockquote>
        let body = "PGRpdj5SZXN0YXJ0IGl0IG5vdzwvZGl2PjxibG9ja3F1b3RlPndhaXQ8L2Jsb2NrcXVvdGU+";
        assert_eq!(read(html, body).chosen(&choices()).map(|(name, _)| name), Ok("restart"));
        let both = "Content-Type: multipart/alternative; boundary=x\r\n";
        let parts = "--x\r\nContent-Type: text/plain\r\n\r\nwait\r\n--x\r\nContent-Type: text/html\r\n\r\n<p>restart\r\n--x--";
        assert_eq!(read(both, parts).chosen(&choices()).map(|(name, _)| name), Ok("wait"));
    }

    #[test]
    fn html_that_makes_much_of_little_is_read_to_an_end() {
        let formats: String = (0..2_000).map(|n| format!("<b a={n}>")).collect();
        let page = format!("{formats}{}", "<p>x".repeat(5_000));
        let answer = read("Content-Type: text/html\r\n", &page);
        assert!(answer.chosen(&choices()).is_err());
        let lines =
            "<p>wait</p>\n<p>It is <b>busy</b>\n here<br>now<blockquote>restart</blockquote>";
        let (name, remark) = read("Content-Type: text/html\r\n", lines)
            .chosen(&choices())
            .map(|(n, r)| (n.to_owned(), r))
            .expect("chosen");
        assert_eq!((name.as_str(), remark.as_str()), ("wait", "It is busy here\n\nnow"));
    }

    #[test]
    fn what_no_person_has_written_is_known() {
        for (headers, is) in [
            ("", None),
            ("Auto-Submitted: no\r\n", None),
            (
                "Auto-Submitted: auto-replied\r\n",
                Some("an automatic answer (Auto-Submitted: auto-replied)"),
            ),
            ("Precedence: Bulk\r\n", Some("an automatic answer (Precedence: bulk)")),
            (
                "List-Id: <crew.skerrow.example>\r\n",
                Some("an automatic answer (List-Id: <crew.skerrow.example>)"),
            ),
            ("Content-Type: multipart/report; boundary=x\r\n", Some("a report of a mail server")),
        ] {
            assert_eq!(read(headers, "restart").automatic.as_deref(), is, "{headers}");
        }
        let bounce = MailAnswer::read(b"From: <mailer@skerrow.example>\r\n\r\nrestart", Some(""));
        assert_eq!(bounce.and_then(|b| b.automatic).as_deref(), Some("a report of a mail server"));
    }

    #[test]
    fn the_envelope_of_what_is_in_a_mailbox_is_read_from_its_head() {
        let read = |head: &str| {
            let message = format!("{head}From: pat@skerrow.example\r\n\r\nwait");
            MailAnswer::read(message.as_bytes(), None).expect("a message")
        };
        let plain = read(
            "Return-Path: <pat@skerrow.example>\r\nDelivered-To: decide+1.ab@skerrow.example\r\n\
             To: \"Arvok\" <decide+1.ab@skerrow.example>, ops@skerrow.example,\r\n\
             \tdecide+2.cd@skerrow.example\r\n",
        );
        assert_eq!(plain.automatic, None);
        let both = ["decide+1.ab@skerrow.example", "decide+2.cd@skerrow.example"];
        assert_eq!(plain.recipients(), both);
        assert_eq!(read("").automatic, None);
        let report = read("Return-Path: <>\r\n");
        assert_eq!(report.automatic.as_deref(), Some("a report of a mail server"));
        let many: String = (0..1_000).map(|n| format!("a+{n}@skerrow.example, ")).collect();
        assert_eq!(read(&format!("To: {many}\r\n")).recipients().len(), MAX_RECIPIENTS);
    }

    proptest! {
        #[test]
        fn whatever_comes_is_read_to_an_end(
            pieces in prop::collection::vec(prop::sample::select(PIECES.to_vec()), 0..40),
            rest in any::<Vec<u8>>(),
        ) {
            let message = [pieces.concat().into_bytes(), rest].concat();
            if let Some(answer) = MailAnswer::read(&message, Some("a@b")) {
                let _ = (answer.chosen(&choices()), answer.is_from(&["*@*".to_owned()]));
            }
        }
    }

    /// What means something in a message, and odd ends of it.
    const PIECES: [&str; 22] = [
        "From: ",
        "a@b",
        "=?utf-8?q?=",
        "?=",
        "\r\n",
        "\n",
        "\r\n\r\n",
        " ",
        "Content-Type: multipart/mixed; boundary=x",
        "Content-Type: text/html; charset=utf-7",
        "Content-Transfer-Encoding: base64",
        "Content-Transfer-Encoding: quoted-printable",
        "--x",
        "--x--",
        "=E9=",
        "<",
        ">",
        "(",
        "\"",
        "restart",
        "<div>",
        "\u{fffd}",
    ];

    #[test]
    fn only_one_who_is_allowed_writes() {
        let of = |from: &str| {
            MailAnswer::read(format!("{from}\r\n\r\nwait").as_bytes(), None).expect("one")
        };
        let allowed = ["*@Skerrow.example".to_owned(), "pat@harbour.example".to_owned()];
        assert!(of("From: A <a@SKERROW.example>").is_from(&allowed));
        assert!(of("From: pat@harbour.example").is_from(&allowed));
        for from in [
            "From: pat@harbour.example.net",
            "From: \"pat@harbour.example\" <mal@example.net>",
            "From: pat@harbour.example, mal@example.net",
            "From: mal@example.net\r\nFrom: pat@harbour.example",
            "Subject: none",
        ] {
            assert!(!of(from).is_from(&allowed), "{from}");
        }
    }
}
