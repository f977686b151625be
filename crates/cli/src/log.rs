//! What a node logs: how much and in which form as the environment says, and of one kind of line so
//! many within a time.

use crate::error::CliError;
use arvok_service::LogWriter;
use std::{
    collections::HashMap,
    fmt::Debug,
    io::IsTerminal,
    sync::{LazyLock, Mutex, PoisonError},
    time::{Duration, Instant},
};
use tracing::{
    Event, Level, Metadata, Subscriber,
    callsite::Identifier,
    field::{Field, Visit},
    subscriber::Interest,
};
use tracing_subscriber::{
    EnvFilter, Layer,
    filter::FilterExt,
    layer::{Context, Filter, SubscriberExt},
    util::SubscriberInitExt,
};

/// How much is logged.
const LEVEL: &str = "ARVOK_LOG";
/// In which form.
const FORMAT: &str = "ARVOK_LOG_FORMAT";
/// The variables that are read here.
pub const VARIABLES: [&str; 2] = [LEVEL, FORMAT];

/// Logs to standard error: `ARVOK_LOG` chooses how much, `ARVOK_LOG_FORMAT` the form.
///
/// # Errors
/// If either cannot be read.
pub fn start() -> Result<(), CliError> {
    let level = std::env::var(LEVEL).unwrap_or_else(|_| "info,sqlx=error,actix_http=off".into());
    let filter = EnvFilter::try_new(&level).map_err(|e| {
        CliError::Here(format!(
            "{LEVEL}: `{level}` says not how much is logged, such as warn or info,sqlx=error: {e}"
        ))
    })?;
    let form = std::env::var(FORMAT).unwrap_or_else(|_| "text".into());
    let layer = tracing_subscriber::fmt::layer().with_writer(LogWriter::default);
    let layer = match form.as_str() {
        "text" => layer.with_ansi(std::io::stderr().is_terminal()).with_target(false).boxed(),
        "json" => layer.json().flatten_event(true).boxed(),
        _ => {
            return Err(CliError::Here(format!(
                "{FORMAT}: `{form}` is no form of the log; it is text or json"
            )));
        }
    };
    let _ =
        tracing_subscriber::registry().with(layer.with_filter(filter.and(Repetition))).try_init();
    Ok(())
}

/// Lines of one kind that are written within a window; what comes beyond is counted.
const MOST: u32 = 20;
/// The length of a window.
const WINDOW: Duration = Duration::from_secs(10);
/// Where lines are exempt: what is asked of a node, and how much was left out.
const EXEMPT: [&str; 2] = ["access", "left_out"];

/// What was written of a kind of line within its window.
#[derive(Debug)]
struct Written {
    since: Instant,
    lines: u32,
    left_out: u64,
    /// What the last that was left out said.
    last: String,
}

/// Kinds of lines by the place in the program at which they are written; there are so many, and no
/// more.
static KINDS: LazyLock<Mutex<HashMap<Identifier, Written>>> = LazyLock::new(Mutex::default);

/// Lets so many lines of one kind through within a window. Who asks for details wants all of them.
struct Repetition;

impl<S: Subscriber> Filter<S> for Repetition {
    fn enabled(&self, _: &Metadata<'_>, _: &Context<'_, S>) -> bool {
        true
    }

    fn callsite_enabled(&self, _: &'static Metadata<'static>) -> Interest {
        Interest::sometimes()
    }

    fn event_enabled(&self, event: &Event<'_>, _: &Context<'_, S>) -> bool {
        let about = event.metadata();
        if *about.level() > Level::INFO || EXEMPT.contains(&about.target()) {
            return true;
        }
        let mut kinds = KINDS.lock().unwrap_or_else(PoisonError::into_inner);
        let fresh =
            || Written { since: Instant::now(), lines: 0, left_out: 0, last: String::new() };
        let kind = kinds.entry(about.callsite()).or_insert_with(fresh);
        if kind.left_out == 0 && kind.since.elapsed() > WINDOW {
            *kind = fresh();
        }
        kind.lines = kind.lines.saturating_add(1);
        if kind.lines <= MOST {
            return true;
        }
        kind.left_out += 1;
        kind.last.clear();
        event.record(&mut Message(&mut kind.last));
        false
    }
}

/// Takes what a line says.
struct Message<'a>(&'a mut String);

impl Visit for Message<'_> {
    fn record_debug(&mut self, field: &Field, value: &dyn Debug) {
        if field.name() == "message" {
            *self.0 = format!("{value:?}");
        }
    }
}

/// Tells how many lines were left out of windows that are over.
pub fn tell_left_out() {
    let mut over = Vec::new();
    let mut kinds = KINDS.lock().unwrap_or_else(PoisonError::into_inner);
    kinds.retain(|_, kind| {
        let is_over = kind.since.elapsed() > WINDOW;
        if is_over && kind.left_out > 0 {
            over.push((kind.left_out, std::mem::take(&mut kind.last)));
        }
        !is_over
    });
    drop(kinds);
    for (lines, last) in over {
        tracing::warn!(target: "left_out", lines, "lines of one kind were left out, the last: \
            {last}");
    }
}

/// Tells it again and again, for as long as it is awaited.
pub async fn keep_telling() {
    loop {
        tokio::time::sleep(WINDOW / 2).await;
        tell_left_out();
    }
}
