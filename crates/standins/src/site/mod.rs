//! The public web site: its pages, the booking service behind it, and the payment partner, each of
//! which may be unwell in its own way; and the watch that checks all three and tells of them in one
//! stream. Passengers begin to book on it ([`booking`]).

mod booking;

use crate::{
    Sight, StandinError, Watched,
    office::{Answer, Office, Running},
};
use actix_web::{HttpRequest, HttpResponse, web};
use serde::Deserialize;
use serde_json::json;
use std::{
    collections::BTreeMap,
    time::{Duration, Instant},
};

/// What a page that is well begins with.
pub const GOOD_PAGE: &str = "Sailings of Skerrow Ferries";
/// Cases that are kept.
const MOST: usize = 1_000;

/// Something that is well or not, and gets well after a while once somebody sees to it.
#[derive(Clone, Debug, Default)]
struct Health {
    unwell: Option<String>,
    well_at: Option<Instant>,
}

impl Health {
    fn now(&mut self) -> Option<&str> {
        if self.well_at.is_some_and(|at| at <= Instant::now()) {
            *self = Self::default();
        }
        self.unwell.as_deref()
    }

    fn see_to(&mut self, takes: Duration) {
        if self.unwell.is_some() {
            self.well_at.get_or_insert_with(|| Instant::now() + takes);
        }
    }
}

/// What the site keeps.
#[derive(Debug)]
pub struct Site {
    takes: Duration,
    pages: BTreeMap<String, Health>,
    bookings: Health,
    payments: Health,
    passengers: booking::Passengers,
    /// What the payment partner was told, the oldest first.
    pub cases: Vec<String>,
}

impl Site {
    /// Has a page show something else.
    pub fn spoil_page(&mut self, name: &str, shows: &str) {
        self.pages
            .insert(name.to_owned(), Health { unwell: Some(shows.to_owned()), well_at: None });
    }

    /// The booking service takes requests and answers none.
    pub fn jam_bookings(&mut self) {
        self.bookings = Health { unwell: Some("stuck".into()), well_at: None };
    }

    /// The payment partner is silent.
    pub fn silence_payments(&mut self) {
        self.payments = Health { unwell: Some("silent".into()), well_at: None };
    }

    /// What a page shows.
    pub fn shows(&mut self, name: &str) -> Option<String> {
        self.pages
            .get_mut(name)
            .map(|page| page.now().map_or_else(|| format!("{GOOD_PAGE}: {name}"), str::to_owned))
    }

    fn page(&mut self, name: &str) -> Result<String, (u16, String)> {
        self.shows(name).ok_or_else(|| (404, format!("there is no page {name}")))
    }
}

impl Watched for Site {
    fn sights(&mut self) -> Vec<Sight> {
        let sight = |what: &str, name: &str, wrong: bool, text: String| Sight {
            check: "site.check",
            about: format!("{what}/{name}"),
            wrong,
            text,
            more: json!({ "labels": { "check": what } }),
        };
        let names: Vec<String> = self.pages.keys().cloned().collect();
        let mut seen: Vec<Sight> = Vec::new();
        for name in names {
            let shows = self.shows(&name).unwrap_or_default();
            let wrong = !shows.starts_with(GOOD_PAGE);
            seen.push(sight("page", &name, wrong, format!("the page {name} shows: {shows}")));
        }
        for (what, name, health) in [
            ("service", "bookings", &mut self.bookings),
            ("partner", "payments", &mut self.payments),
        ] {
            let state = health.now().unwrap_or("well").to_owned();
            seen.push(sight(what, name, state != "well", format!("{name}: {state}")));
        }
        seen
    }
}

/// A site at work.
pub type RunningSite = Running<Site>;

/// Starts the site of the Skerrow Ferries; what is seen to is well after so long.
pub fn start(port: u16, token: String, takes: Duration) -> Result<RunningSite, StandinError> {
    let pages = ["sailings", "prices"].map(|name| (name.to_owned(), Health::default()));
    let well = Health::default();
    let site = Site {
        takes,
        pages: pages.into(),
        bookings: well.clone(),
        payments: well,
        passengers: booking::Passengers::default(),
        cases: Vec::new(),
    };
    Office::new(site, token).open(port, |config| {
        config
            .route("/about", web::get().to(about))
            .route("/pages/{name}", web::get().to(page))
            .route("/pages/{name}/refresh", web::post().to(refresh))
            .route("/bookings", web::get().to(bookings))
            .route("/bookings/restart", web::post().to(restart))
            .route("/book", web::get().to(booking::begin))
            .route("/book", web::post().to(booking::search))
            .route("/book/sailings/{pier}", web::get().to(booking::sailings))
            .route("/payments", web::get().to(payments))
            .route("/payments/cases", web::post().to(open_case));
    })
}

type Kept = web::Data<Office<Site>>;

async fn about(kept: Kept, request: HttpRequest) -> HttpResponse {
    kept.serve(&request, |_| Ok((200, json!({ "component": "web site", "version": "11.4.0" }))))
        .await
}

async fn page(kept: Kept, name: web::Path<String>, request: HttpRequest) -> HttpResponse {
    let look = |site: &mut Site| {
        let shows = site.page(&name)?;
        Ok(format!("<!doctype html><title>Skerrow Ferries</title><h1>{shows}</h1>"))
    };
    kept.page(&request, look).await
}

/// Has a page made anew.
async fn refresh(kept: Kept, name: web::Path<String>, request: HttpRequest) -> HttpResponse {
    let work = |site: &mut Site| -> Answer {
        let takes = site.takes;
        let page = site
            .pages
            .get_mut(name.as_str())
            .ok_or_else(|| (404, format!("there is no page {name}")))?;
        page.see_to(takes);
        Ok((202, json!({ "page": *name })))
    };
    kept.serve(&request, work).await
}

async fn bookings(kept: Kept, request: HttpRequest) -> HttpResponse {
    let work = |site: &mut Site| -> Answer {
        Ok((200, json!({ "state": site.bookings.now().unwrap_or("well") })))
    };
    kept.serve(&request, work).await
}

async fn restart(kept: Kept, request: HttpRequest) -> HttpResponse {
    let work = |site: &mut Site| -> Answer {
        let takes = site.takes;
        site.bookings.see_to(takes);
        Ok((202, json!({ "state": "restarting" })))
    };
    kept.serve(&request, work).await
}

async fn payments(kept: Kept, request: HttpRequest) -> HttpResponse {
    let work = |site: &mut Site| -> Answer {
        Ok((200, json!({ "state": site.payments.now().unwrap_or("well") })))
    };
    kept.serve(&request, work).await
}

#[derive(Deserialize)]
struct Case {
    text: String,
}

/// Tells the payment partner, who sees to it.
async fn open_case(kept: Kept, ask: web::Json<Case>, request: HttpRequest) -> HttpResponse {
    let work = |site: &mut Site| -> Answer {
        if site.cases.len() >= MOST {
            site.cases.remove(0);
        }
        site.cases.push(ask.into_inner().text);
        let takes = site.takes;
        site.payments.see_to(takes);
        Ok((201, json!({ "case": site.cases.len() })))
    };
    kept.serve(&request, work).await
}
