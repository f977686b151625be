//! `arvok secret`, `arvok token`, `arvok audit`, `arvok login`, `arvok logout`, `arvok profile`.

use super::{
    list::list,
    serve::{failed, settings},
};
use crate::{
    args::{AuditCommand, AutomateArgs, ProfileCommand, SecretCommand, Server, TokenCommand},
    client::{Client, percent},
    error::{CliError, file as fault},
    login::{Login, Logins},
    show::{self, Table},
};
use arvok_api::{
    AuditFilter, AuditItem, AutomationRight, NewToken, Page, SecretItem, SecretValue, TokenItem,
    TokenMade, Who,
};
use arvok_connect::{Keys, SHORTEST_SECRET, Weak, weakness};
use arvok_core::Role;
use reqwest::Method;
use serde_json::json;
use std::{
    fs,
    io::Read,
    path::{Path, PathBuf},
    time::{Duration, Instant},
};

const NOTHING: Option<&()> = None;

/// A value from standard input, without the line's end.
fn from_input() -> Result<String, CliError> {
    let mut text = String::new();
    std::io::stdin()
        .read_to_string(&mut text)
        .map_err(|e| CliError::Here(format!("standard input: {e}")))?;
    let value = text.trim_end_matches(['\n', '\r']);
    if value.is_empty() {
        return Err(CliError::Usage("nothing came on standard input".into()));
    }
    Ok(value.to_owned())
}

/// Sets a secret by a server, or on this machine as a file of settings says.
async fn set_secret(
    name: &str,
    body: SecretValue,
    offline: Option<Option<PathBuf>>,
    server: &Server,
) -> Result<(), CliError> {
    let weak = weakness(&body.value);
    match offline {
        Some(file) => {
            let config = settings(file.as_deref())?;
            let set = arvok_service::offline::set_secret(&config, name, &body.value, body.allowed);
            set.await.map_err(failed(&config))?;
        }
        None => {
            let path = format!("/api/v1/secrets/{}", percent(name));
            Client::of(server)?.change(Method::PUT, &path, Some(&body)).await?;
        }
    }
    show::out(&format!("secret {name} is set"));
    let why = weak.map(|weak| match weak {
        Weak::Short => format!("it has less than {SHORTEST_SECRET} bytes"),
        Weak::Common => "it is a word that stands in many texts".to_owned(),
    });
    if let Some(why) = why {
        let how = "it is not hidden where answers or alerts show it; take a longer one";
        show::notice(&format!("warning: {why}, so {how}"));
    }
    Ok(())
}

pub async fn secret(command: SecretCommand) -> Result<(), CliError> {
    match command {
        SecretCommand::Set { name, places, offline, config, server } => {
            let allowed = (!places.is_empty()).then_some(places);
            let body = SecretValue { value: from_input()?, allowed };
            set_secret(&name, body, offline.then_some(config), &server).await?;
        }
        SecretCommand::Make { name, places, server } => {
            let client = Client::of(&server)?;
            let known: Vec<SecretItem> = client.get("/api/v1/secrets", &[]).await?;
            if known.iter().any(|s| s.name == name) {
                let how = "make one of another name, list both in `signed_with`, and take the old \
                    one out later";
                return Err(CliError::Usage(format!("there is a secret `{name}` already; {how}")));
            }
            let key = Keys::make()
                .map_err(|e| CliError::Here(format!("the system gives no random numbers: {e}")))?;
            let body = SecretValue { value: key.clone(), allowed: Some(places) };
            let path = format!("/api/v1/secrets/{}", percent(&name));
            client.change(Method::PUT, &path, Some(&body)).await?;
            show::notice(&format!("secret {name} is a new key, shown this once:"));
            show::out(&key);
        }
        SecretCommand::List { server, output } => {
            let secrets: Vec<SecretItem> = Client::of(&server)?.get("/api/v1/secrets", &[]).await?;
            if output.json {
                return show::json(&secrets);
            }
            let mut table = Table::new(&["secret", "set", "goes to", "note"]);
            let note = |s: &SecretItem| match (s.opens, s.weak.as_deref()) {
                (false, _) => "cannot be opened with this node's key: set it again".to_owned(),
                (true, Some(weak)) => format!("too {weak} to be hidden where it is shown"),
                (true, None) => String::new(),
            };
            secrets.into_iter().for_each(|s| {
                let note = note(&s);
                table.row([s.name, show::exact(s.changed_at), s.allowed.join(", "), note]);
            });
            show::out(&table.text("No secret is set."));
        }
        SecretCommand::Remove { name, server } => {
            let path = format!("/api/v1/secrets/{}", percent(&name));
            Client::of(&server)?.change(Method::DELETE, &path, NOTHING).await?;
            show::out(&format!("secret {name} is removed"));
        }
    }
    Ok(())
}

/// Waits until the server is ready, and has written the token if that is in a file.
async fn until_ready(client: &Client, token_file: Option<&Path>) -> Result<(), CliError> {
    let begun = Instant::now();
    loop {
        let there = token_file.is_none_or(Path::is_file);
        let ready = client.is_ready().await;
        match ready {
            Ok(()) if there => return Ok(()),
            Err(e) if begun.elapsed() > PATIENCE => return Err(e),
            Ok(()) if begun.elapsed() > PATIENCE => {
                let file = token_file.unwrap_or(Path::new("")).display();
                return Err(CliError::Here(format!(
                    "the server is ready, but {file} is not there"
                )));
            }
            _ => tokio::time::sleep(Duration::from_millis(100)).await,
        }
    }
}

pub async fn audit(command: AuditCommand) -> Result<(), CliError> {
    let AuditCommand::List { by, act, paging, server, output } = command;
    let filter = AuditFilter { by, act, ..AuditFilter::default() };
    list(&Client::of(&server)?, "/api/v1/audit", &filter, (&paging, output), audited).await
}

fn audited(page: &Page<AuditItem>) -> String {
    let mut table = Table::new(&["when", "by", "did", "what", "more"]);
    for item in &page.items {
        let times = if item.times > 1 { format!("{} times", item.times) } else { String::new() };
        let more = [item.detail.clone().unwrap_or_default(), times];
        let more = more.into_iter().filter(|text| !text.is_empty()).collect::<Vec<_>>().join("; ");
        table.row([
            show::exact(item.at),
            item.by.shown(),
            item.act.clone(),
            item.what.clone(),
            more,
        ]);
    }
    show::with_next(table.text("Nothing was done yet."), page)
}

fn right(AutomateArgs { rules, plans, connections }: AutomateArgs) -> AutomationRight {
    AutomationRight { rules, plans, connections }
}

pub async fn token(command: TokenCommand) -> Result<(), CliError> {
    match command {
        TokenCommand::Make { name, role, automate, server, output } => {
            let known = Role::ALL.map(Role::as_str).join(", ");
            let role = Role::parse(&role)
                .ok_or_else(|| CliError::Usage(format!("--role {role}: the roles are {known}")))?;
            let asked = NewToken { name, role, automate: right(automate) };
            let made: TokenMade = Client::of(&server)?.post("/api/v1/tokens", &asked).await?;
            if output.json {
                return show::json(&made);
            }
            show::notice(&format!(
                "token {} with the role {}, shown this once:",
                made.name,
                role.as_str()
            ));
            show::out(&made.token);
        }
        TokenCommand::List { server, output } => {
            let tokens: Vec<TokenItem> = Client::of(&server)?.get("/api/v1/tokens", &[]).await?;
            if output.json {
                return show::json(&tokens);
            }
            let mut table = Table::new(&["token", "role", "made", "may automate"]);
            tokens.into_iter().for_each(|t| {
                let may = show::automation(t.role, &t.automate);
                table.row([t.name, t.role.as_str().to_owned(), show::exact(t.created_at), may])
            });
            show::out(&table.text("There are no tokens."));
        }
        TokenCommand::Automate { name, automate, server } => {
            let path = format!("/api/v1/tokens/{}/automate", percent(&name));
            let right = right(automate);
            Client::of(&server)?.change(Method::PUT, &path, Some(&right)).await?;
            let may = show::automation(Role::Author, &right);
            show::out(&format!("token {name} may automate {may}"));
        }
        TokenCommand::Revoke { name, server } => {
            let path = format!("/api/v1/tokens/{}", percent(&name));
            Client::of(&server)?.change(Method::DELETE, &path, NOTHING).await?;
            show::out(&format!("token {name} is revoked"));
        }
    }
    Ok(())
}

pub fn logout(name: Option<&str>) -> Result<(), CliError> {
    let mut logins = Logins::load()?;
    match logins.forget(name)? {
        Some((name, login)) => {
            let file = logins.save()?;
            show::out(&format!("`{name}`, {}, is forgotten in {}", login.server, file.display()));
        }
        None => show::out("nothing is remembered"),
    }
    Ok(())
}

pub fn profile(command: ProfileCommand) -> Result<(), CliError> {
    let mut logins = Logins::load()?;
    match command {
        ProfileCommand::List { output } => {
            if output.json {
                let one = |(name, login, meant): (&str, &Login, bool)| {
                    json!({ "name": name,
                    "server": login.server, "meant": meant })
                };
                return show::json(&logins.all().map(one).collect::<Vec<_>>());
            }
            let mut table = Table::new(&["name", "server", ""]);
            for (name, login, meant) in logins.all() {
                table.row([
                    name.to_owned(),
                    login.server.clone(),
                    if meant { "meant".into() } else { String::new() },
                ]);
            }
            show::out(&table.text("No server is remembered; `arvok login` does."));
        }
        ProfileCommand::Use { name } => {
            let server = logins.mean(&name)?.server.clone();
            logins.save()?;
            show::out(&format!("`{name}`, {server}, is meant from now on"));
        }
    }
    Ok(())
}

/// How long `--wait` waits.
const PATIENCE: Duration = Duration::from_secs(60);

pub async fn login(
    address: String,
    name: &str,
    token_file: Option<&Path>,
    wait: bool,
) -> Result<(), CliError> {
    // Whether the name is free is known before a token is asked for.
    let mut logins = Logins::load()?;
    let server = address.trim_end_matches('/').to_owned();
    logins.add(name, Login { server, token: String::new() })?;
    if wait {
        until_ready(&Client::new(address.clone(), None)?, token_file).await?;
    }
    let token = match token_file {
        Some(path) => fs::read_to_string(path).map_err(|e| fault(path, e))?.trim().to_owned(),
        None => from_input()?,
    };
    let client = Client::new(address, Some(token))?;
    let who: Who = client.get("/api/v1/me", &[]).await?;
    let login = Login {
        server: client.address().to_owned(),
        token: client.token().unwrap_or_default().to_owned(),
    };
    logins.add(name, login)?;
    let file = logins.save()?;
    show::out(&format!(
        "{} with the role {} at {}, kept in {}",
        who.name,
        who.role.as_str(),
        client.address(),
        file.display()
    ));
    Ok(())
}
