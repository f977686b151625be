//! A cloud whose instances take time to come up, and are taken away with notice. What takes time is
//! an operation at an address of its own, which says when it is done; whoever leaves an address to
//! call back at is called.

use crate::{
    Sight, StandinError, Watched,
    office::{Answer, Office, Running},
};
use actix_web::{HttpRequest, HttpResponse, web};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use std::{
    collections::BTreeMap,
    time::{Duration, Instant},
};

/// Instances, and operations, that are kept.
const MOST: usize = 1_000;

/// How often somebody is told anew who did not take it: for half a minute.
const TRIES: usize = 600;

/// An instance.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Instance {
    /// `starting`, `running`, `saving`, `gone`.
    pub state: &'static str,
    /// Whether it may be taken away with notice.
    pub preemptible: bool,
    /// Where its data was saved.
    pub saved_as: Option<String>,
    /// Whether the balancer sends it requests.
    pub serving: bool,
    /// When it is taken away.
    #[serde(skip)]
    leaves: Option<Instant>,
}

impl Instance {
    fn new(state: &'static str, preemptible: bool) -> Self {
        Self { state, preemptible, saved_as: None, serving: true, leaves: None }
    }

    /// Whether it is taken away with something that would be lost.
    fn loses(&self) -> bool {
        self.leaves.is_some() && self.state != "gone" && (self.serving || self.saved_as.is_none())
    }

    /// Seconds until it is taken away.
    fn leaves_in(&self) -> Option<u64> {
        self.leaves.map(|at| at.saturating_duration_since(Instant::now()).as_secs())
    }
}

/// Something that takes time.
#[derive(Clone, Debug)]
struct Operation {
    instance: String,
    what: &'static str,
    until: Instant,
    call_back: Option<String>,
    told: bool,
}

/// What the cloud keeps.
#[derive(Debug)]
pub struct Cloud {
    takes: Duration,
    /// By name.
    pub instances: BTreeMap<String, Instance>,
    operations: BTreeMap<u64, Operation>,
    /// What is begun fails, and why.
    pub no_room: Option<String>,
}

impl Watched for Cloud {
    fn sights(&mut self) -> Vec<Sight> {
        let sight = |(name, instance): (&String, &Instance)| Sight {
            check: "instance.leaving",
            about: format!("instance/{name}"),
            wrong: instance.loses(),
            text: match instance.leaves_in() {
                Some(seconds) => format!("{name} is taken away in {seconds} s"),
                None => format!("{name} stays"),
            },
            more: json!({ "value": instance.leaves_in(),
                "labels": { "preemptible": instance.preemptible.to_string() } }),
        };
        self.instances.iter().map(sight).collect()
    }
}

impl Cloud {
    /// Has an instance run as if nothing had been, and what took its place gone.
    pub fn bring_back(&mut self, name: &str) {
        self.instances.retain(|other, _| !other.starts_with(name));
        self.instances.insert(name.to_owned(), Instance::new("running", true));
    }

    /// Gives notice that an instance is taken away after so long; whether there is one that may be.
    pub fn reclaim(&mut self, name: &str, after: Duration) -> bool {
        let found = self.instances.get_mut(name).filter(|i| i.preemptible && i.state == "running");
        found.map(|instance| instance.leaves = Some(Instant::now() + after)).is_some()
    }

    /// What has become of everything by now, and who is to be called for it.
    fn go_on(&mut self) -> Vec<(String, Value)> {
        let now = Instant::now();
        for instance in self.instances.values_mut().filter(|i| i.leaves.is_some_and(|at| at <= now))
        {
            instance.state = "gone";
        }
        let mut calls = Vec::new();
        for (number, operation) in
            self.operations.iter_mut().filter(|(_, o)| !o.told && o.until <= now)
        {
            operation.told = true;
            let alive = self.instances.get_mut(&operation.instance).filter(|i| i.state != "gone");
            if let Some(instance) = alive {
                if operation.what == "save" {
                    instance.saved_as = Some(format!("store/{}/{number}", operation.instance));
                }
                instance.state = if operation.what == "remove" { "gone" } else { "running" };
            }
            let saved = self.instances.get(&operation.instance).and_then(|i| i.saved_as.clone());
            calls.extend(operation.call_back.clone().map(|at| {
                (at, json!({ "instance": operation.instance, "saved_as": saved, "ok": true }))
            }));
        }
        calls
    }

    fn begin(&mut self, instance: &str, what: &'static str, call_back: Option<String>) -> Answer {
        if let Some(why) = &self.no_room {
            return Err((409, why.clone()));
        }
        let number = self.operations.keys().last().map_or(1, |n| n + 1);
        if self.operations.len() >= MOST {
            self.operations.pop_first();
        }
        let until = Instant::now() + self.takes;
        self.operations.insert(
            number,
            Operation { instance: instance.to_owned(), what, until, call_back, told: false },
        );
        Ok((202, json!({ "operation": number, "instance": instance })))
    }
}

/// A cloud at work.
pub type RunningCloud = Running<Cloud>;

/// Starts a cloud with a timetable worker; what takes time takes so long.
pub fn start(port: u16, token: String, takes: Duration) -> Result<RunningCloud, StandinError> {
    let worker = Instance::new("running", true);
    let instances = BTreeMap::from([("timetable-worker-7".to_owned(), worker)]);
    let cloud = Cloud { takes, instances, operations: BTreeMap::new(), no_room: None };
    let office = Office::new(cloud, token);
    let calling = office.clone();
    let at_work = office.open(port, |config| {
        config
            .route("/about", web::get().to(about))
            .route("/instances", web::post().to(make))
            .route("/instances/{name}", web::get().to(show))
            .route("/instances/{name}", web::delete().to(remove))
            .route("/instances/{name}/save", web::post().to(save))
            .route("/instances/{name}/drain", web::post().to(drain))
            .route("/instances/{name}/reclaim", web::post().to(reclaim))
            .route("/operations/{number}", web::get().to(operation));
    })?;
    let clock = tokio::spawn(async move {
        let http = arvok_connect::http_client()
            .timeout(Duration::from_secs(5))
            .build()
            .unwrap_or_default();
        // What nobody took is told again, as a cloud does that wants to be heard.
        let mut untold: Vec<(String, Value, usize)> = Vec::new();
        loop {
            tokio::time::sleep(Duration::from_millis(50)).await;
            let times = if calling.faults().twice { 2 } else { 1 };
            let new = calling.with(Cloud::go_on).into_iter();
            untold.extend(new.flat_map(|(at, told)| vec![(at, told, TRIES); times]));
            for (at, told, left) in std::mem::take(&mut untold) {
                let answer = http.post(&at).json(&told).send().await;
                if answer.is_ok_and(|a| !a.status().is_server_error()) || left == 0 {
                    continue;
                }
                untold.push((at, told, left - 1));
            }
        }
    });
    Ok(at_work.beside(clock))
}

type Kept = web::Data<Office<Cloud>>;

async fn about(kept: Kept, request: HttpRequest) -> HttpResponse {
    kept.serve(&request, |_| Ok((200, json!({ "component": "cloud", "version": "2026-10" })))).await
}

#[derive(Deserialize)]
struct Make {
    name: String,
    #[serde(default)]
    preemptible: bool,
}

async fn make(kept: Kept, ask: web::Json<Make>, request: HttpRequest) -> HttpResponse {
    let Make { name, preemptible } = ask.into_inner();
    let work = |cloud: &mut Cloud| -> Answer {
        if cloud.instances.get(&name).is_some_and(|i| i.state != "gone") {
            return Err((409, format!("there is an instance {name} already")));
        }
        if cloud.instances.len() >= MOST {
            return Err((409, format!("there are {MOST} instances, and no more can be had")));
        }
        let begun = cloud.begin(&name, "make", None)?;
        cloud.instances.insert(name, Instance::new("starting", preemptible));
        Ok(begun)
    };
    kept.serve(&request, work).await
}

fn instance_named<'c>(cloud: &'c mut Cloud, name: &str) -> Result<&'c mut Instance, (u16, String)> {
    let found = cloud.instances.get_mut(name).filter(|i| i.state != "gone");
    found.ok_or_else(|| (404, format!("there is no instance {name}")))
}

async fn show(kept: Kept, name: web::Path<String>, request: HttpRequest) -> HttpResponse {
    let work = |cloud: &mut Cloud| -> Answer {
        let instance = instance_named(cloud, &name)?;
        let mut told = json!(instance);
        told["leaves_in_seconds"] = instance.leaves_in().into();
        Ok((200, told))
    };
    kept.serve(&request, work).await
}

/// The balancer sends it no further requests.
async fn drain(kept: Kept, name: web::Path<String>, request: HttpRequest) -> HttpResponse {
    let work = |cloud: &mut Cloud| -> Answer {
        instance_named(cloud, &name)?.serving = false;
        Ok((200, json!({ "instance": *name, "serving": false })))
    };
    kept.serve(&request, work).await
}

#[derive(Deserialize)]
struct Reclaim {
    seconds: u64,
}

/// For whoever plays: gives notice.
async fn reclaim(
    kept: Kept,
    name: web::Path<String>,
    ask: web::Json<Reclaim>,
    request: HttpRequest,
) -> HttpResponse {
    let work = |cloud: &mut Cloud| -> Answer {
        let after = Duration::from_secs(ask.seconds.min(3600));
        match cloud.reclaim(&name, after) {
            true => Ok((202, json!({ "instance": *name, "leaves_in_seconds": after.as_secs() }))),
            false => {
                Err((409, format!("{name} is not taken away: it must be preemptible, and run")))
            }
        }
    };
    kept.serve(&request, work).await
}

async fn remove(kept: Kept, name: web::Path<String>, request: HttpRequest) -> HttpResponse {
    let work = |cloud: &mut Cloud| -> Answer {
        instance_named(cloud, &name)?;
        cloud.begin(&name, "remove", None)
    };
    kept.serve(&request, work).await
}

#[derive(Deserialize)]
struct Save {
    call_back: Option<String>,
}

async fn save(
    kept: Kept,
    name: web::Path<String>,
    ask: web::Json<Save>,
    request: HttpRequest,
) -> HttpResponse {
    let work = |cloud: &mut Cloud| -> Answer {
        instance_named(cloud, &name)?.state = "saving";
        cloud.begin(&name, "save", ask.into_inner().call_back)
    };
    kept.serve(&request, work).await
}

async fn operation(kept: Kept, number: web::Path<u64>, request: HttpRequest) -> HttpResponse {
    let work = |cloud: &mut Cloud| -> Answer {
        let found = cloud
            .operations
            .get(&number)
            .ok_or_else(|| (404, format!("there is no operation {number}")))?;
        let state = if found.until <= Instant::now() { "done" } else { "under way" };
        Ok((200, json!({ "operation": *number, "instance": found.instance, "state": state })))
    };
    kept.serve(&request, work).await
}
