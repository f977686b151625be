//! The harbour board: a subscriber that shows the events it was sent, if their signature is good.

use crate::{Faults, Server, StandinError, auth, faults::Fate};
use actix_web::{HttpRequest, HttpResponse, web};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use standardwebhooks::Webhook;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

/// Events that are kept.
const KEPT: usize = 2_000;

/// How the board is started.
#[derive(Clone, Debug)]
pub struct BoardOptions {
    /// The port of loopback; 0 takes a free one.
    pub port: u16,
    /// What whoever reads it must show.
    pub token: String,
    /// The key that events must be signed with, as Standard Webhooks says.
    pub key: String,
}

/// How the board behaves, switched while it runs.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Manners {
    /// Whether it agrees to take events when it is asked.
    pub agrees: bool,
    /// Most requests a minute that it wants.
    pub rate: Option<u32>,
    /// Events of types that hold this text are answered 500.
    pub chokes_on: Option<String>,
    /// It is answered 410: it wants no more.
    pub gone: bool,
    /// What goes wrong for all.
    pub faults: Faults,
}

impl Default for Manners {
    fn default() -> Self {
        Self { agrees: true, rate: None, chokes_on: None, gone: false, faults: Faults::default() }
    }
}

#[derive(Debug, Default)]
struct Shown {
    manners: Manners,
    events: Vec<Value>,
    /// Events that came with a bad signature.
    forged: u64,
    /// Where it was told that it may agree later.
    callback: Option<String>,
}

#[derive(Clone)]
struct Board {
    token: String,
    key: Arc<Webhook>,
    shown: Arc<Mutex<Shown>>,
}

/// A running board.
#[derive(Debug)]
pub struct RunningBoard {
    server: Server,
    shown: Arc<Mutex<Shown>>,
}

fn locked(shown: &Mutex<Shown>) -> MutexGuard<'_, Shown> {
    shown.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Starts a board.
///
/// # Errors
/// If the port is taken, or the key is none.
pub fn start(options: BoardOptions) -> Result<RunningBoard, StandinError> {
    let BoardOptions { port, token, key } = options;
    let key = Webhook::new(&key).map_err(|e| StandinError::Key(e.to_string()))?;
    let shown = Arc::new(Mutex::new(Shown::default()));
    let board = Board { token, key: Arc::new(key), shown: Arc::clone(&shown) };
    let server = Server::start(port, move |config| {
        config
            .app_data(web::Data::new(board.clone()))
            .route("/events", web::method(actix_web::http::Method::OPTIONS).to(asked))
            .route("/events", web::post().to(receive))
            .route("/events", web::get().to(read))
            .route("/manners", web::put().to(behave));
    })?;
    Ok(RunningBoard { server, shown })
}

impl RunningBoard {
    /// The base address; events go to `/events` below it.
    pub fn url(&self) -> String {
        self.server.url()
    }

    /// The events with a good signature, in the order in which they came.
    pub fn events(&self) -> Vec<Value> {
        locked(&self.shown).events.clone()
    }

    /// How many came with a bad signature.
    pub fn forged(&self) -> u64 {
        locked(&self.shown).forged
    }

    /// Where it may agree later, if it was asked.
    pub fn callback(&self) -> Option<String> {
        locked(&self.shown).callback.clone()
    }

    /// Has it behave otherwise.
    pub fn behave(&self, manners: Manners) {
        locked(&self.shown).manners = manners;
    }

    /// Stops it.
    pub async fn stop(&self) {
        self.server.stop().await;
    }
}

fn text<'a>(request: &'a HttpRequest, name: &str) -> Option<&'a str> {
    request.headers().get(name).and_then(|v| v.to_str().ok())
}

/// Whether it wants events of the origin that asks (CloudEvents web hooks, section 4).
async fn asked(board: web::Data<Board>, request: HttpRequest) -> HttpResponse {
    let mut shown = locked(&board.shown);
    shown.callback = text(&request, "webhook-request-callback").map(str::to_owned);
    let origin = text(&request, "webhook-request-origin");
    let (Some(origin), true) = (origin, shown.manners.agrees && !shown.manners.gone) else {
        return HttpResponse::Ok().finish();
    };
    let rate = shown.manners.rate.map_or_else(|| "*".to_owned(), |r| r.to_string());
    HttpResponse::Ok()
        .insert_header(("webhook-allowed-origin", origin))
        .insert_header(("webhook-allowed-rate", rate))
        .finish()
}

async fn receive(board: web::Data<Board>, body: web::Bytes, request: HttpRequest) -> HttpResponse {
    let (delay, fate) = locked(&board.shown).manners.faults.next();
    tokio::time::sleep(delay).await;
    if let Fate::Refuse(refused) = fate {
        return refused;
    }
    let mut headers = reqwest::header::HeaderMap::new();
    for name in ["webhook-id", "webhook-timestamp", "webhook-signature"] {
        if let Some(value) = text(&request, name).and_then(|v| v.parse().ok()) {
            headers.insert(name, value);
        }
    }
    let mut shown = locked(&board.shown);
    if shown.manners.gone {
        return HttpResponse::Gone().json(json!({ "error": "the board is taken down" }));
    }
    let event: Option<Value> = serde_json::from_slice(&body).ok();
    let (Ok(()), Some(event)) = (board.key.verify(&body, &headers), event) else {
        shown.forged += 1;
        return HttpResponse::Unauthorized().json(json!({ "error": "the signature is not good" }));
    };
    let kind = event["type"].as_str().unwrap_or_default();
    if shown.manners.chokes_on.as_ref().is_some_and(|on| kind.contains(on.as_str())) {
        return HttpResponse::InternalServerError()
            .json(json!({ "error": "the board chokes on it" }));
    }
    shown.events.push(event);
    if shown.events.len() > KEPT {
        shown.events.remove(0);
    }
    fate.spoil(HttpResponse::NoContent().finish())
}

async fn read(board: web::Data<Board>, request: HttpRequest) -> HttpResponse {
    match auth::refusal(&request, &board.token) {
        Some(refused) => refused,
        None => HttpResponse::Ok().json(json!({ "events": locked(&board.shown).events })),
    }
}

async fn behave(
    board: web::Data<Board>,
    manners: web::Json<Manners>,
    request: HttpRequest,
) -> HttpResponse {
    if let Some(refused) = auth::refusal(&request, &board.token) {
        return refused;
    }
    locked(&board.shown).manners = manners.into_inner();
    HttpResponse::NoContent().finish()
}
