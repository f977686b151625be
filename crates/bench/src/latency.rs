//! From an alert to the first outward call of its job, against the least that it could take:
//! two commits and one round trip over loopback.

use crate::{
    Fallible,
    stage::Stage,
    summary::{Figure, Goal},
};
use actix_web::{App, HttpResponse, HttpServer, web};
use sea_orm::{ConnectionTrait, Database};
use serde_json::json;
use std::{
    net::TcpListener,
    time::{Duration, Instant},
};
use tokio::sync::mpsc::{UnboundedReceiver, UnboundedSender, unbounded_channel};

const SAMPLES: usize = 300;

async fn called(heard: web::Data<UnboundedSender<Instant>>) -> HttpResponse {
    let _ = heard.send(Instant::now());
    HttpResponse::Ok().json(json!({ "ok": true }))
}

/// A peer that notes when it is called.
pub fn peer() -> Fallible<(String, UnboundedReceiver<Instant>)> {
    let (heard, calls) = unbounded_channel();
    let listener = TcpListener::bind("127.0.0.1:0")?;
    let address = format!("http://{}", listener.local_addr()?);
    let data = web::Data::new(heard);
    let server = HttpServer::new(move || {
        App::new().app_data(data.clone()).route("/call", web::post().to(called))
    });
    tokio::spawn(server.workers(1).disable_signals().listen(listener)?.run());
    Ok((address, calls))
}

/// The median and the 99th percentile.
pub async fn first_call(stage: &Stage) -> Fallible<Vec<Figure>> {
    let (address, mut calls) = peer()?;
    stage
        .publish(&format!(
            "connector: peer\noperations: {{ call: {{ request: {{ method: POST, path: /call }}, \
            repeat: safe }} }}\n---\n\
             connection: peer\nconnector: peer\nbase: {address}\n---\n\
             runbook: call\ninputs: {{ vm: {{ type: string }} }}\ntarget: ${{inputs.vm}}\nsteps: \
             [{{ id: call, call: call, via: peer }}]\n---\n\
             rule: call\nstance: act\nlisten: {{ kinds: bench.call }}\ndispatch: {{ runbook: call, \
             inputs: {{ vm: \"${{alert.resource}}\" }} }}\n"
        ))
        .await?;
    let db = Database::connect(stage.database.as_str()).await?;
    db.execute_unprepared("CREATE TABLE bare (n serial PRIMARY KEY, text text)").await?;
    let (mut ours, mut bare) = (Vec::new(), Vec::new());
    for n in 0..SAMPLES {
        let alert =
            json!({ "kind": "bench.call", "resource": format!("vm/n{n}"), "severity": "major" });
        let begun = Instant::now();
        stage.post(&alert).await?;
        let at = tokio::time::timeout(Duration::from_secs(20), calls.recv())
            .await?
            .ok_or("the peer is gone")?;
        ours.push(at.duration_since(begun).as_secs_f64() * 1000.0);
        // Let the job end before the bare way is measured.
        tokio::time::sleep(Duration::from_millis(15)).await;

        let begun = Instant::now();
        for _ in 0..2 {
            db.execute_unprepared("INSERT INTO bare (text) VALUES ('an alert of some length')")
                .await?;
        }
        stage.http.post(format!("{address}/call")).send().await?;
        bare.push(begun.elapsed().as_secs_f64() * 1000.0);
        calls.recv().await;
    }
    db.close().await?;
    let what = "two bare commits and a round trip over loopback";
    Ok(vec![
        Figure::new(
            "latency/first-call-p50",
            (share(&mut ours, 0.5), "ms"),
            (what, share(&mut bare, 0.5)),
            Goal::AtMost(3.0, "<= 3"),
        ),
        Figure::new(
            "latency/first-call-p99",
            (share(&mut ours, 0.99), "ms"),
            (what, share(&mut bare, 0.99)),
            Goal::AtMost(4.0, "<= 4"),
        ),
    ])
}

fn share(samples: &mut [f64], share: f64) -> f64 {
    samples.sort_by(f64::total_cmp);
    let at = (samples.len() as f64 * share) as usize;
    samples[at.min(samples.len() - 1)]
}
