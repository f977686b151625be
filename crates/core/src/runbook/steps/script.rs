//! `script`: code of the author's, run on the node. It is a call like any other: tried again, found
//! out about, taken back.

use super::{
    Action,
    call::{Call, StepProbeDoc},
    document::{Build, KindDoc},
};
use crate::{
    connector::{ExitStatuses, Repeat},
    expr::Names,
    script::{LimitsDoc, ScriptParts},
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use std::collections::BTreeMap;

/// As written.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct ScriptDoc {
    /// The interpreter, such as `sh` or `python3`: one of those that the settings of the node
    /// allow.
    pub script: String,
    /// The code. Nothing is filled into it: what it works with it reads as JSON from its standard
    /// input, or from its environment.
    #[serde(default)]
    pub code: Option<String>,
    /// Instead of `code`: the name of a file beside the runbook, which is published with it.
    #[serde(default)]
    pub file: Option<String>,
    /// Other files beside the runbook that the script finds in its working folder.
    #[serde(default)]
    pub files: Vec<String>,
    /// What it is given, as one JSON value on its standard input.
    #[serde(default)]
    pub give: Map<String, Value>,
    /// Variables of its environment, which has nothing else but `PATH`, `HOME`, `LANG` and what
    /// begins with `ARVOK_`.
    #[serde(default)]
    pub env: Map<String, Value>,
    /// Secrets that it is handed, by the names by which it asks for them: each is what it reads
    /// from the file that `ARVOK_SECRET_<name>` names.
    #[serde(default)]
    pub secrets: BTreeMap<String, String>,
    /// What it gives: JSON Schema properties. It writes one JSON value to the descriptor 3, or as
    /// its last line. Left out: anything.
    #[serde(default)]
    pub gives: Option<Map<String, Value>>,
    /// Whether it only looks, and changes nothing. Then it may be repeated. Left out: no.
    #[serde(default)]
    pub looks: bool,
    /// Whether doing it twice is harmless: `safe` or `never`. Left out: `safe` for what only looks,
    /// else `never`.
    #[serde(default)]
    pub repeat: Option<Repeat>,
    /// Exit statuses that are as good as 0, for programs that tell something by them.
    #[serde(default)]
    pub succeeds: Vec<u8>,
    /// Exit statuses by which it says that it has done nothing.
    #[serde(default)]
    pub refused: Vec<u8>,
    /// Exit statuses by which it says that it has done nothing, and that another try makes sense.
    #[serde(default)]
    pub retry_on: Vec<u8>,
    /// Whether it needs the network, which the settings of the node must allow. Left out: no.
    #[serde(default)]
    pub network: bool,
    /// How much it may use.
    #[serde(default)]
    pub limits: LimitsDoc,
    /// How to find out whether it was done, when its end does not say so.
    #[serde(default)]
    pub probe: Option<StepProbeDoc>,
    /// Resources that it changes besides the target, such as `${inputs.guest}`: what a job touched
    /// is on its record, and rules and guards can keep away from it for a time. What is not there
    /// is none.
    #[serde(default)]
    pub touches: Vec<String>,
}

impl KindDoc for ScriptDoc {
    const KEYS: &'static [&'static str] = &[
        "script", "code", "file", "files", "give", "env", "secrets", "gives", "looks", "repeat",
        "succeeds", "refused", "retry_on", "network", "limits", "probe", "touches",
    ];

    fn build(self, build: &mut Build<'_, '_>, at: &str, names: Names<'_>) -> Option<Action> {
        let parts = ScriptParts {
            interpreter: self.script,
            code: self.code,
            file: self.file,
            files: self.files,
            give: self.give,
            env: self.env,
            secrets: self.secrets,
            gives: self.gives,
            looks: self.looks,
            repeat: self.repeat,
            statuses: ExitStatuses {
                succeeds: self.succeeds,
                refused: self.refused,
                retry_on: self.retry_on,
            },
            network: self.network,
            limits: self.limits,
            touches: self.touches,
        };
        let call = Call::of_script(build, at, parts, names);
        let probe = match self.probe {
            None => Some(None),
            Some(doc) => doc.check(build, at, (false, None), names).map(Some),
        };
        let (mut call, probe) = (call?, probe?);
        call.probe = probe;
        Some(Action::Call(call))
    }
}
