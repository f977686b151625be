//! A queue of ticket mails with its workers: mails come, each worker sends so many a second, and
//! one that is added is there after a while.

use crate::{
    Sight, StandinError, Watched,
    office::{Answer, Office, Running},
};
use actix_web::{HttpRequest, HttpResponse, web};
use serde_json::json;
use std::time::{Duration, Instant};

/// Most workers.
const MOST: u32 = 8;
/// Mails that wait at which the watch tells of it, and below which it is well again.
const RAISE: f64 = 60.0;
const CLEAR: f64 = 20.0;

/// What is kept.
#[derive(Debug)]
pub struct Queue {
    /// Mails that wait.
    waiting: f64,
    /// Mails that come, a second.
    pub coming: f64,
    /// Mails that a worker sends, a second.
    pub each: f64,
    workers: u32,
    /// When those that were added are there.
    added: Vec<Instant>,
    takes: Duration,
    seen: Instant,
    /// Whether too many wait.
    long: bool,
}

impl Watched for Queue {
    fn sights(&mut self) -> Vec<Sight> {
        let (waiting, workers) = self.stands();
        vec![Sight {
            check: "queue.waiting",
            about: "queue/ticket-mails".into(),
            wrong: self.long,
            text: format!("{waiting} ticket mails wait for {workers} workers"),
            more: json!({ "value": waiting }),
        }]
    }
}

impl Queue {
    /// Lets so many mails wait.
    pub fn pile_up(&mut self, mails: f64) {
        self.go_on();
        self.waiting += mails;
    }

    /// Lets all but one worker go.
    pub fn back_to_one(&mut self) {
        self.go_on();
        self.workers = 1;
        self.added.clear();
    }

    /// How many wait, and how many workers there are.
    pub fn stands(&mut self) -> (u64, u32) {
        self.go_on();
        (self.waiting as u64, self.workers)
    }

    fn go_on(&mut self) {
        let now = Instant::now();
        let seconds = now.duration_since(self.seen).as_secs_f64();
        self.seen = now;
        let before = self.added.len();
        self.added.retain(|at| *at > now);
        self.workers += u32::try_from(before - self.added.len()).unwrap_or(0);
        self.waiting =
            (self.waiting + seconds * (self.coming - self.each * f64::from(self.workers))).max(0.0);
        self.long = self.waiting >= if self.long { CLEAR } else { RAISE };
    }
}

/// A queue at work.
pub type RunningQueue = Running<Queue>;

/// Starts a queue with one worker; another is there after so long.
pub fn start(port: u16, token: String, takes: Duration) -> Result<RunningQueue, StandinError> {
    let queue = Queue {
        waiting: 3.0,
        coming: 4.0,
        each: 5.0,
        workers: 1,
        added: Vec::new(),
        takes,
        seen: Instant::now(),
        long: false,
    };
    Office::new(queue, token).open(port, |config| {
        config
            .route("/about", web::get().to(about))
            .route("/queue", web::get().to(show))
            .route("/workers", web::post().to(add))
            .route("/workers", web::delete().to(take_away));
    })
}

type Kept = web::Data<Office<Queue>>;

fn as_json(queue: &mut Queue) -> serde_json::Value {
    queue.go_on();
    json!({ "waiting": queue.waiting as u64, "workers": queue.workers,
        "on_their_way": queue.added.len(), "most": MOST })
}

async fn about(kept: Kept, request: HttpRequest) -> HttpResponse {
    kept.serve(&request, |_| Ok((200, json!({ "component": "mail queue", "version": "0.9.2" }))))
        .await
}

async fn show(kept: Kept, request: HttpRequest) -> HttpResponse {
    kept.serve(&request, |queue| Ok((200, as_json(queue)))).await
}

async fn add(kept: Kept, request: HttpRequest) -> HttpResponse {
    let work = |queue: &mut Queue| -> Answer {
        queue.go_on();
        if queue.workers as usize + queue.added.len() >= MOST as usize {
            return Err((409, format!("there are {MOST} workers, and no more can be had")));
        }
        queue.added.push(Instant::now() + queue.takes);
        Ok((202, as_json(queue)))
    };
    kept.serve(&request, work).await
}

async fn take_away(kept: Kept, request: HttpRequest) -> HttpResponse {
    let work = |queue: &mut Queue| -> Answer {
        queue.go_on();
        if queue.workers <= 1 {
            return Err((409, "one worker stays".into()));
        }
        queue.workers -= 1;
        Ok((200, as_json(queue)))
    };
    kept.serve(&request, work).await
}
