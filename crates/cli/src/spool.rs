//! What could not be delivered, kept in a file and delivered later in order.
//!
//! One payload to a line, each with a key under which the server takes it once, however often it is
//! sent. Whoever sends puts its payload at the end first and then delivers from the front, so that
//! a death in between loses nothing; a lock beside the file lets only one at a time. What can never
//! be delivered as it is (a source that is not there, a line that was cut) is put aside into a file
//! beside it, and holds up nothing.

use crate::{
    client::{Client, percent},
    error::{CliError, file},
    show,
};
use arvok_api::DeliveryAnswer;
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
pub struct SpooledPayload {
    pub source: String,
    pub content_type: String,
    /// The server takes a payload with this key once.
    pub key: String,
    pub body: String,
    /// Whether it is no trial, where it is sent with a token.
    #[serde(default)]
    pub for_real: bool,
}

/// The door of a source. What is sent with a token is a trial there unless it is said to be real.
pub fn door(source: &str, for_real: bool) -> String {
    format!("/in/{}{}", percent(source), if for_real { "?trial=no" } else { "" })
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
    pub taken: Vec<DeliveryAnswer>,
    /// How many still wait.
    pub left: usize,
    /// Why delivering stopped.
    pub why: Option<CliError>,
    /// What the server will never take; it is not kept.
    pub refused: Vec<CliError>,
    /// What was put aside, and why.
    pub aside: Vec<String>,
}

/// A line that can never be delivered as it is, and why.
type Aside = (String, String);

/// Puts a payload at the end, if there is one, and delivers from the front as far as it goes.
pub async fn deliver(
    path: &Path,
    new: Option<SpooledPayload>,
    client: &Client,
) -> Result<Delivered, CliError> {
    let spool = Spool::open(path)?;
    let (mut waiting, cut) = spool.read()?;
    if let Some(new) = new {
        waiting.push(new);
        spool.write(&waiting)?;
    }
    let (mut done, mut delivered) = (0, Delivered::default());
    let mut aside = cut;
    for w in &waiting {
        let way = door(&w.source, w.for_real);
        match client.deliver(&way, &w.content_type, Some(&w.key), w.body.clone().into_bytes()).await
        {
            Ok(taken) => delivered.taken.push(taken),
            Err(e @ CliError::Refused(_)) => delivered.refused.push(e),
            Err(CliError::Missing(why)) => {
                aside.push((
                    serde_json::to_string(w).map_err(|e| CliError::Here(e.to_string()))?,
                    why,
                ));
            }
            Err(e) => {
                delivered.why = Some(e);
                break;
            }
        }
        done += 1;
    }
    // First it is aside, then it is gone from here.
    spool.put_aside(&aside)?;
    if done > 0 || !aside.is_empty() {
        spool.write(&waiting[done..])?;
    }
    delivered.aside = aside.into_iter().map(|(_, why)| why).collect();
    delivered.left = waiting.len() - done;
    Ok(delivered)
}

impl Spool {
    fn open(path: &Path) -> Result<Self, CliError> {
        let beside = path.with_added_extension("lock");
        let open = || {
            let lock = OpenOptions::new()
                .create(true)
                .truncate(false)
                .write(true)
                .mode(0o600)
                .open(&beside)?;
            lock.lock()?;
            Ok(lock)
        };
        let lock = open().map_err(|e: io::Error| file(&beside, e))?;
        Ok(Self { path: path.to_owned(), _lock: lock })
    }

    /// What waits, and lines that are none of ours, each with the reason.
    fn read(&self) -> Result<(Vec<SpooledPayload>, Vec<Aside>), CliError> {
        let bytes = match fs::read(&self.path) {
            Err(e) if e.kind() == io::ErrorKind::NotFound => return Ok((Vec::new(), Vec::new())),
            read => read.map_err(|e| file(&self.path, e))?,
        };
        let text = String::from_utf8_lossy(&bytes);
        let (mut waiting, mut cut) = (Vec::new(), Vec::new());
        for (n, line) in text.lines().enumerate().filter(|(_, line)| !line.trim().is_empty()) {
            match serde_json::from_str(line) {
                Ok(one) => waiting.push(one),
                Err(e) => {
                    let why = format!(
                        "{}: line {} is no payload that was kept: {e}",
                        self.path.display(),
                        n + 1
                    );
                    cut.push((line.to_owned(), why));
                }
            }
        }
        Ok((waiting, cut))
    }

    /// Adds lines to the file of what was put aside.
    fn put_aside(&self, lines: &[Aside]) -> Result<(), CliError> {
        if lines.is_empty() {
            return Ok(());
        }
        let beside = aside(&self.path);
        let add = || {
            let mut file =
                OpenOptions::new().create(true).append(true).mode(0o600).open(&beside)?;
            lines.iter().try_for_each(|(line, _)| writeln!(file, "{line}"))?;
            file.sync_all()
        };
        add().map_err(|e| file(&beside, e))
    }

    /// Writes the file anew, whole or not at all.
    fn write(&self, waiting: &[SpooledPayload]) -> Result<(), CliError> {
        let mut text = String::new();
        for w in waiting {
            text.push_str(&serde_json::to_string(w).map_err(|e| CliError::Here(e.to_string()))?);
            text.push('\n');
        }
        if text.len() > MOST {
            let wrong = format!(
                "{} is full ({} MiB); nothing was added to it",
                self.path.display(),
                MOST >> 20
            );
            return Err(CliError::Here(wrong));
        }
        let beside = self.path.with_added_extension("new");
        let write = || {
            let _ = fs::remove_file(&beside);
            let mut made =
                OpenOptions::new().write(true).create_new(true).mode(0o600).open(&beside)?;
            made.write_all(text.as_bytes())?;
            made.sync_all()?;
            fs::rename(&beside, &self.path)
        };
        write().map_err(|e| file(&self.path, e))
    }
}

/// Where what can never be delivered is put.
fn aside(spool: &Path) -> PathBuf {
    spool.with_added_extension("aside")
}

/// Says what became of it; the command ends well as long as nothing is lost.
pub fn report(path: &Path, delivered: Delivered) -> Result<(), CliError> {
    delivered.taken.iter().for_each(|t| show::out(&show::taken(t)));
    for refused in &delivered.refused {
        show::notice(&format!("arvok: refused, and not kept: {refused}"));
    }
    for why in &delivered.aside {
        show::notice(&format!("arvok: put aside into {}: {why}", aside(path).display()));
    }
    match delivered.why {
        Some(e @ (CliError::Unreachable(_) | CliError::Here(_))) => {
            let waiting = if delivered.left == 1 {
                "1 payload waits".into()
            } else {
                format!("{} payloads wait", delivered.left)
            };
            show::notice(&format!("arvok: {e}"));
            show::notice(&format!(
                "arvok: {waiting} in {}, and goes first with the next `arvok send --spool`",
                path.display()
            ));
            Ok(())
        }
        Some(e) => {
            show::notice(&format!(
                "arvok: nothing is lost: it waits in {} ({} in all)",
                path.display(),
                delivered.left
            ));
            Err(e)
        }
        None if delivered.refused.is_empty() && delivered.aside.is_empty() => Ok(()),
        None => Err(CliError::Refused("not everything was taken".into())),
    }
}
