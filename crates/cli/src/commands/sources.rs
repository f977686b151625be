//! `arvok source`: whether senders are heard, what they send, and how that is read.

use super::definitions::named;
use crate::{
    args::{Output, Server, ShapeArgs, SourceCommand, TestSourceArgs},
    client::{Client, percent},
    error::{CliError, file},
    show,
};
use arvok_api::{
    AlertItem, DefinitionDetail, ForgottenShapes, KindShape, Page, Retried, RetryRequest,
    SourceShapes, SuggestedRead, TestSource, TestedSource, UnreadableItem,
};
use arvok_core::source::{ADDRESS, MibFile, named_objects};
use chrono::{DateTime, Utc};
use serde::Serialize;
use std::{
    collections::{BTreeMap, BTreeSet},
    fs,
    io::Read,
    path::PathBuf,
    time::Duration,
};

/// Prints what a sender of a source needs.
async fn sender_lines(
    name: &str,
    only: Option<&str>,
    server: &Server,
    output: &Output,
) -> Result<(), CliError> {
    let client = Client::of(server)?;
    let path = format!("/api/v1/definitions/source/{}", percent(name));
    let detail: DefinitionDetail = client.get(&path, &[]).await?;
    let mut lines = detail.sender_lines;
    for line in &mut lines {
        line.text = line.text.replace(ADDRESS, client.address());
    }
    if let Some(language) = only {
        let end = format!(", for {}", if language == "sh" { "sh" } else { "Python" });
        let script = lines.iter().find(|line| line.title.ends_with(&end)).ok_or_else(|| {
            CliError::Usage(format!("there is no script of {language} for the source {name}"))
        })?;
        show::out(script.text.trim_end());
        return Ok(());
    }
    if output.json {
        return show::json(&lines);
    }
    show::out(&show::sender_lines(&lines));
    Ok(())
}

/// How often is looked for what came.
const LOOK: Duration = Duration::from_secs(1);
/// Most that is shown of one look.
const MOST: u32 = 100;

/// What came of a source.
#[derive(Serialize)]
#[serde(rename_all = "lowercase")]
enum Came {
    Alert(AlertItem),
    Unreadable(UnreadableItem),
}

impl Came {
    /// What tells it from all others.
    fn key(&self) -> (bool, i64) {
        match self {
            Self::Alert(alert) => (true, alert.seq),
            Self::Unreadable(kept) => (false, kept.id),
        }
    }

    fn received(&self) -> DateTime<Utc> {
        match self {
            Self::Alert(alert) => alert.received,
            Self::Unreadable(kept) => kept.received,
        }
    }
}

/// Prints what comes of a source, until it is ended.
async fn tail(name: &str, last: u32, server: &Server, output: &Output) -> Result<(), CliError> {
    let client = Client::of(server)?;
    let path = format!("/api/v1/definitions/source/{}", percent(name));
    client.get::<DefinitionDetail>(&path, &[]).await?;
    let mut seen: BTreeSet<(bool, i64)> = BTreeSet::new();
    let mut is_first = true;
    loop {
        let query = [("source", Some(name.to_owned())), ("limit", Some(MOST.to_string()))];
        let alerts: Page<AlertItem> = client.get("/api/v1/alerts", &query).await?;
        let kept: Page<UnreadableItem> = client.get("/api/v1/unreadable", &query).await?;
        let alerts = alerts.items.into_iter().map(Came::Alert);
        let mut came: Vec<Came> =
            alerts.chain(kept.items.into_iter().map(Came::Unreadable)).collect();
        came.sort_by_key(Came::received);
        let now: BTreeSet<(bool, i64)> = came.iter().map(Came::key).collect();
        came.retain(|one| !seen.contains(&one.key()));
        if !is_first && came.len() >= MOST as usize && !output.json {
            show::out("  ... more came than is shown");
        }
        let before = came.len().saturating_sub(if is_first { last } else { 2 * MOST } as usize);
        for one in &came[before..] {
            match one {
                one if output.json => show::out(&show::escaped(
                    serde_json::to_string(one).map_err(|e| CliError::Here(e.to_string()))?,
                )),
                Came::Alert(alert) => show::out(&show::alert_line(alert)),
                Came::Unreadable(kept) => show::out(&show::unreadable_line(kept)),
            }
        }
        // What is older than all of these is not listed any more.
        seen = now;
        is_first = false;
        tokio::time::sleep(LOOK).await;
    }
}

/// Prints what MIB files name, as it stands in the document of a source.
fn mib(paths: &[PathBuf], all: bool, output: &Output) -> Result<(), CliError> {
    let read = |path: &PathBuf| {
        let bytes = fs::read(path).map_err(|e| file(path, &e))?;
        // Some of these files are older than UTF-8; names in them are plain.
        Ok((path.display().to_string(), String::from_utf8_lossy(&bytes).into_owned()))
    };
    let texts: Vec<(String, String)> = paths.iter().map(read).collect::<Result<_, CliError>>()?;
    let files: Vec<MibFile<'_>> = texts.iter().map(|(name, text)| MibFile { name, text }).collect();
    let found = named_objects(&files, all).map_err(|e| CliError::Here(e.to_string()))?;
    if !found.missing.is_empty() {
        let missing: Vec<&str> = found.missing.iter().map(String::as_str).collect();
        show::notice(&format!(
            "arvok: none of these files defines {}; give the files that do",
            missing.join(", ")
        ));
    }
    if output.json {
        let objects = found.objects.iter().map(|(number, object)| (number.to_string(), object));
        return show::json(&BTreeMap::from_iter(objects));
    }
    show::out(&show::named_objects(&found.objects));
    Ok(())
}

pub async fn source(command: SourceCommand) -> Result<(), CliError> {
    match command {
        SourceCommand::Named(command) => named("source", command).await,
        SourceCommand::Lines { name, only, server, output } => {
            sender_lines(&name, only.as_deref(), &server, &output).await
        }
        SourceCommand::Shape(args) => shape(args).await,
        SourceCommand::Tail { name, last, server, output } => {
            tail(&name, last, &server, &output).await
        }
        SourceCommand::Suggest { name, server, output } => suggest(&name, &server, &output).await,
        SourceCommand::Test(args) => test(args).await,
        SourceCommand::Mib { files, all, output } => mib(&files, all, &output),
        SourceCommand::Retry { name, acting, server, output } => {
            retry(&name, acting, &server, &output).await
        }
    }
}

/// Has what is kept of a source read again, page by page.
async fn retry(name: &str, acting: bool, server: &Server, output: &Output) -> Result<(), CliError> {
    let client = Client::of(server)?;
    let mut all = Retried::default();
    let mut after = None;
    loop {
        let request = RetryRequest { source: name.to_owned(), after, acting };
        let page: Retried = client.post("/api/v1/unreadable/retry", &request).await?;
        all.read += page.read;
        all.alerts += page.alerts;
        all.recorded_only += page.recorded_only;
        all.still.extend(page.still);
        after = page.next;
        if after.is_none() {
            break;
        }
    }
    if output.json {
        return show::json(&all);
    }
    show::out(&show::retried(&all));
    Ok(())
}

/// Shows what a source sends, or forgets it.
async fn shape(args: ShapeArgs) -> Result<(), CliError> {
    let ShapeArgs { name, kind, caught, beside, forget, server, output } = args;
    let client = Client::of(&server)?;
    let path = format!("/api/v1/sources/{}/shapes", percent(&name));
    let kind = if caught { Some(String::new()) } else { kind };
    if forget {
        let query = kind.map_or_else(String::new, |kind| format!("?kind={}", percent(&kind)));
        let forgotten: ForgottenShapes = client.delete(&format!("{path}{query}")).await?;
        if output.json {
            return show::json(&forgotten);
        }
        let count = usize::try_from(forgotten.forgotten).unwrap_or(usize::MAX);
        show::out(&format!("Forgotten: what came of {}.", show::count(count, "kind")));
        return Ok(());
    }
    let found: SourceShapes = client.get(&path, &[]).await?;
    let of_kind = |kind: &str| -> Result<&KindShape, CliError> {
        let is_it = |shape: &&KindShape| shape.kind.as_deref().unwrap_or_default() == kind;
        found.kinds.iter().find(is_it).ok_or_else(|| {
            let known: Vec<&str> =
                found.kinds.iter().filter_map(|shape| shape.kind.as_deref()).collect();
            let known = if known.is_empty() { "none".to_owned() } else { known.join(", ") };
            let what = if kind.is_empty() { "nothing that was caught" } else { kind };
            CliError::Usage(format!("{name} has not sent {what}; kinds that it sent: {known}"))
        })
    };
    match (&kind, &beside) {
        (None, None) if output.json => return show::json(&found),
        (None, None) => {
            show::out(&show::shapes(&found));
            if let [only] = &found.kinds[..] {
                show::out(&format!("\n{}", show::shape(only)));
            }
        }
        (Some(kind), None) if output.json => return show::json(of_kind(kind)?),
        (Some(kind), None) => show::out(&show::shape(of_kind(kind)?)),
        (kind, Some(beside)) => {
            let left = of_kind(kind.as_deref().unwrap_or_default())?;
            let right = of_kind(beside)?;
            if output.json {
                return show::json(&[left, right]);
            }
            show::out(&show::shapes_beside(left, right));
        }
    }
    Ok(())
}

/// Prints lines of `read` to start from.
async fn suggest(name: &str, server: &Server, output: &Output) -> Result<(), CliError> {
    let path = format!("/api/v1/sources/{}/suggestion", percent(name));
    let suggested: SuggestedRead = Client::of(server)?.get(&path, &[]).await?;
    if output.json {
        return show::json(&suggested);
    }
    show::out(&show::suggestion(&suggested));
    Ok(())
}

/// Tries the document of a source.
async fn test(args: TestSourceArgs) -> Result<(), CliError> {
    let TestSourceArgs { file: path, payload, server, output } = args;
    let text = fs::read_to_string(&path).map_err(|e| file(&path, &e))?;
    let payload = match payload {
        None => None,
        Some(path) if path.as_os_str() == "-" => {
            let mut text = String::new();
            let read = std::io::stdin().read_to_string(&mut text);
            read.map_err(|e| CliError::Here(format!("standard input: {e}")))?;
            Some(text)
        }
        Some(path) => Some(fs::read_to_string(&path).map_err(|e| file(&path, &e))?),
    };
    let file = Some(path.display().to_string());
    let request = TestSource { file, text, payload, beside: serde_json::Map::new() };
    let tested: TestedSource = Client::of(&server)?.post("/api/v1/sources/test", &request).await?;
    if output.json {
        return show::json(&tested);
    }
    if !tested.problems.is_empty() {
        let shown: Vec<String> =
            tested.problems.iter().map(|problem| problem.to_string()).collect();
        return Err(CliError::Here(shown.join("\n")));
    }
    show::out(&show::tested(&tested));
    Ok(())
}
