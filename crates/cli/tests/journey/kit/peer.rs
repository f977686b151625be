//! A peer that counts what it is told and forgets nothing: what really went out.

use super::{block, spawn};
use std::{
    sync::{
        Arc, Mutex, MutexGuard, PoisonError,
        atomic::{AtomicU64, Ordering},
    },
    time::{Duration, Instant},
};
use tokio::{
    io::{AsyncBufReadExt, AsyncReadExt, AsyncWriteExt, BufStream},
    net::{TcpListener, TcpStream},
    task::JoinHandle,
};

/// A request as it came in.
#[derive(Clone, Debug)]
pub struct Told {
    pub key: Option<String>,
    pub trace: Option<String>,
    pub body: String,
    pub at: Instant,
    /// How many it was answering then, this one included.
    pub at_once: u64,
}

/// A running peer.
pub struct Peer {
    pub url: String,
    told: Arc<Mutex<Vec<Told>>>,
    delay: Arc<AtomicU64>,
    status: Arc<AtomicU64>,
    server: JoinHandle<()>,
}

impl Peer {
    /// Starts one that answers at once.
    pub fn start() -> Self {
        let (listener, port) = block(async {
            let listener = TcpListener::bind("127.0.0.1:0").await.expect("a port");
            let port = listener.local_addr().expect("an address").port();
            (listener, port)
        });
        let (told, delay) = (Arc::default(), Arc::<AtomicU64>::default());
        let (all, pause, out) = (Arc::clone(&told), Arc::clone(&delay), Arc::default());
        let status = Arc::new(AtomicU64::new(200));
        let says = Arc::clone(&status);
        let server = spawn(async move {
            while let Ok((stream, _)) = listener.accept().await {
                let (all, out) = (Arc::clone(&all), Arc::clone(&out));
                tokio::spawn(serve(stream, all, (Arc::clone(&pause), Arc::clone(&says)), out));
            }
        });
        Self { url: format!("http://127.0.0.1:{port}"), told, delay, status, server }
    }

    /// Answers only after so long from now on.
    pub fn delay(&self, delay: Duration) {
        self.delay.store(u64::try_from(delay.as_millis()).unwrap_or(u64::MAX), Ordering::Relaxed);
    }

    /// Answers with this status from now on.
    pub fn answers(&self, status: u16) {
        self.status.store(status.into(), Ordering::Relaxed);
    }

    /// All it was told.
    pub fn told(&self) -> Vec<Told> {
        locked(&self.told).clone()
    }

    /// How often it was told something with these words.
    pub fn count(&self, words: &str) -> usize {
        locked(&self.told).iter().filter(|t| t.body.contains(words)).count()
    }

    /// Definitions that call it once for each job, with a given patience for repeating.
    pub fn definitions(&self, repeat: &str) -> String {
        format!(
            "connector: peer\noperations:\n  peer.tell:\n    takes: {{ what: {{ type: string }} \
            }}\n    \
             request: {{ method: POST, path: /tell, body: {{ what: \"${{give.what}}\" }} }}\n    \
             repeat: {repeat}\n---\n\
             connection: peer\nconnector: peer\nbase: \"{}\"\ntimeout: 60s\n---\n\
             runbook: tell\ninputs: {{ what: {{ type: string }} }}\ntarget: \
             ${{inputs.what}}\nsteps:\n  \
             - {{ id: tell, call: peer.tell, via: peer, give: {{ what: \"${{inputs.what}}\" }}, \
             retry: {{ times: 20, wait: 200ms }} }}\n---\n\
             rule: tell\nstance: act\nlisten: {{ kinds: test.tell }}\n\
             dispatch: {{ runbook: tell, inputs: {{ what: \"${{alert.resource}}\" }} }}\n",
            self.url
        )
    }
}

impl Drop for Peer {
    fn drop(&mut self) {
        self.server.abort();
    }
}

fn locked(told: &Mutex<Vec<Told>>) -> MutexGuard<'_, Vec<Told>> {
    told.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Requests of a connection, one after the other.
async fn serve(
    stream: TcpStream,
    told: Arc<Mutex<Vec<Told>>>,
    (delay, status): (Arc<AtomicU64>, Arc<AtomicU64>),
    out: Arc<AtomicU64>,
) {
    let mut stream = BufStream::new(stream);
    while let Some(RequestParts { key, trace, body }) = read(&mut stream).await {
        let at_once = out.fetch_add(1, Ordering::SeqCst) + 1;
        locked(&told).push(Told { key, trace, body, at: Instant::now(), at_once });
        tokio::time::sleep(Duration::from_millis(delay.load(Ordering::Relaxed))).await;
        out.fetch_sub(1, Ordering::SeqCst);
        let status = status.load(Ordering::Relaxed);
        let answer = format!(
            "HTTP/1.1 {status} said\r\ncontent-type: application/json\r\ncontent-length: \
            2\r\n\r\n{{}}"
        );
        if stream.write_all(answer.as_bytes()).await.is_err() || stream.flush().await.is_err() {
            return;
        }
    }
}

/// What a request says.
struct RequestParts {
    key: Option<String>,
    trace: Option<String>,
    body: String,
}

async fn read(stream: &mut BufStream<TcpStream>) -> Option<RequestParts> {
    let (mut key, mut trace, mut length) = (None, None, 0);
    loop {
        let mut line = String::new();
        stream.read_line(&mut line).await.ok()?;
        let Some((name, value)) = line.split_once(':') else {
            match line.trim() {
                "" if line.is_empty() => return None,
                "" => break,
                _ => continue,
            }
        };
        match name.to_ascii_lowercase().as_str() {
            "idempotency-key" => key = Some(value.trim().to_owned()),
            "traceparent" => trace = Some(value.trim().to_owned()),
            "content-length" => length = value.trim().parse().ok()?,
            _ => {}
        }
    }
    let mut body = vec![0; length];
    stream.read_exact(&mut body).await.ok()?;
    Some(RequestParts { key, trace, body: String::from_utf8_lossy(&body).into_owned() })
}
