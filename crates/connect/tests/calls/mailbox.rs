//! Mailboxes at peers that misbehave at each stage; a real server is read in the journeys.

use arvok_connect::{MailboxPlace, OpenMailbox};
use std::time::Duration;
use tokio::{
    io::{AsyncBufReadExt, AsyncWriteExt, BufReader},
    net::TcpListener,
};

/// A server that greets, answers each command with what is said to the first that fits, and is
/// silent to others.
async fn server(
    greets: &'static str,
    says: &'static [(&'static str, &'static str)],
) -> MailboxPlace {
    let listener = TcpListener::bind("127.0.0.1:0").await.expect("a port");
    let port = listener.local_addr().expect("has one").port();
    tokio::spawn(async move {
        let (stream, _) = listener.accept().await.expect("somebody");
        let mut stream = BufReader::new(stream);
        if stream.write_all(greets.as_bytes()).await.is_err() {
            return;
        }
        let mut line = String::new();
        while stream.read_line(&mut line).await.is_ok_and(|n| n > 0) {
            let (tag, command) = line.trim().split_once(' ').unwrap_or_default();
            let said = says.iter().find(|(of, _)| command.starts_with(of));
            match said.map(|(_, said)| said.replace('#', tag)) {
                Some(said) if said == "END" => return,
                Some(said) if said == "FLOOD" => {
                    while stream.write_all(&[b'x'; 65_536]).await.is_ok() {}
                    return;
                }
                Some(said) => drop(stream.write_all(said.as_bytes()).await),
                None => {}
            }
            line.clear();
        }
    });
    MailboxPlace::parse(&format!("imap://decide@127.0.0.1:{port}")).expect("a place")
}

const OK: &str = "* OK ready\r\n";
const IN: (&str, &str) = ("LOGIN", "# OK in\r\n");
const CAN: (&str, &str) = ("CAPABILITY", "* CAPABILITY IMAP4rev1\r\n# OK\r\n");
const OPENS: (&str, &str) = ("SELECT", "* 1 EXISTS\r\n# OK [READ-WRITE] open\r\n");
const NOOP: (&str, &str) = ("NOOP", "# OK\r\n");
const ONE: (&str, &str) = ("UID SEARCH", "* SEARCH 7\r\n# OK\r\n");
const SMALL: (&str, &str) =
    ("UID FETCH 7 (UID RFC822.SIZE)", "* 1 FETCH (UID 7 RFC822.SIZE 10)\r\n# OK\r\n");

async fn opened(place: &MailboxPlace) -> Result<OpenMailbox, String> {
    OpenMailbox::open(place, "secret-of-ours", None, Duration::from_secs(5)).await
}

#[tokio::test]
async fn a_mailbox_that_cannot_be_opened_is_told_without_its_password() {
    for (greets, says, words) in [
        ("", &[][..], "no answer within 5 s"),
        ("HTTP/1.1 400 Bad Request\r\n\r\n", &[][..], ""),
        (OK, &[("LOGIN", "END")][..], "decide is not let in"),
        (OK, &[("LOGIN", "# NO [AUTHENTICATIONFAILED] wrong\r\n")][..], "decide is not let in: "),
        (OK, &[IN, ("CAPABILITY", "END")][..], ""),
        (OK, &[IN, CAN, ("SELECT", "# NO no such mailbox\r\n")][..], "the folder INBOX: "),
    ] {
        let place = server(greets, says).await;
        let why = opened(&place).await.expect_err("it does not open");
        assert!(why.contains(words) && !why.is_empty(), "{words}: {why}");
        assert!(!why.contains("secret-of-ours") && why.len() < 300, "{why}");
    }
}

#[tokio::test]
async fn what_a_server_says_of_messages_is_believed_within_bounds() {
    const LARGE: (&str, &str) =
        ("UID FETCH 7 (UID RFC822.SIZE)", "* 1 FETCH (UID 7 RFC822.SIZE 9999999)\r\n# OK\r\n");
    const BODY: (&str, &str) = (
        "UID FETCH 7 (UID BODY",
        "* 9 FETCH (UID 99 BODY[] {3}\r\nabc)\r\n* 1 FETCH (UID 7 BODY[] {2}\r\nhi)\r\n# OK\r\n",
    );
    const LIES: (&str, &str) = ("UID FETCH 7 (UID BODY", "* 1 FETCH (UID 7 BODY[] {900000000}\r\n");
    const MORE: (&str, &str) = (
        "UID FETCH 7 (UID BODY",
        "* 1 FETCH (UID 7 BODY[] {60}\r\n0123456789012345678901234567890123456789012345678901234567\
         89)\r\n# OK\r\n",
    );
    const GONE: (&str, &str) = ("UID FETCH 7 (UID RFC822.SIZE)", "# OK\r\n");
    let unseen = async |says: &'static [(&'static str, &'static str)]| {
        let place = server(OK, says).await;
        opened(&place).await.expect("opens").unseen(20, 50).await
    };
    let found = unseen(&[IN, CAN, OPENS, NOOP, ONE, SMALL, BODY]).await.expect("tells");
    assert_eq!(found.len(), 1);
    assert_eq!((found[0].uid, found[0].message.as_deref()), (7, Some(&b"hi"[..])));
    for says in [&[IN, CAN, OPENS, NOOP, ONE, LARGE][..], &[IN, CAN, OPENS, NOOP, ONE, SMALL, MORE]]
    {
        let found = unseen(says).await.expect("tells");
        assert!(matches!(&found[..], [one] if one.message.is_none()), "{found:?}");
    }
    assert!(unseen(&[IN, CAN, OPENS, NOOP, ONE, GONE]).await.expect("tells").is_empty());
    assert!(unseen(&[IN, CAN, OPENS, NOOP, ONE, SMALL, LIES]).await.is_err(), "in its time");
    // A server that goes in the middle of it has told of nothing; it is missed at the next command.
    let place = server(OK, &[IN, CAN, OPENS, NOOP, ("UID SEARCH", "END")]).await;
    let mut mailbox = opened(&place).await.expect("opens");
    assert!(mailbox.unseen(20, 50).await.is_ok_and(|all| all.is_empty()));
    assert!(mailbox.unseen(20, 50).await.is_err());
    let why = unseen(&[IN, CAN, OPENS, NOOP, ("UID SEARCH", "FLOOD")]).await;
    let why = why.expect_err("it does not tell");
    assert!(why.contains("says too much at once") || why.contains("no answer within"), "{why}");
}
