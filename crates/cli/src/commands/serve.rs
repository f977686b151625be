//! `arvok serve` and `arvok standin`: long runs that end with a signal.

use crate::{
    args::{Args, OfPort, Standin, Told},
    error::CliError,
    stop::{Stop, until_stopped},
};
use arvok_service::{Config, LogWriter, ServeError};
use arvok_standins::{
    Running, StandinError, Watched, board, chat, cloud, desk, features, kiosks, pager, queue, releases, site, yard,
};
use clap::CommandFactory;
use std::{collections::BTreeSet, io::IsTerminal, path::Path, time::Duration};
use tracing_subscriber::EnvFilter;

/// Logs to standard error; `ARVOK_LOG` chooses how much.
pub fn start_log() -> Result<(), CliError> {
    let level = std::env::var("ARVOK_LOG").unwrap_or_else(|_| "info,sqlx=error,actix_http=off".into());
    let filter = EnvFilter::try_new(&level).map_err(|e| {
        CliError::Here(format!(
            "ARVOK_LOG: `{level}` says not how much is logged, such as warn or info,sqlx=error: {e}"
        ))
    })?;
    let _ = tracing_subscriber::fmt()
        .with_env_filter(filter)
        .with_writer(LogWriter::default)
        .with_ansi(std::io::stderr().is_terminal())
        .with_target(false)
        .try_init();
    Ok(())
}

/// The variables of a node: what the commands take is theirs.
fn environment() -> impl Iterator<Item = (String, String)> {
    let mut theirs: BTreeSet<String> = BTreeSet::from(["ARVOK_LOG".to_owned()]);
    let mut left = vec![Args::command()];
    while let Some(command) = left.pop() {
        let named = command.get_arguments().filter_map(|arg| arg.get_env()?.to_str().map(str::to_owned));
        theirs.extend(named);
        left.extend(command.get_subcommands().cloned());
    }
    std::env::vars().filter(move |(name, _)| !theirs.contains(name))
}

/// The settings of a node on this machine.
pub fn settings(file: Option<&Path>) -> Result<Config, CliError> {
    Config::read(file, environment()).map_err(|e| CliError::Here(e.to_string()))
}

/// What goes wrong with a node, without the password of its database.
pub fn failed(config: &Config) -> impl Fn(ServeError) -> CliError + use<> {
    let hidden = config.database.clone();
    move |e| CliError::Here(without_password(&e.to_string(), hidden.as_deref()))
}

pub async fn serve(file: Option<&Path>, with: impl FnOnce(Config) -> Config) -> Result<(), CliError> {
    start_log()?;
    let config = with(settings(file)?);
    let (failed, recover) = (failed(&config), config.recover);
    let running = arvok_service::start(config).await.map_err(failed)?;
    if let Some(folder) = &running.private_database {
        say(&format!("no database was named; a private PostgreSQL runs in {}", folder.display()));
    }
    if let Some(file) = &running.first_token {
        let which = if recover { "a new" } else { "the first" };
        say(&format!("{which} token (role admin) is in {}", file.display()));
    }
    say(&format!("ready, listening on http://{}", running.address));
    if let Some(file) = &running.first_token {
        let (address, file) = (running.address, file.display());
        say(&format!("now sign in with `arvok login http://{address} --token-file {file}`,"));
        say(&format!("and in a browser at http://{address} with the same token"));
    }
    let given_up = tokio::select! {
        stopped = until_stopped() => {
            if stopped? == Stop::InOrder {
                say("is about to stop, and says so to whoever asks whether it is ready");
                // Whoever asks again does not want to wait.
                tokio::select! {
                    () = running.drain() => {}
                    _ = until_stopped() => {}
                }
            }
            None
        }
        why = running.gives_up() => Some(why),
    };
    say("stopping");
    running.stop().await;
    given_up.map_or(Ok(()), |why| Err(CliError::Here(why)))
}

/// Says something beside the log.
fn say(text: &str) {
    crate::show::say(&format!("arvok: {text}"));
}

pub async fn standin(which: Standin) -> Result<(), CliError> {
    let failed = |e: arvok_standins::StandinError| CliError::Here(e.to_string());
    match which {
        Standin::Yard { port, token, report_to, report_token } => {
            let options = yard::YardOptions {
                port,
                token,
                report_to: report_to.zip(report_token),
                tick: Duration::from_secs(1),
                seconds_a_tick: 10.0,
            };
            let yard = yard::start(options).map_err(failed)?;
            say(&format!("the yard is at {}, e.g. {}/v1/vms", yard.url(), yard.url()));
            until_stopped().await?;
            yard.stop().await;
        }
        Standin::Releases { port, token, report_to, report_token } => {
            let desk = releases::start(releases::ReleaseOptions {
                port,
                token,
                report_to: report_to.zip(report_token),
                takes: Duration::from_secs(3),
            });
            let desk = desk.map_err(failed)?;
            say(&format!("the release desk is at {}, e.g. {}/services/booking-web", desk.url(), desk.url()));
            until_stopped().await?;
            desk.stop().await;
        }
        Standin::Board { port, token, key } => {
            let board = board::start(board::BoardOptions { port, token, key }).map_err(failed)?;
            say(&format!("the board takes events at {0}/events, and shows them there", board.url()));
            until_stopped().await?;
            board.stop().await;
        }
        Standin::Chat { port, token } => {
            let chat = chat::start(port, token).map_err(failed)?;
            say(&format!("the chat is at {}, e.g. {}/channels/storage/messages", chat.url(), chat.url()));
            until_stopped().await?;
            chat.stop().await;
        }
        other => office(other).await?,
    }
    Ok(())
}

/// A text without the password of an address that it may hold.
fn without_password(text: &str, address: Option<&str>) -> String {
    let user = address.and_then(|a| a.split_once("://")?.1.rsplit_once('@').map(|(user, _)| user));
    match user.and_then(|user| user.split_once(':')) {
        Some((_, password)) if !password.is_empty() => text.replace(password, "***"),
        _ => text.to_owned(),
    }
}

/// How long what takes time at a stand-in takes.
const TAKES: Duration = Duration::from_secs(3);

/// A stand-in until it is stopped.
async fn attended<S: Send + 'static>(what: &str, path: &str, at_work: Running<S>) -> Result<(), CliError> {
    say(&format!("the {what} is at {0}, e.g. {0}{path}", at_work.url()));
    until_stopped().await?;
    at_work.stop().await;
    Ok(())
}

/// One that tells of what goes wrong there.
async fn watched<S: Watched + Send + 'static, const PORT: u16>(
    what: &str,
    path: &str,
    told: Told<PORT>,
    start: impl FnOnce(u16, String) -> Result<Running<S>, StandinError>,
) -> Result<(), CliError> {
    let at_work = start(told.of.port, told.of.token).map_err(|e| CliError::Here(e.to_string()))?;
    attended(what, path, at_work.watched(told.report_to.zip(told.report_token))).await
}

/// One of the smaller stand-ins.
async fn office(which: Standin) -> Result<(), CliError> {
    let failed = |e: arvok_standins::StandinError| CliError::Here(e.to_string());
    match which {
        Standin::Desk { port, token, secret } => {
            let desk = desk::start(desk::DeskOptions { port, token, secret }).map_err(failed)?;
            say(&format!("the ticket desk is at {0}, and describes itself at {0}/description", desk.url()));
            until_stopped().await?;
            desk.stop().await;
        }
        Standin::Pager { of: OfPort { port, token }, key } => {
            attended("pager", "/pages", pager::start(port, token, key).map_err(failed)?).await?;
        }
        Standin::Kiosks(told) => {
            let start = |port, token| kiosks::start(port, token, TAKES);
            watched("register of kiosks", "/kiosks", told, start).await?;
        }
        Standin::Features(told) => watched("features' switches", "/features/new-fares", told, features::start).await?,
        Standin::Queue(told) => {
            watched("mail queue", "/queue", told, |port, token| queue::start(port, token, TAKES)).await?;
        }
        Standin::Cloud(told) => {
            let start = |port, token| cloud::start(port, token, TAKES);
            watched("cloud", "/instances/timetable-worker-7", told, start).await?;
        }
        Standin::Site(told) => {
            watched("web site", "/pages/sailings", told, |port, token| site::start(port, token, TAKES)).await?;
        }
        Standin::Yard { .. } | Standin::Releases { .. } | Standin::Board { .. } | Standin::Chat { .. } => {}
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::without_password;

    #[test]
    fn what_goes_wrong_at_the_start_is_told_without_the_password() {
        let address = "postgres://arvok:pa:ss@w@db/arvok";
        let told = without_password(&format!("cannot parse {address}"), Some(address));
        assert_eq!(told, "cannot parse postgres://arvok:***@db/arvok");
        assert_eq!(without_password("as it is", Some("postgres://arvok@db/arvok")), "as it is");
    }
}
