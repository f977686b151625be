//! The yard's own JSON API.

use super::{Cluster, Vm};
use crate::{
    StandinError,
    office::{Answer, Office, Running, set_faults},
};
use actix_web::{HttpRequest, HttpResponse, web};
use serde::Deserialize;
use serde_json::{Value, json};
use std::collections::{BTreeMap, BTreeSet};

type Yard = web::Data<Office<Cluster>>;

pub(super) fn serve(port: u16, office: Office<Cluster>) -> Result<Running<Cluster>, StandinError> {
    office.open(port, |config| {
        config
            .route("/v1/vms", web::get().to(vms))
            .route("/v1/vms/{name}", web::get().to(vm))
            .route("/v1/vms/{name}/grow", web::post().to(grow))
            .route("/v1/vms/{name}/power", web::post().to(power))
            .route("/v1/vms/{name}/move", web::post().to(set_out))
            .route("/v1/vms/{name}/cpus", web::put().to(cpus))
            .route("/v1/vms/{name}/tags", web::put().to(tags))
            .route("/v1/vms/{name}/snapshots/{snapshot}", web::put().to(keep))
            .route("/v1/vms/{name}/snapshots/{snapshot}/restore", web::post().to(put_back))
            .route("/v1/hosts", web::get().to(hosts))
            .route("/v1/about", web::get().to(about))
            .route("/v1/monitor/about", web::get().to(monitor_about))
            .route("/v1/faults", web::put().to(set_faults::<Cluster>))
            .route("/v1/vms/{name}/fill", web::post().to(fill));
    })
}

fn not_found(name: &str) -> (u16, String) {
    (404, format!("there is no VM {name}"))
}

#[derive(Deserialize)]
struct Tagged {
    tag: Option<String>,
}

/// All VMs, or those that are marked with a tag.
async fn vms(office: Yard, which: web::Query<Tagged>, request: HttpRequest) -> HttpResponse {
    let work = |cluster: &mut Cluster| -> Answer {
        let fits = |vm: &Vm| which.tag.as_ref().is_none_or(|tag| vm.tags.contains(tag));
        let found: BTreeMap<&String, &Vm> = cluster.vms.iter().filter(|(_, vm)| fits(vm)).collect();
        Ok((200, json!({ "vms": found })))
    };
    office.serve(&request, work).await
}

async fn hosts(office: Yard, request: HttpRequest) -> HttpResponse {
    let work = |cluster: &mut Cluster| -> Answer {
        let guests = |host: &str| -> Vec<Value> {
            let on = cluster.vms.iter().filter(|(_, vm)| vm.host == host && vm.powered);
            on.map(
                |(name, vm)| json!({ "name": name, "memory_gib": vm.memory_gib, "tier": vm.tier }),
            )
            .collect()
        };
        let host = |(name, host): (&String, &super::Host)| {
            json!({ "name": name, "memory_gib": host.memory_gib, "used_gib": cluster.used_gib(name),
                "load": host.load, "guests": guests(name) })
        };
        Ok((200, json!({ "hosts": cluster.hosts.iter().map(host).collect::<Vec<_>>() })))
    };
    office.serve(&request, work).await
}

async fn about(office: Yard, request: HttpRequest) -> HttpResponse {
    office
        .serve(&request, |_| Ok((200, json!({ "component": "yard office", "version": "4.2.0" }))))
        .await
}

async fn monitor_about(office: Yard, request: HttpRequest) -> HttpResponse {
    office
        .serve(&request, |_| Ok((200, json!({ "component": "yard monitor", "version": "1.9.3" }))))
        .await
}

async fn vm(office: Yard, name: web::Path<String>, request: HttpRequest) -> HttpResponse {
    let work = |cluster: &mut Cluster| -> Answer {
        let vm = cluster.vms.get(name.as_str()).ok_or_else(|| not_found(&name))?;
        Ok((200, json!({ "name": *name, "vm": vm })))
    };
    office.serve(&request, work).await
}

#[derive(Deserialize)]
struct Grow {
    disk: String,
    by_gib: f64,
}

async fn grow(
    office: Yard,
    name: web::Path<String>,
    ask: web::Json<Grow>,
    request: HttpRequest,
) -> HttpResponse {
    let work = |cluster: &mut Cluster| -> Answer {
        let size = cluster.grow(&name, &ask.disk, ask.by_gib).map_err(|e| (409, e))?;
        Ok((200, json!({ "disk": ask.disk, "size_gib": size })))
    };
    office.serve(&request, work).await
}

#[derive(Deserialize)]
struct Power {
    on: bool,
}

async fn power(
    office: Yard,
    name: web::Path<String>,
    ask: web::Json<Power>,
    request: HttpRequest,
) -> HttpResponse {
    let work = |cluster: &mut Cluster| -> Answer {
        let vm = cluster.vms.get_mut(name.as_str()).ok_or_else(|| not_found(&name))?;
        vm.powered = ask.on;
        Ok((200, json!({ "name": *name, "powered": vm.powered })))
    };
    office.serve(&request, work).await
}

#[derive(Deserialize)]
struct SetOut {
    to: String,
}

async fn set_out(
    office: Yard,
    name: web::Path<String>,
    ask: web::Json<SetOut>,
    request: HttpRequest,
) -> HttpResponse {
    let work = |cluster: &mut Cluster| -> Answer {
        let seconds = cluster.set_out(&name, &ask.to).map_err(|e| (409, e))?;
        Ok((202, json!({ "name": *name, "to": ask.to, "seconds": seconds })))
    };
    office.serve(&request, work).await
}

#[derive(Deserialize)]
struct Cpus {
    cpus: u32,
}

async fn cpus(
    office: Yard,
    name: web::Path<String>,
    ask: web::Json<Cpus>,
    request: HttpRequest,
) -> HttpResponse {
    let work = |cluster: &mut Cluster| -> Answer {
        let cpus = cluster.set_cpus(&name, ask.cpus).map_err(|e| (409, e))?;
        Ok((200, json!({ "name": *name, "cpus": cpus })))
    };
    office.serve(&request, work).await
}

#[derive(Deserialize)]
struct Tags {
    #[serde(default)]
    add: BTreeSet<String>,
    #[serde(default)]
    remove: BTreeSet<String>,
}

async fn tags(
    office: Yard,
    name: web::Path<String>,
    ask: web::Json<Tags>,
    request: HttpRequest,
) -> HttpResponse {
    let work = |cluster: &mut Cluster| -> Answer {
        let Tags { add, remove } = ask.into_inner();
        let vm = cluster.vms.get_mut(name.as_str()).ok_or_else(|| not_found(&name))?;
        vm.tags.extend(add);
        vm.tags.retain(|tag| !remove.contains(tag));
        Ok((200, json!({ "name": *name, "tags": vm.tags })))
    };
    office.serve(&request, work).await
}

async fn keep(office: Yard, at: web::Path<(String, String)>, request: HttpRequest) -> HttpResponse {
    let (name, snapshot) = at.into_inner();
    let work = |cluster: &mut Cluster| -> Answer {
        cluster.keep(&name, &snapshot).map_err(|e| (409, e))?;
        Ok((201, json!({ "name": name, "snapshot": snapshot })))
    };
    office.serve(&request, work).await
}

async fn put_back(
    office: Yard,
    at: web::Path<(String, String)>,
    request: HttpRequest,
) -> HttpResponse {
    let (name, snapshot) = at.into_inner();
    let work = |cluster: &mut Cluster| -> Answer {
        cluster.put_back(&name, &snapshot).map_err(|e| (409, e))?;
        Ok((200, json!({ "name": name, "snapshot": snapshot })))
    };
    office.serve(&request, work).await
}

#[derive(Deserialize)]
struct Fill {
    disk: String,
    percent: f64,
    gib_an_hour: f64,
}

/// For whoever plays: makes a disk fill.
async fn fill(
    office: Yard,
    name: web::Path<String>,
    ask: web::Json<Fill>,
    request: HttpRequest,
) -> HttpResponse {
    if let Some(refused) = office.refusal(&request) {
        return refused;
    }
    let Fill { disk, percent, gib_an_hour } = ask.into_inner();
    office.with(|cluster| {
        cluster.fill(&name, &disk, percent.clamp(0.0, 100.0), gib_an_hour.clamp(0.0, 1000.0))
    });
    HttpResponse::NoContent().finish()
}
