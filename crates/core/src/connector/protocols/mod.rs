//! How outside systems are spoken to. One file or folder for each protocol: what its call is
//! written as, what it plans to send, and what an answer means. The crate that reaches outside has
//! a driver for each; nothing else asks which it is.

mod amqp;
mod host;
mod http;
pub mod libvirt;
mod mail;
mod message;
mod mqtt;
mod netconf;
mod records;
mod shared;
pub mod snmp;
mod ssh;
pub mod visit;

pub use amqp::{AmqpAct, AmqpAnswer, AmqpCall, AmqpDoc, AmqpMessage, AmqpPlan};
pub use http::{
    Answer, Body, Callback, CallbackDoc, Exchange, HttpCall, Next, PagesDoc, Request, RequestDoc,
    RequestError, Signed, UntilDoc, retry_after,
};
pub use libvirt::LibvirtPlan;
pub use mail::{Letter, MailCall, MailDoc, Mailbox, Mailing};
pub use message::MessagePayload;
pub use mqtt::{MqttCall, MqttDoc, MqttMessage, MqttPlan};
pub use netconf::{NetconfCall, NetconfDoc, NetconfExchange, NetconfNext, NetconfPlan, announced};
pub use records::{RecordsCall, RecordsDoc, RecordsPlan};
pub(super) use shared::GivenValues;
pub use shared::ShownRequest;
pub use snmp::SnmpPlan;
pub use ssh::{
    CommandDoc, CommandExit, CommandResult, DownloadDoc, RemoteAct, RemoteCommand, SshCall,
    SshPlan, UploadDoc,
};
pub use visit::VisitPlan;

pub(super) use http::HttpDoc;
pub(super) use libvirt::{LibvirtCall, LibvirtDoc};
pub(super) use snmp::{SnmpCall, SnmpDoc};
pub(super) use ssh::SshDoc;
pub(super) use visit::{VisitCall, VisitDoc};

use super::{CallbackAt, failure::Hiding};
use crate::Period;
use serde_json::Value;

/// A protocol, by which the address of a connection says how it is spoken to.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Protocol {
    /// AMQP 0-9-1: `amqp://`, `amqps://`.
    Amqp,
    /// None: Arvok's own records, `arvok://`.
    Arvok,
    /// HTTP (RFC 9110): `http://`, `https://`.
    Http,
    /// libvirt's remote protocol, over SSH: `libvirt://`.
    Libvirt,
    /// Mail over SMTP (RFC 5321): `smtp://`, `smtps://`.
    Mail,
    /// MQTT 5: `mqtt://`, `mqtts://`.
    Mqtt,
    /// NETCONF (RFC 6241) over SSH: `netconf://`.
    Netconf,
    /// SNMP (RFC 3416) over UDP: `snmp://`.
    Snmp,
    /// SSH (RFC 4251): `ssh://`.
    Ssh,
}

impl Protocol {
    /// All of them.
    pub const ALL: [Self; 9] = [
        Self::Amqp,
        Self::Arvok,
        Self::Http,
        Self::Libvirt,
        Self::Mail,
        Self::Mqtt,
        Self::Netconf,
        Self::Snmp,
        Self::Ssh,
    ];

    /// What the addresses of its connections begin with.
    pub const fn schemes(self) -> &'static [&'static str] {
        match self {
            Self::Amqp => &["amqp://", "amqps://"],
            Self::Arvok => &["arvok://"],
            Self::Http => &["http://", "https://"],
            Self::Libvirt => &["libvirt://"],
            Self::Mail => &["smtp://", "smtps://"],
            Self::Mqtt => &["mqtt://", "mqtts://"],
            Self::Netconf => &["netconf://"],
            Self::Snmp => &["snmp://"],
            Self::Ssh => &["ssh://"],
        }
    }

    /// Whether the address of a connection may stand for many machines, which it lists.
    pub const fn may_be_many(self) -> bool {
        self.is_over_ssh() || matches!(self, Self::Snmp)
    }

    /// Whether it is spoken over SSH: then its other side is a machine with a key of its own, that
    /// may be one of many and be reached through another.
    pub const fn is_over_ssh(self) -> bool {
        matches!(self, Self::Libvirt | Self::Netconf | Self::Ssh)
    }

    /// That of an address; none if it begins with what is of none.
    pub fn of(address: &str) -> Option<Self> {
        Self::ALL
            .into_iter()
            .find(|protocol| protocol.schemes().iter().any(|scheme| address.starts_with(scheme)))
    }
}

/// A call of some protocol.
#[derive(Clone, Debug)]
pub enum Call {
    /// A message to a broker, or a look at a queue, over AMQP.
    Amqp(Box<AmqpCall>),
    /// Requests over HTTP.
    Http(Box<HttpCall>),
    /// An act on a hypervisor.
    Libvirt(Box<LibvirtCall>),
    /// A message by mail.
    Mail(Box<MailCall>),
    /// A question to Arvok's own records.
    Records(Box<RecordsCall>),
    /// A message to a broker over MQTT.
    Mqtt(Box<MqttCall>),
    /// Requests to a network device.
    Netconf(Box<NetconfCall>),
    /// Objects of an agent.
    Snmp(Box<SnmpCall>),
    /// A command on a machine, or a file.
    Ssh(Box<SshCall>),
    /// Web pages that are looked at, over HTTP.
    Visit(Box<VisitCall>),
}

impl Call {
    /// By which protocol it is made.
    pub const fn protocol(&self) -> Protocol {
        match self {
            Self::Amqp(_) => Protocol::Amqp,
            Self::Http(_) | Self::Visit(_) => Protocol::Http,
            Self::Libvirt(_) => Protocol::Libvirt,
            Self::Mail(_) => Protocol::Mail,
            Self::Records(_) => Protocol::Arvok,
            Self::Mqtt(_) => Protocol::Mqtt,
            Self::Netconf(_) => Protocol::Netconf,
            Self::Snmp(_) => Protocol::Snmp,
            Self::Ssh(_) => Protocol::Ssh,
        }
    }

    /// Whether the protocol itself says that repeating is harmless.
    pub const fn is_safe(&self) -> bool {
        match self {
            Self::Amqp(call) => call.is_safe(),
            Self::Http(call) => call.is_safe(),
            Self::Libvirt(call) => call.is_safe(),
            Self::Mail(_) | Self::Mqtt(_) => false,
            Self::Records(_) => true,
            Self::Netconf(call) => call.is_safe(),
            Self::Snmp(call) => call.is_safe(),
            Self::Ssh(call) => call.is_safe(),
            Self::Visit(call) => call.is_safe(),
        }
    }

    /// What it sends, in a line, as written.
    pub fn line(&self) -> &str {
        match self {
            Self::Amqp(call) => call.line(),
            Self::Http(call) => call.line(),
            Self::Libvirt(call) => call.line(),
            Self::Mail(call) => call.line(),
            Self::Records(call) => call.line(),
            Self::Mqtt(call) => call.line(),
            Self::Netconf(call) => call.line(),
            Self::Snmp(call) => call.line(),
            Self::Ssh(call) => call.line(),
            Self::Visit(call) => call.line(),
        }
    }

    /// What follows its first answer: the key that says so.
    pub fn follows(&self) -> Option<&'static str> {
        match self {
            Self::Http(call) => call.follows(),
            _ => None,
        }
    }

    /// How long all of it may take, if one request may take so long.
    pub fn longest(&self, request: Period) -> Period {
        match self {
            Self::Http(call) => call.longest(request),
            Self::Visit(call) => call.longest(request),
            _ => request,
        }
    }

    /// How the other side calls back, if it does.
    pub const fn callback(&self) -> Option<&Callback> {
        match self {
            Self::Http(call) => call.callback(),
            _ => None,
        }
    }

    /// Begins a call with what is given; `key` is the same for every try of the same step,
    /// `callback` where we wait for a call back.
    ///
    /// # Errors
    /// What cannot be filled in, or cannot be sent as it is.
    pub(super) fn begin<'o>(
        &'o self,
        gives: GivenValues<'o>,
        give: Value,
        key: Key<'_>,
        callback: Option<&CallbackAt>,
    ) -> Result<Planned<'o>, RequestError> {
        Ok(match self {
            Self::Amqp(call) => Planned::Amqp(Box::new(call.begin(gives, give, key.key)?)),
            Self::Http(call) => {
                Planned::Http(Box::new(call.begin(gives, give, key.sent(), callback)?))
            }
            Self::Libvirt(call) => Planned::Libvirt(Box::new(call.begin(gives, give)?)),
            Self::Mail(call) => Planned::Mail(Box::new(call.begin(gives, give, key.key)?)),
            Self::Records(call) => Planned::Records(Box::new(call.begin(gives, give)?)),
            Self::Mqtt(call) => Planned::Mqtt(Box::new(call.begin(gives, give)?)),
            Self::Netconf(call) => Planned::Netconf(Box::new(call.begin(gives, give, key.key)?)),
            Self::Snmp(call) => Planned::Snmp(Box::new(call.begin(gives, give)?)),
            Self::Ssh(call) => Planned::Ssh(Box::new(call.begin(gives, give, key.is_harmless)?)),
            Self::Visit(call) => Planned::Visit(Box::new(call.begin(gives, give)?)),
        })
    }
}

/// The key of a call, and whether the other side is told it to know a repetition by it.
#[derive(Clone, Copy, Debug)]
pub(super) struct Key<'k> {
    pub key: &'k str,
    pub is_sent: bool,
    /// Whether repeating is harmless.
    pub is_harmless: bool,
}

impl<'k> Key<'k> {
    fn sent(self) -> Option<&'k str> {
        self.is_sent.then_some(self.key)
    }
}

/// A call that is to be made.
#[derive(Debug)]
pub enum Planned<'o> {
    /// By a request to a broker over AMQP.
    Amqp(Box<AmqpPlan<'o>>),
    /// By requests over HTTP.
    Http(Box<Exchange<'o>>),
    /// At a hypervisor.
    Libvirt(Box<LibvirtPlan<'o>>),
    /// At Arvok's own records.
    Records(Box<RecordsPlan<'o>>),
    /// By a message.
    Mail(Box<Mailing<'o>>),
    /// By a message to a broker over MQTT.
    Mqtt(Box<MqttPlan<'o>>),
    /// In a session with a network device.
    Netconf(Box<NetconfPlan<'o>>),
    /// At an agent.
    Snmp(Box<SnmpPlan<'o>>),
    /// On a machine.
    Ssh(Box<SshPlan<'o>>),
    /// By a visit to web pages.
    Visit(Box<VisitPlan<'o>>),
}

impl<'o> Planned<'o> {
    /// What its failures say of answers is hidden by this; its outputs are not touched.
    #[must_use]
    pub fn hiding(self, hiding: Hiding<'o>) -> Self {
        match self {
            Self::Amqp(plan) => Self::Amqp(Box::new(plan.hiding(hiding))),
            Self::Http(exchange) => Self::Http(Box::new(exchange.hiding(hiding))),
            Self::Libvirt(plan) => Self::Libvirt(Box::new(plan.hiding(hiding))),
            Self::Records(plan) => Self::Records(Box::new(plan.hiding(hiding))),
            Self::Mail(mailing) => Self::Mail(Box::new(mailing.hiding(hiding))),
            Self::Mqtt(plan) => Self::Mqtt(Box::new(plan.hiding(hiding))),
            Self::Netconf(plan) => Self::Netconf(Box::new(plan.hiding(hiding))),
            Self::Snmp(plan) => Self::Snmp(Box::new(plan.hiding(hiding))),
            Self::Ssh(plan) => Self::Ssh(Box::new(plan.hiding(hiding))),
            Self::Visit(plan) => Self::Visit(Box::new(plan.hiding(hiding))),
        }
    }

    /// What is sent first, as people see it.
    pub fn shown(&self) -> ShownRequest {
        match self {
            Self::Amqp(plan) => plan.shown(),
            Self::Http(exchange) => exchange.request().shown(),
            Self::Libvirt(plan) => plan.shown(),
            Self::Mail(mailing) => mailing.letter().shown(),
            Self::Records(plan) => plan.shown(),
            Self::Mqtt(plan) => plan.shown(),
            Self::Netconf(plan) => plan.shown(),
            Self::Snmp(plan) => plan.shown(),
            Self::Ssh(plan) => plan.shown(),
            Self::Visit(plan) => plan.shown(),
        }
    }
}
