//! Calls through connections, whatever their protocol: each has a driver. Time and secrets are the
//! same for all of them: a call has an end, messages and what people see of answers have the
//! secrets taken out, and the output is as it came.

use crate::{
    CallError, Http, Redactor,
    broker::{Amqp, AmqpConsumer, BrokerConsumer, Mqtt, MqttConsumer, ProtocolLine, Subscription},
    driver::{Called, Driver, Way, unsent},
    libvirt::Libvirt,
    mail::Mail,
    netconf::Netconf,
    records::{OwnRecords, Records},
    script::{ScriptCall, ScriptRights},
    snmp::Snmp,
    ssh::{HostKey, Ssh},
};
use arvok_core::connector::{
    Answer, CallEnd, CallbackAt, Failure, Grant, Hiding, OAuth2, Opened, Operation, Planned,
    Protocol, SignatureV4, UserKey,
};
use serde_json::{Map, Value};
use std::{sync::Arc, time::Duration};

/// One call.
#[derive(Debug)]
pub struct Call<'a> {
    /// The operation.
    pub operation: &'a Operation,
    /// What it is given.
    pub give: &'a Map<String, Value>,
    /// The same for every try of the same step.
    pub key: &'a str,
    /// Where we wait for a call back, if the operation calls back.
    pub callback: Option<&'a CallbackAt>,
    /// Where it goes.
    pub way: Way<'a>,
    /// How long the whole may take; none: as long as its requests may.
    pub within: Option<Duration>,
    /// Knows the secrets that may come back, and hides them in messages and in the answer that is
    /// shown.
    pub redactor: &'a Redactor,
}

/// How a call ended.
#[derive(Clone, Debug, PartialEq)]
pub struct CallOutcome {
    /// What came of it, or what went wrong, and what is known of the other side then.
    pub called: Result<Called, Failure>,
    /// The last answer that came, as people may see it; none if none did.
    pub answer: Option<Answer>,
}

impl CallOutcome {
    /// It ended before anything was sent.
    pub const fn unsent(failure: Failure) -> Self {
        Self { called: Err(failure), answer: None }
    }
}

/// A header that is for the client alone: what it names is a credential of the other side.
const CREDENTIAL: &str = "set-cookie";

/// The drivers of all protocols.
#[derive(Debug)]
pub struct Drivers {
    /// That of HTTP, which sends events to subscribers too.
    pub http: Http,
    mail: Mail,
    ssh: Ssh,
    records: Option<Arc<dyn OwnRecords>>,
}

impl Drivers {
    /// For all connections.
    ///
    /// # Errors
    /// If no client can be made.
    pub fn new() -> Result<Self, CallError> {
        Ok(Self { http: Http::new()?, mail: Mail, ssh: Ssh::default(), records: None })
    }

    /// With Arvok's own records, where these can be asked.
    #[must_use]
    pub fn with_records(self, records: Arc<dyn OwnRecords>) -> Self {
        Self { records: Some(records), ..self }
    }

    /// Ends what is kept open at the other sides and counted there: sessions of HTTP.
    pub async fn close(&self) {
        self.http.close().await;
    }

    /// Calls: one request, or as many as its pages and looks need. Secrets are hidden in messages
    /// and in the answer that is shown; the output is as it came.
    pub async fn call(&self, call: Call<'_>) -> CallOutcome {
        let own = Redactor::new(call.way.credential.map_or_else(Vec::new, shown_by));
        let hiding = Secrets { known: call.redactor, own };
        let within = call.within;
        let hide = |text: &str| hiding.text(text);
        let mut last = None;
        let performed = self.perform(call, Hiding(&hide), &mut last);
        let called = match within {
            None => performed.await,
            Some(within) => tokio::time::timeout(within, performed).await.unwrap_or_else(|_| {
                Err(Failure::new(
                    CallEnd::Unknown,
                    format!("was not over within {} s", within.as_secs_f32()),
                ))
            }),
        };
        hiding.outcome(called, last)
    }

    /// Runs a script in a sandbox. Secrets are hidden in messages and in what it wrote, as it is
    /// shown; the output is as it came.
    pub async fn script(
        &self,
        call: ScriptCall<'_>,
        rights: &ScriptRights,
        redactor: &Redactor,
    ) -> CallOutcome {
        let hiding = Secrets { known: redactor, own: Redactor::default() };
        let hide = |text: &str| hiding.text(text);
        let mut last = None;
        let called = rights.run(call, Hiding(&hide), &mut last).await;
        hiding.outcome(called, last)
    }

    async fn perform(
        &self,
        call: Call<'_>,
        hiding: Hiding<'_>,
        last: &mut Option<Answer>,
    ) -> Result<Called, Failure> {
        let planned = call.operation.begin(call.give, call.key, call.callback);
        let planned = planned.map_err(|e| unsent(e.to_string()))?.hiding(hiding);
        if Protocol::of(call.way.base) != Some(call.operation.protocol()) {
            let schemes = call.operation.protocol().schemes().join(" or ");
            return Err(unsent(format!(
                "{} is not where this operation goes: {schemes}",
                call.way.base
            )));
        }
        match planned {
            Planned::Amqp(plan) => Amqp.perform(*plan, call.way, last).await,
            Planned::Http(exchange) => self.http.perform(*exchange, call.way, last).await,
            Planned::Libvirt(plan) => {
                // It calls off what takes too long, before we break off.
                let timeout =
                    call.within.map_or(call.way.timeout, |most| most.min(call.way.timeout));
                let way = Way { timeout, ..call.way };
                Libvirt(&self.ssh).perform(*plan, way, last).await
            }
            Planned::Mail(mailing) => self.mail.perform(*mailing, call.way, last).await,
            Planned::Mqtt(plan) => Mqtt.perform(*plan, call.way, last).await,
            Planned::Netconf(plan) => Netconf(&self.ssh).perform(*plan, call.way, last).await,
            Planned::Records(plan) => {
                Records(self.records.as_deref()).perform(*plan, call.way, last).await
            }
            Planned::Snmp(plan) => Snmp.perform(*plan, call.way, last).await,
            Planned::Ssh(plan) => self.ssh.perform(*plan, call.way, last).await,
            Planned::Visit(plan) => self.http.perform(*plan, call.way, last).await,
        }
    }

    /// Begins to take messages from a broker.
    ///
    /// # Errors
    /// That nobody is there, or nobody who lets us take them.
    pub async fn consume(
        way: Way<'_>,
        subscription: Subscription<'_>,
    ) -> Result<BrokerConsumer, Failure> {
        Ok(BrokerConsumer(match subscription {
            Subscription::Topics { client, topics, before, keeps, at_once } => ProtocolLine::Mqtt(
                MqttConsumer::open(way, (client, at_once), (topics, before), keeps).await?,
            ),
            Subscription::Queue { queue, at_once } => {
                ProtocolLine::Amqp(Box::new(AmqpConsumer::open(way, queue, at_once).await?))
            }
        }))
    }

    /// Looks whether anybody answers at an address, whatever the answer; what it was.
    ///
    /// # Errors
    /// That nobody did, or that the credential was refused.
    pub async fn probe(&self, way: Way<'_>) -> Result<String, Failure> {
        match Protocol::of(way.base) {
            Some(Protocol::Amqp) => Amqp.probe(way).await,
            Some(Protocol::Arvok) => Records(self.records.as_deref()).probe(),
            Some(Protocol::Http) => self.http.probe(way).await,
            Some(Protocol::Libvirt) => Libvirt(&self.ssh).probe(way).await,
            Some(Protocol::Mail) => self.mail.probe(way).await,
            Some(Protocol::Mqtt) => Mqtt.probe(way).await,
            Some(Protocol::Netconf) => Netconf(&self.ssh).probe(way).await,
            Some(Protocol::Snmp) => Snmp.probe(way).await,
            Some(Protocol::Ssh) => self.ssh.probe(way).await,
            None => Err(unsent(format!(
                "{} is the address of no protocol that is spoken here",
                way.base
            ))),
        }
    }

    /// The key that a machine shows before anything is said to it: of the address, or of one of the
    /// machines that it stands for.
    ///
    /// # Errors
    /// That there is no such machine, or none that is reached over SSH.
    pub async fn host_key(&self, way: Way<'_>, host: Option<&str>) -> Result<HostKey, Failure> {
        match Protocol::of(way.base) {
            Some(protocol) if protocol.is_over_ssh() => self.ssh.host_key(way, host).await,
            _ => Err(unsent(format!("{} is not reached over SSH; it has no such key", way.base))),
        }
    }
}

/// What is hidden in all that people see of a call: what the node knows, and its own credential.
struct Secrets<'r> {
    known: &'r Redactor,
    own: Redactor,
}

impl Secrets<'_> {
    fn text(&self, text: &str) -> String {
        self.own.hidden(&self.known.hidden(text)).into_owned()
    }

    fn outcome(&self, called: Result<Called, Failure>, last: Option<Answer>) -> CallOutcome {
        let called =
            called.map_err(|failure| Failure { message: self.text(&failure.message), ..failure });
        let shown = |value: Value| self.own.value(self.known.value(value));
        let answer = last.map(|Answer { status, mut headers, body }| {
            headers.remove(CREDENTIAL);
            let headers = headers.into_iter().map(|(name, value)| (name, shown(value))).collect();
            Answer { status, headers, body: shown(body) }
        });
        CallOutcome { called, answer }
    }
}

/// What a credential shows to the other side, and what that may show in turn: a pair is hidden as a
/// whole, since in base64 it is one text.
fn shown_by(credential: &Opened) -> Vec<String> {
    match credential {
        Opened::Bearer(token) => vec![token.clone()],
        Opened::Basic { user, password } => vec![password.clone(), format!("{user}:{password}")],
        Opened::Digest { password, .. } => vec![password.clone()],
        Opened::Header { value, .. } => vec![value.clone()],
        Opened::OAuth2(OAuth2 { grant: Grant::Client { client, secret }, .. }) => {
            vec![secret.clone(), crate::http::pair(client, secret)]
        }
        Opened::OAuth2(OAuth2 { grant: Grant::Assertion { assertion, .. }, .. }) => {
            vec![assertion.key.clone()]
        }
        // Which of it is a secret, the node knows: the rest may be said of anybody.
        Opened::Session(_) => Vec::new(),
        Opened::Signature(signature) => vec![signature.key.clone()],
        Opened::SignatureV4(SignatureV4 { key, token, .. }) => {
            [key].into_iter().chain(token).cloned().collect()
        }
        Opened::Certificate(_) => Vec::new(),
        Opened::Agent(agent) => agent.secrets().into_iter().cloned().collect(),
        Opened::Key(UserKey { private, passphrase, .. }) => {
            [private].into_iter().chain(passphrase).cloned().collect()
        }
    }
}
