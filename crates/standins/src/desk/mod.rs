//! The ticket desk: gives tokens to whoever knows its client's secret (OAuth 2.0), lists in pages,
//! opens once for each key, and describes itself.

use crate::{
    StandinError,
    office::{Answer, Office, Running, respond},
};
use actix_web::{HttpRequest, HttpResponse, http::header, web};
use base64::{Engine, prelude::BASE64_STANDARD};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use std::collections::BTreeMap;

/// What it says of itself (OpenAPI 3.1).
pub const DESCRIPTION: &str = include_str!("description.yaml");
/// Tickets that are kept.
const MOST: usize = 10_000;
/// Seconds for which a token lasts.
const LASTS: i64 = 60;

/// How it is set up.
#[derive(Clone, Debug)]
pub struct DeskOptions {
    /// A port of loopback; 0 takes a free one.
    pub port: u16,
    /// What whoever sets its faults must show.
    pub token: String,
    /// The secret of the client `arvok`.
    pub secret: String,
}

/// A ticket.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Ticket {
    /// Counts up.
    pub number: u64,
    /// What is wrong.
    pub title: String,
    /// What it is about.
    pub about: Option<String>,
    /// `low`, `usual`, `high`.
    pub grade: String,
    /// `open` or `closed`.
    pub state: &'static str,
    /// RFC 3339.
    pub opened_at: String,
    /// Why it was closed.
    pub closed_because: Option<String>,
    /// What was added.
    pub notes: Vec<String>,
}

/// What the desk keeps.
#[derive(Debug)]
pub struct Desk {
    secret: String,
    opened: u64,
    given: u64,
    /// When each token ends.
    tokens: BTreeMap<String, chrono::DateTime<chrono::Utc>>,
    /// The tickets, by number.
    pub tickets: BTreeMap<u64, Ticket>,
}

impl Desk {
    /// Takes back all tokens, as after a change of the secret.
    pub fn take_back_tokens(&mut self) {
        self.tokens.clear();
    }

    /// How many tokens were given.
    pub fn tokens_given(&self) -> u64 {
        self.given
    }

    fn ticket(&mut self, number: u64) -> Result<&mut Ticket, (u16, String)> {
        self.tickets.get_mut(&number).ok_or_else(|| (404, format!("there is no ticket {number}")))
    }
}

/// A desk at work.
pub type RunningDesk = Running<Desk>;

/// Starts a desk.
pub fn start(options: DeskOptions) -> Result<RunningDesk, StandinError> {
    let desk = Desk {
        secret: options.secret,
        opened: 0,
        given: 0,
        tokens: BTreeMap::new(),
        tickets: BTreeMap::new(),
    };
    Office::new(desk, options.token).open(options.port, |config| {
        config
            .route("/description", web::get().to(description))
            .route("/token", web::post().to(token))
            .route("/about", web::get().to(about))
            .route("/tickets", web::get().to(list))
            .route("/tickets", web::post().to(open))
            .route("/tickets/{number}", web::get().to(show))
            .route("/tickets/{number}/notes", web::post().to(note))
            .route("/tickets/{number}/close", web::put().to(close));
    })
}

type Kept = web::Data<Office<Desk>>;

/// At whichever address it was asked.
async fn description(request: HttpRequest) -> HttpResponse {
    let own = DESCRIPTION.replace("127.0.0.1:7405", request.connection_info().host());
    HttpResponse::Ok().content_type("application/yaml").body(own)
}

fn shown<'r>(request: &'r HttpRequest, scheme: &str) -> Option<&'r str> {
    request.headers().get(header::AUTHORIZATION)?.to_str().ok()?.strip_prefix(scheme)
}

#[derive(Deserialize)]
struct Asking {
    grant_type: String,
}

/// Tokens for clients (RFC 6749, section 4.4).
async fn token(desk: Kept, asking: web::Form<Asking>, request: HttpRequest) -> HttpResponse {
    let shown = shown(&request, "Basic ").and_then(|s| BASE64_STANDARD.decode(s).ok());
    respond(desk.with(|desk| {
        if shown != Some(format!("arvok:{}", desk.secret).into_bytes()) {
            return Ok((
                401,
                json!({ "error": "invalid_client", "error_description": "this client is not known \
                    here" }),
            ));
        }
        if asking.grant_type != "client_credentials" {
            return Ok((400, json!({ "error": "unsupported_grant_type" })));
        }
        desk.given += 1;
        let text = format!("desk-token-{}-{:x}", desk.given, chrono::Utc::now().timestamp_micros());
        desk.tokens.retain(|_, until| *until > chrono::Utc::now());
        desk.tokens.insert(text.clone(), chrono::Utc::now() + chrono::TimeDelta::seconds(LASTS));
        Ok((200, json!({ "access_token": text, "token_type": "Bearer", "expires_in": LASTS })))
    }))
}

/// Whoever shows a token that lasts is served.
async fn serve_authorised(
    desk: &Office<Desk>,
    request: &HttpRequest,
    work: impl FnOnce(&mut Desk) -> Answer,
) -> HttpResponse {
    let shown = shown(request, "Bearer ").unwrap_or_default().to_owned();
    let good =
        desk.with(|desk| desk.tokens.get(&shown).is_some_and(|until| *until > chrono::Utc::now()));
    if !good {
        return respond(Err((401, "a token is needed, and not this one".into())));
    }
    desk.served(request, work).await
}

async fn about(desk: Kept, request: HttpRequest) -> HttpResponse {
    serve_authorised(&desk, &request, |_| {
        Ok((200, json!({ "component": "ticket desk", "version": "1.4.0" })))
    })
    .await
}

#[derive(Deserialize)]
struct Which {
    state: Option<String>,
    about: Option<String>,
    after: Option<u64>,
    limit: Option<usize>,
}

async fn list(desk: Kept, which: web::Query<Which>, request: HttpRequest) -> HttpResponse {
    serve_authorised(&desk, &request, |desk| {
        let limit = which.limit.unwrap_or(20).clamp(1, 50);
        let fits = |t: &&Ticket| {
            which.state.as_ref().is_none_or(|state| t.state == state)
                && which.about.as_ref().is_none_or(|about| t.about.as_ref() == Some(about))
        };
        let mut found = desk
            .tickets
            .range(which.after.map_or(0, |after| after + 1)..)
            .map(|(_, t)| t)
            .filter(fits);
        let page: Vec<&Ticket> = found.by_ref().take(limit).collect();
        let next = found.next().and(page.last()).map(|last| last.number.to_string());
        Ok((200, json!({ "tickets": page, "next": next })))
    })
    .await
}

#[derive(Deserialize)]
struct Open {
    title: String,
    about: Option<String>,
    grade: Option<String>,
    note: Option<String>,
}

async fn open(desk: Kept, ask: web::Json<Open>, request: HttpRequest) -> HttpResponse {
    let Open { title, about, grade, note } = ask.into_inner();
    serve_authorised(&desk, &request, |desk| {
        if title.trim().is_empty() || title.len() > 200 {
            return Err((422, "a title has 1 to 200 bytes".into()));
        }
        desk.opened += 1;
        let ticket = Ticket {
            number: desk.opened,
            title,
            about,
            grade: grade.unwrap_or_else(|| "usual".into()),
            state: "open",
            opened_at: chrono::Utc::now().to_rfc3339_opts(chrono::SecondsFormat::Secs, true),
            closed_because: None,
            notes: note.into_iter().collect(),
        };
        if desk.tickets.len() >= MOST {
            desk.tickets.pop_first();
        }
        desk.tickets.insert(ticket.number, ticket.clone());
        Ok((201, json!(ticket)))
    })
    .await
}

async fn show(desk: Kept, number: web::Path<u64>, request: HttpRequest) -> HttpResponse {
    serve_authorised(&desk, &request, |desk| desk.ticket(*number).map(|t| (200, json!(t)))).await
}

#[derive(Deserialize)]
struct Note {
    text: String,
}

async fn note(
    desk: Kept,
    number: web::Path<u64>,
    ask: web::Json<Note>,
    request: HttpRequest,
) -> HttpResponse {
    serve_authorised(&desk, &request, |desk| {
        let ticket = desk.ticket(*number)?;
        ticket.notes.push(ask.into_inner().text);
        Ok((201, json!(ticket)))
    })
    .await
}

async fn close(
    desk: Kept,
    number: web::Path<u64>,
    ask: web::Json<Value>,
    request: HttpRequest,
) -> HttpResponse {
    serve_authorised(&desk, &request, |desk| {
        let ticket = desk.ticket(*number)?;
        if ticket.state == "open" {
            ticket.state = "closed";
            ticket.closed_because = ask["because"].as_str().map(str::to_owned);
        }
        Ok((200, json!(ticket)))
    })
    .await
}
