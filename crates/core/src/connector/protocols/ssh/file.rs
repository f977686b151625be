//! Small files to a machine and from it (SFTP).

use super::{
    act::RemoteAct,
    reads::{MAX_OUTPUT, Reads, bound, response},
};
use crate::{
    connector::protocols::{RequestError, shared::CallScope},
    document::Checker,
    expr::{Names, Template, Type},
    text::cut,
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::Value;

/// Longest path and largest file that is written, in bytes.
const MAX_PATH: usize = 4096;
const MAX_CONTENT: usize = 256 << 10;

/// A file that is written.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct UploadDoc {
    /// Its path on the machine.
    pub to: String,
    /// What it shall hold: text, or a value that is written as JSON.
    pub content: Value,
    /// Its permission bits in octal, such as `"0640"`. Left out: as the machine gives them.
    #[serde(default)]
    pub mode: Option<String>,
}

/// A file that is read.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct DownloadDoc {
    /// Its path on the machine.
    pub from: String,
    /// How it is read. Left out: `text`.
    #[serde(default)]
    pub reads: Reads,
    /// So many bytes of it are read. Left out: 65536.
    #[serde(default)]
    pub at_most: Option<u32>,
}

impl DownloadDoc {
    pub(super) fn response(&self) -> Type {
        response([
            ("content", self.reads.as_type()),
            ("bytes", Type::Number),
            ("left_out", Type::Number),
        ])
    }
}

/// What an upload gives.
pub(super) fn uploaded() -> Type {
    response([("bytes", Type::Number)])
}

/// A checked upload.
#[derive(Clone, Debug)]
pub(super) struct Upload {
    to: Template,
    content: Template,
    mode: Option<u32>,
}

impl Upload {
    pub(super) fn check(
        check: &mut Checker<'_>,
        at: &str,
        doc: UploadDoc,
        names: Names<'_>,
    ) -> Option<Self> {
        let mode = match doc.mode.as_deref() {
            None => Some(None),
            Some(mode) => match u32::from_str_radix(mode, 8) {
                Ok(bits) if bits <= 0o777 => Some(Some(bits)),
                _ => {
                    let wrong = "is permission bits in octal, from \"0000\" to \"0777\"";
                    check.fail(&format!("{at}/mode"), wrong);
                    None
                }
            },
        };
        let to = check.template(&format!("{at}/to"), &doc.to.into(), names);
        let content = check.template(&format!("{at}/content"), &doc.content, names);
        Some(Self { to: to?, content: content?, mode: mode? })
    }

    pub(super) fn fill(&self, view: &CallScope<'_>) -> Result<RemoteAct, RequestError> {
        let path = path("to", self.to.fill_text(view)?)?;
        let content = self.content.fill_text(view)?.into_bytes();
        if content.len() > MAX_CONTENT {
            let wrong = format!("content: has {} bytes; {MAX_CONTENT} are allowed", content.len());
            return Err(RequestError::Part(wrong));
        }
        Ok(RemoteAct::Upload { path, content, mode: self.mode })
    }
}

/// A checked download.
#[derive(Clone, Debug)]
pub(super) struct Download {
    from: Template,
    pub(super) reads: Reads,
    at_most: u32,
}

impl Download {
    pub(super) fn check(
        check: &mut Checker<'_>,
        at: &str,
        doc: DownloadDoc,
        names: Names<'_>,
    ) -> Option<Self> {
        let at_most = bound(check, at, doc.at_most);
        let from = check.template(&format!("{at}/from"), &doc.from.into(), names);
        Some(Self { from: from?, reads: doc.reads, at_most })
    }

    pub(super) fn fill(&self, view: &CallScope<'_>) -> Result<RemoteAct, RequestError> {
        let path = path("from", self.from.fill_text(view)?)?;
        Ok(RemoteAct::Download { path, at_most: self.at_most.min(MAX_OUTPUT) })
    }
}

/// A path that is one: whole, and without steps upwards, by which something filled in would leave
/// the folder that its author wrote.
fn path(part: &str, text: String) -> Result<String, RequestError> {
    let wrong = |why: &str| Err(RequestError::Part(format!("{part}: `{}` {why}", cut(&text, 80))));
    match &text {
        text if !text.starts_with('/') => wrong("is no absolute path"),
        text if text.len() > MAX_PATH => wrong("is too long"),
        text if text.split('/').any(|step| step == "..") => wrong("leads upwards (`..`)"),
        text => Ok(text.clone()),
    }
}
