//! Machines over SSH: a real sshd from Debian, and peers that misbehave at each stage.

use crate::texts;
use arvok_connect::{Call, CallOutcome, Called, Drivers, JumpHost, Redactor, TrustedKeys, Way};
use arvok_core::{
    connector::{CallEnd, Connector, Failure, Opened, UserKey},
    definition::Defined,
    document::parse_file,
    glob::Glob,
};
use arvok_standins::machine::Machine;
use base64::{Engine, prelude::BASE64_STANDARD};
use proptest::{prelude::*, test_runner::TestRunner};
use serde_json::{Map, Value, json};
use std::{
    fs,
    os::unix::fs::PermissionsExt,
    path::{Path, PathBuf},
    process::Command,
    time::{Duration, Instant},
};
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    net::TcpListener,
};

/// What tests ask of a machine.
pub(crate) trait Reached {
    fn trusted(&self) -> TrustedKeys;
    fn credential(&self) -> Opened;
    fn key(&self, private: &str, passphrase: Option<&str>, certificate: Option<&str>) -> Opened;
}

impl Reached for Machine {
    fn trusted(&self) -> TrustedKeys {
        let fingerprint = self.fingerprint().expect("a key");
        [(format!("127.0.0.1:{}", self.port()), fingerprint)].into()
    }

    fn credential(&self) -> Opened {
        Reached::key(self, &Machine::key(self).expect("a key"), None, None)
    }

    fn key(&self, private: &str, passphrase: Option<&str>, certificate: Option<&str>) -> Opened {
        Opened::Key(UserKey {
            user: self.user().to_owned(),
            private: private.to_owned(),
            passphrase: passphrase.map(str::to_owned),
            certificate: certificate.map(str::to_owned),
        })
    }
}

pub(crate) fn machine(name: &str) -> Machine {
    Machine::scratch(name).unwrap_or_else(|e| panic!("{e}"))
}

/// Performs an operation that takes `x`.
pub(crate) async fn perform(
    drivers: &Drivers,
    way: Way<'_>,
    operation: &str,
    x: Value,
) -> CallOutcome {
    let text = format!(
        "connector: c\noperations:\n  op:\n    takes: {{ x: {{ default: a }} }}\n{operation}"
    );
    let connector = parse_file("c.yaml", &text).expect("reads");
    let connector = Connector::check(&connector[0]).unwrap_or_else(|e| panic!("{e:?}"));
    let give: Map<String, Value> = [("x".to_owned(), x)].into_iter().collect();
    let call = Call {
        operation: &connector.operations["op"],
        give: &give,
        key: "k",
        callback: None,
        way,
        within: None,
        redactor: &Redactor::default(),
    };
    drivers.call(call).await
}

pub(crate) async fn output(drivers: &Drivers, way: Way<'_>, operation: &str, x: Value) -> Value {
    match perform(drivers, way, operation, x).await.called {
        Ok(Called::Output(output)) => output,
        other => panic!("{other:?}"),
    }
}

pub(crate) async fn failure(drivers: &Drivers, way: Way<'_>, operation: &str, x: Value) -> Failure {
    perform(drivers, way, operation, x).await.called.expect_err("a failure")
}

pub(crate) const LONG: Duration = Duration::from_secs(30);
pub(crate) const TRUE: &str = "    command: { args: ['true'] }\n";

#[tokio::test(flavor = "multi_thread")]
async fn what_is_filled_in_reaches_the_program_as_it_is() {
    let sshd = machine("data");
    let (base, trusted, credential) = (sshd.base(), sshd.trusted(), sshd.credential());
    let way =
        Way { credential: Some(&credential), trusted: Some(&trusted), ..Way::to(&base, LONG) };
    let drivers = Drivers::new().expect("drivers");
    let nasty = [
        "plain",
        "",
        " ",
        "a b",
        "it's",
        "\"",
        "\\",
        "\\\\'",
        "$(touch x)",
        "`id`",
        "$HOME",
        "!!",
        "~",
        "*",
        "?[a]",
        "a\nb",
        "a\r\nb\n",
        "\t",
        "; id",
        "& id",
        "| id",
        "> /x",
        "#",
        "é€😀",
        "--help",
        "-n",
        "%s%d",
        "{a,b}",
        "\u{1b}[31m",
        "a=b",
        "'''",
        "\u{7f}",
    ];
    let print = "    command: { args: [printf, '--', '<%s>', '${give.x}'] }\n    output: \
                 response.stdout\n";
    let came = output(&drivers, way, print, json!(nasty)).await;
    let expected: String = nasty.iter().map(|text| format!("<{text}>")).collect();
    assert_eq!(came, json!(expected));
    let shell = "    command: { shell: 'printf \"<%s>\" \"$@\"', args: ['${give.x}'] }\n";
    assert_eq!(output(&drivers, way, shell, json!(nasty)).await, json!(expected));
    for text in nasty.iter().filter(|text| !text.is_empty()) {
        let set = "    command: { args: [printenv, X], env: { X: '<${give.x}>' } }\n";
        let came = output(&drivers, way, set, json!(text)).await;
        assert_eq!(came, json!(format!("<{text}>")), "{text:?}");
    }
    let cat = "    command: { args: [cat], input: '<${give.x}>' }\n";
    let much = "é'$(id)\n".repeat(20_000);
    let came = output(&drivers, way, cat, json!(much[..150_000])).await;
    assert_eq!(came.as_str().map(str::len), Some(64 << 10), "a part is kept");
    assert_eq!(sshd.times_let_in(), 1, "all of it on one line");
    let option = "    command: { args: [printf, '${give.x}'] }\n";
    let refused = failure(&drivers, way, option, json!("-v")).await;
    assert_eq!((refused.end, refused.lasting), (CallEnd::NotSent, true), "{refused:?}");
}

#[test]
fn whatever_is_filled_in_reaches_the_program_as_it_is() {
    let sshd = machine("texts");
    let (base, trusted, credential) = (sshd.base(), sshd.trusted(), sshd.credential());
    let way =
        Way { credential: Some(&credential), trusted: Some(&trusted), ..Way::to(&base, LONG) };
    let runtime = tokio::runtime::Runtime::new().expect("a runtime");
    let drivers = Drivers::new().expect("drivers");
    // As an argument of a program and of a line for a shell, in the environment, and as input.
    let print = "    command:
      shell: 'printf \"%s\\n\" \"$(printf %s. \"$1\" | base64 -w0)\" \"$(printf %s. \"$X\" | base64 -w0)\" \"$(base64 -w0)\"; shift; exec \"$@\"'
      args: ['${give.x}', sh, -c, 'printf %s. \"$1\" | base64 -w0', '--', '${give.x}']
      env: { X: '${give.x}' }
      input: '${give.x}'
    output: response.stdout
";
    let mut runner = TestRunner::new(ProptestConfig { cases: 120, ..ProptestConfig::default() });
    let ended = runner.run(&texts(), |text| {
        let came = runtime.block_on(perform(&drivers, way, print, json!(text))).called;
        // No argument can hold it: filling in replaces it.
        let text = text.replace('\0', "\u{fffd}");
        let Ok(Called::Output(came)) = came else {
            return Err(TestCaseError::fail(format!("{came:?}")));
        };
        let lines: Vec<&str> = came.as_str().unwrap_or_default().lines().collect();
        let ended = BASE64_STANDARD.encode(format!("{text}."));
        let input = BASE64_STANDARD.encode(&text);
        prop_assert_eq!(lines, [ended.as_str(), &ended, &input, &ended]);
        Ok(())
    });
    ended.unwrap_or_else(|e| panic!("{e}"));
}

#[tokio::test(flavor = "multi_thread")]
async fn how_a_command_ends_says_what_became_of_it() {
    let sshd = machine("ends");
    let (base, trusted, credential) = (sshd.base(), sshd.trusted(), sshd.credential());
    let way =
        Way { credential: Some(&credential), trusted: Some(&trusted), ..Way::to(&base, LONG) };
    let drivers = Drivers::new().expect("drivers");
    let shell = |line: &str, more: &str| {
        format!("    command: {{ shell: {}, refused: [3]{more} }}\n", json!(line))
    };
    let made = shell("echo '{\"n\": 4}'; echo note >&2", ", reads: json");
    let made =
        format!("{made}    output: '{{\"n\": response.stdout.n, \"told\": response.stderr}}'\n");
    assert_eq!(output(&drivers, way, &made, json!("")).await, json!({ "n": 4, "told": "note" }));
    for (line, end, message) in [
        ("echo sorry >&2; exit 3", CallEnd::Refused, "ended with status 3: sorry"),
        ("echo half; exit 4", CallEnd::Done, "ended with status 4: half"),
        ("no-such-program", CallEnd::Refused, "no-such-program: not found"),
        ("kill -9 $$", CallEnd::Unknown, "was ended by SIGKILL"),
    ] {
        let failed = failure(&drivers, way, &shell(line, ""), json!("")).await;
        assert_eq!(failed.end, end, "{line}: {failed:?}");
        let at = format!("127.0.0.1:{}: ", sshd.port());
        assert!(
            failed.message.starts_with(&at) && failed.message.contains(message),
            "{line}: {failed:?}"
        );
    }
    let much = shell("head -c 3000000 /dev/zero | tr '\\0' x", "");
    let much = format!("{much}    output: response.left_out\n");
    assert_eq!(output(&drivers, way, &much, json!("")).await, json!(3_000_000 - (64 << 10)));
    let loud =
        shell("i=0; while [ $i -lt 20000 ]; do echo line $i >&2; i=$((i+1)); done; exit 1", "");
    let failed = failure(&drivers, way, &loud, json!("")).await;
    assert!(failed.message.ends_with("ended with status 1: line 19999"), "{failed:?}");
    let binary = shell("printf '\\377\\376a'", "");
    assert_eq!(output(&drivers, way, &binary, json!("")).await, json!("\u{fffd}\u{fffd}a"));
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_is_shown_to_a_machine_that_is_not_the_trusted_one() {
    let sshd = machine("trust");
    let (base, trusted, credential) = (sshd.base(), sshd.trusted(), sshd.credential());
    let way = Way { credential: Some(&credential), ..Way::to(&base, LONG) };
    let drivers = Drivers::new().expect("drivers");
    let seen = drivers.host_key(way, None).await.expect("a key");
    assert_eq!(seen.machine, format!("127.0.0.1:{}", sshd.port()));
    assert_eq!(
        (seen.algorithm.as_str(), &seen.fingerprint),
        ("ssh-ed25519", &sshd.fingerprint().expect("a key"))
    );
    let unknown = failure(&drivers, way, TRUE, json!("")).await;
    assert_eq!((unknown.end, unknown.lasting), (CallEnd::NotSent, true), "{unknown:?}");
    assert!(
        unknown.message.contains(&sshd.fingerprint().expect("a key"))
            && unknown.message.contains("nobody has trusted it yet"),
        "{unknown:?}"
    );
    let other: TrustedKeys =
        [(seen.machine.clone(), "SHA256:somebody-else".to_owned())].into_iter().collect();
    let changed = failure(&drivers, Way { trusted: Some(&other), ..way }, TRUE, json!("")).await;
    assert_eq!((changed.end, changed.lasting), (CallEnd::NotSent, true));
    assert!(changed.message.contains("not the trusted one (SHA256:somebody-else)"), "{changed:?}");
    assert_eq!(sshd.times_let_in(), 0);
    // What the document lists counts alone.
    let listed = [sshd.fingerprint().expect("a key")];
    for (host_keys, trusted) in [(&[][..], Some(&trusted)), (&listed[..], Some(&other))] {
        let way = Way { host_keys, trusted, ..way };
        assert_eq!(output(&drivers, way, TRUE, json!("")).await, json!(""));
    }
    let told = drivers.probe(Way { trusted: Some(&trusted), ..way }).await.expect("lets us in");
    assert!(told.contains("lets us in with the key ssh-ed25519 SHA256:"), "{told}");
}

#[tokio::test(flavor = "multi_thread")]
async fn keys_with_passphrases_and_certificates_are_shown_and_others_are_refused() {
    let sshd = machine("keys");
    let (base, trusted) = (sshd.base(), sshd.trusted());
    let way = Way { trusted: Some(&trusted), ..Way::to(&base, LONG) };
    let drivers = Drivers::new().expect("drivers");
    let made = |name: &str, passphrase: &str| sshd.keygen(name, passphrase).expect("a key");
    let (locked, signed) = (made("locked", "fog-horn-77"), made("signed", ""));
    let stranger = made("stranger", "");
    sshd.let_in("locked").expect("is there");
    let certificate = sshd.certificate("signed").expect("signs");
    let key = |private: &str, passphrase: Option<&str>, certificate: Option<&str>| {
        Reached::key(&sshd, private, passphrase, certificate)
    };
    for credential in
        [key(&locked, Some("fog-horn-77"), None), key(&signed, None, Some(&certificate))]
    {
        let way = Way { credential: Some(&credential), ..way };
        assert_eq!(output(&drivers, way, TRUE, json!("")).await, json!(""));
    }
    let user = sshd.user().to_owned();
    let basic = Opened::Basic { user, password: "fog-horn-77".into() };
    for (credential, end, said) in [
        (key(&stranger, None, None), CallEnd::Refused, "does not take the credential"),
        (key(&signed, None, None), CallEnd::Refused, "does not take the credential"),
        (key(&locked, Some("wrong"), None), CallEnd::NotSent, "cannot be read"),
        (key("-----BEGIN nonsense", None, None), CallEnd::NotSent, "cannot be read"),
        (key(&signed, None, Some("none")), CallEnd::NotSent, "the certificate of the credential"),
        (basic, CallEnd::Refused, "it would take: publickey"),
    ] {
        let way = Way { credential: Some(&credential), ..way };
        let failed = failure(&drivers, way, TRUE, json!("")).await;
        assert_eq!((failed.end, failed.lasting), (end, true), "{said}: {failed:?}");
        assert!(failed.message.contains(said), "{failed:?}");
        assert!(!failed.message.contains("fog-horn") && !failed.message.contains("BEGIN"));
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn many_calls_share_few_lines_and_a_machine_that_starts_anew_is_reached_again() {
    let mut sshd = machine("lines");
    let (base, trusted, credential) = (sshd.base(), sshd.trusted(), sshd.credential());
    let way =
        Way { credential: Some(&credential), trusted: Some(&trusted), ..Way::to(&base, LONG) };
    let drivers = Drivers::new().expect("drivers");
    let sleep = "    command: { shell: 'sleep 0.3; echo \"$1\"', args: ['${give.x}'] }\n";
    let calls = (0..40).map(|n| output(&drivers, way, sleep, json!(n)));
    let came = futures_util::future::join_all(calls).await;
    assert_eq!(came, (0..40).map(|n| json!(n.to_string())).collect::<Vec<_>>());
    let lines = sshd.times_let_in();
    assert!(lines <= 6, "{lines} lines for 40 calls at once, eight a line");
    for n in 0..10 {
        output(&drivers, way, TRUE, json!(n)).await;
    }
    assert_eq!(sshd.times_let_in(), lines, "kept ones are used");
    sshd.restart().expect("starts");
    for n in 0..10 {
        output(&drivers, way, TRUE, json!(n)).await;
    }
    assert_eq!(sshd.times_let_in(), lines + 1, "a new one, and nothing was lost by the old ones");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_cut_off_or_takes_too_long_is_not_known() {
    let mut sshd = machine("cut");
    let (base, trusted, credential) = (sshd.base(), sshd.trusted(), sshd.credential());
    let way =
        Way { credential: Some(&credential), trusted: Some(&trusted), ..Way::to(&base, LONG) };
    let drivers = Drivers::new().expect("drivers");
    // What root runs cannot be told to stop: sshd passes no signals on there.
    let user = if sshd.user() == "root" { "postgres" } else { sshd.user() }.to_owned();
    let folder = sshd.folder().join("theirs");
    fs::create_dir_all(&folder).expect("a folder");
    fs::set_permissions(&folder, fs::Permissions::from_mode(0o777)).expect("may");
    let pid = folder.join("pid");
    let sleep = "    command: { shell: 'echo $$ > \"$1\"; exec sleep 600', args: ['${give.x}'] }\n";
    let asked = json!(pid);
    let Opened::Key(UserKey { private, .. }) = &credential else { panic!("a key") };
    let theirs = Opened::Key(UserKey {
        user,
        private: private.clone(),
        passphrase: None,
        certificate: None,
    });
    let short = Way { timeout: Duration::from_secs(5), credential: Some(&theirs), ..way };
    let late = failure(&drivers, short, sleep, asked.clone()).await;
    assert_eq!((late.end, late.lasting), (CallEnd::Unknown, false), "{late:?}");
    assert!(late.message.contains("it was told to stop"), "{late:?}");
    let number = fs::read_to_string(&pid).expect("it began");
    gone(&PathBuf::from(format!("/proc/{}", number.trim()))).await;

    fs::remove_file(&pid).expect("removes");
    let running = failure(&drivers, way, sleep, asked);
    let cutting = async {
        while fs::read_to_string(&pid).map_or(true, |number| !number.ends_with('\n')) {
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
        sshd.restart().expect("starts");
    };
    let (cut, ()) = tokio::join!(running, cutting);
    assert_eq!((cut.end, cut.lasting), (CallEnd::Unknown, false), "{cut:?}");
    assert!(cut.message.contains("was cut in the middle"), "{cut:?}");
    let number = fs::read_to_string(&pid).expect("it began");
    let _ = Command::new("kill").arg(number.trim()).status();
}

async fn gone(process: &Path) {
    let begun = Instant::now();
    while process.exists() {
        assert!(begun.elapsed() < Duration::from_secs(20), "{} is still there", process.display());
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn where_nobody_lets_us_in_nothing_was_done() {
    let drivers = Drivers::new().expect("drivers");
    let sshd = machine("none");
    let credential = sshd.credential();
    let listener = TcpListener::bind("127.0.0.1:0").await.expect("a port");
    let port = listener.local_addr().expect("has one").port();
    tokio::spawn(async move {
        let answers: [&[u8]; 4] = [b"", b"HTTP/1.1 400 Bad Request\r\n\r\n", b"SSH-2.0-x\r\n", b""];
        for (n, answer) in answers.into_iter().enumerate() {
            let (mut socket, _) = listener.accept().await.expect("a caller");
            let _ = socket.write_all(answer).await;
            if n > 0 {
                let mut flood = [0_u8; 4096];
                flood.iter_mut().enumerate().for_each(|(i, byte)| *byte = (i * 37) as u8);
                let _ = socket.write_all(&flood).await;
                let _ = socket.read(&mut [0; 64]).await;
            } else {
                // Says nothing, for ever.
                tokio::spawn(async move {
                    let mut bytes = [0; 64];
                    while socket.read(&mut bytes).await.is_ok_and(|n| n > 0) {}
                });
            }
        }
    });
    let base = format!("ssh://127.0.0.1:{port}");
    let nobody = "ssh://127.0.0.1:9".to_owned();
    for base in [&base, &base, &base, &nobody] {
        let short = Duration::from_secs(2);
        let way = Way { credential: Some(&credential), ..Way::to(base, short) };
        let begun = Instant::now();
        let failed = failure(&drivers, way, TRUE, json!("")).await;
        assert_eq!((failed.end, failed.lasting), (CallEnd::NotSent, false), "{base}: {failed:?}");
        assert!(begun.elapsed() < Duration::from_secs(20), "{failed:?}");
    }
    for (base, said) in [
        ("ssh://127.0.0.1:9/etc", "nothing follows its host and port"),
        ("ssh://*:9", "it stands for many, and the call names none"),
        ("https://127.0.0.1:9", "is not where this operation goes"),
    ] {
        let way = Way { credential: Some(&credential), ..Way::to(base, LONG) };
        let failed = failure(&drivers, way, TRUE, json!("")).await;
        assert_eq!((failed.end, failed.lasting), (CallEnd::NotSent, true), "{base}: {failed:?}");
        assert!(failed.message.contains(said), "{failed:?}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_connection_of_many_machines_reaches_those_that_it_lists() {
    let sshd = machine("many");
    let (trusted, credential) = (sshd.trusted(), sshd.credential());
    let base = format!("ssh://*:{}", sshd.port());
    let hosts = [Glob::parse("127.0.*").expect("a glob")];
    let way = Way {
        credential: Some(&credential),
        trusted: Some(&trusted),
        hosts: &hosts,
        ..Way::to(&base, LONG)
    };
    let drivers = Drivers::new().expect("drivers");
    let on = "    command: { args: [echo, hello] }\n    host: '${give.x}'\n";
    assert_eq!(output(&drivers, way, on, json!("127.0.0.1")).await, json!("hello"));
    let elsewhere = failure(&drivers, way, on, json!("10.0.0.1")).await;
    assert_eq!((elsewhere.end, elsewhere.lasting), (CallEnd::NotSent, true));
    assert!(elsewhere.message.contains("`10.0.0.1` is none of the connection's hosts: 127.0.*"));
    let other = failure(&drivers, way, on, json!("127.0.0.2")).await;
    assert_eq!(other.end, CallEnd::NotSent, "nobody listens, or nobody has trusted it: {other:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn machines_behind_a_jump_host_are_reached_through_it() {
    let (behind, mut gate) = (machine("behind"), machine("gate"));
    let (base, trusted, credential) = (behind.base(), behind.trusted(), behind.credential());
    let (gate_base, gate_trusted, shown) = (gate.base(), gate.trusted(), gate.credential());
    let jump = JumpHost {
        base: &gate_base,
        credential: Some(&shown),
        host_keys: &[],
        trusted: Some(&gate_trusted),
    };
    let way = Way {
        credential: Some(&credential),
        trusted: Some(&trusted),
        jump: Some(jump),
        ..Way::to(&base, LONG)
    };
    let drivers = Drivers::new().expect("drivers");
    let sleep = "    command: { shell: 'sleep 0.3; echo \"$1\"', args: ['${give.x}'] }\n";
    let calls = (0..20).map(|n| output(&drivers, way, sleep, json!(n)));
    let came = futures_util::future::join_all(calls).await;
    assert_eq!(came, (0..20).map(|n| json!(n.to_string())).collect::<Vec<_>>());
    assert_eq!(gate.times_let_in(), 1, "lines to other machines share one");
    assert!((1..=4).contains(&behind.times_let_in()), "{}", behind.times_let_in());

    // Both are looked at, each by its own keys, and nothing is shown before.
    let other = behind.trusted().into_keys().map(|name| (name, "SHA256:other".into())).collect();
    let unlike = failure(&drivers, Way { trusted: Some(&other), ..way }, TRUE, json!("")).await;
    assert_eq!((unlike.end, unlike.lasting), (CallEnd::NotSent, true), "{unlike:?}");
    let port = format!("127.0.0.1:{} shows", behind.port());
    assert!(unlike.message.starts_with(&port), "{unlike:?}");
    let unlike = JumpHost { trusted: None, ..jump };
    let unlike = failure(&drivers, Way { jump: Some(unlike), ..way }, TRUE, json!("")).await;
    assert_eq!(unlike.end, CallEnd::NotSent, "{unlike:?}");
    let port = format!("the jump host: 127.0.0.1:{} shows", gate.port());
    assert!(unlike.message.starts_with(&port), "{unlike:?}");

    // A machine that is not there keeps nobody from those that are.
    let nobody = TcpListener::bind("127.0.0.1:0").await.expect("a port");
    let nowhere = format!("ssh://{}", nobody.local_addr().expect("has one"));
    drop(nobody);
    let missing = Way { base: &nowhere, ..way };
    let missing = failure(&drivers, missing, TRUE, json!("")).await;
    assert_eq!((missing.end, missing.lasting), (CallEnd::NotSent, false), "{missing:?}");
    assert!(missing.message.contains("does not lead to 127.0.0.1:"), "{missing:?}");
    output(&drivers, way, TRUE, json!("")).await;
    assert_eq!(gate.times_let_in(), 1);

    // Of what runs while the jump host goes down nobody knows; then it is reached anew.
    let pid = behind.folder().join("pid");
    let wait = "    command: { shell: 'echo $$ > \"$1\"; exec sleep 600', args: ['${give.x}'] }\n";
    let running = failure(&drivers, way, wait, json!(pid));
    let cutting = async {
        while fs::read_to_string(&pid).map_or(true, |number| !number.ends_with('\n')) {
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
        gate.restart().expect("starts");
    };
    let (cut, ()) = tokio::join!(running, cutting);
    assert_eq!((cut.end, cut.lasting), (CallEnd::Unknown, false), "{cut:?}");
    let _ = Command::new("kill").arg(fs::read_to_string(&pid).expect("began").trim()).status();
    output(&drivers, way, TRUE, json!("")).await;
    assert_eq!(gate.times_let_in(), 2);

    // One that leads nowhere says so.
    let config = gate.folder().join("config");
    let text = fs::read_to_string(&config).expect("reads") + "AllowTcpForwarding no\n";
    fs::write(&config, text).expect("writes");
    gate.restart().expect("starts");
    let closed = failure(&drivers, way, TRUE, json!("")).await;
    assert_eq!((closed.end, closed.lasting), (CallEnd::NotSent, false), "{closed:?}");
    assert!(closed.message.contains("does not lead to 127.0.0.1:"), "{closed:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn small_files_are_written_whole_and_read_within_bounds() {
    let sshd = machine("files");
    let (base, trusted, credential) = (sshd.base(), sshd.trusted(), sshd.credential());
    let way =
        Way { credential: Some(&credential), trusted: Some(&trusted), ..Way::to(&base, LONG) };
    let drivers = Drivers::new().expect("drivers");
    let folder = sshd.folder().join("files");
    fs::create_dir_all(&folder).expect("a folder");
    let path = folder.join("note.json");
    let upload = format!(
        "    upload: {{ to: {}, content: {{ said: '${{give.x}}' }}, mode: '0600' }}\n",
        json!(path)
    );
    let download = |more: &str| format!("    download: {{ from: {}{more} }}\n", json!(path));
    for text in ["it's \"é\"", &"y".repeat(100_000), ""] {
        let written = output(&drivers, way, &upload, json!(text)).await;
        let content = json!({ "said": text }).to_string();
        assert_eq!(written, json!({ "bytes": content.len() }));
        assert_eq!(fs::read_to_string(&path).expect("is there"), content);
        let mode = fs::metadata(&path).expect("is there").permissions().mode();
        assert_eq!(mode & 0o777, 0o600);
        assert_eq!(fs::read_dir(&folder).expect("lists").count(), 1, "nothing lies beside it");
        let read =
            output(&drivers, way, &download(", reads: json, at_most: 200000"), json!("")).await;
        assert_eq!(read, json!({ "said": text }));
    }
    fs::write(&path, "one\ntwo\nthree\n").expect("writes");
    let part = download(", reads: lines, at_most: 5");
    assert_eq!(output(&drivers, way, &part, json!("")).await, json!(["one", "t"]));
    let left = format!("{part}    output: response.left_out\n");
    assert_eq!(output(&drivers, way, &left, json!("")).await, json!(9));
    // One that says that it is empty.
    let kernel = "    download: { from: /proc/meminfo, at_most: 9 }\n    output: \
                  '[response.content, response.left_out > 0]'\n";
    assert_eq!(output(&drivers, way, kernel, json!("")).await, json!(["MemTotal:", true]));
    let missing = "    download: { from: '/nowhere/${give.x}' }\n";
    let failed = failure(&drivers, way, missing, json!("log")).await;
    assert_eq!((failed.end, failed.lasting), (CallEnd::Refused, true), "{failed:?}");
    assert!(failed.message.ends_with("/nowhere/log: No such file"), "{failed:?}");
    let nowhere = "    upload: { to: '/nowhere/${give.x}', content: a }\n";
    let failed = failure(&drivers, way, nowhere, json!("log")).await;
    assert_eq!(failed.end, CallEnd::Refused, "{failed:?}");
}
