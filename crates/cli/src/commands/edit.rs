//! `edit` of every kind of definition: its text in the editor of whoever asks, and what became of
//! it to be published.

use super::{
    ask,
    definitions::{Asking, PUBLISH, change},
};
use crate::{
    args::{Output, Server},
    client::{Client, percent},
    error::{CliError, file as fault},
    show,
};
use arvok_api::{DefinitionDetail, DefinitionItem, FileText, PublishRequest};
use std::{fs, io::IsTerminal, path::Path, process::Command};

/// Opens a definition in an editor, shows what would change, asks, and publishes it. What was typed
/// is kept in a file wherever it is not published.
pub async fn edit(kind: &str, name: &str, yes: bool, server: &Server) -> Result<(), CliError> {
    let client = Client::of(server)?;
    let path = format!("/api/v1/definitions/{kind}/{}", percent(name));
    let before: DefinitionDetail = client.get(&path, &[]).await?;
    let folder = tempfile::Builder::new().prefix("arvok-edit-").tempdir();
    let folder = folder.map_err(|e| CliError::Here(format!("a folder for the text: {e}")))?;
    let draft = folder.path().join(format!("{name}.yaml"));
    fs::write(&draft, &before.text).map_err(|e| fault(&draft, e))?;
    let ended = edited(&client, (kind, path.as_str()), &before, &draft, (yes, server)).await;
    // Whatever went wrong: what was typed is not lost for it.
    if ended.is_err() && fs::read_to_string(&draft).is_ok_and(|text| text != before.text) {
        let _ = folder.keep();
        show::notice(&format!("your text is in {}", draft.display()));
    }
    ended
}

/// Edits until it is published, or is to be left as it stands.
async fn edited(
    client: &Client,
    (kind, path): (&str, &str),
    before: &DefinitionDetail,
    draft: &Path,
    (yes, server): (bool, &Server),
) -> Result<(), CliError> {
    loop {
        open(draft)?;
        let text = fs::read_to_string(draft).map_err(|e| fault(draft, e))?;
        if text == before.text {
            show::out("nothing was changed");
            return Ok(());
        }
        let now: DefinitionDetail = client.get(path, &[]).await?;
        let DefinitionItem { name, version, file, .. } = &before.item;
        if now.item.version != *version {
            let (new, by) = (now.item.version, now.item.published_by.shown());
            let why = format!(
                "version {new} of {kind} {name} was published by {by} while you edited version \
                {version}"
            );
            return Err(CliError::Refused(why));
        }
        let file = if file.is_empty() { format!("{name}.yaml") } else { file.clone() };
        let request = PublishRequest {
            files: vec![FileText { file, text }],
            withdraw: Vec::new(),
            dry_run: true,
            expects: Vec::new(),
        };
        let asking = Asking { yes, dry_run: false, all_warnings: false };
        match change(request, PUBLISH, asking, server, Output { json: false }).await {
            Err(CliError::No)
                if std::io::stdin().is_terminal() && ask::agreed("Edit it again?")? => {}
            ended => return ended,
        }
    }
}

/// Runs the editor, which may be a command with words of its own.
fn open(draft: &Path) -> Result<(), CliError> {
    let named = ["VISUAL", "EDITOR"]
        .into_iter()
        .filter_map(|name| std::env::var(name).ok())
        .find(|e| !e.trim().is_empty());
    let editor = named.unwrap_or_else(|| "vi".to_owned());
    let status =
        Command::new("sh").args(["-c", &format!("{editor} \"$1\""), "edit"]).arg(draft).status();
    let status = status.map_err(|e| CliError::Here(format!("the editor `{editor}`: {e}")))?;
    if status.success() {
        return Ok(());
    }
    Err(CliError::Here(format!(
        "the editor `{editor}` ended with {status}; name another in EDITOR. Nothing was published"
    )))
}
