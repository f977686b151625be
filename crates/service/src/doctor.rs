//! What an operator looks at before a node is started, and when it does not do what it should: the
//! machine, the database and the key, as the settings name them. Nothing is changed.

use crate::{
    address::{is_open, shown},
    clock,
    config::Config,
    key,
    script_settings::ScriptSettings,
    serve,
    tls::{ServerTls, TlsSettings, holds_until},
};
use arvok_connect::Vault;
use arvok_core::period::rough;
use arvok_store::{
    About, DatabaseConnection, Purpose, StoreError, nodes, retention, schema, secrets,
};
use chrono::{TimeDelta, Utc};
use nix::sys::statvfs::statvfs;
use serde::Serialize;
use std::{fs, path::Path, time::Duration};

/// How something stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Health {
    /// As it should.
    Good,
    /// It works, and somebody should see to it.
    Warn,
    /// A node does not start or work with it.
    Bad,
}

/// What was found of one thing.
#[derive(Clone, Debug, Serialize)]
pub struct Finding {
    /// What was looked at.
    pub about: &'static str,
    /// How it stands.
    pub health: Health,
    /// What was seen, and what to do if it is not well.
    pub says: String,
}

use Health::{Bad, Good, Warn};

fn found(about: &'static str, health: Health, says: impl Into<String>) -> Finding {
    Finding { about, health, says: says.into() }
}

/// The oldest PostgreSQL that Arvok is tested with.
const OLDEST: i32 = 15;
/// Room below which somebody should see to a disk: bytes, and a share in percent.
const LITTLE: (u64, u64) = (1 << 30, 5);
/// How far clocks may be from each other before somebody should set one right.
const OFF: TimeDelta = TimeDelta::seconds(5);
/// How long a certificate still holds when somebody should see to it.
const SOON: TimeDelta = TimeDelta::days(21);
/// How long an address is waited for.
const PATIENCE: Duration = Duration::from_secs(5);

/// Looks at everything that a node with these settings needs.
pub async fn look(config: &Config) -> Vec<Finding> {
    let mut all = vec![address(config), data_folder(&config.data), disk(&config.data)];
    all.extend(public_url(config).await);
    all.extend(own_tls(&config.tls));
    all.extend(scripts(&config.scripts).await);
    let Some(url) = &config.database else {
        all.push(found(
            "database",
            Good,
            "a private PostgreSQL in the data folder, which a node starts by itself",
        ));
        return all;
    };
    let address = shown(url);
    if let Err(why) = arvok_store::reach(url).await {
        all.push(found("database", Bad, format!("{address}: {why}")));
        return all;
    }
    match arvok_store::connect(url, 1, Purpose::Questions).await {
        Err(e) => all.push(found("database", Bad, format!("{address}: {e}"))),
        Ok(db) => {
            if let Err(e) = database(&db, config, &address, &mut all).await {
                all.push(found("database", Bad, format!("{address}: {e}")));
            }
            let _ = db.close().await;
        }
    }
    all
}

/// Whether TLS can be spoken, where it is to be.
fn own_tls(settings: &TlsSettings) -> Option<Finding> {
    let about = "tls";
    Some(match ServerTls::open(settings).transpose()? {
        Err(e) => found(about, Bad, e.to_string()),
        Ok(tls) => {
            let left = tls.until() - Utc::now();
            let asked = if tls.asks_clients() { ", and senders are asked for theirs" } else { "" };
            let says = match left < TimeDelta::zero() {
                true => "the certificate does not hold any more".to_owned(),
                false => format!("a certificate for {} more{asked}", rough(left)),
            };
            found(about, if left < SOON { Warn } else { Good }, says)
        }
    })
}

/// Whether scripts can be run, where any may.
async fn scripts(settings: &ScriptSettings) -> Option<Finding> {
    let about = "scripts";
    Some(match settings.look().await? {
        Ok(()) => found(about, Good, format!("run by {}", settings.interpreters.join(", "))),
        Err(why) => found(about, Bad, why),
    })
}

fn data_folder(data: &Path) -> Finding {
    let about = "data folder";
    match fs::metadata(data) {
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => {
            found(about, Good, format!("{} is not there yet; a node makes it", data.display()))
        }
        Err(e) => found(about, Bad, format!("{}: {e}", data.display())),
        Ok(folder) if !folder.is_dir() => {
            found(about, Bad, format!("{} is no folder", data.display()))
        }
        Ok(_) => match tempfile::NamedTempFile::new_in(data) {
            Ok(_) => found(about, Good, data.display().to_string()),
            Err(e) => found(about, Bad, format!("{} cannot be written to: {e}", data.display())),
        },
    }
}

/// How much room is left where the data folder is, or is going to be.
fn disk(data: &Path) -> Finding {
    let there =
        data.ancestors().find(|path| path.exists()).filter(|path| !path.as_os_str().is_empty());
    match statvfs(there.unwrap_or(Path::new("."))) {
        Err(e) => {
            found("disk", Warn, format!("the room for {} cannot be told: {e}", data.display()))
        }
        Ok(room) => {
            let free = room.blocks_available() * room.fragment_size();
            let share = room.blocks_available() * 100 / room.blocks().max(1);
            let says = format!(
                "{:.1} GB are free where {} is, {share} %",
                free as f64 / 1e9,
                data.display()
            );
            let little = free < LITTLE.0 || share < LITTLE.1;
            found("disk", if little { Warn } else { Good }, says)
        }
    }
}

/// How it stands with the address under which people reach the console.
async fn public_url(config: &Config) -> Option<Finding> {
    let about = "public address";
    let url = config.public_url();
    if config.public_url.is_none() {
        let open = !config.listen.ip().is_loopback();
        let how = "it is not set; links in messages name the address it listens on";
        return open.then(|| {
            found(about, Warn, format!("{how}, and browsers keep no session without TLS"))
        });
    }
    if is_open(&url) {
        return Some(found(
            about,
            Warn,
            format!("{url} is without TLS: tokens and sessions can be read on the way"),
        ));
    }
    let client = arvok_connect::http_client().timeout(PATIENCE).tls_info(true).build().ok()?;
    Some(match client.get(format!("{url}/healthz")).send().await {
        Err(e) => found(about, Warn, format!("{url} does not answer: {}", cause(&e))),
        Ok(answer) => {
            let until = answer
                .extensions()
                .get::<reqwest::tls::TlsInfo>()
                .and_then(|tls| holds_until(tls.peer_certificate()?));
            match (answer.status().is_success(), until) {
                (false, _) => {
                    found(about, Warn, format!("{url}/healthz answers {}", answer.status()))
                }
                (true, None) => found(about, Good, url),
                (true, Some(until)) => {
                    let left = until - Utc::now();
                    let says = format!("{url}, with a certificate for {} more", rough(left));
                    found(about, if left < SOON { Warn } else { Good }, says)
                }
            }
        }
    })
}

/// The innermost cause of an error: what somebody can see to.
fn cause(e: &(dyn std::error::Error + 'static)) -> String {
    e.source().map_or_else(|| e.to_string(), cause)
}

/// Looks at a database that lets one in.
async fn database(
    db: &DatabaseConnection,
    config: &Config,
    address: &str,
    all: &mut Vec<Finding>,
) -> Result<(), StoreError> {
    let about = arvok_store::about(db).await?;
    all.push(kind(db, &about, address).await?);
    let asked = clock::own();
    let theirs = arvok_store::now(db).await?;
    let off = asked - theirs;
    let says =
        format!("this machine's clock is {:+.3} s from the database's", off.as_seconds_f64());
    all.push(found("clock", if off.abs() > OFF { Bad } else { Good }, says));
    let standing = schema::standing(db).await?;
    let is_new = standing.is_new;
    all.push(tables(&standing));
    let nodes = if is_new { Vec::new() } else { nodes::all(db).await? };
    all.push(connections(&about, config, nodes.iter().filter(|n| n.lag < 30.0).count()));
    if is_new || standing.pending > 0 {
        return Ok(());
    }
    all.push(the_key(db, config).await?);
    let differs = config.retention.change().differs_from(&retention::now(db).await?);
    all.push(match differs.is_empty() {
        true => found(
            "retention",
            Good,
            "as the database says, for all nodes (`arvok storage \
            show`)",
        ),
        false => {
            let names = differs.join(", ");
            found(
                "retention",
                Warn,
                format!(
                    "{names}: set here, but counts only for a new installation; `arvok storage \
                    keep` changes it"
                ),
            )
        }
    });
    for silent in nodes.iter().filter(|n| n.lag >= 30.0) {
        let says = format!(
            "{} {} was last heard of {} ago; `arvok node forget {}` if it will not come back",
            silent.host,
            silent.address,
            rough(TimeDelta::seconds(silent.lag as i64)),
            silent.address
        );
        all.push(found("node", Warn, says));
    }
    Ok(())
}

/// What the database is.
async fn kind(
    db: &DatabaseConnection,
    about: &About,
    address: &str,
) -> Result<Finding, StoreError> {
    let encoding = arvok_store::encoding(db).await?;
    let version = about.version / 10_000;
    let says =
        format!("{address}: PostgreSQL {version}, {encoding}, {:.1} MB", about.bytes as f64 / 1e6);
    Ok(if encoding != "UTF8" {
        found(
            "database",
            Bad,
            format!("{says}; not every text can be kept in it, make one with ENCODING 'UTF8'"),
        )
    } else if about.is_standby {
        found(
            "database",
            Bad,
            format!("{says}; it is a standby, which only reads: promote it, or name the primary"),
        )
    } else if version < OLDEST {
        found("database", Warn, format!("{says}; Arvok is tested with {OLDEST} and newer"))
    } else {
        found("database", Good, says)
    })
}

fn tables(standing: &schema::MigrationStatus) -> Finding {
    let about = "tables";
    match standing {
        schema::MigrationStatus { is_new: true, .. } => {
            found(about, Good, "none yet; a node makes them when it starts")
        }
        schema::MigrationStatus { newer, may_go_on: false, .. } => {
            let newest = newer.last().map_or("", String::as_str);
            found(
                about,
                Bad,
                format!(
                    "brought to `{newest}` by a newer release, with which this one cannot work"
                ),
            )
        }
        schema::MigrationStatus { newer, .. } if !newer.is_empty() => found(
            about,
            Warn,
            format!(
                "{} migrations of a newer release were made; upgrade this node soon",
                newer.len()
            ),
        ),
        schema::MigrationStatus { pending: 0, .. } => {
            found(about, Good, "as this release has them")
        }
        schema::MigrationStatus { pending, .. } => found(
            about,
            Good,
            format!("of an older release; a node makes {pending} migrations when it starts"),
        ),
    }
}

/// Whether there are connections enough for the nodes that are there and this one.
fn connections(about: &About, config: &Config, nodes: usize) -> Finding {
    let (most, each) = (i64::from(about.most_connections), i64::from(config.database_connections));
    let nodes = i64::try_from(nodes.max(1)).unwrap_or(i64::MAX);
    let needed = nodes.saturating_mul(each + 1);
    let says = format!(
        "{} of {most} are open; {nodes} {} with {each} and one to hear of changes may take \
        {needed}",
        about.connections,
        if nodes == 1 { "node" } else { "nodes" }
    );
    match needed > most {
        true => found(
            "connections",
            Bad,
            format!("{says}: raise max_connections, or lower database_connections"),
        ),
        false => found("connections", Good, says),
    }
}

/// Whether the key in the data folder is the right one.
async fn the_key(db: &DatabaseConnection, config: &Config) -> Result<Finding, StoreError> {
    let file = config.data.join("secrets.key");
    let Some(sealed) = secrets::key_check(db).await? else {
        return Ok(found("key", Good, "none is known yet; that of the first node counts"));
    };
    let vault = match fs::read_to_string(&file) {
        Err(e) => {
            return Ok(found(
                "key",
                Bad,
                format!(
                    "{}: {e}; copy it from a node that works or from the backup",
                    file.display()
                ),
            ));
        }
        Ok(text) => Vault::new(text.trim()),
    };
    let lost = match &vault {
        Ok(vault) if key::opens(vault, &sealed) => None,
        Ok(vault) => Some(key::lost(db, vault).await?),
        Err(e) => Some(e.to_string()),
    };
    Ok(match lost {
        None => found("key", Good, format!("{} opens the secrets", file.display())),
        Some(lost) => found(
            "key",
            Bad,
            format!(
                "{} is not that of this installation; it does not open: {lost}",
                file.display()
            ),
        ),
    })
}

/// Whether the address is free, for whoever wonders why a node does not start.
fn address(config: &Config) -> Finding {
    match serve::is_free(config.listen) {
        Ok(()) => found("address", Good, format!("{} is free", config.listen)),
        Err(e) => {
            found("address", Warn, format!("{}: {e}; a node may run there already", config.listen))
        }
    }
}
