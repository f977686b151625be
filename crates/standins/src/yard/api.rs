//! The yard's own JSON API.

use super::{Shared, locked};
use crate::{Faults, Server, StandinError, auth, faults::Fate};
use actix_web::{HttpRequest, HttpResponse, web};
use serde::Deserialize;
use serde_json::{Value, json};
use std::{
    collections::BTreeMap,
    sync::{Arc, Mutex, PoisonError},
};

/// Answers by idempotency key: a repeated request gets the first one's answer and does nothing.
type Answers = Arc<Mutex<BTreeMap<String, (u16, Value)>>>;

const MOST_KEYS: usize = 10_000;

#[derive(Clone)]
struct Office {
    yard: Shared,
    token: String,
    answers: Answers,
}

pub(super) fn serve(port: u16, token: String, yard: Shared) -> Result<Server, StandinError> {
    let office = Office { yard, token, answers: Answers::default() };
    Server::start(port, move |config| {
        config
            .app_data(web::Data::new(office.clone()))
            .route("/v1/vms", web::get().to(vms))
            .route("/v1/vms/{name}", web::get().to(vm))
            .route("/v1/vms/{name}/grow", web::post().to(grow))
            .route("/v1/vms/{name}/power", web::post().to(power))
            .route("/v1/vms/{name}/move", web::post().to(set_out))
            .route("/v1/hosts", web::get().to(hosts))
            .route("/v1/about", web::get().to(about))
            .route("/v1/monitor/about", web::get().to(monitor_about))
            .route("/v1/faults", web::put().to(set_faults))
            .route("/v1/vms/{name}/fill", web::post().to(fill));
    })
}

type Answer = Result<(u16, Value), (u16, String)>;

impl Office {
    /// Every request passes the gate: the token, then the faults.
    async fn serve(&self, request: HttpRequest, work: impl FnOnce(&Self) -> Answer) -> HttpResponse {
        if let Some(refused) = auth::refusal(&request, &self.token) {
            return refused;
        }
        let (delay, fate) = locked(&self.yard).faults.next();
        tokio::time::sleep(delay).await;
        let key = request.headers().get("Idempotency-Key").and_then(|v| v.to_str().ok()).map(str::to_owned);
        match fate {
            Fate::Refuse(answer) => answer,
            fate => fate.spoil(respond(self.once(key, work))),
        }
    }

    fn once(&self, key: Option<String>, work: impl FnOnce(&Self) -> Answer) -> Answer {
        let Some(key) = key else { return work(self) };
        let mut answers = self.answers.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(first) = answers.get(&key) {
            return Ok(first.clone());
        }
        let answer = work(self)?;
        if answers.len() >= MOST_KEYS {
            answers.pop_first();
        }
        answers.insert(key, answer.clone());
        Ok(answer)
    }
}

fn respond(answer: Answer) -> HttpResponse {
    let (status, body) = answer.unwrap_or_else(|(status, error)| (status, json!({ "error": error })));
    let status = actix_web::http::StatusCode::from_u16(status).unwrap_or_default();
    HttpResponse::build(status).json(body)
}

fn not_found(name: &str) -> (u16, String) {
    (404, format!("there is no VM {name}"))
}

async fn vms(office: web::Data<Office>, request: HttpRequest) -> HttpResponse {
    office.serve(request, |o| Ok((200, json!({ "vms": locked(&o.yard).cluster.vms })))).await
}

async fn hosts(office: web::Data<Office>, request: HttpRequest) -> HttpResponse {
    let work = |o: &Office| {
        let yard = locked(&o.yard);
        let guests = |host: &str| -> Vec<Value> {
            let on = yard.cluster.vms.iter().filter(|(_, vm)| vm.host == host && vm.powered);
            on.map(|(name, vm)| json!({ "name": name, "memory_gib": vm.memory_gib, "tier": vm.tier })).collect()
        };
        let host = |(name, host): (&String, &super::Host)| {
            json!({ "name": name, "memory_gib": host.memory_gib, "used_gib": yard.cluster.used_gib(name),
                "load": host.load, "guests": guests(name) })
        };
        Ok((200, json!({ "hosts": yard.cluster.hosts.iter().map(host).collect::<Vec<_>>() })))
    };
    office.serve(request, work).await
}

async fn about(office: web::Data<Office>, request: HttpRequest) -> HttpResponse {
    office.serve(request, |_| Ok((200, json!({ "component": "yard office", "version": "4.2.0" })))).await
}

async fn monitor_about(office: web::Data<Office>, request: HttpRequest) -> HttpResponse {
    office.serve(request, |_| Ok((200, json!({ "component": "yard monitor", "version": "1.9.3" })))).await
}

async fn vm(office: web::Data<Office>, name: web::Path<String>, request: HttpRequest) -> HttpResponse {
    let work = |o: &Office| {
        let yard = locked(&o.yard);
        let vm = yard.cluster.vms.get(name.as_str()).ok_or_else(|| not_found(&name))?;
        Ok((200, json!({ "name": *name, "vm": vm })))
    };
    office.serve(request, work).await
}

#[derive(Deserialize)]
struct Grow {
    disk: String,
    by_gib: f64,
}

async fn grow(
    office: web::Data<Office>,
    name: web::Path<String>,
    ask: web::Json<Grow>,
    request: HttpRequest,
) -> HttpResponse {
    let work = |o: &Office| {
        let size = locked(&o.yard).cluster.grow(&name, &ask.disk, ask.by_gib).map_err(|e| (409, e))?;
        Ok((200, json!({ "disk": ask.disk, "size_gib": size })))
    };
    office.serve(request, work).await
}

#[derive(Deserialize)]
struct Power {
    on: bool,
}

async fn power(
    office: web::Data<Office>,
    name: web::Path<String>,
    ask: web::Json<Power>,
    request: HttpRequest,
) -> HttpResponse {
    let work = |o: &Office| {
        let mut yard = locked(&o.yard);
        let vm = yard.cluster.vms.get_mut(name.as_str()).ok_or_else(|| not_found(&name))?;
        vm.powered = ask.on;
        Ok((200, json!({ "name": *name, "powered": vm.powered })))
    };
    office.serve(request, work).await
}

#[derive(Deserialize)]
struct SetOut {
    to: String,
}

async fn set_out(
    office: web::Data<Office>,
    name: web::Path<String>,
    ask: web::Json<SetOut>,
    request: HttpRequest,
) -> HttpResponse {
    let work = |o: &Office| {
        let seconds = locked(&o.yard).cluster.set_out(&name, &ask.to).map_err(|e| (409, e))?;
        Ok((202, json!({ "name": *name, "to": ask.to, "seconds": seconds })))
    };
    office.serve(request, work).await
}

#[derive(Deserialize)]
struct Fill {
    disk: String,
    percent: f64,
    gib_an_hour: f64,
}

/// For whoever plays: makes a disk fill.
async fn fill(
    office: web::Data<Office>,
    name: web::Path<String>,
    ask: web::Json<Fill>,
    request: HttpRequest,
) -> HttpResponse {
    if let Some(refused) = auth::refusal(&request, &office.token) {
        return refused;
    }
    locked(&office.yard).cluster.fill(
        &name,
        &ask.disk,
        ask.percent.clamp(0.0, 100.0),
        ask.gib_an_hour.clamp(0.0, 1000.0),
    );
    HttpResponse::NoContent().finish()
}

async fn set_faults(office: web::Data<Office>, ask: web::Json<Faults>, request: HttpRequest) -> HttpResponse {
    if let Some(refused) = auth::refusal(&request, &office.token) {
        return refused;
    }
    locked(&office.yard).faults = ask.into_inner();
    HttpResponse::NoContent().finish()
}
