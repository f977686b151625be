//! Scripts in their sandbox: what they are given and give, and what they try to get at.

use arvok_connect::{CallOutcome, Called, Drivers, LiveOutput, Redactor, ScriptCall, ScriptRights};
use arvok_core::{
    connector::{CallEnd, Failure},
    definition::Defined,
    document::parse_file,
    runbook::Runbook,
    script::Script,
};
use serde_json::{Map, Value, json};
use std::{
    fs,
    os::{
        linux::net::SocketAddrExt,
        unix::{
            fs::PermissionsExt,
            net::{SocketAddr, UnixListener},
        },
    },
    path::Path,
    process::Command,
    time::{Duration, Instant},
};
use tokio::net::TcpListener;

const TIME: Duration = Duration::from_secs(60);

fn rights() -> ScriptRights {
    ScriptRights {
        interpreters: ["sh", "python3", "perl"].map(str::to_owned).into(),
        memory: 1 << 30,
        network: false,
        user: "nobody".into(),
        folders: Vec::new(),
    }
}

/// The script of a step whose further lines are these.
fn script(interpreter: &str, code: &str, further: &str) -> Script {
    let code: String = code.lines().map(|line| format!("        {line}\n")).collect();
    let text = format!(
        "runbook: r\ntarget: vm/x\nsteps:\n  - id: s\n    script: {interpreter}\n    code: \
         |\n{code}{further}"
    );
    let document = &parse_file("r.yaml", &text).unwrap_or_else(|e| panic!("{e}"))[0];
    let runbook = Runbook::check(document).unwrap_or_else(|e| panic!("{e:?}"));
    runbook.scripts()[0].clone()
}

async fn ended(script: &Script, give: Value, rights: &ScriptRights, time: Duration) -> CallOutcome {
    let give: Map<String, Value> = [("give".to_owned(), give)].into_iter().collect();
    let call =
        ScriptCall { script, give: &give, timeout: time, secrets: &[], live: LiveOutput::NOBODY };
    Drivers::new().expect("drivers").script(call, rights, &Redactor::default()).await
}

async fn output(interpreter: &str, code: &str, further: &str, give: Value) -> Value {
    match ended(&script(interpreter, code, further), give, &rights(), TIME).await.called {
        Ok(Called::Output(output)) => output,
        other => panic!("{other:?}"),
    }
}

async fn failure(interpreter: &str, code: &str, further: &str) -> Failure {
    let script = script(interpreter, code, further);
    ended(&script, json!({}), &rights(), TIME).await.called.expect_err("a failure")
}

/// What `sh` writes as its last line, and with which status.
async fn sh(code: &str) -> String {
    let shown = format!(
        "({code}\n) > /tmp/said 2>&1\npython3 -c 'import json; \
        print(json.dumps(open(\"/tmp/said\", errors=\"replace\").read()))'"
    );
    match output("sh", &shown, "", json!({})).await {
        Value::String(said) => said,
        other => panic!("{other}"),
    }
}

/// How long a `sleep` of this run lasts, by which it is known among all processes.
fn marked(n: u32) -> String {
    format!("9{}.{n}", std::process::id())
}

/// Processes of this machine whose arguments have a text.
fn processes(marked: &str) -> usize {
    let all = fs::read_dir("/proc").expect("processes").flatten();
    let lines = all.filter_map(|entry| fs::read_to_string(entry.path().join("cmdline")).ok());
    lines.filter(|line| line.contains(marked)).count()
}

/// Until none is left; they end as soon as the kernel has told them.
async fn none_left(marked: &str) {
    for _ in 0..200 {
        if processes(marked) == 0 {
            return;
        }
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
    panic!("{} processes are left of {marked}", processes(marked));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_given_arrives_as_data_and_what_is_written_comes_back() {
    let nasty =
        json!({ "x": "it's \"$(touch /tmp/x)\" `id`\n\\ -rf \u{1f6a2} \u{0}", "n": [1, null] });
    let echo = "import sys, json\nprint('working')\nprint(json.dumps(json.load(sys.stdin)))";
    assert_eq!(output("python3", echo, "", nasty.clone()).await, nasty);
    let sh = "cat >&3\necho '{\"not\": \"this\"}'";
    assert_eq!(output("sh", sh, "", nasty.clone()).await, nasty);
    let named = "cat > \"$ARVOK_OUTPUT\"";
    assert_eq!(output("sh", named, "", nasty.clone()).await, nasty);
    let perl = "local $/; my $given = <STDIN>; print $given, \"\\n\";";
    assert_eq!(output("perl", perl, "", json!({ "a": 1 })).await, json!({ "a": 1 }));
    // Nothing on its standard input that it has to read, and no output that it has to give.
    assert_eq!(output("sh", "echo done", "", nasty).await, Value::Null);
}

#[tokio::test(flavor = "multi_thread")]
async fn files_lie_beside_the_code_and_promises_are_kept() {
    let further = "    files: [sizes.py]\n    gives: { all: { type: integer } }\nfiles:\n  \
         sizes.py: |\n    def total(sizes): return sum(sizes)\n";
    let code = "import json, sys, sizes\nprint(json.dumps({'all': sizes.total(json.load(sys.stdin)['sizes'])}))";
    assert_eq!(
        output("python3", code, further, json!({ "sizes": [1, 2] })).await,
        json!({ "all": 3 })
    );
    let gives = "    gives: { all: { type: integer } }\n";
    for (code, said) in [
        (
            "echo '{\"all\": \"three\"}'",
            "what it gives is not what it should: the field `all` is wrong",
        ),
        ("echo 3", "what it gives should have fields, and is 3"),
        ("echo three", "what it gives is no JSON"),
        ("true", "what it gives is no JSON"),
    ] {
        let failure = failure("sh", code, gives).await;
        assert_eq!(failure.end, CallEnd::Done);
        assert!(
            failure.message.starts_with("ended well, but ") && failure.message.contains(said),
            "{failure:?}"
        );
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn its_end_says_what_is_known() {
    let words = "    refused: [3]\n    retry_on: [4]\n    succeeds: [5]\n";
    let failed = |code: &'static str| failure("sh", code, words);
    let refused = failed("echo 'no room' >&2; exit 3").await;
    assert_eq!(refused, Failure::lasting(CallEnd::Refused, "ended with status 3: no room"));
    let again = failed("echo busy; exit 4").await;
    assert_eq!(again, Failure::new(CallEnd::Refused, "ended with status 4: busy"));
    let done = failed("exit 1").await;
    assert_eq!(done, Failure::lasting(CallEnd::Done, "ended with status 1"));
    let killed = failed("kill -KILL $$").await;
    assert_eq!(killed, Failure::new(CallEnd::Unknown, "was ended by signal 9"));
    assert_eq!(output("sh", "echo 7; exit 5", words, json!({})).await, json!(7));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_node_does_not_allow_is_not_run() {
    let plain = script("sh", "true", "");
    let not_run = async |script: &Script, rights: &ScriptRights| {
        let outcome = ended(script, json!({}), rights, TIME).await;
        let failure = outcome.called.expect_err("not run");
        assert_eq!((failure.end, failure.lasting), (CallEnd::NotSent, true));
        failure.message
    };
    let none = ScriptRights { interpreters: Vec::new(), ..rights() };
    assert_eq!(
        not_run(&plain, &none).await,
        "this node runs no scripts; `interpreters = [\"sh\"]` under [scripts] of its settings \
         allows it"
    );
    let other = ScriptRights { interpreters: vec!["perl".into()], ..rights() };
    assert!(not_run(&plain, &other).await.contains("no scripts of `sh`, but of perl"));
    let absent = ScriptRights { interpreters: vec!["sh".into(), "tcl9".into()], ..rights() };
    assert!(not_run(&plain, &absent).await.contains("there is no interpreter `tcl9`"));
    let network = script("sh", "true", "    network: true\n");
    assert!(not_run(&network, &rights()).await.contains("asks for the network"));
    let large = script("sh", "true", "    limits: { memory_mib: 1000 }\n");
    assert!(not_run(&large, &rights()).await.contains("may use 1064 MiB with its folder"));
    let folder = ScriptRights { folders: vec!["/nowhere".into()], ..rights() };
    assert!(not_run(&plain, &folder).await.contains("/nowhere"));
    let large = json!({ "give": "x".repeat(300 << 10) });
    let outcome = ended(&plain, large, &rights(), TIME).await;
    assert_eq!(outcome.called.expect_err("too much").end, CallEnd::NotSent);
}

#[tokio::test(flavor = "multi_thread")]
async fn its_environment_and_descriptors_are_its_own() {
    let code = "import os, json\nprint(json.dumps([dict(os.environ), sorted(int(n) for n in \
        os.listdir('/proc/self/fd'))[:-1], sorted(os.listdir('.')), os.getuid(), os.getpid() < 10]))";
    let further = "    env: { MODE: 'a b' }\n";
    let script = script("python3", code, further);
    let give: Map<String, Value> =
        [("give".to_owned(), json!({})), ("env".to_owned(), json!({ "MODE": "a b" }))]
            .into_iter()
            .collect();
    let call = ScriptCall {
        script: &script,
        give: &give,
        timeout: TIME,
        secrets: &[],
        live: LiveOutput::NOBODY,
    };
    let outcome =
        Drivers::new().expect("drivers").script(call, &rights(), &Redactor::default()).await;
    let Ok(Called::Output(seen)) = outcome.called else { panic!("{outcome:?}") };
    let environment = json!({
        "PATH": "/usr/local/bin:/usr/bin:/bin", "HOME": "/work", "LANG": "C.UTF-8", "PWD": "/work",
        "MODE": "a b", "ARVOK_OUTPUT": "/dev/fd/3"
    });
    assert_eq!(seen, json!([environment, [0, 1, 2, 3], [".script"], 1000, true]));
}

#[tokio::test(flavor = "multi_thread")]
async fn it_sees_no_file_and_no_process_of_the_machine() {
    let folder = Path::new("/var/tmp").join(format!("arvok-kept-{}", std::process::id()));
    fs::create_dir_all(&folder).expect("a folder");
    fs::write(folder.join("key"), "sesame").expect("a file");
    fs::set_permissions(folder.join("key"), fs::Permissions::from_mode(0o644)).expect("rights");
    fs::set_permissions(&folder, fs::Permissions::from_mode(0o777)).expect("rights");
    let (kept, own) = (folder.display().to_string(), std::process::id());
    let said = sh(&format!(
        "cat {kept}/key; ls /root /home /var /srv /run; cat /etc/shadow; cat /proc/{own}/environ; \
         ls /proc | grep -c '^[0-9]'; kill -0 {own}"
    ))
    .await;
    assert!(!said.contains("sesame") && !said.contains("root:"), "{said}");
    assert_eq!(said.matches("No such file").count(), 8, "{said}");
    for path in ["/x", "/usr/x", "/etc/x", "/dev/x", "/proc/x", "/sys/x"] {
        let said = sh(&format!("echo a > {path} && echo written")).await;
        assert!(!said.contains("written"), "{path}: {said}");
    }
    let shown = ScriptRights { folders: vec![folder.clone()], ..rights() };
    let reads = script(
        "sh",
        &format!("echo \"\\\"$(cat {kept}/key)\\\"\"; echo a > {kept}/new"),
        "    succeeds: [2]\n",
    );
    let outcome = ended(&reads, json!({}), &shown, TIME).await;
    assert_eq!(outcome.called, Ok(Called::Output(json!("sesame"))));
    assert!(!folder.join("new").exists());
    fs::remove_dir_all(&folder).expect("is removed");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_kernel_refuses_what_no_script_needs() {
    let code = "import ctypes, json, os\nlibc = ctypes.CDLL(None, use_errno=True)\n\
        def tried(name, *args):\n    ctypes.set_errno(0)\n    given = getattr(libc, name)(*args)\n    \
        return given < 0 and ctypes.get_errno() in (1, 13, 22)\n\
        print(json.dumps({'unshare': tried('unshare', 0x10000000), 'mount': tried('mount', b'none', \
        b'/work', b'tmpfs', 0, None), 'ptrace': tried('ptrace', 16, 1, 0, 0), 'memfd': \
        tried('memfd_create', b'x', 0), 'shm': tried('shmget', 0, 1 << 20, 0o1600), 'setuid': \
        tried('setuid', 0), 'chroot': tried('chroot', b'/work'), 'reboot': tried('reboot', 0)}))";
    let refused = output("python3", code, "", json!({})).await;
    let all = refused.as_object().expect("each");
    assert!(all.len() == 8 && all.values().all(|refused| *refused == json!(true)), "{refused}");
}

#[tokio::test(flavor = "multi_thread")]
async fn it_has_no_network_unless_it_may() {
    let listener = TcpListener::bind("127.0.0.1:0").await.expect("a port");
    let port = listener.local_addr().expect("an address").port();
    let name = format!("arvok-script-{}", std::process::id());
    let address = SocketAddr::from_abstract_name(&name).expect("a name");
    let _abstract = UnixListener::bind_addr(&address).expect("a socket");
    let code = format!(
        "import socket, json\ndef reached(family, address):\n    try:\n        \
         socket.socket(family).connect(address)\n        return True\n    except OSError:\n        \
         return False\nprint(json.dumps([reached(socket.AF_INET, ('127.0.0.1', {port})), \
         reached(socket.AF_UNIX, '\\0{name}')]))"
    );
    assert_eq!(output("python3", &code, "", json!({})).await, json!([false, false]));
    let (asks, may) = (
        script("python3", &code, "    network: true\n"),
        ScriptRights { network: true, ..rights() },
    );
    let outcome = ended(&asks, json!({}), &may, TIME).await;
    assert_eq!(outcome.called, Ok(Called::Output(json!([true, true]))));
}

/// Whether it was ended for what it used, and when nothing of it was left.
async fn exceeds(interpreter: &str, code: &str, further: &str, time: Duration, said: &str) {
    let begun = Instant::now();
    let script = script(interpreter, code, further);
    let failure = ended(&script, json!({}), &rights(), time).await.called.expect_err("ended");
    assert_eq!((failure.end, failure.lasting), (CallEnd::Unknown, true), "{failure:?}");
    assert!(failure.message.starts_with(&format!("was ended: {said}")), "{failure:?}");
    assert!(begun.elapsed() < Duration::from_secs(40), "{:?}", begun.elapsed());
}

#[tokio::test(flavor = "multi_thread")]
async fn what_uses_more_than_it_may_is_ended_with_all_that_it_has_started() {
    let second = Duration::from_secs(1);
    let mark = marked(2);
    let sleeps = format!("setsid sleep {mark} & sleep {mark} & exec sleep {mark}");
    exceeds("sh", &sleeps, "", second, "it ran for 1s, which is its time").await;
    none_left(&mark).await;
    let little = "    limits: { memory_mib: 64 }\n";
    let memory = "it used more than 64 MiB of memory";
    let grows = "kept = []\nwhile True: kept.append(bytearray(b'x' * (1 << 20)))";
    exceeds("python3", grows, little, TIME, memory).await;
    let shared = "import mmap, time\nkept = mmap.mmap(-1, 200 << 20)\n\
        kept.write(b'x' * (200 << 20))\ntime.sleep(60)";
    exceeds("python3", shared, little, TIME, memory).await;
    let children = "import os, time\nfor _ in range(8):\n    if os.fork() == 0:\n        kept = \
        b'x' * (20 << 20)\n        time.sleep(60)\ntime.sleep(60)";
    exceeds("python3", children, little, TIME, memory).await;
    let busy = "    limits: { processor_time: 1s }\n";
    exceeds("sh", "while :; do :; done", busy, TIME, "it used more than 1s of processor time")
        .await;
    let floods = "    limits: { output_kib: 8 }\n";
    let yes = format!("yes {mark}");
    for code in [&yes, &format!("{yes} >&2")] {
        exceeds("sh", code, floods, TIME, "it wrote more than 8 KiB").await;
    }
    exceeds("sh", &format!("{yes} >&3"), floods, TIME, "it wrote more than 256 KiB").await;
    none_left(&mark).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_it_may_have_so_much_of_ends_there() {
    let disk = "    limits: { disk_mib: 2 }\n";
    let fills = "import json, os\ndef fills(folder):\n    try:\n        for n in range(100000):\n            \
        open(f'{folder}/{n}', 'wb').write(b'x' * (1 << 20))\n    except OSError as e:\n        \
        os.system(f'rm -f {folder}/[0-9]*')\n        return e.strerror\n\
        print(json.dumps([fills(f) for f in ('/work', '/tmp', '/dev/shm')]))";
    let full = "No space left on device";
    assert_eq!(output("python3", fills, disk, json!({})).await, json!([full, full, full]));
    let forks = "import json, os, signal\nmade = 0\ntry:\n    while made < 5000:\n        if os.fork() \
        == 0: signal.pause()\n        made += 1\nexcept OSError as e:\n    pass\nprint(json.dumps(made))";
    let few = "    limits: { processes: 20 }\n";
    let made = output("python3", forks, few, json!({})).await;
    assert!((5..20).contains(&made.as_i64().expect("a number")), "{made}");
    // A bomb harms nobody either.
    let mark = marked(3);
    let bomb = format!("sh $0 {mark} | sh $0 {mark} & exec sleep {mark}");
    let script = script("sh", &bomb, few);
    let outcome = ended(&script, json!({}), &rights(), Duration::from_secs(2)).await;
    outcome.called.expect_err("it was ended, or failed");
    none_left(&mark).await;
    let opens = "import json, os\nopen_ = []\ntry:\n    while len(open_) < 5000: \
        open_.append(os.open('/dev/null', 0))\nexcept OSError: pass\nprint(json.dumps(len(open_) < 40))";
    let files = "    limits: { open_files: 40 }\n";
    assert_eq!(output("python3", opens, files, json!({})).await, json!(true));
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_of_it_outlives_its_end() {
    let begun = Instant::now();
    let mark = marked(4);
    let leaves =
        format!("setsid sh -c 'trap \"\" HUP TERM; sleep {mark}' &\nsleep {mark} &\necho 1");
    assert_eq!(output("sh", &leaves, "", json!({})).await, json!(1));
    assert!(begun.elapsed() < Duration::from_secs(30), "nobody waits for what it left");
    none_left(&mark).await;
    // Nor does it when nobody waits for it any more.
    let mark = marked(5);
    let script = script("sh", &format!("sleep {mark} & exec sleep {mark}"), "");
    let running = tokio::spawn(async move { ended(&script, json!({}), &rights(), TIME).await });
    while processes(&mark) < 2 {
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    running.abort();
    none_left(&mark).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn many_side_by_side_do_not_count_as_one() {
    let few = "    limits: { processes: 4 }\n";
    let all: Vec<_> = (0..8)
        .map(|n| async move {
            let code = format!("sleep 0.2 & sleep 0.2 & wait; echo {n}");
            output("sh", &code, few, json!({})).await
        })
        .collect();
    let all = futures_util::future::join_all(all).await;
    assert_eq!(Value::from(all), json!([0, 1, 2, 3, 4, 5, 6, 7]));
}

#[test]
fn all_of_this_holds_for_a_node_that_is_no_root() {
    if !nix::unistd::geteuid().is_root() {
        return;
    }
    let folder = std::env::temp_dir().join(format!("arvok-nobody-{}", std::process::id()));
    fs::create_dir_all(&folder).expect("a folder");
    fs::set_permissions(&folder, fs::Permissions::from_mode(0o755)).expect("rights");
    let copy = folder.join("calls");
    // By another process: a file that a child of this one could still have open for writing cannot
    // be run.
    let this = std::env::current_exe().expect("this test");
    let copied = Command::new("cp").arg(this).arg(&copy).status().expect("cp");
    assert!(copied.success());
    let ran = Command::new("setpriv")
        .args(["--reuid=nobody", "--regid=nogroup", "--clear-groups", "--"])
        .arg(&copy)
        .args(["script::", "--skip=all_of_this", "--test-threads=2"])
        .current_dir("/")
        .output()
        .expect("runs");
    fs::remove_dir_all(&folder).expect("is removed");
    let (said, errors) =
        (String::from_utf8_lossy(&ran.stdout), String::from_utf8_lossy(&ran.stderr));
    assert!(ran.status.success() && said.contains("13 passed"), "{}: {said}{errors}", ran.status);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_secret_is_handed_by_a_descriptor_and_hidden_in_what_is_shown() {
    let further = "    secrets: { LAMP: \"${secret('lamp')}\", OTHER: \"${secret('other')}\" }\n";
    let code = "cat \"$ARVOK_SECRET_LAMP\" \"$ARVOK_SECRET_OTHER\" \"$ARVOK_SECRET_LAMP\" >&2\n\
        env | grep -c sesame >&2\ntr '\\0' ' ' < /proc/1/cmdline >&2\nls /proc/self/fd | tr '\\n' ' ' >&2\n\
        printf '\"%s\"' \"$(cat \"$ARVOK_SECRET_LAMP\")\"";
    let script = script("sh", code, further);
    let secrets = [("LAMP", "sesame-lamp"), ("OTHER", "two\nlines")]
        .map(|(name, value)| (name.to_owned(), value.to_owned()));
    let call = ScriptCall {
        script: &script,
        give: &Map::new(),
        secrets: &secrets,
        timeout: TIME,
        live: LiveOutput::NOBODY,
    };
    let redactor = Redactor::new(["sesame-lamp".to_owned()]);
    let outcome = Drivers::new().expect("drivers").script(call, &rights(), &redactor).await;
    // What later steps work with is as it came.
    assert_eq!(outcome.called, Ok(Called::Output(json!("sesame-lamp"))));
    let answer = outcome.answer.expect("an answer");
    let stderr = answer.headers["stderr"].as_str().expect("a text");
    assert!(stderr.starts_with("[secret]two\nlines[secret]0\n"), "{stderr}");
    assert!(!stderr.contains("sesame") && stderr.contains("10 11"), "{stderr}");
    assert_eq!(answer.body, json!("\"[secret]\""));
}
