//! The release desk: services that run in versions, of which some are faulty, and the import of the
//! night's fares.
//!
//! A release takes a moment. The desk's own watch measures each service's share of failing
//! requests, posts an alert when it is too high, and clears it when it has come down.

use crate::{
    Faults, Sight, StandinError, Watched,
    office::{Answer, Office, Running},
};
use actix_web::{HttpRequest, HttpResponse, web};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use std::{
    collections::BTreeMap,
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
    /// How long a release takes.
    #[serde(skip)]
    takes: Duration,
    /// The night whose fares are in.
    pub imported: Option<String>,
}

impl Service {
    /// What is on its way arrives once its time has come.
    fn arrive(&mut self) {
        let takes = self.takes;
        if let Some((version, _)) = self.under_way.take_if(|(_, since)| since.elapsed() >= takes) {
            self.before = Some(std::mem::replace(&mut self.version, version));
        }
    }

    /// The percent of requests that fail.
    pub fn failing(&self) -> f64 {
        self.versions.get(&self.version).copied().unwrap_or(0.0)
    }
}

/// What the desk keeps: services by name.
type Services = BTreeMap<String, Service>;

impl Watched for Services {
    fn sights(&mut self) -> Vec<Sight> {
        let sight = |(name, service): (&String, &mut Service)| {
            service.arrive();
            let (version, failing) = (&service.version, service.failing());
            Sight {
                check: "release.failing",
                about: format!("service/{name}"),
                wrong: failing >= RAISE,
                text: format!("{failing:.1} % of the requests to {name} {version} fail"),
                more: json!({ "value": failing, "labels": { "version": version } }),
            }
        };
        self.iter_mut().map(sight).collect()
    }
}

/// A running desk.
#[derive(Debug)]
pub struct RunningReleases(Running<Services>);

fn skerrow(takes: Duration) -> Services {
    let service = |version: &str, versions: &[(&str, f64)]| Service {
        version: version.to_owned(),
        before: None,
        versions: versions.iter().map(|(v, failing)| ((*v).to_owned(), *failing)).collect(),
        under_way: None,
        takes,
        imported: None,
    };
    BTreeMap::from([
        ("booking-web".to_owned(), service("5.1.3", &[("5.1.3", 0.2), ("5.2.0", 14.5)])),
        ("fares".to_owned(), service("3.0.1", &[("3.0.1", 0.1)])),
    ])
}

/// Starts a desk of the Skerrow Ferries.
pub fn start(options: ReleaseOptions) -> Result<RunningReleases, StandinError> {
    let at_work =
        Office::new(skerrow(options.takes), options.token).open(options.port, |config| {
            config
                .route("/services/{name}", web::get().to(status))
                .route("/services/{name}/release", web::post().to(release))
                .route("/services/{name}/import", web::post().to(import));
        })?;
    Ok(RunningReleases(at_work.watched(options.report_to)))
}

impl RunningReleases {
    /// The base address of its API.
    pub fn url(&self) -> String {
        self.0.url()
    }

    /// Looks at a service, or changes it, as somebody at the desk would.
    pub fn with<T>(&self, name: &str, f: impl FnOnce(&mut Service) -> T) -> Option<T> {
        self.0.with(|services| services.get_mut(name).map(f))
    }

    /// Switches faults.
    pub fn set_faults(&self, faults: Faults) {
        self.0.set_faults(faults);
    }

    /// Stops it.
    pub async fn stop(&self) {
        self.0.stop().await;
    }
}

type Desk = web::Data<Office<Services>>;

/// Of a service that is there, as it stands by now.
async fn serve(
    desk: &Office<Services>,
    request: &HttpRequest,
    name: &str,
    work: impl FnOnce(&mut Service) -> Answer,
) -> HttpResponse {
    let at_work = |services: &mut Services| {
        let service =
            services.get_mut(name).ok_or_else(|| (404, format!("there is no service {name}")))?;
        service.arrive();
        work(service)
    };
    desk.serve(request, at_work).await
}

fn as_json(name: &str, service: &Service) -> Value {
    json!({
        "service": name, "version": service.version, "before": service.before,
            "failing_percent": service.failing(),
        "under_way": service.under_way.as_ref().map(|(version, _)| version),
            "imported": service.imported,
    })
}

async fn status(desk: Desk, name: web::Path<String>, request: HttpRequest) -> HttpResponse {
    serve(&desk, &request, &name, |service| Ok((200, as_json(&name, service)))).await
}

#[derive(Deserialize)]
struct Release {
    version: String,
}

async fn release(
    desk: Desk,
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
                Ok((202, as_json(&name, service)))
            }
            _ => Ok((202, as_json(&name, service))),
        }
    };
    serve(&desk, &request, &name, work).await
}

#[derive(Deserialize)]
struct Import {
    night: String,
}

async fn import(
    desk: Desk,
    name: web::Path<String>,
    ask: web::Json<Import>,
    request: HttpRequest,
) -> HttpResponse {
    let Import { night } = ask.into_inner();
    let work = |service: &mut Service| {
        service.imported = Some(night);
        Ok((200, json!({ "rows": 1204, "imported": service.imported })))
    };
    serve(&desk, &request, &name, work).await
}
