//! What may go wrong with a stand-in, switched on and off while it runs.

use crate::server::cut_off;
use actix_web::{HttpResponse, http::header, web};
use futures_util::stream;
use serde::{Deserialize, Serialize};
use serde_json::json;
use std::time::Duration;

/// Faults of a stand-in. Of those that are counted each request has one, in the order in which they
/// stand here.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Faults {
    /// Milliseconds before every answer.
    pub delay_ms: u64,
    /// So many of the next requests are answered 503.
    pub busy: u32,
    /// So many of the next are sent to another address, with 307.
    pub elsewhere: u32,
    /// Where that is.
    pub at: Option<String>,
    /// So many of the next do their work, but the connection is closed before the answer.
    pub hang_up: u32,
    /// So many of the next do their work, and their answer never ends.
    pub endless: u32,
    /// So many of the next do their work, and are answered with what is no JSON.
    pub garbled: u32,
    /// Whoever is called back is called back twice.
    pub twice: bool,
    /// The monitor posts nothing.
    pub silent: bool,
}

/// What happens to one request.
#[derive(Debug)]
pub(crate) enum Fate {
    /// It is served.
    Serve,
    /// It is not served, but answered so.
    Refuse(HttpResponse),
    /// It is served, but nobody hears of it.
    HangUp,
    /// It is served, and its answer never ends.
    Endless,
    /// It is served, and its answer is no JSON.
    Garbled,
}

impl Faults {
    /// The fate of the next request, after how long.
    pub(crate) fn next(&mut self) -> (Duration, Fate) {
        let delay = Duration::from_millis(self.delay_ms.min(60_000));
        let counted = [
            (&mut self.busy, 0),
            (&mut self.elsewhere, 1),
            (&mut self.hang_up, 2),
            (&mut self.endless, 3),
            (&mut self.garbled, 4),
        ];
        let found = counted.into_iter().find(|(left, _)| **left > 0).map(|(left, which)| {
            *left -= 1;
            which
        });
        let fate = match found {
            Some(0) => Fate::Refuse(
                HttpResponse::ServiceUnavailable().json(json!({ "error": "the office is busy" })),
            ),
            Some(1) => {
                let at =
                    self.at.clone().unwrap_or_else(|| "http://127.0.0.1:9/elsewhere".to_owned());
                Fate::Refuse(
                    HttpResponse::TemporaryRedirect()
                        .insert_header((header::LOCATION, at))
                        .finish(),
                )
            }
            Some(2) => Fate::HangUp,
            Some(3) => Fate::Endless,
            Some(_) => Fate::Garbled,
            None => Fate::Serve,
        };
        (delay, fate)
    }
}

impl Fate {
    /// What becomes of an answer.
    pub(crate) fn spoil(self, answer: HttpResponse) -> HttpResponse {
        match self {
            Self::Serve => answer,
            Self::Refuse(refusal) => refusal,
            Self::HangUp => cut_off(),
            Self::Endless => {
                let piece = || async {
                    Ok::<_, std::io::Error>(web::Bytes::from_static(&[b'x'; 64 << 10]))
                };
                let without_end =
                    stream::unfold((), move |()| async move { Some((piece().await, ())) });
                HttpResponse::build(answer.status()).streaming(without_end)
            }
            Self::Garbled => HttpResponse::build(answer.status())
                .content_type("text/html")
                .body("<html>Skerrow</html>"),
        }
    }
}
