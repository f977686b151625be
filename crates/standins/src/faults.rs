//! What may go wrong with a stand-in, switched on and off while it runs.

use actix_web::HttpResponse;
use serde::{Deserialize, Serialize};
use serde_json::json;
use std::time::Duration;

/// Faults of a stand-in. All of them together: first the delay, then the refusal.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Faults {
    /// Milliseconds before every answer.
    pub delay_ms: u64,
    /// So many of the next requests are answered 503.
    pub busy: u32,
    /// The next requests do their work but the connection is closed before the answer; so many.
    pub hang_up: u32,
    /// The monitor posts nothing.
    pub silent: bool,
}

/// What happens to one request.
pub(crate) enum Fate {
    /// It is served.
    Serve,
    /// It is refused.
    Refuse(HttpResponse),
    /// It is served, but nobody hears of it.
    HangUp,
}

impl Faults {
    /// The fate of the next request, after how long.
    pub(crate) fn next(&mut self) -> (Duration, Fate) {
        let delay = Duration::from_millis(self.delay_ms.min(60_000));
        if self.busy > 0 {
            self.busy -= 1;
            let answer = HttpResponse::ServiceUnavailable().json(json!({"error": "the yard office is busy"}));
            return (delay, Fate::Refuse(answer));
        }
        if self.hang_up > 0 {
            self.hang_up -= 1;
            return (delay, Fate::HangUp);
        }
        (delay, Fate::Serve)
    }
}
