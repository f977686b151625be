//! `arvok connection`.

use super::{ask, definitions, list::list};
use crate::{
    args::ConnectionCommand,
    client::{Client, percent},
    error::{CliError, file},
    show,
};
use arvok_api::{
    CallFilter, CallItem, CallState, ConnectionDetail, ConnectionItem, ConnectionTest, HostKeyItem,
    HostKeyState, Imported, Machine, OfferedOperation, Page, TriedOperation, TrustKey,
    TryOperation,
};
use arvok_core::{connector::import as made_of, text::hint};
use reqwest::Method;
use serde_json::{Map, Value};
use std::{
    fs,
    io::{IsTerminal, Read},
    path::Path,
};

const ALL: &str = "/api/v1/connections";
/// Calls shown below a connection.
const LATEST: u64 = 10;

pub async fn connection(command: ConnectionCommand) -> Result<(), CliError> {
    match command {
        ConnectionCommand::Versioned(command) => {
            return definitions::versioned("connection", command).await;
        }
        ConnectionCommand::List { server, output } => {
            let page: Page<ConnectionItem> = Client::of(&server)?.get(ALL, &[]).await?;
            if output.json {
                return show::json(&page);
            }
            show::out(&show::connections(&page));
        }
        ConnectionCommand::Show { name, server, output } => {
            let client = Client::of(&server)?;
            let path = format!("{ALL}/{}", percent(&name));
            let detail: ConnectionDetail = client.get(&path, &[]).await?;
            if output.json {
                return show::json(&detail);
            }
            let filter = CallFilter { limit: Some(LATEST), ..CallFilter::default() };
            let calls: Page<CallItem> = client.list(&format!("{path}/calls"), &filter).await?;
            show::out(&show::connection(&detail, &calls));
        }
        ConnectionCommand::Calls { name, paging, server, output } => {
            let path = format!("{ALL}/{}/calls", percent(&name));
            let filter = CallFilter::default();
            return list(&Client::of(&server)?, &path, &filter, (&paging, output), show::calls)
                .await;
        }
        ConnectionCommand::Test { name, server, output } => {
            let path = format!("{ALL}/{}/test", percent(&name));
            let tested: ConnectionTest =
                Client::of(&server)?.post(&path, &serde_json::json!({})).await?;
            if output.json {
                show::json(&tested)?;
            } else {
                show::out(&show::connection_test(&name, &tested));
            }
            if !tested.state.is_well() {
                return Err(CliError::No);
            }
        }
        ConnectionCommand::Trust { name, host, fingerprint, forget, server, output } => {
            let client = Client::of(&server)?;
            let path = format!("{ALL}/{}", percent(&name));
            if let Some(machine) = forget {
                let path = format!("{path}/host-keys/{}", percent(&machine));
                client.change(Method::DELETE, &path, None::<&()>).await?;
                show::notice(&format!("the key of {machine} is trusted no more"));
                return Ok(());
            }
            trust(&client, &path, (host, fingerprint), output.json).await?;
        }
        ConnectionCommand::Try { name, operation, give, yes, dry_run, server, output } => {
            let client = Client::of(&server)?;
            try_by_hand(&client, (&name, &operation), &give, (yes, dry_run), output.json).await?;
        }
        ConnectionCommand::Import { file, only, name, list, output } => {
            let made = made_of(&text_of(&file)?, name.as_deref(), &only);
            let made: Imported =
                made.map_err(|e| CliError::Here(format!("{}: {e}", file.display())))?.into();
            if output.json {
                return show::json(&made);
            }
            imported(&made, list);
        }
    }
    Ok(())
}

/// Trusts the key that a machine shows: the one with the fingerprint that was given, or the one
/// that the person at the terminal says is right.
async fn trust(
    client: &Client,
    path: &str,
    (host, fingerprint): (Option<String>, Option<String>),
    json: bool,
) -> Result<(), CliError> {
    let path = format!("{path}/host-key");
    let fingerprint = match fingerprint {
        Some(fingerprint) => fingerprint,
        None => {
            let seen: HostKeyItem = client.post(&path, &Machine { host: host.clone() }).await?;
            if seen.state == HostKeyState::Trusted || !std::io::stdin().is_terminal() {
                match json {
                    true => show::json(&seen)?,
                    false => show::out(&show::host_key(&seen)),
                }
                return if seen.state == HostKeyState::Trusted {
                    Ok(())
                } else {
                    Err(CliError::No)
                };
            }
            show::out(&show::host_key(&seen));
            if !ask::agreed("Is that the machine's own key?")? {
                show::notice("nothing was trusted");
                return Err(CliError::No);
            }
            seen.fingerprint
        }
    };
    let trusted: HostKeyItem = client.put(&path, &TrustKey { host, fingerprint }).await?;
    match json {
        true => show::json(&trusted)?,
        false => show::out(&show::host_key(&trusted)),
    }
    Ok(())
}

/// Calls an operation by hand; what may change something is shown first, and asked for.
async fn try_by_hand(
    client: &Client,
    (via, operation): (&str, &str),
    typed: &[String],
    (yes, dry_run): (bool, bool),
    json: bool,
) -> Result<(), CliError> {
    let detail: ConnectionDetail = client.get(&format!("{ALL}/{}", percent(via)), &[]).await?;
    let offered = offered(&detail, operation)?;
    let give = typed_input(offered, typed)?;
    let path = format!("{ALL}/{}/operations/{}/try", percent(via), percent(operation));
    let asked = |dry_run| TryOperation { give: give.clone(), dry_run };
    let plan: TriedOperation = client.post(&path, &asked(true)).await?;
    if dry_run && json {
        return show::json(&plan);
    }
    if dry_run || (!yes && !offered.looks) {
        show::out(&show::request(&plan.request));
    }
    if dry_run {
        return Ok(());
    }
    if !yes && !offered.looks && !ask::agreed(&format!("Call {operation} via {via}?"))? {
        show::notice("nothing was sent");
        return Err(CliError::No);
    }
    let tried: TriedOperation = client.post(&path, &asked(false)).await?;
    if json {
        show::json(&tried)?;
    } else {
        show::out(&show::tried(operation, &tried));
    }
    if tried.state.is_some_and(CallState::is_well) { Ok(()) } else { Err(CliError::No) }
}

/// A connector that was made of a description, or the list of what it could hold.
fn imported(made: &Imported, list: bool) {
    if list {
        return show::out(&show::described(made));
    }
    show::out(made.text.trim_end());
    let taken = made.operations.iter().filter(|o| o.taken).count();
    show::notice(&format!(
        "{taken} of {} operations of {} were taken over",
        made.operations.len(),
        made.title
    ));
    made.left_out.iter().for_each(|one| show::notice(&format!("left out: {one}")));
}

fn offered<'d>(
    detail: &'d ConnectionDetail,
    operation: &str,
) -> Result<&'d OfferedOperation, CliError> {
    let found = detail.operations.iter().find(|o| o.name == operation);
    found.ok_or_else(|| {
        let names = detail.operations.iter().map(|o| o.name.as_str());
        let name = &detail.item.name;
        CliError::Usage(format!(
            "`{name}` has no operation `{operation}`{}",
            hint(operation, names)
        ))
    })
}

/// What was typed, each as the operation takes it; what is missing is asked for.
fn typed_input(
    operation: &OfferedOperation,
    typed: &[String],
) -> Result<Map<String, Value>, CliError> {
    let typed = super::pairs("--give", typed, "vm=vm/quill-1")?.into_iter();
    let mut give: Map<String, Value> = typed
        .map(|(name, value)| (name.to_owned(), super::read(operation.takes.get(name), value)))
        .collect();
    for (name, schema) in
        operation.takes.iter().filter(|(_, schema)| schema.get("default").is_none())
    {
        if !give.contains_key(name) {
            let typed = ask::value(name, schema, "--give")?;
            give.insert(name.clone(), super::read(Some(schema), &typed));
        }
    }
    Ok(give)
}

fn text_of(path: &Path) -> Result<String, CliError> {
    if path.as_os_str() != "-" {
        return fs::read_to_string(path).map_err(|e| file(path, e));
    }
    let mut text = String::new();
    std::io::stdin()
        .read_to_string(&mut text)
        .map_err(|e| CliError::Here(format!("standard input: {e}")))?;
    Ok(text)
}
