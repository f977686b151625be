//! The crew chat: keeps messages by channel.

use crate::{Server, StandinError, auth};
use actix_web::{HttpRequest, HttpResponse, web};
use serde::{Deserialize, Serialize};
use serde_json::json;
use std::sync::{Arc, Mutex, PoisonError};

/// Messages that are kept.
const KEPT: usize = 1000;

/// A message.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Message {
    /// Counts up.
    pub id: u64,
    /// Without a sign before it.
    pub channel: String,
    /// What was said.
    pub text: String,
    /// RFC 3339.
    pub at: String,
}

#[derive(Debug, Default)]
struct Room {
    said: u64,
    messages: Vec<Message>,
}

#[derive(Clone)]
struct Chat {
    token: String,
    room: Arc<Mutex<Room>>,
}

/// A running chat.
#[derive(Debug)]
pub struct RunningChat {
    server: Server,
    room: Arc<Mutex<Room>>,
}

/// Starts a chat on a port of loopback; 0 takes a free one.
pub fn start(port: u16, token: String) -> Result<RunningChat, StandinError> {
    let room = Arc::new(Mutex::new(Room::default()));
    let chat = Chat { token, room: Arc::clone(&room) };
    let server = Server::start(port, move |config| {
        config
            .app_data(web::Data::new(chat.clone()))
            .route("/about", web::get().to(about))
            .route("/channels/{channel}/messages", web::post().to(say))
            .route("/channels/{channel}/messages", web::get().to(read));
    })?;
    Ok(RunningChat { server, room })
}

impl RunningChat {
    /// The base address of its API.
    pub fn url(&self) -> String {
        self.server.url()
    }

    /// All messages kept, oldest first.
    pub fn messages(&self) -> Vec<Message> {
        self.room.lock().unwrap_or_else(PoisonError::into_inner).messages.clone()
    }

    /// Stops it.
    pub async fn stop(&self) {
        self.server.stop().await;
    }
}

#[derive(Deserialize)]
struct Say {
    text: String,
}

async fn say(
    chat: web::Data<Chat>,
    channel: web::Path<String>,
    ask: web::Json<Say>,
    request: HttpRequest,
) -> HttpResponse {
    if let Some(refused) = auth::refusal(&request, &chat.token) {
        return refused;
    }
    if ask.text.trim().is_empty() || ask.text.len() > 4000 {
        return HttpResponse::UnprocessableEntity().json(json!({"error": "a message has 1 to 4000 bytes"}));
    }
    let mut room = chat.room.lock().unwrap_or_else(PoisonError::into_inner);
    room.said += 1;
    let at = chrono::Utc::now().to_rfc3339_opts(chrono::SecondsFormat::Secs, true);
    let message = Message { id: room.said, channel: channel.into_inner(), text: ask.into_inner().text, at };
    room.messages.push(message.clone());
    if room.messages.len() > KEPT {
        room.messages.remove(0);
    }
    HttpResponse::Created().json(message)
}

async fn about(chat: web::Data<Chat>, request: HttpRequest) -> HttpResponse {
    match auth::refusal(&request, &chat.token) {
        Some(refused) => refused,
        None => HttpResponse::Ok().json(json!({ "component": "crew chat", "version": "2.0.7" })),
    }
}

async fn read(chat: web::Data<Chat>, channel: web::Path<String>, request: HttpRequest) -> HttpResponse {
    if let Some(refused) = auth::refusal(&request, &chat.token) {
        return refused;
    }
    let room = chat.room.lock().unwrap_or_else(PoisonError::into_inner);
    let said: Vec<&Message> = room.messages.iter().filter(|m| m.channel == *channel).collect();
    HttpResponse::Ok().json(json!({ "messages": said }))
}
