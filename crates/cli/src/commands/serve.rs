//! `arvok serve`: a node, until a signal ends it.

use crate::{
    args::Args,
    error::CliError,
    log,
    stop::{SignalRequest, Signals},
};
use arvok_service::{Config, Running, ServeError};
use clap::CommandFactory;
use sd_notify::NotifyState;
use std::{collections::BTreeSet, path::Path, time::Duration};

/// The variables of a node: what the commands take is theirs.
pub fn environment() -> impl Iterator<Item = (String, String)> {
    let mut theirs: BTreeSet<String> =
        log::VARIABLES.iter().map(|name| (*name).to_owned()).collect();
    let mut left = vec![Args::command()];
    while let Some(command) = left.pop() {
        let named =
            command.get_arguments().filter_map(|arg| arg.get_env()?.to_str().map(str::to_owned));
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

pub async fn serve(file: Option<&Path>, with: impl Fn(Config) -> Config) -> Result<(), CliError> {
    log::start()?;
    let config = with(settings(file)?);
    let (failed, recover) = (failed(&config), config.recover);
    // None of them ends a node that is about to start without a word.
    let mut signals = Signals::new()?;
    let running = tokio::select! {
        started = arvok_service::start(config) => started.map_err(failed)?,
        () = ends(&mut signals) => return Ok(()),
    };
    welcome(&running, recover);
    let beside = tokio::spawn(log::keep_telling());
    tell_manager(&[NotifyState::Ready]);
    let given_up = attend(&running, &mut signals, || Ok(with(settings(file)?))).await;
    tell_manager(&[NotifyState::Stopping]);
    notice("stopping");
    running.stop().await;
    beside.abort();
    log::tell_left_out();
    given_up.map_or(Ok(()), |why| Err(CliError::Here(why)))
}

/// What an operator wants to know first.
fn welcome(running: &Running, recover: bool) {
    if let Some(folder) = &running.private_database {
        notice(&format!(
            "no database was named; a private PostgreSQL runs in {}",
            folder.display()
        ));
    }
    if let Some(file) = &running.first_token {
        let which = if recover { "a new" } else { "the first" };
        notice(&format!("{which} token (role admin) is in {}", file.display()));
    }
    notice(&format!("ready, listening on http://{}", running.address));
    if let Some(file) = &running.first_token {
        let (address, file) = (running.address, file.display());
        notice(&format!("now sign in with `arvok login http://{address} --token-file {file}`,"));
        notice(&format!("and in a browser at http://{address} with the same token"));
    }
}

/// Ends with the first signal that asks for an end.
async fn ends(signals: &mut Signals) {
    while !matches!(signals.next().await, SignalRequest::Stop | SignalRequest::StopInOrder) {}
}

/// Does what signals ask for until the node is to end; why it cannot go on, if that is the reason.
async fn attend(
    running: &Running,
    signals: &mut Signals,
    settings: impl Fn() -> Result<Config, CliError>,
) -> Option<String> {
    let watchdog = sd_notify::watchdog_enabled().map(|within| within / 2);
    let mut alive = tokio::time::interval(watchdog.unwrap_or(Duration::from_secs(3_600)));
    loop {
        tokio::select! {
            why = running.gives_up() => return Some(why),
            _ = alive.tick(), if watchdog.is_some() => {
                if running.is_alive() {
                    tell_manager(&[NotifyState::Watchdog]);
                }
            }
            asked = signals.next() => match asked {
                SignalRequest::Stop => return None,
                SignalRequest::StopInOrder => {
                    tell_manager(&[NotifyState::Stopping]);
                    notice("is about to stop, and says so to whoever asks whether it is ready");
                    // Whoever asks again does not want to wait.
                    tokio::select! {
                        () = running.drain() => {}
                        () = ends(signals) => {}
                    }
                    return None;
                }
                SignalRequest::Reload => reload(running, settings()).await,
                SignalRequest::Nothing => notice("a signal that means nothing here was passed over"),
            },
        }
    }
}

/// Takes over settings that were read again. What is wrong with them changes nothing.
async fn reload(running: &Running, read: Result<Config, CliError>) {
    let since = NotifyState::monotonic_usec_now();
    tell_manager(&since.map_or_else(
        |_| vec![NotifyState::Reloading],
        |since| vec![NotifyState::Reloading, since],
    ));
    match read {
        Err(e) => notice(&format!("the settings stay as they are: {e}")),
        Ok(config) => match running.reload(config).await {
            Ok(left) if left.is_empty() => notice("the settings were read again"),
            Ok(left) => notice(&format!(
                "the settings were read again; {} only a start changes",
                left.join(", ")
            )),
            Err(e) => notice(&format!(
                "the settings were read again, and what is published is loaded with them later: {e}"
            )),
        },
    }
    tell_manager(&[NotifyState::Ready]);
}

/// Tells the manager of services that started this one, if there is one (`NOTIFY_SOCKET`).
fn tell_manager(what: &[NotifyState<'_>]) {
    if let Err(e) = sd_notify::notify(what) {
        tracing::debug!("the manager of services hears nothing: {e}");
    }
}

/// Says something beside the log.
pub fn notice(text: &str) {
    crate::show::notice(&format!("arvok: {text}"));
}

/// A text without the password of an address that it may hold.
fn without_password(text: &str, address: Option<&str>) -> String {
    let user = address.and_then(|a| a.split_once("://")?.1.rsplit_once('@').map(|(user, _)| user));
    match user.and_then(|user| user.split_once(':')) {
        Some((_, password)) if !password.is_empty() => text.replace(password, "***"),
        _ => text.to_owned(),
    }
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
