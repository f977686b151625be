//! `arvok check`, `arvok publish`, `arvok schema`, and the lists of what is published.

use super::{ask, attached::with_files};
use crate::{
    args::{Named, Output, Server, Versioned},
    client::{Client, percent},
    error::{CliError, file},
    show,
};
use arvok_api::{
    ChangeKind, DefinitionDetail, DefinitionItem, DefinitionName, ExpectedVersion, FileProblem,
    FileText, Page, PlannedChange, PublishRequest, PublishResult, UnreadableItem, VersionItem,
};
use arvok_core::{
    Catalog, Kind, Problem,
    catalog::{self, Observed},
    document::{NOT_UTF8, parse_file},
    rule::Rule,
    runbook::Runbook,
};
use std::{
    collections::{BTreeMap, BTreeSet},
    fs,
    path::{Component, Path, PathBuf},
};

/// Deepest folder below the one that was named.
const MAX_FOLDERS: usize = 16;

/// All files that were named, or lie in folders that were, in order.
fn read(paths: &[PathBuf]) -> Result<Vec<FileText>, CliError> {
    let mut files = Vec::new();
    for path in paths {
        gather(path, 0, &mut files)?;
    }
    if files.is_empty() {
        return Err(CliError::Usage(
            "there is no .yaml, .yml or .json file in what was named".into(),
        ));
    }
    Ok(files)
}

fn gather(path: &Path, depth: usize, files: &mut Vec<FileText>) -> Result<(), CliError> {
    if path.as_os_str() == "-" {
        let bytes = super::alerts::payload(path)?;
        files.push(FileText { file: "standard input".to_owned(), text: readable(bytes) });
        return Ok(());
    }
    if !path.is_dir() {
        let bytes = fs::read(path).map_err(|e| file(path, e))?;
        let text = with_files(path, readable(bytes))?;
        files.push(FileText { file: path.display().to_string(), text });
        return Ok(());
    }
    if depth > MAX_FOLDERS {
        return Err(CliError::Here(format!("{}: folders lie too deep", path.display())));
    }
    let mut inside: Vec<PathBuf> = fs::read_dir(path)
        .map_err(|e| file(path, e))?
        .filter_map(|e| e.ok().map(|e| e.path()))
        .collect();
    inside.sort();
    for entry in inside {
        let known = entry
            .extension()
            .and_then(|e| e.to_str())
            .is_some_and(|e| matches!(e, "yaml" | "yml" | "json"));
        let hidden = entry.file_name().and_then(|n| n.to_str()).is_some_and(|n| n.starts_with('.'));
        if !hidden && (known || entry.is_dir()) {
            gather(&entry, depth + 1, files)?;
        }
    }
    Ok(())
}

/// The text of a file. One that is not UTF-8 keeps a mark where it is not, at which the check
/// complains, as about anything else in it; the other files are checked all the same.
fn readable(bytes: Vec<u8>) -> String {
    String::from_utf8(bytes).unwrap_or_else(|e| {
        let (good, rest) = e.as_bytes().split_at(e.utf8_error().valid_up_to());
        let line = String::from_utf8_lossy(rest).lines().next().unwrap_or_default().to_owned();
        format!("{}{NOT_UTF8}{}", String::from_utf8_lossy(good), line.replace('\u{fffd}', ""))
    })
}

pub fn check(paths: &[PathBuf], all_warnings: bool, output: Output) -> Result<(), CliError> {
    let files = read(paths)?;
    let texts = files.iter().map(|f| (f.file.as_str(), f.text.as_str()));
    let checked = catalog::check_files(texts, &[], &Catalog::default(), &Observed::default());
    if output.json {
        let problems: Vec<FileProblem> =
            checked.problems.iter().chain(&checked.warnings).cloned().map(Into::into).collect();
        show::json(&problems)?;
    } else {
        warn(&checked.warnings, all_warnings);
        complain(&checked.problems);
    }
    if checked.problems.is_empty() {
        if !output.json {
            let examples = checked.entries.iter().map(|e| {
                let of_rule = e.as_kind::<Rule>().map_or(0, |rule| rule.examples.len());
                of_rule + e.as_kind::<Runbook>().map_or(0, |runbook| runbook.examples.len())
            });
            let played = match examples.sum::<usize>() {
                0 => String::new(),
                1 => "; 1 example holds".to_owned(),
                n => format!("; {n} examples hold"),
            };
            let (definitions, files) = (
                show::count(checked.entries.len(), "definition"),
                show::count(files.len(), "file"),
            );
            show::out(&format!("{definitions} in {files} are good{played}"));
        }
        return Ok(());
    }
    Err(CliError::No)
}

/// Warnings of one kind that are shown one by one.
const WARNINGS_SHOWN: usize = 10;

fn warn(warnings: &[Problem], all: bool) {
    let mut seen: BTreeMap<&str, usize> = BTreeMap::new();
    for warning in warnings {
        let seen = seen.entry(warning.warning.as_deref().unwrap_or_default()).or_default();
        *seen += 1;
        if all || *seen <= WARNINGS_SHOWN {
            show::notice(&warning.to_string());
        }
    }
    for (kind, more) in
        seen.into_iter().filter_map(|(kind, n)| Some((kind, n.checked_sub(WARNINGS_SHOWN)?)))
    {
        if !all && more > 0 {
            show::notice(&format!("and {more} more of `{kind}`; --all-warnings shows them"));
        }
    }
}

fn complain(problems: &[Problem]) {
    for problem in problems {
        show::notice(&problem.to_string());
    }
    if !problems.is_empty() {
        show::notice(&show::count(problems.len(), "problem"));
    }
}

/// Checks beside what is published: names that are defined elsewhere are known, and what stands
/// must fit still.
pub async fn check_beside(
    paths: &[PathBuf],
    all_warnings: bool,
    server: &Server,
    output: Output,
) -> Result<(), CliError> {
    let request = PublishRequest {
        files: read(paths)?,
        withdraw: Vec::new(),
        dry_run: true,
        expects: Vec::new(),
    };
    let plan: PublishResult = Client::of(server)?.post("/api/v1/publish", &request).await?;
    let good = plan.problems.is_empty();
    if output.json {
        show::json(&plan.problems.iter().chain(&plan.warnings).collect::<Vec<_>>())?;
    } else {
        warn(&plan.warnings.into_iter().map(Into::into).collect::<Vec<_>>(), all_warnings);
        complain(&plan.problems.into_iter().map(Into::into).collect::<Vec<_>>());
    }
    if good && !output.json {
        let (definitions, files) = (
            show::count(plan.changes.iter().filter(|c| !c.is_by_steps()).count(), "definition"),
            show::count(request.files.len(), "file"),
        );
        show::out(&format!("{definitions} in {files} are good beside what is published"));
    }
    if good { Ok(()) } else { Err(CliError::No) }
}

pub async fn publish(
    paths: &[PathBuf],
    prune: bool,
    asking: Asking,
    server: &Server,
    output: Output,
) -> Result<(), CliError> {
    let files = read(paths)?;
    let withdraw = if prune { gone(paths, &files, server).await? } else { Vec::new() };
    change(
        PublishRequest { files, withdraw, dry_run: true, expects: Vec::new() },
        PUBLISH,
        asking,
        server,
        output,
    )
    .await
}

/// What was published from folders and is no more in them.
async fn gone(
    paths: &[PathBuf],
    files: &[FileText],
    server: &Server,
) -> Result<Vec<DefinitionName>, CliError> {
    if let Some(path) = paths.iter().find(|path| !path.is_dir()) {
        let wrong = format!(
            "--prune: {} is no folder; what is gone is known of whole folders",
            path.display()
        );
        return Err(CliError::Usage(wrong));
    }
    let client = Client::of(server)?;
    let folders: Vec<PathBuf> = paths.iter().map(|path| plain(path)).collect();
    let documents = files.iter().filter_map(|f| parse_file(&f.file, &f.text).ok()).flatten();
    let here: BTreeSet<(String, String)> = documents.map(|d| (d.kind, d.name)).collect();
    let (mut gone, mut elsewhere) = (Vec::new(), 0);
    for kind in Kind::ALL {
        let page: Page<DefinitionItem> =
            client.get(&format!("/api/v1/definitions/{kind}"), &[]).await?;
        let left = page
            .items
            .into_iter()
            .filter(|item| !here.contains(&(kind.to_string(), item.name.clone())));
        for item in left {
            let file = plain(Path::new(&item.file));
            if folders.iter().any(|folder| file.starts_with(folder)) {
                gone.push(DefinitionName { kind: kind.to_string(), name: item.name });
            } else {
                elsewhere += 1;
            }
        }
    }
    if elsewhere > 0 {
        show::notice(&format!(
            "{} came from elsewhere and are left as they are",
            show::count(elsewhere, "definition")
        ));
    }
    Ok(gone)
}

/// A path without what means nothing in it.
fn plain(path: &Path) -> PathBuf {
    path.components().filter(|part| !matches!(part, Component::CurDir)).collect()
}

pub async fn withdraw(
    kind: String,
    names: Vec<String>,
    (yes, dry_run): (bool, bool),
    server: &Server,
    output: Output,
) -> Result<(), CliError> {
    if Kind::parse(&kind).is_none() {
        let known = Kind::ALL.map(Kind::as_str).join(", ");
        return Err(CliError::Usage(format!(
            "`{kind}` is no kind of definition; the kinds are {known}"
        )));
    }
    let named = |name| DefinitionName { kind: kind.clone(), name };
    let withdraw = names.into_iter().map(named).collect();
    let request =
        PublishRequest { files: Vec::new(), withdraw, dry_run: true, expects: Vec::new() };
    let asking = Asking { yes, dry_run, all_warnings: false };
    change(request, ("withdrawn", "Withdraw this?"), asking, server, output).await
}

/// What is done, and the question before it.
pub(super) const PUBLISH: (&str, &str) = ("published", "Publish this?");

/// How a change is asked for.
#[derive(Clone, Copy)]
pub(super) struct Asking {
    pub yes: bool,
    pub dry_run: bool,
    pub all_warnings: bool,
}

/// Shows what would change, asks, and has it done.
pub(super) async fn change(
    mut request: PublishRequest,
    (done, question): (&str, &str),
    Asking { yes, dry_run, all_warnings }: Asking,
    server: &Server,
    output: Output,
) -> Result<(), CliError> {
    let client = Client::of(server)?;
    let plan: PublishResult = client.post("/api/v1/publish", &request).await?;
    if !output.json {
        warn(&plan.warnings.iter().cloned().map(Into::into).collect::<Vec<_>>(), all_warnings);
    }
    if !plan.problems.is_empty() {
        let problems: Vec<Problem> = plan.problems.into_iter().map(Into::into).collect();
        complain(&problems);
        show::notice(&format!("nothing was {done}"));
        return Err(CliError::No);
    }
    let same = plan.changes.iter().all(|c| c.change == ChangeKind::Same);
    if output.json && (dry_run || same) {
        return show::json(&plan);
    }
    if !output.json {
        show::out(&show::changes(&plan));
    }
    if let Some(lacking) = plan.acts.iter().find_map(|acts| acts.lacking.as_ref()) {
        show::notice(&format!("{lacking}; nothing was {done}"));
        return Err(CliError::No);
    }
    if dry_run || same {
        return Ok(());
    }
    if !yes && !ask::agreed(question)? {
        show::notice(&format!("nothing was {done}"));
        return Err(CliError::No);
    }
    request.dry_run = false;
    let expected = |change: &PlannedChange| ExpectedVersion {
        kind: change.kind.clone(),
        name: change.name.clone(),
        version: change.version,
    };
    request.expects = plan.changes.iter().map(expected).collect();
    let plan: PublishResult = client.post("/api/v1/publish", &request).await?;
    if output.json {
        return show::json(&plan);
    }
    show::out(done);
    Ok(())
}

pub fn schema(kind: &str) -> Result<(), CliError> {
    if kind == "api" {
        show::out(&arvok_service::api::openapi_document());
        return Ok(());
    }
    let known = Kind::ALL.map(Kind::as_str).join(", ");
    let kind = Kind::parse(kind).ok_or_else(|| {
        CliError::Usage(format!("`{kind}` is no kind of document; the kinds are {known}, and api"))
    })?;
    show::json(&catalog::schema(kind))
}

pub async fn named(kind: &str, command: Named) -> Result<(), CliError> {
    match command {
        Named::List { server, output } => {
            let page: Page<DefinitionItem> =
                Client::of(&server)?.get(&format!("/api/v1/definitions/{kind}"), &[]).await?;
            if output.json {
                return show::json(&page);
            }
            show::out(&show::definitions(kind, &page));
        }
        Named::Show { name, server, output } => {
            let client = Client::of(&server)?;
            let detail: DefinitionDetail =
                client.get(&format!("/api/v1/definitions/{kind}/{}", percent(&name)), &[]).await?;
            if output.json {
                return show::json(&detail);
            }
            show::out(&show::definition(kind, &detail));
            if kind == "source" {
                let query = [("source", Some(name)), ("limit", Some("10".to_owned()))];
                let page: Page<UnreadableItem> = client.get("/api/v1/unreadable", &query).await?;
                show::out(&format!("\n{}", show::unreadable(&page)));
            }
        }
        Named::Versioned(command) => return versioned(kind, command).await,
    }
    Ok(())
}

/// The versions of a definition, and bringing one of them back.
pub async fn versioned(kind: &str, command: Versioned) -> Result<(), CliError> {
    match command {
        Versioned::Versions { name, version, server, output } => {
            let page = versions(&Client::of(&server)?, kind, &name).await?;
            match version {
                Some(number) => show::out(one_of(&page, kind, &name, number)?.text.trim_end()),
                None if output.json => return show::json(&page),
                None => show::out(&show::versions(&page)),
            }
        }
        Versioned::Edit { name, yes, server } => {
            return super::edit::edit(kind, &name, yes, &server).await;
        }
        Versioned::Restore { name, version, yes, dry_run, server, output } => {
            let page = versions(&Client::of(&server)?, kind, &name).await?;
            let text = one_of(&page, kind, &name, version)?.text.clone();
            let files = vec![FileText { file: format!("{kind} {name}, version {version}"), text }];
            let request =
                PublishRequest { files, withdraw: Vec::new(), dry_run: true, expects: Vec::new() };
            return change(
                request,
                PUBLISH,
                Asking { yes, dry_run, all_warnings: false },
                &server,
                output,
            )
            .await;
        }
    }
    Ok(())
}

async fn versions(client: &Client, kind: &str, name: &str) -> Result<Page<VersionItem>, CliError> {
    client.get(&format!("/api/v1/definitions/{kind}/{}/versions", percent(name)), &[]).await
}

/// One of the versions of a definition.
fn one_of<'a>(
    page: &'a Page<VersionItem>,
    kind: &str,
    name: &str,
    number: i32,
) -> Result<&'a VersionItem, CliError> {
    page.items.iter().find(|v| v.version == number && !v.withdrawn).ok_or_else(|| {
        CliError::Missing(format!(
            "{kind} `{name}` has no version {number} with a text; see `arvok {kind} versions \
            {name}`"
        ))
    })
}
