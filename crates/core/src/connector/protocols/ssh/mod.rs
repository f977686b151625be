//! SSH (RFC 4251 to 4254): a command on a machine, or a small file to it or from it.
//!
//! A command is a list of arguments. What is filled in reaches the program as one argument each,
//! whatever characters it has; nothing of it is read by a shell ([`quoting`]).

mod act;
mod command;
mod file;
mod quoting;
mod reads;

pub use act::{RemoteAct, RemoteCommand};
pub use command::{CommandDoc, CommandExit, CommandResult};
pub use file::{DownloadDoc, UploadDoc};

use super::{
    RequestError,
    host::HostTemplate,
    shared::{CallScope, GivenValues, ShownRequest},
};
use crate::{
    connector::failure::{CallEnd, Failure, Hiding},
    document::Checker,
    expr::{Expr, ExprError, Names, Type},
    text::clean_json,
};
use command::Command;
use file::{Download, Upload};
use serde_json::{Value, json};

/// What is written of a call over SSH: one of the three.
#[derive(Debug)]
pub(in crate::connector) enum SshDoc {
    Command(CommandDoc),
    Upload(UploadDoc),
    Download(DownloadDoc),
}

/// A checked call.
#[derive(Clone, Debug)]
pub struct SshCall {
    line: String,
    /// The machine, where its connection is not that of one alone.
    host: HostTemplate,
    act: Act,
}

#[derive(Clone, Debug)]
enum Act {
    Command(Command),
    Upload(Upload),
    Download(Download),
}

impl SshCall {
    /// Checks a call; what is given has the type `give`. With it comes what `output` may use, and
    /// the types of that.
    pub(in crate::connector) fn check(
        check: &mut Checker<'_>,
        at: &str,
        doc: SshDoc,
        host: Option<String>,
        give: &Type,
    ) -> (Option<Self>, Vec<(&'static str, Type)>) {
        let given = [("give", give.clone())];
        let names = Names { roots: &["give"], functions: &[], types: &given };
        let host = HostTemplate::check(check, at, host, names);
        let (line, act, response) = match doc {
            SshDoc::Command(doc) => {
                let (line, response) = (doc.line(), doc.response());
                let command = Command::check(check, &format!("{at}/command"), doc, names);
                (line, command.map(Act::Command), response)
            }
            SshDoc::Upload(doc) => {
                let line = format!("UPLOAD {}", doc.to);
                let upload = Upload::check(check, &format!("{at}/upload"), doc, names);
                (line, upload.map(Act::Upload), file::uploaded())
            }
            SshDoc::Download(doc) => {
                let (line, response) = (format!("DOWNLOAD {}", doc.from), doc.response());
                let download = Download::check(check, &format!("{at}/download"), doc, names);
                (line, download.map(Act::Download), response)
            }
        };
        let made = host.zip(act).map(|(host, act)| Self { line, host, act });
        (made, vec![("give", give.clone()), ("response", response)])
    }

    /// What it does, as written.
    pub fn line(&self) -> &str {
        &self.line
    }

    /// Whether the call says on which machine: then its connection must have `hosts`.
    pub const fn names_host(&self) -> bool {
        self.host.is_named()
    }

    /// Whether it changes nothing: reading a file does not, nor a command that says so.
    pub const fn is_safe(&self) -> bool {
        match &self.act {
            Act::Command(command) => command.looks,
            Act::Upload(_) => false,
            Act::Download(_) => true,
        }
    }

    pub(super) fn begin<'o>(
        &'o self,
        gives: GivenValues<'o>,
        give: Value,
        is_harmless: bool,
    ) -> Result<SshPlan<'o>, RequestError> {
        let view = CallScope { give: &give, response: None };
        let host = self.host.fill(&view)?;
        let act = match &self.act {
            Act::Command(command) => RemoteAct::Run(command.fill(&view)?),
            Act::Upload(upload) => upload.fill(&view)?,
            Act::Download(download) => download.fill(&view)?,
        };
        Ok(SshPlan {
            call: self,
            output: gives,
            give,
            host,
            act,
            is_harmless,
            hiding: Hiding::NOTHING,
        })
    }
}

/// A call that is to be made.
#[derive(Debug)]
pub struct SshPlan<'o> {
    call: &'o SshCall,
    output: GivenValues<'o>,
    give: Value,
    host: Option<String>,
    act: RemoteAct,
    is_harmless: bool,
    hiding: Hiding<'o>,
}

impl<'o> SshPlan<'o> {
    /// What its failures say of answers is hidden by this; its outputs are not touched.
    #[must_use]
    pub fn hiding(self, hiding: Hiding<'o>) -> Self {
        Self { hiding, ..self }
    }

    /// On which machine, where its connection is not that of one alone.
    pub fn host(&self) -> Option<&str> {
        self.host.as_deref()
    }

    /// What is to be done there.
    pub const fn act(&self) -> &RemoteAct {
        &self.act
    }

    pub(super) fn shown(&self) -> ShownRequest {
        let (target, body) = match &self.act {
            RemoteAct::Run(RemoteCommand { line, input, .. }) => {
                let body = (!input.is_empty()).then(|| json!({ "input": input }));
                (line.clone(), body)
            }
            RemoteAct::Upload { path, content, mode } => {
                let mut body = json!({ "content": String::from_utf8_lossy(content) });
                if let Some(mode) = mode {
                    body["mode"] = format!("{mode:04o}").into();
                }
                (format!("upload to {path}"), Some(body))
            }
            RemoteAct::Download { path, .. } => (format!("download {path}"), None),
        };
        let target = match &self.host {
            None => target,
            Some(host) => format!("{host}: {target}"),
        };
        ShownRequest { method: "SSH".into(), target, body }
    }

    /// What a command that has ended means. Status 0 is success; those that are `refused` or
    /// `retry_on`, and 126 and 127, by which a POSIX shell says that it could not run it: nothing
    /// was done. Any other: it was run, and failed. Of one that was killed nobody knows.
    ///
    /// # Errors
    /// That it failed, or that no output can be made of what it wrote.
    pub fn ran(&self, result: &CommandResult) -> Result<Value, Failure> {
        let Act::Command(command) = &self.call.act else {
            return Err(Failure::lasting(CallEnd::NotSent, "is no command"));
        };
        if let Some(failure) = command.failure(result, self.is_harmless, self.hiding) {
            return Err(failure);
        }
        let stdout = command.reads.read(&result.stdout, result.left_out);
        let stdout = stdout.map_err(|why| self.useless("it ended well", &why))?;
        let response = result.as_response(stdout);
        self.made("it ended well", &response, "stdout")
    }

    /// A file was written: so many bytes.
    ///
    /// # Errors
    /// That no output can be made of it.
    pub fn uploaded(&self, bytes: usize) -> Result<Value, Failure> {
        self.made("the file was written", &json!({ "bytes": bytes }), "")
    }

    /// A file was read, without so many bytes at its end.
    ///
    /// # Errors
    /// That no output can be made of it.
    pub fn downloaded(&self, content: &[u8], left_out: u64) -> Result<Value, Failure> {
        let Act::Download(download) = &self.call.act else {
            return Err(Failure::lasting(CallEnd::NotSent, "is no download"));
        };
        let read = download.reads.read(content, left_out);
        let read = read.map_err(|why| self.useless("the file was read", &why))?;
        let response = json!({ "content": read, "bytes": content.len(), "left_out": left_out });
        self.made("the file was read", &response, "content")
    }

    fn useless(&self, what: &str, why: &str) -> Failure {
        let why = self.hiding.cut(why, 300);
        Failure::lasting(CallEnd::Done, format!("{what}, but what came cannot be used: {why}"))
    }

    /// The output: as `output` makes it, or one field of the response, or all of it.
    fn made(&self, what: &str, response: &Value, usual: &str) -> Result<Value, Failure> {
        let output: Result<Value, ExprError> = match self.output.output {
            None => Ok(clean_json(response.get(usual).unwrap_or(response).clone())),
            Some(expr) => self.evaluated(expr, response),
        };
        let output = output.map_err(|e| self.useless(what, &format!("the output: {e}")))?;
        self.output.usable(output, self.hiding).map_err(|why| self.useless(what, &why))
    }

    fn evaluated(&self, expr: &Expr, response: &Value) -> Result<Value, ExprError> {
        let view = CallScope { give: &self.give, response: Some(response) };
        expr.eval(&view).map(|value| clean_json(value.to_json()))
    }
}
