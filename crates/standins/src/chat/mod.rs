//! The crew chat: keeps messages by channel. One with buttons is answered by whoever presses the
//! first of them, and the address that came with it is called.

use crate::{
    StandinError,
    office::{Answer, Office, Running},
};
use actix_web::{HttpRequest, HttpResponse, web};
use serde::{Deserialize, Serialize};
use serde_json::json;
use std::{collections::BTreeMap, time::Duration};

/// Messages that are kept.
const KEPT: usize = 1000;
/// Most buttons of a message.
const MOST_BUTTONS: usize = 5;

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
    /// What its buttons mean and say.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub buttons: BTreeMap<String, String>,
    /// Which was pressed, and by whom.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub pressed: Option<Pressed>,
    /// Whom to tell.
    #[serde(skip)]
    call_back: Option<String>,
}

/// A button that was pressed.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Pressed {
    /// What it means.
    pub choice: String,
    /// Who pressed it.
    pub by: String,
}

/// What the chat keeps.
#[derive(Debug, Default)]
pub struct Room {
    said: u64,
    messages: Vec<Message>,
    /// Who is to be called, and what with.
    calls: Vec<(String, Pressed)>,
}

impl Room {
    fn press(&mut self, channel: &str, id: u64, pressed: Pressed) -> Answer {
        let found = self.messages.iter_mut().find(|m| m.id == id && m.channel == channel);
        let message =
            found.ok_or_else(|| (404, format!("there is no message {id} in {channel}")))?;
        if !message.buttons.contains_key(&pressed.choice) {
            let known: Vec<&str> = message.buttons.keys().map(String::as_str).collect();
            return Err((
                422,
                format!("there is no button {}; there are {}", pressed.choice, known.join(", ")),
            ));
        }
        if let Some(before) = &message.pressed {
            return Err((409, format!("{} was quicker: {}", before.by, before.choice)));
        }
        message.pressed = Some(pressed.clone());
        let answer = json!(message);
        self.calls.extend(message.call_back.take().map(|at| (at, pressed)));
        Ok((200, answer))
    }
}

/// A running chat.
#[derive(Debug)]
pub struct RunningChat(Running<Room>);

/// Starts a chat on a port of loopback; 0 takes a free one.
pub fn start(port: u16, token: String) -> Result<RunningChat, StandinError> {
    let office = Office::new(Room::default(), token);
    let at_work = office.clone().open(port, |config| {
        config
            .route("/about", web::get().to(about))
            .route("/channels/{channel}/messages", web::post().to(post))
            .route("/channels/{channel}/messages", web::get().to(read))
            .route("/channels/{channel}/messages/{id}/press", web::post().to(press));
    })?;
    Ok(RunningChat(at_work.beside(tokio::spawn(tell(office)))))
}

/// Calls whoever waits for a button to be pressed.
async fn tell(chat: Office<Room>) {
    let http =
        arvok_connect::http_client().timeout(Duration::from_secs(5)).build().unwrap_or_default();
    loop {
        tokio::time::sleep(Duration::from_millis(50)).await;
        for (at, pressed) in chat.with(|room| std::mem::take(&mut room.calls)) {
            for _ in 0..if chat.faults().twice { 2 } else { 1 } {
                let _ = http.post(&at).json(&pressed).send().await;
            }
        }
    }
}

impl RunningChat {
    /// The base address of its API.
    pub fn url(&self) -> String {
        self.0.url()
    }

    /// All messages kept, oldest first.
    pub fn messages(&self) -> Vec<Message> {
        self.0.with(|room| room.messages.clone())
    }

    /// Presses a button of a message, as somebody of the crew would.
    ///
    /// # Errors
    /// In words, if there is no such message or button, or somebody was quicker.
    pub fn press(&self, message: &Message, choice: &str, by: &str) -> Result<(), String> {
        let pressed = Pressed { choice: choice.to_owned(), by: by.to_owned() };
        self.0
            .with(|room| room.press(&message.channel, message.id, pressed))
            .map(drop)
            .map_err(|(_, why)| why)
    }

    /// Switches faults.
    pub fn set_faults(&self, faults: crate::Faults) {
        self.0.set_faults(faults);
    }

    /// Stops it.
    pub async fn stop(&self) {
        self.0.stop().await;
    }
}

type Kept = web::Data<Office<Room>>;

#[derive(Deserialize)]
struct Say {
    text: String,
    #[serde(default)]
    buttons: BTreeMap<String, String>,
    call_back: Option<String>,
}

async fn post(
    chat: Kept,
    channel: web::Path<String>,
    ask: web::Json<Say>,
    request: HttpRequest,
) -> HttpResponse {
    let Say { text, buttons, call_back } = ask.into_inner();
    let work = |room: &mut Room| -> Answer {
        if text.trim().is_empty() || text.len() > 4000 {
            return Err((422, "a message has 1 to 4000 bytes".into()));
        }
        if buttons.len() > MOST_BUTTONS {
            return Err((422, format!("a message has {MOST_BUTTONS} buttons at most")));
        }
        room.said += 1;
        let at = chrono::Utc::now().to_rfc3339_opts(chrono::SecondsFormat::Secs, true);
        let channel = channel.into_inner();
        let message =
            Message { id: room.said, channel, text, at, buttons, pressed: None, call_back };
        let answer = json!(message);
        room.messages.push(message);
        if room.messages.len() > KEPT {
            room.messages.remove(0);
        }
        Ok((201, answer))
    };
    chat.serve(&request, work).await
}

async fn about(chat: Kept, request: HttpRequest) -> HttpResponse {
    chat.serve(&request, |_| Ok((200, json!({ "component": "crew chat", "version": "2.0.7" }))))
        .await
}

async fn read(chat: Kept, channel: web::Path<String>, request: HttpRequest) -> HttpResponse {
    let work = |room: &mut Room| -> Answer {
        let said: Vec<&Message> = room.messages.iter().filter(|m| m.channel == *channel).collect();
        Ok((200, json!({ "messages": said })))
    };
    chat.serve(&request, work).await
}

/// For whoever plays: presses a button.
async fn press(
    chat: Kept,
    at: web::Path<(String, u64)>,
    pressed: web::Json<Pressed>,
    request: HttpRequest,
) -> HttpResponse {
    let (channel, id) = at.into_inner();
    chat.serve(&request, |room| room.press(&channel, id, pressed.into_inner())).await
}
