//! What the offices of most stand-ins have in common: the token, the faults, and keys by which what
//! is asked twice is done once.

use crate::{Faults, Server, StandinError, auth, faults::Fate};
use actix_web::{HttpRequest, HttpResponse, http::StatusCode, web};
use serde_json::{Value, json};
use std::{
    collections::BTreeMap,
    sync::{Arc, Mutex, MutexGuard, PoisonError},
    time::Duration,
};
use tokio::task::JoinHandle;

/// Keys that are remembered.
const MOST_KEYS: usize = 10_000;

/// What an office answers: a status with a body, or a refusal in words.
pub(crate) type Answer = Result<(u16, Value), (u16, String)>;

/// An office around what it keeps.
#[derive(Debug)]
pub(crate) struct Office<S> {
    kept: Arc<Mutex<S>>,
    gate: Arc<Gate>,
}

impl<S> Clone for Office<S> {
    fn clone(&self) -> Self {
        Self { kept: Arc::clone(&self.kept), gate: Arc::clone(&self.gate) }
    }
}

#[derive(Debug)]
struct Gate {
    token: String,
    faults: Mutex<Faults>,
    answers: Mutex<BTreeMap<String, (u16, Value)>>,
}

fn locked<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl<S: Send + 'static> Office<S> {
    /// An office whose callers show this token.
    pub fn new(kept: S, token: String) -> Self {
        let gate = Gate { token, faults: Mutex::default(), answers: Mutex::default() };
        Self { kept: Arc::new(Mutex::new(kept)), gate: Arc::new(gate) }
    }

    /// Opens it on a port of loopback; 0 takes a free one.
    pub fn open<F>(self, port: u16, configure: F) -> Result<Running<S>, StandinError>
    where
        F: Fn(&mut web::ServiceConfig) + Send + Clone + 'static,
    {
        let office = self.clone();
        let server = Server::start(port, move |config| {
            config
                .app_data(web::Data::new(office.clone()))
                .route("/faults", web::put().to(set_faults::<S>))
                .configure(configure.clone());
        })?;
        Ok(Running { server, office: self, clocks: Vec::new() })
    }

    /// What it keeps.
    pub fn with<T>(&self, f: impl FnOnce(&mut S) -> T) -> T {
        f(&mut locked(&self.kept))
    }

    /// Its faults as they are.
    pub fn faults(&self) -> Faults {
        locked(&self.gate.faults).clone()
    }

    /// The answer to a request that does not show the token.
    pub fn refusal(&self, request: &HttpRequest) -> Option<HttpResponse> {
        auth::refusal(request, &self.gate.token)
    }

    /// Every request passes the gate: the token, then the faults. What has a key that is known is
    /// not done again.
    pub async fn serve(
        &self,
        request: &HttpRequest,
        work: impl FnOnce(&mut S) -> Answer,
    ) -> HttpResponse {
        match self.refusal(request) {
            Some(refused) => refused,
            None => self.served(request, work).await,
        }
    }

    /// The same for whoever has shown something else already.
    pub async fn served(
        &self,
        request: &HttpRequest,
        work: impl FnOnce(&mut S) -> Answer,
    ) -> HttpResponse {
        let key = request.headers().get("Idempotency-Key").and_then(|v| v.to_str().ok());
        match self.fate().await {
            Fate::Refuse(answer) => answer,
            fate => fate.spoil(respond(self.once(key, work))),
        }
    }

    /// A page for a browser, behind the same gate.
    pub async fn page(
        &self,
        request: &HttpRequest,
        look: impl FnOnce(&mut S) -> Result<String, (u16, String)>,
    ) -> HttpResponse {
        if let Some(refused) = self.refusal(request) {
            return refused;
        }
        match (self.fate().await, self.with(look)) {
            (Fate::Refuse(answer), _) => answer,
            (fate, Ok(text)) => fate.spoil(HttpResponse::Ok().content_type("text/html").body(text)),
            (fate, Err(missing)) => fate.spoil(respond(Err(missing))),
        }
    }

    /// A page for everybody, who shows no token; the faults are its own as well.
    pub async fn public_page(&self, look: impl FnOnce(&mut S) -> HttpResponse) -> HttpResponse {
        match (self.fate().await, self.with(look)) {
            (Fate::Refuse(answer), _) => answer,
            (fate, page) => fate.spoil(page),
        }
    }

    /// What becomes of the next request, once the time that its answer takes is over.
    async fn fate(&self) -> Fate {
        let (delay, fate) = self.next_fate();
        tokio::time::sleep(delay).await;
        fate
    }

    /// The same, with how long that time is.
    pub fn next_fate(&self) -> (Duration, Fate) {
        locked(&self.gate.faults).next()
    }

    fn once(&self, key: Option<&str>, work: impl FnOnce(&mut S) -> Answer) -> Answer {
        let Some(key) = key else { return self.with(work) };
        let mut answers = locked(&self.gate.answers);
        if let Some(first) = answers.get(key) {
            return Ok(first.clone());
        }
        let answer = self.with(work)?;
        if answers.len() >= MOST_KEYS {
            answers.pop_first();
        }
        answers.insert(key.to_owned(), answer.clone());
        Ok(answer)
    }
}

pub(crate) fn respond(answer: Answer) -> HttpResponse {
    let (status, body) =
        answer.unwrap_or_else(|(status, error)| (status, json!({ "error": error })));
    HttpResponse::build(StatusCode::from_u16(status).unwrap_or_default())
        .json(as_devices_write(body))
}

/// Whole numbers without a fraction, as devices and services write them.
pub(crate) fn as_devices_write(value: Value) -> Value {
    match value {
        Value::Number(n) => {
            match n.as_f64().filter(|d| n.is_f64() && d.fract() == 0.0 && d.abs() < 9e15) {
                Some(whole) => Value::from(whole as i64),
                None => Value::Number(n),
            }
        }
        Value::Array(items) => items.into_iter().map(as_devices_write).collect(),
        Value::Object(map) => {
            map.into_iter().map(|(key, item)| (key, as_devices_write(item))).collect()
        }
        other => other,
    }
}

pub(crate) async fn set_faults<S: Send + 'static>(
    office: web::Data<Office<S>>,
    faults: web::Json<Faults>,
    request: HttpRequest,
) -> HttpResponse {
    if let Some(refused) = office.refusal(&request) {
        return refused;
    }
    *locked(&office.gate.faults) = faults.into_inner();
    HttpResponse::NoContent().finish()
}

/// A stand-in at work.
#[derive(Debug)]
pub struct Running<S> {
    server: Server,
    office: Office<S>,
    /// What goes on there by itself.
    clocks: Vec<JoinHandle<()>>,
}

impl<S: Send + 'static> Running<S> {
    /// The base address of its API.
    pub fn url(&self) -> String {
        self.server.url()
    }

    /// With something that goes on by itself until it is stopped.
    pub(crate) fn beside(mut self, clock: JoinHandle<()>) -> Self {
        self.clocks.push(clock);
        self
    }

    /// The office itself, for what goes on there.
    pub(crate) fn office(&self) -> Office<S> {
        self.office.clone()
    }

    /// Looks at what it keeps, or changes it, as somebody there would.
    pub fn with<T>(&self, f: impl FnOnce(&mut S) -> T) -> T {
        self.office.with(f)
    }

    /// Switches faults.
    pub fn set_faults(&self, faults: Faults) {
        *locked(&self.office.gate.faults) = faults;
    }

    /// Stops it.
    pub async fn stop(&self) {
        self.clocks.iter().for_each(JoinHandle::abort);
        self.server.stop().await;
    }
}
