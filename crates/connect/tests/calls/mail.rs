//! Mail: to a real server from Debian, and to peers that misbehave at each stage.

use crate::{performed, tls::Authority};
use arvok_connect::{CallOutcome, Called, Way};
use arvok_core::connector::{CallEnd, Failure, Opened};
use serde_json::json;
use std::{
    fs,
    path::PathBuf,
    process::{Child, Command, Stdio},
    time::Duration,
};
use tokio::{
    io::{AsyncBufReadExt, AsyncWriteExt, BufReader},
    net::{TcpListener, TcpStream},
};

const LETTER: &str = "{ mail: { from: 'Night watch <watch@skerrow.example>', to: \
    ops@skerrow.example, cc: [pier@skerrow.example], \
    reply_to: desk@skerrow.example, subject: 'Disk of böoking', text: \"grown by 4 GiB\\n.\\nall \
    is well\\n\" } }";

/// A server that ends with the test.
struct Smtpd {
    child: Child,
    folder: PathBuf,
    port: u16,
}

impl Smtpd {
    async fn start(name: &str, password: &str, tls: &[&str]) -> Self {
        let folder = PathBuf::from(env!("CARGO_TARGET_TMPDIR")).join(format!("smtpd-{name}"));
        let _ = fs::remove_dir_all(&folder);
        fs::create_dir_all(folder.parent().expect("a parent")).expect("a folder");
        let port = TcpListener::bind("127.0.0.1:0")
            .await
            .expect("a port")
            .local_addr()
            .expect("has one")
            .port();
        let script = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/calls/smtpd.py");
        let mut command = Command::new("/usr/bin/python3");
        command.arg(script).arg(port.to_string()).arg(&folder).args(["watch", password]).args(tls);
        let child = command
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .expect("Debian has python3-aiosmtpd");
        for _ in 0..200 {
            if TcpStream::connect(("127.0.0.1", port)).await.is_ok() {
                break;
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        Self { child, folder, port }
    }

    /// The messages that it has taken.
    fn taken(&self) -> Vec<String> {
        let files = fs::read_dir(self.folder.join("new")).into_iter().flatten().flatten();
        files.filter_map(|file| fs::read_to_string(file.path()).ok()).collect()
    }
}

impl Drop for Smtpd {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

async fn mailed(
    base: &str,
    letter: &str,
    credential: Option<&Opened>,
    authorities: Option<&str>,
) -> CallOutcome {
    performed(Way { credential, authorities, ..Way::to(base, Duration::from_secs(5)) }, letter)
        .await
}

fn failed(ended: CallOutcome) -> Failure {
    ended.called.expect_err("it fails")
}

#[tokio::test]
async fn a_message_is_taken_as_it_was_written() {
    let smtpd = Smtpd::start("plain", "", &[]).await;
    let base = format!("smtp://127.0.0.1:{}", smtpd.port);
    let ended = mailed(&base, LETTER, None, None).await;
    let Ok(Called::Output(output)) = &ended.called else { panic!("{ended:?}") };
    assert_eq!(
        (&output["status"], &output["message_id"]),
        (&json!(250), &json!("<k@skerrow.example>"))
    );
    assert_eq!(ended.answer.map(|answer| answer.status), Some(250));
    let taken = smtpd.taken();
    let [message] = taken.as_slice() else { panic!("one message: {taken:?}") };
    for line in [
        "From: \"Night watch\" <watch@skerrow.example>",
        "To: ops@skerrow.example",
        "Cc: pier@skerrow.example",
        "Reply-To: desk@skerrow.example",
        "Message-ID: <k@skerrow.example>",
        "Subject: Disk of =?utf-8?b?YsO2b2tpbmc=?=",
        "Date: ",
        "grown by 4 GiB\n.\nall is well",
        "X-RcptTo: ops@skerrow.example, pier@skerrow.example",
    ] {
        assert!(message.replace("\r\n", "\n").contains(line), "{line} in {message}");
    }

    // One whom nobody knows keeps it from the others.
    let unknown = LETTER.replace("pier@", "nobody@");
    let failure = failed(mailed(&base, &unknown, None, None).await);
    assert_eq!((failure.end, failure.lasting), (CallEnd::Refused, true), "{failure:?}");
    assert!(
        failure.message.contains("nobody@skerrow.example: ")
            && failure.message.contains("nobody is called so"),
        "{failure:?}"
    );
    assert_eq!(smtpd.taken().len(), 1);
}

#[tokio::test]
async fn a_text_in_markdown_goes_as_it_is_and_as_html() {
    let smtpd = Smtpd::start("markdown", "", &[]).await;
    let base = format!("smtp://127.0.0.1:{}", smtpd.port);
    let letter = "{ mail: { from: watch@skerrow.example, to: ops@skerrow.example, subject: Disk, \
        markdown: \"Restart **booking**? <script>x</script>\\n\\n- [wait](https://evil.example)\" } }";
    let ended = mailed(&base, letter, None, None).await;
    assert!(matches!(ended.called, Ok(Called::Output(_))), "{ended:?}");
    let taken = smtpd.taken();
    let [message] = taken.as_slice() else { panic!("one message: {taken:?}") };
    // Lines of HTML may be longer than a mail's are, and are broken then (RFC 2045, section 6.7).
    let message = message.replace("\r\n", "\n").replace("=\n", "").replace("=3D", "=");
    let at = |part: &str| message.find(part).unwrap_or_else(|| panic!("{part} in {message}"));
    let (plain, html) = (at("Content-Type: text/plain"), at("Content-Type: text/html"));
    assert!(at("Content-Type: multipart/alternative") < plain && plain < html, "{message}");
    assert!(plain < at("Restart **booking**? <script>") && at("- [wait](https://evil") < html);
    assert!(html < at("Restart <strong>booking</strong>? &lt;script&gt;x&lt;/script&gt;"));
    assert!(html < at("wait (<a href=\"https://evil.example\">https://evil.example</a>)"));
}

#[tokio::test]
async fn tls_and_passwords_are_asked_for_and_shown() {
    let (ours, strangers) = (Authority::new(), Authority::new());
    let (certificate, key) = ours.files("smtpd", "127.0.0.1");
    for (name, scheme, word) in [("starttls", "smtp", "starttls"), ("smtps", "smtps", "smtps")] {
        let smtpd = Smtpd::start(name, "fog-horn-77", &[&certificate, &key, word]).await;
        let base = format!("{scheme}://127.0.0.1:{}", smtpd.port);
        let of = |password: &str| Opened::Basic { user: "watch".into(), password: password.into() };
        let ended = mailed(&base, LETTER, Some(&of("fog-horn-77")), Some(&ours.pem)).await;
        assert!(ended.called.is_ok(), "{ended:?}");
        assert_eq!(smtpd.taken().len(), 1);
        let failure =
            failed(mailed(&base, LETTER, Some(&of("fog-horn-78")), Some(&ours.pem)).await);
        assert_eq!(failure.end, CallEnd::Refused, "{failure:?}");
        assert!(!failure.message.contains("fog-horn"), "{failure:?}");
        let failure = failed(mailed(&base, LETTER, None, Some(&ours.pem)).await);
        assert_eq!(failure.end, CallEnd::Refused, "{failure:?}");
        for authorities in [None, Some(strangers.pem.as_str())] {
            let failure =
                failed(mailed(&base, LETTER, Some(&of("fog-horn-77")), authorities).await);
            assert_eq!(failure.end, CallEnd::NotSent, "nobody to trust: {failure:?}");
        }
        assert_eq!(smtpd.taken().len(), 1);
    }
}

/// What a peer does when it has heard a command: goes on, or misbehaves.
#[derive(Clone, Copy, Debug)]
enum Fault {
    Close,
    Silence,
    Says(&'static str),
}

/// A server that misbehaves at a stage: 0 when one comes, then at EHLO, MAIL, RCPT, RCPT, DATA, and
/// when it has the text.
async fn faulty(stage: usize, fault: Fault) -> String {
    let listener = TcpListener::bind("127.0.0.1:0").await.expect("a port");
    let base = format!("smtp://127.0.0.1:{}", listener.local_addr().expect("an address").port());
    tokio::spawn(async move {
        let (socket, _) = listener.accept().await.expect("a caller");
        let mut line = BufReader::new(socket);
        let good = ["220 here", "250 here", "250 ok", "250 ok", "250 ok", "354 go on", "250 taken"];
        for (at, good) in good.into_iter().enumerate() {
            if at == 6 {
                let mut text = String::new();
                while !text.ends_with("\r\n.\r\n")
                    && line.read_line(&mut text).await.is_ok_and(|n| n > 0)
                {}
            } else if at > 0 {
                let _ = line.read_line(&mut String::new()).await;
            }
            let said = match fault {
                Fault::Close if at == stage => return,
                Fault::Silence if at == stage => return std::future::pending().await,
                Fault::Says(said) if at == stage => said,
                _ => good,
            };
            let _ = line.write_all(format!("{said}\r\n").as_bytes()).await;
        }
        let _ = line.read_line(&mut String::new()).await;
    });
    base
}

#[tokio::test]
async fn under_each_fault_at_each_stage_it_is_known_what_became_of_it() {
    let stages = (0..7).flat_map(|stage| {
        let faults = [
            Fault::Close,
            Fault::Silence,
            Fault::Says("451 not now"),
            Fault::Says("554 never"),
            Fault::Says("nonsense"),
        ];
        faults.map(|fault| (stage, fault))
    });
    let tried = stages.map(|(stage, fault)| async move {
        let base = faulty(stage, fault).await;
        // Whoever answers is waited for, however busy the machine is.
        let timeout = Duration::from_secs(if matches!(fault, Fault::Silence) { 3 } else { 60 });
        let way = Way::to(&base, timeout);
        let failure = failed(performed(way, LETTER).await);
        let (end, lasting) = match fault {
            Fault::Says(said) if said.starts_with('4') => (CallEnd::Refused, false),
            Fault::Says(said) if said.starts_with('5') => (CallEnd::Refused, true),
            _ if stage == 6 => (CallEnd::Unknown, false),
            _ => (CallEnd::NotSent, false),
        };
        assert_eq!(
            (failure.end, failure.lasting),
            (end, lasting),
            "at stage {stage}, {fault:?}: {failure:?}"
        );
    });
    futures_util::future::join_all(tried).await;
}

#[tokio::test]
async fn what_cannot_be_sent_is_not() {
    let plain = |base: &'static str| async move { failed(mailed(base, LETTER, None, None).await) };
    let nobody =
        TcpListener::bind("127.0.0.1:0").await.expect("a port").local_addr().expect("one").port();
    let failure = failed(mailed(&format!("smtp://127.0.0.1:{nobody}"), LETTER, None, None).await);
    assert_eq!((failure.end, failure.lasting), (CallEnd::NotSent, false), "{failure:?}");
    for (base, why) in [
        ("smtp://127.0.0.1:25/path", "nothing follows its host and port"),
        ("http://127.0.0.1:25", "is not where this operation goes: smtp:// or smtps://"),
    ] {
        let failure = plain(base).await;
        assert!(
            failure.end == CallEnd::NotSent && failure.lasting && failure.message.contains(why),
            "{failure:?}"
        );
    }
    let token = Opened::Bearer("sesame-token".into());
    let smtpd = Smtpd::start("bearer", "", &[]).await;
    let base = format!("smtp://127.0.0.1:{}", smtpd.port);
    let failure = failed(mailed(&base, LETTER, Some(&token), None).await);
    assert!(
        failure.end == CallEnd::NotSent && failure.message.contains("is shown `basic`"),
        "{failure:?}"
    );
    for (part, why) in [
        ("to: ops@skerrow.example", "to: 'ops@skerrow.example\\r\\nBcc: all@x.example'"),
        ("to: ops@skerrow.example", "to: not-an-address"),
        ("from: 'Night watch <watch@skerrow.example>'", "from: '<>'"),
        ("to: ops@skerrow.example", "to: []"),
    ] {
        let failure = failed(
            mailed(&base, &LETTER.replace(part, &why.replace('\'', "\"")), None, None).await,
        );
        assert!(failure.end == CallEnd::NotSent && failure.lasting, "{why}: {failure:?}");
    }
    let odd = LETTER.replace("'Disk of böoking'", r#""one\r\nBcc: all@x.example""#);
    assert!(mailed(&base, &odd, None, None).await.called.is_ok());
    let taken = smtpd.taken();
    assert!(taken.len() == 1 && !taken[0].contains("\nBcc:"), "a subject is one field: {taken:?}");
}
