//! What could not be delivered, kept in a file and delivered later in order.
//!
//! One payload to a line, each with a key under which the server takes it once, however often it
//! is sent. Whoever sends puts its payload at the end first and then delivers from the front, so
//! that a death in between loses nothing; a lock beside the file lets only one at a time.

use crate::{
    client::{Client, percent},
    error::{CliError, file},
    show,
};
use arvok_api::Taken;
use serde::{Deserialize, Serialize};
use std::{
    fs::{self, File, OpenOptions},
    io::{self, Write},
    os::unix::fs::OpenOptionsExt,
    path::{Path, PathBuf},
};

/// Most bytes that are kept.
const MOST: usize = 64 << 20;

/// A payload that waits.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Waiting {
    pub source: String,
    pub content_type: String,
    /// The server takes a payload with this key once.
    pub key: String,
    pub body: String,
}

/// The file, held against others.
struct Spool {
    path: PathBuf,
    _lock: File,
}

/// What became of what was in the file.
#[derive(Debug, Default)]
pub struct Delivered {
    /// What the server said of each that it took.
    pub taken: Vec<Taken>,
    /// How many still wait.
    pub left: usize,
    /// Why delivering stopped.
    pub why: Option<CliError>,
    /// What the server will never take; it is not kept.
    pub refused: Vec<CliError>,
}

/// Puts a payload at the end, if there is one, and delivers from the front as far as it goes.
pub async fn deliver(path: &Path, new: Option<Waiting>, client: &Client) -> Result<Delivered, CliError> {
    let spool = Spool::open(path)?;
    let mut waiting = spool.read()?;
    if let Some(new) = new {
        waiting.push(new);
        spool.write(&waiting)?;
    }
    let (mut done, mut delivered) = (0, Delivered::default());
    for w in &waiting {
        let way = format!("/in/{}", percent(&w.source));
        match client.deliver(&way, &w.content_type, Some(&w.key), w.body.clone().into_bytes()).await {
            Ok(taken) => delivered.taken.push(taken),
            Err(e @ CliError::Refused(_)) => delivered.refused.push(e),
            Err(e) => {
                delivered.why = Some(e);
                break;
            }
        }
        done += 1;
    }
    if done > 0 {
        spool.write(&waiting[done..])?;
    }
    delivered.left = waiting.len() - done;
    Ok(delivered)
}

impl Spool {
    fn open(path: &Path) -> Result<Self, CliError> {
        let beside = path.with_added_extension("lock");
        let open = || {
            let lock = OpenOptions::new().create(true).truncate(false).write(true).mode(0o600).open(&beside)?;
            lock.lock()?;
            Ok(lock)
        };
        let lock = open().map_err(|e: io::Error| file(&beside, e))?;
        Ok(Self { path: path.to_owned(), _lock: lock })
    }

    fn read(&self) -> Result<Vec<Waiting>, CliError> {
        let text = match fs::read_to_string(&self.path) {
            Err(e) if e.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
            read => read.map_err(|e| file(&self.path, e))?,
        };
        let line = |(n, line): (usize, &str)| {
            serde_json::from_str(line).map_err(|e| {
                CliError::Here(format!("{}: line {} is no payload that was kept: {e}", self.path.display(), n + 1))
            })
        };
        text.lines().enumerate().filter(|(_, l)| !l.trim().is_empty()).map(line).collect()
    }

    /// Writes the file anew, whole or not at all.
    fn write(&self, waiting: &[Waiting]) -> Result<(), CliError> {
        let mut text = String::new();
        for w in waiting {
            text.push_str(&serde_json::to_string(w).map_err(|e| CliError::Here(e.to_string()))?);
            text.push('\n');
        }
        if text.len() > MOST {
            let wrong = format!("{} is full ({} MiB); nothing was added to it", self.path.display(), MOST >> 20);
            return Err(CliError::Here(wrong));
        }
        let beside = self.path.with_added_extension("new");
        let write = || {
            let _ = fs::remove_file(&beside);
            let mut made = OpenOptions::new().write(true).create_new(true).mode(0o600).open(&beside)?;
            made.write_all(text.as_bytes())?;
            made.sync_all()?;
            fs::rename(&beside, &self.path)
        };
        write().map_err(|e| file(&self.path, e))
    }
}

/// Says what became of it; the command ends well as long as nothing is lost.
pub fn say(path: &Path, delivered: Delivered) -> Result<(), CliError> {
    delivered.taken.iter().for_each(|t| show::out(&show::taken(t)));
    for refused in &delivered.refused {
        show::say(&format!("arvok: refused, and not kept: {refused}"));
    }
    match delivered.why {
        Some(e @ (CliError::Unreachable(_) | CliError::Here(_))) => {
            let waiting = if delivered.left == 1 {
                "1 payload waits".into()
            } else {
                format!("{} payloads wait", delivered.left)
            };
            show::say(&format!("arvok: {e}"));
            show::say(&format!(
                "arvok: {waiting} in {}, and goes first with the next `arvok send --spool`",
                path.display()
            ));
            Ok(())
        }
        Some(e) => {
            show::say(&format!("arvok: nothing is lost: it waits in {} ({} in all)", path.display(), delivered.left));
            Err(e)
        }
        None if delivered.refused.is_empty() => Ok(()),
        None => Err(CliError::Refused("not everything was taken".into())),
    }
}
