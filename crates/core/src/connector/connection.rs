//! One configured use of a connector: where it is and what it is shown. Secrets are named here
//! and opened only for the call.

use super::{
    Connector, Credential, CredentialDoc, Operation, Protocol, Pulse, PulseDoc, credential::address,
};
use crate::{
    Period,
    definition::{Defined, Definition, Fault, Kind, Mismatch, Others},
    document::{Checker, Document, Problem},
    expr::{Expr, Names, Template},
    glob::Glob,
    labels::Labels,
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet};

/// The only address of Arvok's own records.
const OWN_RECORDS: &str = "arvok://here";
/// Longest time over which a rate is counted, in milliseconds.
const HOUR: u64 = 3_600_000;

const SETTINGS: Names<'static> = Names { roots: &[], functions: &["setting"], types: &[] };

/// A connection as written.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ConnectionDoc {
    /// The name.
    pub connection: String,
    /// One line for people.
    #[serde(default)]
    pub summary: Option<String>,
    /// The connector's name.
    pub connector: String,
    /// The base address; requests go nowhere else. How it begins says how it is spoken to:
    /// `http://`, `https://`, `smtp://`, `smtps://`, `ssh://`, `netconf://`. `${setting('name')}`
    /// takes it from the service's own settings; a secret may stand in its path. `ssh://*` and
    /// `netconf://*` stand for the many machines of `hosts`.
    pub base: String,
    /// What is shown to the other side.
    #[serde(default)]
    pub credential: Option<CredentialDoc>,
    /// The machines that it stands for, by name or address, as globs: `web-*.skerrow.example`. The
    /// operation says which of them it is each time. Only for `ssh://*` and `netconf://*`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub hosts: Vec<String>,
    /// The keys of which a machine must show one, by their fingerprints: `SHA256:...`. Left out:
    /// the one that an admin has trusted (`arvok connection trust`). Only for `ssh://` and
    /// `netconf://`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub host_keys: Vec<String>,
    /// The connection to a jump host: the machines are reached through that one, which is shown its
    /// own credential and none of theirs. It is one over `ssh://`; for `ssh://` and `netconf://`.
    #[serde(default)]
    pub jump: Option<String>,
    /// Other connections, by which those operations of the connector go that speak another
    /// protocol: with their addresses, credentials and limits. One for each further protocol.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub also: Vec<String>,
    /// The authorities, as certificates in PEM, of which one must have signed the other side's.
    /// Left out: those that the system knows. `${setting('name')}` takes them from the service's
    /// own settings.
    #[serde(default)]
    pub authorities: Option<String>,
    /// The labels of the runners that make its calls, near where they go: `{ site: nessfold }`. Its
    /// address is looked up there. Left out: the nodes make them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub through: Option<Labels>,
    /// Names of secrets that its runners keep themselves, so that no node ever sees them; the
    /// credential names them like any other: `${secret('name')}`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub runner_secrets: Vec<String>,
    /// How long one call may take. Left out: 10s.
    #[serde(default)]
    pub timeout: Option<Period>,
    /// Most calls at once, over all nodes. Left out: as many as there are.
    #[serde(default)]
    pub at_once: Option<u32>,
    /// Most calls within a time, over all nodes. Left out: as many as there are.
    #[serde(default)]
    pub rate: Option<Rate>,
    /// An operation that one of the nodes calls again and again, so that somebody outside notices
    /// when Arvok does not do its work any more.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pulse: Option<PulseDoc>,
}

/// So many calls within a time, evenly: the next begins when its share of the time has passed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Rate {
    /// How many.
    pub calls: u32,
    /// Within which time.
    pub per: Period,
}

/// A checked connection.
#[derive(Clone, Debug)]
pub struct Connection {
    /// The name.
    pub name: String,
    /// One line for people.
    pub summary: Option<String>,
    /// The connector's name.
    pub connector: String,
    /// Where its secrets go, as written: the base address, the address that gives tokens, and who
    /// vouches for them; of machines their names and keys too, of an assertion what it says.
    pub shown_to: Vec<Option<String>>,
    /// How it is spoken to, where the address as written says so.
    pub protocol: Option<Protocol>,
    /// The template of the base address.
    pub base: Template,
    /// What is shown to the other side.
    pub credential: Option<Credential>,
    /// The machines that it stands for; none: that of its address.
    pub hosts: Vec<Glob>,
    /// The fingerprints of the keys of which a machine must show one; none: what an admin has
    /// trusted.
    pub host_keys: Vec<String>,
    /// The connection to the machine through which these are reached.
    pub jump: Option<String>,
    /// The connections by which operations of other protocols go.
    pub also: Vec<String>,
    /// The authorities that are trusted instead of those that the system knows.
    pub authorities: Option<Template>,
    /// The labels of the runners that make its calls; none: the nodes make them.
    pub through: Option<Labels>,
    /// The secrets that its runners keep themselves.
    pub runner_secrets: BTreeSet<String>,
    /// How long one call may take.
    pub timeout: Period,
    /// Most calls at once.
    pub at_once: Option<u32>,
    /// Most calls within a time.
    pub rate: Option<Rate>,
    /// What is called again and again while Arvok does its work.
    pub pulse: Option<Pulse>,
}

impl Connection {
    /// The secrets that it shows to the other side and nodes open.
    pub fn secrets(&self) -> BTreeSet<String> {
        let mut named = self.named_secrets();
        named.retain(|name| !self.runner_secrets.contains(name));
        named
    }

    /// The settings that its address and its authorities are made of.
    pub fn settings(&self) -> BTreeSet<String> {
        let templates = self.credentials().into_iter().map(|(_, template)| template);
        let named = templates.chain(&self.authorities).flat_map(|one| one.calls("setting"));
        named.flatten().collect()
    }

    /// The secrets that it shows to the other side, whoever opens them.
    pub fn named_secrets(&self) -> BTreeSet<String> {
        let named =
            self.credentials().into_iter().flat_map(|(_, template)| template.calls("secret"));
        named.flatten().collect()
    }
}

impl Definition for Connection {
    fn summary(&self) -> Option<&str> {
        self.summary.as_deref()
    }

    fn credentials(&self) -> Vec<(&str, &Template)> {
        let shown = self.credential.iter().flat_map(Credential::parts);
        shown.map(|part| ("/credential", part)).chain([("/base", &self.base)]).collect()
    }

    fn is_opened_elsewhere(&self, secret: &str) -> bool {
        self.runner_secrets.contains(secret)
    }

    fn expressions(&self) -> Vec<(String, &Expr)> {
        self.pulse.iter().flat_map(Pulse::expressions).collect()
    }

    fn uses(&self) -> Vec<(Kind, String)> {
        let jump = self.jump.iter().map(|jump| (Kind::Connection, jump.clone()));
        let also = self.also.iter().map(|also| (Kind::Connection, also.clone()));
        std::iter::once((Kind::Connector, self.connector.clone())).chain(jump).chain(also).collect()
    }

    fn misfits(&self, others: &dyn Others) -> Vec<Mismatch> {
        if let Err(missing) = others.must_have(Kind::Connector, &self.connector) {
            return vec![Mismatch::at("/connector", missing)];
        }
        let jump = self.jump.as_ref();
        if let Some(wrong) =
            jump.and_then(|jump| jump_mismatch(jump, self.through.as_ref(), others))
        {
            return vec![wrong];
        }
        let Some(connector) = others.get::<Connector>(&self.connector).ok() else {
            return Vec::new();
        };
        if let Some(Credential::Session(given)) = &self.credential {
            let wrong = session_mismatches(connector, given);
            if !wrong.is_empty() {
                return wrong;
            }
        }
        if let Some(wrong) = self.also_mismatch(connector, others) {
            return vec![wrong];
        }
        let operations = connector.operations.iter();
        let wrong = operations.filter_map(|one| self.operation_mismatch(connector, one, others));
        let of_pulse = self.pulse.iter().flat_map(|pulse| pulse.misfits(&self.name, others));
        wrong.take(1).chain(of_pulse).collect()
    }
}

impl Connection {
    /// The protocol that it speaks: as its address says, or else as all operations of its connector
    /// do.
    fn spoken(&self, others: &dyn Others) -> Option<Protocol> {
        let of_operations = || {
            let connector = others.get::<Connector>(&self.connector).ok()?;
            let mut spoken = connector.operations.values().map(Operation::protocol);
            let first = spoken.next()?;
            spoken.all(|other| other == first).then_some(first)
        };
        self.protocol.or_else(of_operations)
    }

    /// The connection by which a call of a protocol goes: itself, or one of `also`.
    pub(super) fn for_protocol<'o>(
        &'o self,
        protocol: Protocol,
        others: &'o dyn Others,
    ) -> &'o Self {
        let found = || {
            let also = self.also.iter().filter_map(|name| others.get::<Self>(name).ok());
            also.into_iter().find(|also| also.spoken(others) == Some(protocol))
        };
        match self.protocol == Some(protocol) || self.also.is_empty() {
            true => self,
            false => found().unwrap_or(self),
        }
    }

    /// What is wrong with `also`.
    fn also_mismatch(&self, connector: &Connector, others: &dyn Others) -> Option<Mismatch> {
        let mut spoken = BTreeMap::new();
        spoken.extend(self.protocol.map(|protocol| (protocol, "base".to_owned())));
        for (n, name) in self.also.iter().enumerate() {
            let wrong = |fault: String| {
                Some(Mismatch::at(format!("/also/{n}"), Fault::Unfit(format!("`{name}` {fault}"))))
            };
            let also = match others.get::<Self>(name) {
                Err(missing) => return Some(Mismatch::at(format!("/also/{n}"), missing)),
                Ok(also) if also.name == self.name => return wrong("is this connection".into()),
                Ok(also) => also,
            };
            let Some(protocol) = also.spoken(others) else { continue };
            if let Some(other) = spoken.insert(protocol, format!("`{name}`")) {
                return wrong(format!("speaks the same protocol as {other}"));
            }
            if !connector.operations.values().any(|operation| operation.protocol() == protocol) {
                let connector = &connector.name;
                return wrong(format!("is for no operation of connector `{connector}`"));
            }
        }
        None
    }

    /// What does not fit of where an operation goes.
    fn operation_mismatch(
        &self,
        connector: &Connector,
        (name, operation): (&String, &Operation),
        others: &dyn Others,
    ) -> Option<Mismatch> {
        let protocol = operation.protocol();
        let by = self.for_protocol(protocol, others);
        let is_also = by.name != self.name;
        if !is_also && self.protocol.is_some_and(|own| own != protocol) {
            let schemes = protocol.schemes().join(" or ");
            let fault = format!(
                "is not where `{name}` of connector `{}` goes: {schemes}; name a connection to \
                 there in `also`",
                connector.name
            );
            return Some(Mismatch::at("/base", Fault::Unfit(fault)));
        }
        if by.protocol.is_none() || !protocol.may_be_many() {
            return None;
        }
        let is_many = !by.hosts.is_empty();
        if operation.names_host() == is_many {
            return None;
        }
        let (at, whose) = match is_also {
            true => ("/also", format!(", by connection `{}`", by.name)),
            false => ("/hosts", String::new()),
        };
        let connector = &connector.name;
        let fault = match is_many {
            true => {
                format!("`{name}` of connector `{connector}` does not say on which `host`{whose}")
            }
            false => format!(
                "`{name}` of connector `{connector}` says on which `host`{whose}; list them"
            ),
        };
        Some(Mismatch::at(at, Fault::Unfit(fault)))
    }
}

/// Why a connection is none to a jump host.
fn jump_mismatch(jump: &str, through: Option<&Labels>, others: &dyn Others) -> Option<Mismatch> {
    let fault = match others.get::<Connection>(jump) {
        Err(missing) => return Some(Mismatch::at("/jump", missing)),
        Ok(connection) if connection.spoken(others).is_some_and(|p| p != Protocol::Ssh) => {
            "is not reached over SSH"
        }
        Ok(connection) if !connection.hosts.is_empty() => "is not one machine",
        Ok(connection) if connection.jump.is_some() => "is reached through another jump host",
        Ok(connection)
            if connection.through.is_some() && connection.through.as_ref() != through =>
        {
            "is reached `through` other runners"
        }
        Ok(_) => return None,
    };
    Some(Mismatch::at("/jump", Fault::Unfit(format!("`{jump}` {fault}"))))
}

/// What does not fit of what a session is opened with.
fn session_mismatches(connector: &Connector, given: &BTreeMap<String, Template>) -> Vec<Mismatch> {
    let at = "/credential/session";
    let Some(session) = &connector.session else {
        let fault = format!("connector `{}` says nothing of a `session`", connector.name);
        return vec![Mismatch::at(at, Fault::Unfit(fault))];
    };
    let names: Vec<String> = given.keys().cloned().collect();
    let wrong = session.takes().misfit(&names).into_iter();
    let whose = format!("the session of connector `{}`", connector.name);
    wrong.map(|error| Mismatch::at(at, Fault::Unfit(format!("{whose}: {error}")))).collect()
}

/// Complains of a credential that means nothing to the protocol; none could be checked: of nothing.
fn fits_protocol(check: &mut Checker<'_>, base: &str, credential: Option<Option<&Credential>>) {
    let Some(Some(credential)) = credential else { return };
    let wrong = match (Protocol::of(base), credential) {
        (Some(Protocol::Mail), Credential::Basic { .. }) => None,
        (Some(Protocol::Mail), _) => Some("a mail server is shown `basic`, a name and a password"),
        (Some(Protocol::Amqp | Protocol::Mqtt), Credential::Basic { .. }) => None,
        (Some(Protocol::Amqp | Protocol::Mqtt), _) => {
            Some("a broker is shown `basic`, a name and a password")
        }
        (Some(protocol), Credential::Basic { .. } | Credential::Key(_))
            if protocol.is_over_ssh() =>
        {
            None
        }
        (Some(protocol), _) if protocol.is_over_ssh() => Some(
            "a machine is shown `key`, a user's private key, or `basic`, a name and a password",
        ),
        (Some(Protocol::Snmp), Credential::Agent(_)) => None,
        (Some(Protocol::Snmp), _) => {
            Some("an agent is shown `snmp`, a community or a user's passwords")
        }
        (Some(Protocol::Arvok), _) => Some("the node's own records ask for none; leave it out"),
        (Some(Protocol::Http), Credential::Agent(_)) => {
            Some("`snmp` is for agents that are reached over SNMP")
        }
        (Some(Protocol::Http), Credential::Key(_)) => {
            Some("a `key` is for machines that are reached over SSH")
        }
        _ => None,
    };
    if let Some(wrong) = wrong {
        check.fail("/credential", wrong);
    }
}

/// The machines that a connection stands for; complains of those, and of keys, that do not fit its
/// address.
fn machines(
    check: &mut Checker<'_>,
    base: &str,
    hosts: &[String],
    host_keys: &[String],
) -> Vec<Glob> {
    let protocol = Protocol::of(base);
    if !hosts.is_empty() && protocol.is_some_and(|protocol| !protocol.may_be_many()) {
        check.fail("/hosts", "belongs to machines that are reached over SSH, and to agents");
    }
    if !host_keys.is_empty() && protocol.is_some_and(|protocol| !protocol.is_over_ssh()) {
        check.fail("/host_keys", "belongs to machines that are reached over SSH");
    }
    if let Some(protocol) = protocol.filter(|protocol| protocol.may_be_many()) {
        let scheme = protocol.schemes()[0];
        let host = base.strip_prefix(scheme).unwrap_or_default();
        let is_many = host == "*" || host.starts_with("*:") || host.starts_with("*/");
        match (is_many, hosts.is_empty()) {
            (true, true) => check
                .fail("/hosts", format!("is missing: `{scheme}*` is the machines that it lists")),
            (false, false) => check.fail(
                "/base",
                format!("is one machine, and `hosts` lists several; write `{scheme}*`"),
            ),
            _ => {}
        }
    }
    let is_fingerprint = |key: &String| {
        key.strip_prefix("SHA256:").is_some_and(|digest| {
            digest.len() == 43
                && digest.chars().all(|c| c.is_ascii_alphanumeric() || c == '+' || c == '/')
        })
    };
    if let Some(n) = host_keys.iter().position(|key| !is_fingerprint(key)) {
        let wrong = "is no fingerprint of a key, as `ssh-keygen -l` prints it: SHA256:...";
        check.fail(&format!("/host_keys/{n}"), wrong);
    }
    let mut globs = Vec::new();
    for (n, host) in hosts.iter().enumerate() {
        match Glob::parse(&host.to_ascii_lowercase()) {
            Ok(glob) => globs.push(glob),
            Err(e) => check.fail(&format!("/hosts/{n}"), e),
        }
    }
    globs
}

impl Defined for Connection {
    const KIND: Kind = Kind::Connection;
    type Doc = ConnectionDoc;

    fn check(document: &Document) -> Result<Self, Vec<Problem>> {
        let (doc, mut check) = Checker::decoding::<ConnectionDoc>(document)?;
        let oauth2 = doc.credential.as_ref().and_then(|c| c.oauth2.as_ref());
        let tokens = oauth2.map(|oauth2| oauth2.token.clone());
        let mut shown_to = vec![Some(doc.base.clone()), tokens, doc.authorities.clone()];
        // What a key asserts, and of whom, is as much as where that goes.
        let assertion = oauth2.and_then(|oauth2| oauth2.assertion.as_ref());
        shown_to.extend(assertion.map(|assertion| serde_json::to_string(assertion).ok()));
        shown_to.extend(doc.hosts.iter().chain(&doc.host_keys).cloned().map(Some));
        // Whoever makes the calls is shown the secrets as well.
        shown_to.extend(doc.through.as_ref().map(|through| Some(format!("through {through}"))));
        let base = address(&mut check, "/base", doc.base.clone(), &Protocol::ALL);
        let credential = match doc.credential {
            None => Some(None),
            Some(credential) => credential.check(&mut check, "/credential").map(Some),
        };
        fits_protocol(&mut check, &doc.base, credential.as_ref().map(Option::as_ref));
        let hosts = machines(&mut check, &doc.base, &doc.hosts, &doc.host_keys);
        if doc.jump.is_some() && Protocol::of(&doc.base).is_some_and(|p| !p.is_over_ssh()) {
            check.fail("/jump", "belongs to machines that are reached over SSH");
        }
        let authorities = match doc.authorities {
            None => Some(None),
            Some(pem) if !pem.contains("${") && !pem.contains("-----BEGIN CERTIFICATE-----") => {
                check.fail(
                    "/authorities",
                    "is not a certificate in PEM, which begins with -----BEGIN CERTIFICATE-----",
                );
                None
            }
            Some(pem) => check.template("/authorities", &Value::String(pem), SETTINGS).map(Some),
        };
        if let Some(Err(e)) = doc.through.as_ref().map(Labels::check) {
            check.fail("/through", e.to_string());
        }
        if Protocol::of(&doc.base) == Some(Protocol::Arvok) && doc.base != OWN_RECORDS {
            let wrong =
                format!("is not `{OWN_RECORDS}`; only this installation's own can be asked");
            check.fail("/base", wrong);
        }
        if doc.through.is_some() && Protocol::of(&doc.base) == Some(Protocol::Arvok) {
            check.fail("/through", "belongs to what runners reach; no runner has Arvok's records");
        }
        if doc.through.is_none() && !doc.runner_secrets.is_empty() {
            check.fail("/runner_secrets", "belongs to a connection `through` runners");
        }
        if doc.at_once == Some(0) {
            check.fail("/at_once", "at least 1; without any call the connection is of no use");
        }
        if let Some(rate) = doc.rate {
            if rate.calls == 0 {
                check.fail(
                    "/rate/calls",
                    "at least 1; without any call the connection is of no use",
                );
            }
            if !(1..=HOUR).contains(&rate.per.millis()) {
                check.fail("/rate/per", "is from 1ms to 1h");
            }
        }
        let pulse = match doc.pulse {
            None => Some(None),
            Some(pulse) => pulse.check(&mut check).map(Some),
        };
        let made = base.zip(credential).zip(authorities).zip(pulse).map(
            |(((base, credential), authorities), pulse)| Self {
                name: doc.connection,
                summary: doc.summary,
                connector: doc.connector,
                shown_to,
                protocol: Protocol::of(&doc.base),
                base,
                hosts,
                host_keys: doc.host_keys,
                jump: doc.jump,
                also: doc.also,
                credential,
                authorities,
                through: doc.through,
                runner_secrets: doc.runner_secrets.into_iter().collect(),
                timeout: doc.timeout.unwrap_or(Period::from_secs(10)),
                at_once: doc.at_once,
                rate: doc.rate,
                pulse,
            },
        );
        let made: Option<Self> = made;
        let unnamed = made
            .as_ref()
            .and_then(|made| made.runner_secrets.difference(&made.named_secrets()).next().cloned());
        if let Some(name) = unnamed {
            let wrong = format!("nothing here is made of `${{secret('{name}')}}`");
            check.fail("/runner_secrets", wrong);
        }
        check.finish(made)
    }
}
