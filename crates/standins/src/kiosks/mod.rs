//! The register of the gate kiosks: listed in pages by links (RFC 8288), each with the page that it
//! shows, which may be broken and is mended by a restart that takes a moment, and with paper, which
//! only a person can fill.

use crate::{
    Sight, StandinError, Watched,
    office::{Answer, Office, Running},
};
use actix_web::{HttpRequest, HttpResponse, http::header, web};
use serde::{Deserialize, Serialize};
use serde_json::json;
use std::{
    collections::BTreeMap,
    time::{Duration, Instant},
};

/// Most kiosks.
const MOST: usize = 1_000;
/// Kiosks on one page of the list.
const PAGE: usize = 3;

/// A kiosk.
#[derive(Clone, Debug, Serialize)]
pub struct Kiosk {
    /// The terminal at which it stands.
    pub terminal: String,
    /// What its page shows.
    pub page: String,
    /// Who looks after it.
    pub registered_by: Option<String>,
    /// Whether there is paper for tickets.
    pub paper: bool,
    #[serde(skip)]
    restarts_until: Option<Instant>,
}

/// The page of a kiosk that is well.
pub const GOOD_PAGE: &str = "Departures from";

/// What the register keeps.
#[derive(Debug)]
pub struct Kiosks {
    takes: Duration,
    /// By name.
    pub kiosks: BTreeMap<String, Kiosk>,
}

impl Kiosks {
    /// Breaks the page of one.
    pub fn break_page(&mut self, name: &str) {
        if let Some(kiosk) = self.kiosks.get_mut(name) {
            "Error 500".clone_into(&mut kiosk.page);
        }
    }

    /// A new one that nobody has registered.
    pub fn add(&mut self, name: &str, terminal: &str) {
        self.kiosks.insert(name.to_owned(), kiosk(terminal));
    }

    fn kiosk(&mut self, name: &str) -> Result<&mut Kiosk, (u16, String)> {
        let found =
            self.kiosks.get_mut(name).ok_or_else(|| (404, format!("there is no kiosk {name}")))?;
        if found.restarts_until.is_some_and(|until| Instant::now() >= until) {
            found.restarts_until = None;
            found.page = format!("{GOOD_PAGE} {}", found.terminal);
        }
        Ok(found)
    }
}

fn kiosk(terminal: &str) -> Kiosk {
    Kiosk {
        terminal: terminal.into(),
        page: format!("{GOOD_PAGE} {terminal}"),
        registered_by: None,
        paper: true,
        restarts_until: None,
    }
}

impl Watched for Kiosks {
    fn sights(&mut self) -> Vec<Sight> {
        let names: Vec<String> = self.kiosks.keys().cloned().collect();
        let seen = names.iter().filter_map(|name| {
            let kiosk = self.kiosk(name).ok()?.clone();
            let about = format!("kiosk/{name}");
            let more = json!({ "labels": { "terminal": kiosk.terminal } });
            let wrong = !kiosk.page.starts_with(GOOD_PAGE);
            let text = format!("the page of {name} shows: {}", kiosk.page);
            let page = Sight {
                check: "kiosk.page",
                about: about.clone(),
                wrong,
                text,
                more: more.clone(),
            };
            let text = format!(
                "{name} {} paper for tickets",
                if kiosk.paper { "has" } else { "is out of" }
            );
            Some([page, Sight { check: "kiosk.paper", about, wrong: !kiosk.paper, text, more }])
        });
        seen.flatten().collect()
    }
}

/// A register at work.
pub type RunningKiosks = Running<Kiosks>;

/// Starts the register of the Skerrow Ferries; a restart takes so long.
pub fn start(port: u16, token: String, takes: Duration) -> Result<RunningKiosks, StandinError> {
    let terminals = ["quill", "brack", "nessfold", "oldhithe"];
    let all =
        terminals.iter().flat_map(|t| (1..=2).map(move |n| (format!("{t}-kiosk-{n}"), kiosk(t))));
    Office::new(Kiosks { takes, kiosks: all.collect() }, token).open(port, |config| {
        config
            .route("/about", web::get().to(about))
            .route("/kiosks", web::get().to(list))
            .route("/kiosks/{name}", web::get().to(show))
            .route("/kiosks/{name}", web::put().to(register))
            .route("/kiosks/{name}/page", web::get().to(page))
            .route("/kiosks/{name}/restart", web::post().to(restart))
            .route("/kiosks/{name}/spoil", web::post().to(spoil));
    })
}

type Kept = web::Data<Office<Kiosks>>;

async fn about(kept: Kept, request: HttpRequest) -> HttpResponse {
    kept.serve(&request, |_| {
        Ok((200, json!({ "component": "kiosk register", "version": "3.3.1" })))
    })
    .await
}

#[derive(Deserialize)]
struct Which {
    from: Option<usize>,
    terminal: Option<String>,
}

async fn list(kept: Kept, which: web::Query<Which>, request: HttpRequest) -> HttpResponse {
    let from = which.from.unwrap_or(0);
    let (mut answer, more) = {
        let mut more = false;
        let work = |kiosks: &mut Kiosks| {
            let fits =
                |k: &&(String, Kiosk)| which.terminal.as_ref().is_none_or(|t| k.1.terminal == *t);
            let all: Vec<(String, Kiosk)> = kiosks.kiosks.clone().into_iter().collect();
            let found: Vec<_> = all.iter().filter(fits).skip(from).collect();
            more = found.len() > PAGE;
            let page = found.into_iter().take(PAGE);
            Ok((
                200,
                page.map(
                    |(name, k)| json!({ "name": name, "terminal": k.terminal, "page": k.page }),
                )
                .collect(),
            ))
        };
        let answer = kept.serve(&request, work).await;
        (answer, more)
    };
    if more {
        let terminal =
            which.terminal.as_ref().map_or_else(String::new, |t| format!("&terminal={t}"));
        let next = format!("</kiosks?from={}{terminal}>; rel=\"next\"", from + PAGE);
        if let Ok(value) = header::HeaderValue::from_str(&next) {
            answer.headers_mut().insert(header::LINK, value);
        }
    }
    answer
}

async fn show(kept: Kept, name: web::Path<String>, request: HttpRequest) -> HttpResponse {
    let work = |kiosks: &mut Kiosks| -> Answer {
        let kiosk = kiosks.kiosk(&name)?;
        let state = if kiosk.restarts_until.is_some() { "restarting" } else { "up" };
        Ok((
            200,
            json!({ "name": *name, "terminal": kiosk.terminal, "page": kiosk.page, "state": state,
                "registered_by": kiosk.registered_by }),
        ))
    };
    kept.serve(&request, work).await
}

#[derive(Deserialize)]
struct Register {
    by: String,
    /// Of one that is not known yet.
    terminal: Option<String>,
}

async fn register(
    kept: Kept,
    name: web::Path<String>,
    ask: web::Json<Register>,
    request: HttpRequest,
) -> HttpResponse {
    let Register { by, terminal } = ask.into_inner();
    let work = |kiosks: &mut Kiosks| -> Answer {
        if let Some(terminal) = terminal.filter(|_| !kiosks.kiosks.contains_key(name.as_str())) {
            if kiosks.kiosks.len() >= MOST {
                return Err((
                    409,
                    format!("there are {MOST} kiosks, and no more can be registered"),
                ));
            }
            kiosks.add(&name, &terminal);
        }
        let kiosk = kiosks.kiosk(&name)?;
        kiosk.registered_by = Some(by);
        Ok((200, json!({ "name": *name, "registered_by": kiosk.registered_by })))
    };
    kept.serve(&request, work).await
}

/// What a passenger sees.
async fn page(kept: Kept, name: web::Path<String>, request: HttpRequest) -> HttpResponse {
    let look = |kiosks: &mut Kiosks| {
        let shown = kiosks.kiosk(&name)?;
        Ok(format!("<!doctype html><title>Skerrow Ferries</title><h1>{}</h1>", shown.page))
    };
    kept.page(&request, look).await
}

/// For whoever plays: breaks the page.
async fn spoil(kept: Kept, name: web::Path<String>, request: HttpRequest) -> HttpResponse {
    let work = |kiosks: &mut Kiosks| -> Answer {
        kiosks.kiosk(&name)?;
        kiosks.break_page(&name);
        Ok((202, json!({ "name": *name })))
    };
    kept.serve(&request, work).await
}

async fn restart(kept: Kept, name: web::Path<String>, request: HttpRequest) -> HttpResponse {
    let work = |kiosks: &mut Kiosks| -> Answer {
        let takes = kiosks.takes;
        let kiosk = kiosks.kiosk(&name)?;
        kiosk.restarts_until.get_or_insert_with(|| Instant::now() + takes);
        Ok((202, json!({ "name": *name, "state": "restarting" })))
    };
    kept.serve(&request, work).await
}
