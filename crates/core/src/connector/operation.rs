//! One operation of a connector: what it takes, the call it makes, what it gives, and whether doing
//! it twice is harmless.

use super::{
    callback::{CALLBACK, CALLBACK_KEY, CallbackAt},
    failure::Hiding,
    output::usable,
    protocols::{
        AmqpCall, AmqpDoc, Call, Callback, CallbackDoc, CommandDoc, DownloadDoc, GivenValues,
        HttpCall, HttpDoc, Key, LibvirtCall, LibvirtDoc, MailCall, MailDoc, MqttCall, MqttDoc,
        NetconfCall, NetconfDoc, PagesDoc, Planned, Protocol, RecordsCall, RecordsDoc, RequestDoc,
        RequestError, ShownRequest, SnmpCall, SnmpDoc, SshCall, SshDoc, UntilDoc, UploadDoc,
        VisitCall, VisitDoc,
    },
};
use crate::{
    Period, ResourcePath,
    document::Checker,
    expr::{Expr, ExprError, Names, Scope, Template, Type, Val},
    inputs::Inputs,
    text::{cut, hint},
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value, json};
use std::collections::BTreeMap;

/// Most resources that an operation changes.
const MOST_TOUCHED: usize = 20;

/// An operation as written.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct OperationDoc {
    /// One line for people.
    #[serde(default)]
    pub summary: Option<String>,
    /// What must be given: JSON Schema properties.
    #[serde(default)]
    pub takes: Map<String, Value>,
    /// The HTTP request. An operation has one of `request`, `visit`, `mail`, `command`, `upload`,
    /// `download`, `netconf`, `libvirt`, `snmp`, `mqtt`, `amqp` and `arvok`.
    #[serde(default)]
    pub request: Option<RequestDoc>,
    /// The web pages that are looked at, as a visitor sees them.
    #[serde(default)]
    pub visit: Option<VisitDoc>,
    /// The message that is sent by mail.
    #[serde(default)]
    pub mail: Option<MailDoc>,
    /// The command that is run on a machine, over SSH.
    #[serde(default)]
    pub command: Option<CommandDoc>,
    /// The small file that is written to a machine, over SSH.
    #[serde(default)]
    pub upload: Option<UploadDoc>,
    /// The small file that is read from a machine, over SSH.
    #[serde(default)]
    pub download: Option<DownloadDoc>,
    /// What is asked of a network device, over NETCONF.
    #[serde(default)]
    pub netconf: Option<NetconfDoc>,
    /// What is asked of a hypervisor, through its libvirt.
    #[serde(default)]
    pub libvirt: Option<LibvirtDoc>,
    /// What is asked of an agent, over SNMP.
    #[serde(default)]
    pub snmp: Option<SnmpDoc>,
    /// The message that is published to a broker over MQTT.
    #[serde(default)]
    pub mqtt: Option<MqttDoc>,
    /// What is published to a broker over AMQP, or asked of it.
    #[serde(default)]
    pub amqp: Option<AmqpDoc>,
    /// What is asked of Arvok's own records.
    #[serde(default)]
    pub arvok: Option<RecordsDoc>,
    /// On which machine a command, an upload, a download, a `netconf`, a `libvirt` or an `snmp` is,
    /// where its connection stands for many and says which by `hosts`: usually `${give.host}`.
    #[serde(default)]
    pub host: Option<String>,
    /// How a list that comes in pages is read to its end.
    #[serde(default)]
    pub pages: Option<PagesDoc>,
    /// How to see that it is done, where the answer comes before that.
    #[serde(default)]
    pub until: Option<UntilDoc>,
    /// How to hear that it is done, where the other side calls back.
    #[serde(default)]
    pub callback: Option<CallbackDoc>,
    /// An expression over `response` (`status`, `headers`, `body`) and `give`; with `pages` also
    /// over `list`, with `until` over `first`, the first answer. Left out: the body, or the list.
    /// Of `mail` the `response` has `status`, `text` and `message_id`, and is the output where none
    /// is written. Of a `command` it has `exit`, `stdout`, `stderr` and `left_out`, of a `download`
    /// `content`, `bytes` and `left_out`, of an `upload` `bytes`; of a `netconf` `data`, what the
    /// device answered, and of its edit `datastore` and `persist_id`; of a `libvirt` what its act
    /// gives; of an `snmp` `values`, or `rows` and `left_out`; of an `mqtt` `has_subscribers`, of
    /// an `amqp` that looks `messages` and `consumers`; of an `arvok` `alarms`, `jobs` and
    /// `touched`; of a `visit` `ok`, `why`, `pages` and `certificate`; left out: `stdout`,
    /// `content`, `data`, or all.
    #[serde(default)]
    pub output: Option<String>,
    /// What the output holds: JSON Schema properties. Steps that read it are checked by them. Left
    /// out: anything.
    #[serde(default)]
    pub gives: Option<Map<String, Value>>,
    /// Whether doing it twice is harmless. Left out: `safe` for GET, for downloads, for what only
    /// looks over NETCONF, libvirt, SNMP or AMQP, for commands that look and for `arvok`, else
    /// `never`.
    #[serde(default)]
    pub repeat: Option<Repeat>,
    /// How to find out whether it was done, when no answer says so; for what is `repeat: never`.
    #[serde(default)]
    pub probe: Option<ProbeDoc>,
    /// Resources that it changes, such as `${give.vm}`: what a job touched is on its record, and
    /// rules and guards can keep away from it for a time. What was not given is none.
    #[serde(default)]
    pub touches: Vec<String>,
    /// The header that carries the key of a `keyed` operation. Left out: `Idempotency-Key`.
    #[serde(default)]
    pub key_header: Option<String>,
    /// Statuses of answers after which another try makes sense. Left out: 429 and 500, 502, 503,
    /// 504. After one of 500 and above nobody knows whether it was done, so that only what is
    /// `safe` or `keyed` is tried again.
    #[serde(default)]
    pub retry_on: Option<Vec<u16>>,
    /// Names of elements that are lists in an answer of XML, however many there are. Such an answer
    /// is a map by the name of its outermost element; attributes begin with `@`, and the text
    /// beside them is `$`.
    #[serde(default)]
    pub lists: Option<Vec<String>>,
}

/// How to find out whether a call of an operation was done.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ProbeDoc {
    /// An operation of the same connector that changes nothing.
    pub call: String,
    /// What it is given; knows `give`, what the call was given.
    #[serde(default)]
    pub give: Map<String, Value>,
    /// A condition over `result`, what it gave, and `give`: whether the call was done.
    pub done: String,
}

crate::words! {
    /// Whether doing it twice is harmless.
    #[derive(JsonSchema)]
    pub enum Repeat("word for repeating") {
        /// Harmless.
        Safe = "safe",
        /// Harmless with the same key.
        Keyed = "keyed",
        /// Not harmless.
        Never = "never",
        /// Not harmless, but the operation's probe tells whether it was done. Is not written: it is
        /// `never` with a `probe`.
        #[schemars(skip)]
        Probed = "probed",
    }
}

impl Repeat {
    /// Whether it may be done again without finding out what became of it.
    pub const fn is_harmless(self) -> bool {
        matches!(self, Self::Safe | Self::Keyed)
    }
}

/// A checked operation.
#[derive(Clone, Debug)]
pub struct Operation {
    /// One line for people.
    pub summary: Option<String>,
    /// What must be given.
    pub takes: Inputs,
    /// What is known of its output.
    pub gives: Type,
    /// An output that stands for a real one.
    sample: Value,
    /// Whether doing it twice is harmless.
    pub repeat: Repeat,
    call: Call,
    output: Option<Expr>,
    /// How to find out whether it was done.
    pub probe: Option<Probe>,
    touches: Vec<Template>,
}

/// How to find out whether a call was done. The probe's output is that of the call then.
#[derive(Clone, Debug)]
pub struct Probe {
    /// The operation that tells.
    pub operation: String,
    give: Template,
    given: Vec<String>,
    done: Expr,
}

struct ProbeScope<'a> {
    give: &'a Value,
    result: Option<&'a Value>,
}

impl<'a> Scope<'a> for ProbeScope<'a> {
    fn name(&'a self, name: &str) -> Option<Val<'a>> {
        match name {
            "give" => Some(Val::json(self.give)),
            "result" => self.result.map(Val::json),
            _ => None,
        }
    }
}

impl Probe {
    fn check(check: &mut Checker<'_>, at: &str, doc: ProbeDoc, give: &Type) -> Option<Self> {
        let types = [("give", give.clone())];
        let names = |roots| Names { roots, functions: &[], types: &types };
        let given = doc.give.keys().cloned().collect();
        let give =
            check.template(&format!("{at}/give"), &Value::Object(doc.give), names(&["give"]));
        let done = check.condition(&format!("{at}/done"), &doc.done, names(&["give", "result"]));
        Some(Self { operation: doc.call, give: give?, given, done: done? })
    }

    /// Complains where the operation that tells is none that may.
    pub(super) fn fits(
        &self,
        check: &mut Checker<'_>,
        at: &str,
        operations: &BTreeMap<String, Operation>,
    ) {
        let Some(operation) = operations.get(&self.operation) else {
            let hint = hint(&self.operation, operations.keys().map(String::as_str));
            return check.fail(
                &format!("{at}/call"),
                format!("there is no operation `{}` here{hint}", self.operation),
            );
        };
        if operation.repeat != Repeat::Safe {
            check.fail(
                &format!("{at}/call"),
                "a probe only looks: it calls an operation that is `repeat: safe`",
            );
        }
        for misfit in operation.takes.misfit(&self.given) {
            check.fail(&format!("{at}/give"), format!("operation `{}`: {misfit}", self.operation));
        }
    }

    /// What the operation that tells is given.
    ///
    /// # Errors
    /// What cannot be filled in.
    pub fn give(&self, give: &Map<String, Value>) -> Result<Map<String, Value>, ExprError> {
        let give = Value::Object(give.clone());
        match self.give.fill(&ProbeScope { give: &give, result: None })? {
            Value::Object(map) => Ok(map),
            _ => Ok(Map::new()),
        }
    }

    /// Whether the call was done, by what the operation that tells gave.
    ///
    /// # Errors
    /// If it does not tell.
    pub fn done(&self, give: &Map<String, Value>, result: &Value) -> Result<bool, ExprError> {
        let give = Value::Object(give.clone());
        self.done.holds(&ProbeScope { give: &give, result: Some(result) })
    }
}

impl Operation {
    pub(super) fn check(check: &mut Checker<'_>, at: &str, doc: OperationDoc) -> Option<Self> {
        let takes = Inputs::check(check, &format!("{at}/takes"), doc.takes);
        let give = takes.as_ref().map_or(Type::Any, Inputs::as_type);
        if doc.callback.is_some() && doc.output.is_some() {
            check
                .fail(&format!("{at}/output"), "what calls back gives its output under `callback`");
        }
        if doc.pages.is_some() && doc.output.is_none() && doc.gives.is_some() {
            check.fail(
                &format!("{at}/gives"),
                "without an `output` pages give their list, which has no fields",
            );
        }
        let http = HttpDoc {
            pages: doc.pages,
            until: doc.until,
            callback: doc.callback,
            key_header: doc.key_header,
            retry_on: doc.retry_on,
            lists: doc.lists,
        };
        let acts = [
            doc.request.map(|request| ActDoc::Request(Box::new(request))),
            doc.visit.map(ActDoc::Visit),
            doc.mail.map(ActDoc::Mail),
            doc.command.map(|command| ActDoc::Machine(SshDoc::Command(command))),
            doc.upload.map(|upload| ActDoc::Machine(SshDoc::Upload(upload))),
            doc.download.map(|download| ActDoc::Machine(SshDoc::Download(download))),
            doc.netconf.map(|netconf| ActDoc::Device(Box::new(netconf))),
            doc.libvirt.map(|libvirt| ActDoc::Hypervisor(Box::new(libvirt))),
            doc.snmp.map(ActDoc::Agent),
            doc.mqtt.map(ActDoc::Mqtt),
            doc.arvok.map(ActDoc::Records),
            doc.amqp.map(|amqp| ActDoc::Amqp(Box::new(amqp))),
        ];
        let mut acts: Vec<ActDoc> = acts.into_iter().flatten().collect();
        let (Some(act), true) = (acts.pop(), acts.is_empty()) else {
            check.fail(
                at,
                "an operation has one of `request`, `visit`, `mail`, `command`, `upload`, \
                 `download`, `netconf`, `libvirt`, `snmp`, `mqtt`, `amqp` and `arvok`",
            );
            return None;
        };
        if doc.host.is_some() && !act.may_be_many() {
            let wrong = "belongs to a `command`, an `upload`, a `download`, a `netconf`, a `libvirt` or an \
                 `snmp`";
            check.fail(&format!("{at}/host"), wrong);
        }
        if let Some(nobody) = act.knows_no_key() {
            belongs_to_http(check, at, &http, doc.repeat, nobody);
        }
        let (call, seen) = act.check(check, at, http, doc.host, &give);
        let roots: Vec<&str> = seen.iter().map(|(name, _)| *name).collect();
        let names = Names { roots: &roots, functions: &[], types: &seen };
        let output = match doc.output {
            None => Some(None),
            Some(text) => check.expr(&format!("{at}/output"), &text, names).map(Some),
        };
        let gives = match doc.gives {
            None => Some((Type::Any, json!({}))),
            Some(properties) => Inputs::check(check, &format!("{at}/gives"), properties)
                .map(|gives| (gives.as_type(), gives.sample())),
        };
        let probe = match doc.probe {
            None => Some(None),
            Some(probe) => Probe::check(check, &format!("{at}/probe"), probe, &give).map(Some),
        };
        let touches = check_touches(check, at, doc.touches, &give, call.as_ref());
        let (call, output, (gives, sample), probe) = (call?, output?, gives?, probe?);
        let mut repeat =
            doc.repeat.unwrap_or(if call.is_safe() { Repeat::Safe } else { Repeat::Never });
        match (repeat, &probe) {
            (Repeat::Probed, _) => {
                check.fail(&format!("{at}/repeat"), "is one of safe, keyed, never")
            }
            (Repeat::Never, Some(_)) => repeat = Repeat::Probed,
            (_, Some(_)) => check.fail(
                &format!("{at}/probe"),
                "belongs to what is `repeat: never`; this may be repeated",
            ),
            (_, None) => {}
        }
        let (summary, takes) = (doc.summary, takes?);
        Some(Self { summary, takes, gives, sample, repeat, call, output, probe, touches })
    }

    /// Begins a call with what is given; `key` is the same for every try of the same step,
    /// `callback` where we wait for a call back.
    ///
    /// # Errors
    /// What is given and not taken, or taken and not given; what cannot be filled in.
    pub fn begin(
        &self,
        give: &Map<String, Value>,
        key: &str,
        callback: Option<&CallbackAt>,
    ) -> Result<Planned<'_>, RequestError> {
        let give = Value::Object(self.takes.complete(give.clone())?);
        self.touched_by(&give)?;
        let gives = GivenValues { output: self.output.as_ref(), promised: &self.gives };
        let is_sent = self.repeat == Repeat::Keyed;
        let key = Key { key, is_sent, is_harmless: self.repeat.is_harmless() };
        self.call.begin(gives, give, key, callback)
    }

    /// What is sent first, as people see it before that.
    ///
    /// # Errors
    /// As [`begin`](Self::begin).
    pub fn request(
        &self,
        give: &Map<String, Value>,
        key: &str,
    ) -> Result<ShownRequest, RequestError> {
        let shown = CallbackAt { address: CALLBACK.to_owned(), key: CALLBACK_KEY.to_owned() };
        Ok(self.begin(give, key, self.callback().map(|_| &shown))?.shown())
    }

    /// The resources that a call with this changes.
    ///
    /// # Errors
    /// As [`begin`](Self::begin).
    pub fn touches(&self, give: &Map<String, Value>) -> Result<Vec<String>, RequestError> {
        self.touched_by(&Value::Object(self.takes.complete(give.clone())?))
    }

    fn touched_by(&self, give: &Value) -> Result<Vec<String>, RequestError> {
        let mut touched = Vec::new();
        for resource in &self.touches {
            let filled = match resource.fill(&ProbeScope { give, result: None }) {
                // What need not be given was not.
                Err(e) if e.missing => continue,
                filled => filled?,
            };
            let resource = match filled {
                Value::Null => continue,
                Value::String(text) => ResourcePath::parse(&text).map_err(|e| e.to_string()),
                other => Err(format!("{} is no text", cut(&other.to_string(), 80))),
            };
            let resource = resource.map_err(|e| RequestError::Part(format!("touches: {e}")))?;
            touched.push(resource.to_string());
        }
        Ok(touched)
    }

    /// By which protocol it is called.
    pub const fn protocol(&self) -> Protocol {
        self.call.protocol()
    }

    /// Whether it says on which machine it is: then its connection must have `hosts`.
    pub const fn names_host(&self) -> bool {
        match &self.call {
            Call::Ssh(call) => call.names_host(),
            Call::Netconf(call) => call.names_host(),
            Call::Libvirt(call) => call.names_host(),
            Call::Snmp(call) => call.names_host(),
            Call::Amqp(_)
            | Call::Http(_)
            | Call::Mail(_)
            | Call::Mqtt(_)
            | Call::Records(_)
            | Call::Visit(_) => false,
        }
    }

    /// Whether it changes nothing, by its protocol (of HTTP by its method, RFC 9110, section
    /// 9.2.1). What may be repeated may well change something.
    pub const fn only_looks(&self) -> bool {
        self.call.is_safe()
    }

    /// An output that stands for a real one, of a call that is not made.
    pub fn sample(&self) -> Value {
        self.sample.clone()
    }

    /// What it sends as written, such as `POST /vms/${give.vm}`.
    pub fn line(&self) -> &str {
        self.call.line()
    }

    /// What follows its first answer, by the key that says so: `pages`, `until`, `callback`.
    pub fn follows(&self) -> Option<&'static str> {
        self.call.follows()
    }

    /// How long all of a call may take, if one request may take so long.
    pub fn longest(&self, request: Period) -> Period {
        self.call.longest(request)
    }

    /// What a call back gives: its output, bounded and promised like that of an answer.
    ///
    /// # Errors
    /// Why the operation failed, or gives nothing that can be used.
    pub fn called_back(&self, called: &Value, hiding: Hiding<'_>) -> Result<Value, String> {
        let callback = self.callback().ok_or("it does not call back any more")?;
        let output = callback.output(called, hiding)?;
        usable(output, &self.gives, hiding).map_err(|why| format!("it called back, but {why}"))
    }

    /// An output that another made of the answer: bounded and promised like one that is made here.
    ///
    /// # Errors
    /// Why it cannot be used.
    pub fn accept(&self, output: Value, hiding: Hiding<'_>) -> Result<Value, String> {
        usable(output, &self.gives, hiding)
    }

    /// How the other side calls back, if it does.
    pub fn callback(&self) -> Option<&Callback> {
        self.call.callback()
    }
}

/// Complains of what is written beside a call of another protocol and means nothing there.
/// What an operation does, as written: one of what there is.
enum ActDoc {
    Request(Box<RequestDoc>),
    Visit(VisitDoc),
    Mail(MailDoc),
    Machine(SshDoc),
    Device(Box<NetconfDoc>),
    Hypervisor(Box<LibvirtDoc>),
    Agent(SnmpDoc),
    Mqtt(MqttDoc),
    Records(RecordsDoc),
    Amqp(Box<AmqpDoc>),
}

impl ActDoc {
    /// Whether it may be on one of many machines.
    const fn may_be_many(&self) -> bool {
        matches!(self, Self::Machine(_) | Self::Device(_) | Self::Hypervisor(_) | Self::Agent(_))
    }

    /// Who does not know a repetition by its key.
    const fn knows_no_key(&self) -> Option<&'static str> {
        match self {
            Self::Request(_) => None,
            Self::Visit(_) => Some("web page knows a visit"),
            Self::Mail(_) => Some("mail server knows a message"),
            Self::Machine(_) => Some("machine knows a command"),
            Self::Device(_) => Some("device knows a request"),
            Self::Hypervisor(_) => Some("hypervisor knows a request"),
            Self::Agent(_) => Some("agent knows a request"),
            Self::Records(_) => Some("record knows a question"),
            Self::Mqtt(_) | Self::Amqp(_) => Some("broker knows a message"),
        }
    }

    /// Checks it; with the call comes what its `output` may use, and the types of that.
    fn check(
        self,
        check: &mut Checker<'_>,
        at: &str,
        http: HttpDoc,
        host: Option<String>,
        give: &Type,
    ) -> (Option<Call>, Vec<(&'static str, Type)>) {
        match self {
            Self::Request(request) => {
                let (call, seen) = HttpCall::check(check, at, *request, http, give);
                (call.map(|call| Call::Http(Box::new(call))), seen)
            }
            Self::Visit(visit) => {
                let (call, seen) = VisitCall::check(check, at, visit, give);
                (call.map(|call| Call::Visit(Box::new(call))), seen)
            }
            Self::Mail(mail) => {
                let (call, seen) = MailCall::check(check, at, mail, give);
                (call.map(|call| Call::Mail(Box::new(call))), seen)
            }
            Self::Machine(act) => {
                let (call, seen) = SshCall::check(check, at, act, host, give);
                (call.map(|call| Call::Ssh(Box::new(call))), seen)
            }
            Self::Device(netconf) => {
                let (call, seen) = NetconfCall::check(check, at, *netconf, host, give);
                (call.map(|call| Call::Netconf(Box::new(call))), seen)
            }
            Self::Hypervisor(libvirt) => {
                let (call, seen) = LibvirtCall::check(check, at, *libvirt, host, give);
                (call.map(|call| Call::Libvirt(Box::new(call))), seen)
            }
            Self::Agent(snmp) => {
                let (call, seen) = SnmpCall::check(check, at, snmp, host, give);
                (call.map(|call| Call::Snmp(Box::new(call))), seen)
            }
            Self::Records(records) => {
                let (call, seen) = RecordsCall::check(check, at, records, give);
                (call.map(|call| Call::Records(Box::new(call))), seen)
            }
            Self::Mqtt(mqtt) => {
                let (call, seen) = MqttCall::check(check, at, mqtt, give);
                (call.map(|call| Call::Mqtt(Box::new(call))), seen)
            }
            Self::Amqp(amqp) => {
                let (call, seen) = AmqpCall::check(check, at, *amqp, give);
                (call.map(|call| Call::Amqp(Box::new(call))), seen)
            }
        }
    }
}

/// Checks the resources that it changes.
fn check_touches(
    check: &mut Checker<'_>,
    at: &str,
    touches: Vec<String>,
    give: &Type,
    call: Option<&Call>,
) -> Vec<Template> {
    let at = format!("{at}/touches");
    if touches.len() > MOST_TOUCHED {
        check.fail(&at, format!("names {} resources; {MOST_TOUCHED} are allowed", touches.len()));
    }
    if !touches.is_empty() && call.is_some_and(Call::is_safe) {
        check.fail(&at, "belongs to what changes something; this only looks");
    }
    let types = [("give", give.clone())];
    let names = Names { roots: &["give"], functions: &[], types: &types };
    let checked = touches.into_iter().enumerate();
    checked
        .filter_map(|(i, text)| check.template(&format!("{at}/{i}"), &text.into(), names))
        .collect()
}

/// Complains of what only a request over HTTP has.
fn belongs_to_http(
    check: &mut Checker<'_>,
    at: &str,
    http: &HttpDoc,
    repeat: Option<Repeat>,
    nobody: &str,
) {
    if let Some(key) = http.first() {
        check.fail(&format!("{at}/{key}"), "belongs to a `request`");
    }
    if repeat == Some(Repeat::Keyed) {
        let wrong = format!(
            "is `keyed`, and no {nobody} by its key; write `never`, or `safe` where a second one \
             does no harm"
        );
        check.fail(&format!("{at}/repeat"), wrong);
    }
}
