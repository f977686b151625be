//! A session with a device, message by message: what is asked next, what an answer means, and what
//! is known of the device when the session is cut. An edit is prepared beside what the device works
//! with where it can be, under locks, and takes effect as a whole.

use super::{
    NetconfPlan,
    act::{Datastore, FilledAct},
    element::BASE_PREFIX,
    reply::{BASE, Reply, RpcError, reply},
};
use crate::{
    connector::failure::{CallEnd, Failure},
    xml::escaped,
};
use serde_json::{Value, json};
use std::collections::VecDeque;

/// Errors after which another try may end otherwise (RFC 6241, appendix A).
const PASSING: [&str; 3] = ["in-use", "lock-denied", "resource-denied"];
/// The error that says that a part was done (RFC 6241, appendix A).
const IN_PART: &str = "partial-operation";

/// What is to be done next in a session.
#[derive(Debug)]
pub enum NetconfNext {
    /// A message is sent, and its reply waited for.
    Send(String),
    /// The session is over.
    Over(Result<Value, Failure>),
}

/// What a request is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Purpose {
    /// Nothing takes effect by it.
    Prepare,
    /// What was asked for takes effect by it, or all of its answer comes.
    Act,
    /// It undoes what has been prepared; whatever comes of it.
    CleanUp,
}

#[derive(Debug)]
struct Rpc {
    purpose: Purpose,
    /// What it is called in messages.
    name: &'static str,
    body: String,
    /// What undoes it when the session ends.
    undo: Option<&'static str>,
}

impl Rpc {
    fn new(purpose: Purpose, name: &'static str, body: impl Into<String>) -> Self {
        Self { purpose, name, body: body.into(), undo: None }
    }

    fn undone_by(self, undo: &'static str) -> Self {
        Self { undo: Some(undo), ..self }
    }
}

/// A session with a device that has announced what it is capable of.
#[derive(Debug)]
pub struct NetconfExchange<'o> {
    plan: NetconfPlan<'o>,
    ahead: VecDeque<Rpc>,
    undo: Vec<&'static str>,
    sent: Option<Rpc>,
    /// Number of the request that was sent last.
    id: usize,
    /// Whether the request by which it takes effect has been sent.
    has_acted: bool,
    /// Whether a refusal of it means that nothing was done.
    is_whole: bool,
    /// What is added to the response.
    notes: Value,
    result: Option<Result<Value, Failure>>,
}

/// What a device is capable of.
struct Capabilities<'c>(&'c [String]);

impl Capabilities<'_> {
    fn has(&self, name: &str) -> bool {
        let urn = format!("urn:ietf:params:netconf:capability:{name}");
        self.0.iter().any(|has| has.split('?').next() == Some(urn.as_str()))
    }
}

impl<'o> NetconfExchange<'o> {
    pub(super) fn begin(plan: NetconfPlan<'o>, announced: &[String]) -> Result<Self, Failure> {
        let mut made = Self {
            plan,
            ahead: VecDeque::new(),
            undo: Vec::new(),
            sent: None,
            id: 0,
            has_acted: false,
            is_whole: true,
            notes: Value::Null,
            result: None,
        };
        made.prepare(&Capabilities(announced))?;
        Ok(made)
    }

    fn prepare(&mut self, capable: &Capabilities<'_>) -> Result<(), Failure> {
        let lacking = |what: &str| {
            Failure::lasting(CallEnd::NotSent, format!("the device announces no {what}"))
        };
        match self.plan.act.clone() {
            FilledAct::Request(name, xml) => {
                self.ahead.push_back(Rpc::new(Purpose::Act, name, xml));
            }
            FilledAct::Commit { id, is_confirmed } => {
                if !capable.has("confirmed-commit:1.1") {
                    return Err(lacking(
                        "commit that waits to be confirmed (confirmed-commit:1.1)",
                    ));
                }
                let name = if is_confirmed { "commit" } else { "cancel-commit" };
                let body = format!("<{name}><persist-id>{}</persist-id></{name}>", escaped(&id));
                self.ahead.push_back(Rpc::new(Purpose::Act, name, body));
            }
            FilledAct::Edit { into, operation, config, validate, confirm_within } => {
                let into = match into {
                    Some(Datastore::Candidate) if !capable.has("candidate:1.0") => {
                        return Err(lacking("candidate configuration (candidate:1.0)"));
                    }
                    Some(Datastore::Running) if !capable.has("writable-running:1.0") => {
                        return Err(lacking(
                            "running configuration that can be edited (writable-running:1.0)",
                        ));
                    }
                    Some(into) => into,
                    None if capable.has("candidate:1.0") => Datastore::Candidate,
                    None => Datastore::Running,
                };
                let edit = |error_option: &str| {
                    format!(
                        "<edit-config><target><{into}/></target>\
                         <default-operation>{operation}</default-operation>{error_option}\
                         <config>{config}</config></edit-config>"
                    )
                };
                self.notes = json!({ "datastore": into.to_string(), "persist_id": null });
                if into == Datastore::Candidate {
                    let confirmed = confirm_within.map(|seconds| (seconds, self.plan.persist_id()));
                    if confirmed.is_some() && !capable.has("confirmed-commit:1.1") {
                        return Err(lacking(
                            "commit that waits to be confirmed (confirmed-commit:1.1)",
                        ));
                    }
                    let can_validate = capable.has("validate:1.1") || capable.has("validate:1.0");
                    if validate && !can_validate {
                        return Err(lacking("validation (validate:1.1)"));
                    }
                    self.through_candidate(edit(""), validate, confirmed);
                } else if validate {
                    return Err(lacking("candidate that could be validated (candidate:1.0)"));
                } else {
                    self.at_once(into, edit, confirm_within, capable)?;
                }
            }
        }
        Ok(())
    }

    fn through_candidate(
        &mut self,
        edit: String,
        validate: bool,
        confirmed: Option<(u64, String)>,
    ) {
        self.lock(Datastore::Running);
        self.lock(Datastore::Candidate);
        self.ahead.push_back(
            Rpc::new(Purpose::Prepare, "edit-config", edit).undone_by("<discard-changes/>"),
        );
        if validate {
            let body = "<validate><source><candidate/></source></validate>";
            self.ahead.push_back(Rpc::new(Purpose::Prepare, "validate", body));
        }
        let commit = match confirmed {
            None => "<commit/>".to_owned(),
            Some((seconds, id)) => {
                let commit = format!(
                    "<commit><confirmed/><confirm-timeout>{seconds}</confirm-timeout>\
                     <persist>{}</persist></commit>",
                    escaped(&id)
                );
                self.notes["persist_id"] = id.into();
                commit
            }
        };
        self.ahead.push_back(Rpc::new(Purpose::Act, "commit", commit));
    }

    /// Edits what takes effect at once.
    fn at_once(
        &mut self,
        into: Datastore,
        edit: impl Fn(&str) -> String,
        confirm_within: Option<u64>,
        capable: &Capabilities<'_>,
    ) -> Result<(), Failure> {
        if confirm_within.is_some() {
            let wrong = "the device has no candidate, whose commit could wait to be confirmed";
            return Err(Failure::lasting(CallEnd::NotSent, wrong));
        }
        self.lock(into);
        self.is_whole = capable.has("rollback-on-error:1.0");
        let option = match self.is_whole {
            true => "<error-option>rollback-on-error</error-option>",
            false => "",
        };
        self.ahead.push_back(Rpc::new(Purpose::Act, "edit-config", edit(option)));
        Ok(())
    }

    fn lock(&mut self, datastore: Datastore) {
        let body = format!("<lock><target><{datastore}/></target></lock>");
        let undo = match datastore {
            Datastore::Running => "<unlock><target><running/></target></unlock>",
            Datastore::Candidate => "<unlock><target><candidate/></target></unlock>",
            Datastore::Startup => "<unlock><target><startup/></target></unlock>",
        };
        self.ahead.push_back(Rpc::new(Purpose::Prepare, "lock", body).undone_by(undo));
    }

    /// The request that is sent first, or next.
    pub fn ask(&mut self) -> NetconfNext {
        let next = self.ahead.pop_front().or_else(|| {
            let undo = self.undo.pop()?;
            Some(Rpc::new(Purpose::CleanUp, "unlock", undo))
        });
        let Some(rpc) = next else {
            return NetconfNext::Over(
                self.result.take().unwrap_or_else(|| {
                    Err(Failure::lasting(CallEnd::NotSent, "has nothing to do"))
                }),
            );
        };
        self.id += 1;
        self.has_acted |= rpc.purpose == Purpose::Act;
        let message = format!(
            "<rpc xmlns=\"{BASE}\" xmlns:{BASE_PREFIX}=\"{BASE}\" message-id=\"{}\">{}</rpc>",
            self.id, rpc.body
        );
        self.sent = Some(rpc);
        NetconfNext::Send(message)
    }

    /// A message came. `None` if it is no reply to what was sent, which is still waited for.
    pub fn replied(&mut self, message: &[u8]) -> Option<NetconfNext> {
        let reply = match reply(message, self.id, &self.plan.call.lists) {
            Ok(None) => return None,
            Ok(Some(reply)) => reply,
            Err(why) => {
                let failure = Failure::new(CallEnd::Unknown, self.plan.hiding.cut(&why, 300));
                return Some(NetconfNext::Over(self.cut(failure)));
            }
        };
        let Some(rpc) = self.sent.take() else { return Some(self.ask()) };
        match reply {
            Reply::Ok(said) => {
                self.undo.extend(rpc.undo);
                if rpc.purpose == Purpose::Act {
                    // What was prepared has taken effect: nothing of it is discarded.
                    self.undo.retain(|undo| *undo != "<discard-changes/>");
                    self.result = Some(self.plan.response(said, &self.notes));
                }
            }
            // The lock goes with the session.
            Reply::Refused(_) if rpc.purpose == Purpose::CleanUp => {}
            Reply::Refused(error) => {
                self.ahead.clear();
                // What was edited before an error is there to be discarded.
                self.undo.extend(rpc.undo.filter(|undo| *undo == "<discard-changes/>"));
                self.result = Some(Err(self.refused(&rpc, &error)));
            }
        }
        Some(self.ask())
    }

    fn refused(&self, rpc: &Rpc, error: &RpcError) -> Failure {
        let hide = |text: &str| self.plan.hiding.cut(text, 300);
        let tag = if error.tag.is_empty() { "an error" } else { &error.tag };
        let mut message = format!("{} was refused: {}", rpc.name, hide(tag));
        if !error.message.is_empty() {
            message.push_str(&format!(": {}", hide(&error.message)));
        }
        if !error.path.is_empty() {
            message.push_str(&format!(" (at {})", hide(&error.path)));
        }
        let in_part = error.tag == IN_PART || !self.is_whole;
        if rpc.purpose == Purpose::Act && in_part {
            message.push_str("; a part of it may have been done");
            return Failure::new(CallEnd::Unknown, message);
        }
        let lasting = !PASSING.contains(&error.tag.as_str());
        Failure { lasting, ..Failure::new(CallEnd::Refused, message) }
    }

    /// The session was cut, or took too long: what came of the call, as far as it is known. What is
    /// prepared and not committed goes with its session (RFC 6241, section 8.3.5.2).
    ///
    /// # Errors
    /// The failure, with what is known of the device, unless the call had been done.
    pub fn cut(&mut self, why: Failure) -> Result<Value, Failure> {
        self.result.take().unwrap_or_else(|| {
            let end = if self.has_acted { CallEnd::Unknown } else { CallEnd::NotSent };
            Err(Failure { end, ..why })
        })
    }
}
