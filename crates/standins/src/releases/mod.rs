//! The release desk: services that run in versions, of which some are faulty, and the import of the night's fares.
//!
//! A release takes a moment. The desk's own watch measures each service's share of failing requests, posts an alert when it
//! is too high, and clears it when it has come down.

use crate::{Faults, Server, StandinError, auth, faults::Fate};
use actix_web::{HttpRequest, HttpResponse, web};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use std::{
    collections::BTreeMap,
    sync::{Arc, Mutex, MutexGuard, PoisonError},
    time::{Duration, Instant},
};

/// Percent of requests that fail at which it is raised.
const RAISE: f64 = 5.0;

/// How a desk is set up.
#[derive(Clone, Debug)]
pub struct ReleaseOptions {
    /// The port of loopback; 0 takes a free one.
    pub port: u16,
    /// What callers must show.
    pub token: String,
    /// Where its watch posts, and what it shows there.
    pub report_to: Option<(String, String)>,
    /// How often the watch looks.
    pub tick: Duration,
    /// How long a release takes.
    pub takes: Duration,
}

/// A service.
#[derive(Clone, Debug, Serialize)]
pub struct Service {
    /// The version that runs.
    pub version: String,
    /// The one that ran before.
    pub before: Option<String>,
    /// Its versions, and of each the percent of requests that fail.
    pub versions: BTreeMap<String, f64>,
    /// The version that is on its way, and since when.
    #[serde(skip)]
    under_way: Option<(String, Instant)>,
    /// The night whose fares are in.
    pub imported: Option<String>,
}

impl Service {
    /// What is on its way arrives once its time has come.
    fn arrive(&mut self, takes: Duration) {
        if let Some((version, _)) = self.under_way.take_if(|(_, since)| since.elapsed() >= takes) {
            self.before = Some(std::mem::replace(&mut self.version, version));
        }
    }

    /// The percent of requests that fail.
    pub fn failing(&self) -> f64 {
        self.versions.get(&self.version).copied().unwrap_or(0.0)
    }
}

#[derive(Debug)]
struct Desk {
    services: BTreeMap<String, Service>,
    faults: Faults,
}

type Shared = Arc<Mutex<Desk>>;

fn locked(desk: &Shared) -> MutexGuard<'_, Desk> {
    desk.lock().unwrap_or_else(PoisonError::into_inner)
}

/// A running desk.
#[derive(Debug)]
pub struct RunningReleases {
    server: Server,
    desk: Shared,
    watch: tokio::task::JoinHandle<()>,
}

fn skerrow() -> BTreeMap<String, Service> {
    let service = |version: &str, versions: &[(&str, f64)]| Service {
        version: version.to_owned(),
        before: None,
        versions: versions.iter().map(|(v, failing)| ((*v).to_owned(), *failing)).collect(),
        under_way: None,
        imported: None,
    };
    BTreeMap::from([
        ("booking-web".to_owned(), service("5.1.3", &[("5.1.3", 0.2), ("5.2.0", 14.5)])),
        ("fares".to_owned(), service("3.0.1", &[("3.0.1", 0.1)])),
    ])
}

/// Starts a desk of the Skerrow Ferries.
pub fn start(options: ReleaseOptions) -> Result<RunningReleases, StandinError> {
    let desk: Shared = Arc::new(Mutex::new(Desk { services: skerrow(), faults: Faults::default() }));
    let office = Office { desk: Arc::clone(&desk), token: options.token.clone(), takes: options.takes };
    let server = Server::start(options.port, move |config| {
        config
            .app_data(web::Data::new(office.clone()))
            .route("/services/{name}", web::get().to(status))
            .route("/services/{name}/release", web::post().to(release))
            .route("/services/{name}/import", web::post().to(import));
    })?;
    let watch = tokio::spawn(watch(Arc::clone(&desk), options));
    Ok(RunningReleases { server, desk, watch })
}

impl RunningReleases {
    /// The base address of its API.
    pub fn url(&self) -> String {
        self.server.url()
    }

    /// Looks at a service, or changes it, as somebody at the desk would.
    pub fn with<T>(&self, name: &str, f: impl FnOnce(&mut Service) -> T) -> Option<T> {
        locked(&self.desk).services.get_mut(name).map(f)
    }

    /// Switches faults.
    pub fn set_faults(&self, faults: Faults) {
        locked(&self.desk).faults = faults;
    }

    /// Stops it.
    pub async fn stop(&self) {
        self.watch.abort();
        self.server.stop().await;
    }
}

#[derive(Clone)]
struct Office {
    desk: Shared,
    token: String,
    takes: Duration,
}

impl Office {
    /// Every request passes the gate: the token, then the faults. What it does twice it does once.
    async fn serve(
        &self,
        request: &HttpRequest,
        name: &str,
        work: impl FnOnce(&mut Service) -> Result<(u16, Value), (u16, String)>,
    ) -> HttpResponse {
        if let Some(refused) = auth::refusal(request, &self.token) {
            return refused;
        }
        let (delay, fate) = locked(&self.desk).faults.next();
        tokio::time::sleep(delay).await;
        if let Fate::Refuse(answer) = fate {
            return answer;
        }
        let answer = match locked(&self.desk).services.get_mut(name) {
            Some(service) => {
                service.arrive(self.takes);
                work(service)
            }
            None => Err((404, format!("there is no service {name}"))),
        };
        fate.spoil(match answer {
            Ok((status, body)) => respond(status, body),
            Err((status, error)) => respond(status, json!({ "error": error })),
        })
    }
}

fn respond(status: u16, body: Value) -> HttpResponse {
    HttpResponse::build(actix_web::http::StatusCode::from_u16(status).unwrap_or_default()).json(body)
}

fn told(name: &str, service: &Service) -> Value {
    json!({
        "service": name, "version": service.version, "before": service.before, "failing_percent": service.failing(),
        "under_way": service.under_way.as_ref().map(|(version, _)| version), "imported": service.imported,
    })
}

async fn status(office: web::Data<Office>, name: web::Path<String>, request: HttpRequest) -> HttpResponse {
    office.serve(&request, &name, |service| Ok((200, told(&name, service)))).await
}

#[derive(Deserialize)]
struct Release {
    version: String,
}

async fn release(
    office: web::Data<Office>,
    name: web::Path<String>,
    ask: web::Json<Release>,
    request: HttpRequest,
) -> HttpResponse {
    let Release { version } = ask.into_inner();
    let work = |service: &mut Service| {
        if !service.versions.contains_key(&version) {
            let known = service.versions.keys().cloned().collect::<Vec<_>>().join(", ");
            return Err((422, format!("there is no version {version}; there are {known}")));
        }
        let goes = service.under_way.as_ref().map(|(version, _)| version.clone());
        match goes {
            Some(other) if other != version => Err((409, format!("{other} is on its way"))),
            None if service.version != version => {
                service.under_way = Some((version, Instant::now()));
                Ok((202, told(&name, service)))
            }
            _ => Ok((202, told(&name, service))),
        }
    };
    office.serve(&request, &name, work).await
}

#[derive(Deserialize)]
struct Import {
    night: String,
}

async fn import(
    office: web::Data<Office>,
    name: web::Path<String>,
    ask: web::Json<Import>,
    request: HttpRequest,
) -> HttpResponse {
    let Import { night } = ask.into_inner();
    let work = |service: &mut Service| {
        service.imported = Some(night);
        Ok((200, json!({ "rows": 1204, "imported": service.imported })))
    };
    office.serve(&request, &name, work).await
}

/// Looks at each service, and posts what crosses the threshold until it is taken.
async fn watch(desk: Shared, options: ReleaseOptions) {
    let client = arvok_connect::http_client().timeout(Duration::from_secs(5)).build();
    let mut raised: BTreeMap<String, bool> = BTreeMap::new();
    let mut number = 0u64;
    let run = format!("{:x}", chrono::Utc::now().timestamp_millis());
    let mut tick = tokio::time::interval(options.tick);
    loop {
        tick.tick().await;
        let seen: Vec<(String, String, f64)> = {
            let mut desk = locked(&desk);
            let all = desk.services.iter_mut().map(|(name, service)| {
                service.arrive(options.takes);
                (name.clone(), service.version.clone(), service.failing())
            });
            all.collect()
        };
        let (Ok(client), Some((url, token))) = (&client, &options.report_to) else { continue };
        for (name, version, failing) in seen {
            let high = failing >= RAISE;
            if raised.get(&name).copied().unwrap_or(false) == high {
                continue;
            }
            number += 1;
            let report = json!({
                "id": format!("{run}-{number}"), "service": name, "version": version, "failing_percent": failing,
                "state": if high { "failing" } else { "well" },
                "text": format!("{failing:.1} % of the requests to {name} {version} fail"),
            });
            let sent = client.post(url).bearer_auth(token).json(&report).send().await;
            if sent.is_ok_and(|answer| answer.status().is_success()) {
                raised.insert(name, high);
            }
        }
    }
}
