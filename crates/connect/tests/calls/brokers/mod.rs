//! Messages to brokers: real ones from Debian, and lines to them that are cut, stall or lie at every
//! place.

mod amqp;
mod mqtt;

use arvok_connect::{CallOutcome, Way};
use arvok_core::connector::{CallEnd, Failure, Opened};
use serde_json::{Map, Value};
use std::{
    path::PathBuf,
    sync::{
        Arc,
        atomic::{AtomicUsize, Ordering},
    },
    time::Duration,
};
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    net::{TcpListener, TcpStream},
};

/// What a call may take; a broker at work on a busy machine needs some of it.
const LONG: Duration = Duration::from_secs(20);

fn folder(name: &str) -> PathBuf {
    let folder = PathBuf::from(env!("CARGO_TARGET_TMPDIR")).join(format!("broker-{name}"));
    let _ = std::fs::remove_dir_all(&folder);
    std::fs::create_dir_all(&folder).expect("a folder");
    folder
}

async fn free_port() -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").await.expect("a port");
    listener.local_addr().expect("an address").port()
}

async fn listens(port: u16) {
    for _ in 0..3600 {
        if TcpStream::connect(("127.0.0.1", port)).await.is_ok() {
            return;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    panic!("no broker listens");
}

fn watch(password: &str) -> Opened {
    Opened::Basic { user: "watch".into(), password: password.into() }
}

/// Performs an operation with what is given.
async fn called(base: &str, timeout: Duration, operation: &str, give: Value) -> CallOutcome {
    let credential = watch("fog-horn-77");
    let way = Way { credential: Some(&credential), ..Way::to(base, timeout) };
    given(way, operation, give).await
}

async fn given(way: Way<'_>, operation: &str, give: Value) -> CallOutcome {
    let give: Map<String, Value> = give.as_object().cloned().unwrap_or_default();
    super::performed_with(way, operation, &give).await
}

fn failed(ended: CallOutcome) -> Failure {
    ended.called.expect_err("it fails")
}

fn output(ended: CallOutcome) -> Value {
    match ended.called.expect("is done") {
        arvok_connect::Called::Output(output) => output,
        arvok_connect::Called::Later(_) => panic!("nobody calls back"),
    }
}

/// What a line does to the answers of a broker once so many bytes of them have come.
#[derive(Clone, Copy, Debug)]
enum Fault {
    /// It is closed.
    Cut,
    /// It says nothing any more.
    Stall,
    /// It says something else, without end.
    Flood,
}

/// A line to a broker that has a fault, after so many bytes of the broker's or of the caller's; how
/// many lines are open.
async fn faulty(
    port: u16,
    from_broker: usize,
    from_us: usize,
    fault: Fault,
) -> (u16, Arc<AtomicUsize>) {
    let listener = TcpListener::bind("127.0.0.1:0").await.expect("a port");
    let at = listener.local_addr().expect("an address").port();
    let open = Arc::new(AtomicUsize::new(0));
    let counted = Arc::clone(&open);
    tokio::spawn(async move {
        while let Ok((ours, _)) = listener.accept().await {
            counted.fetch_add(1, Ordering::SeqCst);
            let counted = Arc::clone(&counted);
            tokio::spawn(async move {
                spoiled(ours, port, from_broker, from_us, fault).await;
                counted.fetch_sub(1, Ordering::SeqCst);
            });
        }
    });
    (at, open)
}

async fn spoiled(ours: TcpStream, port: u16, from_broker: usize, from_us: usize, fault: Fault) {
    let Ok(theirs) = TcpStream::connect(("127.0.0.1", port)).await else { return };
    let ((mut ours, mut to_us), (mut theirs, mut to_them)) =
        (ours.into_split(), theirs.into_split());
    // Until the caller ends; what is more than may come is read and not passed on.
    let mut up = tokio::spawn(async move {
        let (mut bytes, mut left) = ([0; 4096], from_us);
        loop {
            let n = ours.read(&mut bytes).await.unwrap_or(0);
            if n == 0 {
                return;
            }
            let passed = n.min(left);
            let _ = to_them.write_all(&bytes[..passed]).await;
            if passed > 0 && passed == left {
                let _ = to_them.shutdown().await;
            }
            left -= passed;
        }
    });
    let (mut bytes, mut left) = ([0; 4096], from_broker);
    while left > 0 {
        let n = tokio::select! {
            n = theirs.read(&mut bytes) => n.unwrap_or(0),
            _ = &mut up => return,
        };
        let passed = n.min(left);
        left -= passed;
        if n == 0 || to_us.write_all(&bytes[..passed]).await.is_err() {
            break;
        }
    }
    match fault {
        Fault::Cut => up.abort(),
        Fault::Stall => _ = up.await,
        Fault::Flood => {
            while to_us.write_all(&[0xff; 65536]).await.is_ok() {}
            up.abort();
        }
    }
}

/// Nothing of a call is left at the other side.
async fn none_is_open(open: &AtomicUsize) {
    for _ in 0..200 {
        if open.load(Ordering::SeqCst) == 0 {
            return;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    panic!("{} lines are left", open.load(Ordering::SeqCst));
}

/// Whether what is known of a call is so: what was not sent or was refused is not there, what was
/// done is.
fn is_true(end: Option<CallEnd>, is_there: bool) -> bool {
    match end {
        None => is_there,
        Some(CallEnd::NotSent | CallEnd::Refused) => !is_there,
        Some(CallEnd::Unknown) => true,
        Some(CallEnd::Done) => false,
    }
}
