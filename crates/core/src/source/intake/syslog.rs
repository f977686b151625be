//! Syslog messages: RFC 5424, and what senders of before it send (RFC 3164).

use super::{
    Delivery, PEER,
    address_range::{AddressRange, ranges},
    sender::certificate_name,
};
use crate::{
    Severity,
    document::Checker,
    glob::Glob,
    source::read::{ReadDoc, SeverityDoc, SeverityWords},
    text::clean,
};
use chrono::{DateTime, Datelike, Duration, Offset, TimeZone, Utc};
use chrono_tz::Tz;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value, json};
use std::{
    collections::BTreeMap,
    net::{IpAddr, SocketAddr},
    panic::{AssertUnwindSafe, catch_unwind},
};
use syslog_loose::{
    ProcId, SyslogFacility, SyslogSeverity, Variant, decompose_pri, parse_message_with_year_tz,
};

/// What a message offers to expressions. A text that the sender left out is empty, a time null.
pub(super) const OFFERS: [&str; 10] = [
    "facility",
    "severity",
    "time",
    "host",
    "app",
    "process_id",
    "message_id",
    "message",
    "data",
    PEER,
];

/// Syslog over UDP, TCP, TLS, or several of them.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct SyslogDoc {
    /// Where each node listens for datagrams (RFC 5426), as `address:port`.
    #[serde(default)]
    pub udp: Option<String>,
    /// Where each node listens for streams (RFC 6587, framed by counted octets or by line ends), as
    /// `address:port`.
    #[serde(default)]
    pub tcp: Option<String>,
    /// Where each node listens for streams over TLS (RFC 5425), as `address:port`, with the node's
    /// own certificate.
    #[serde(default)]
    pub tls: Option<String>,
    /// A name, or a glob of names, in the certificate that a sender shows over TLS, such as
    /// `*.pumps.skerrow.example`. The node's `tls.client_authorities` say whose certificates count.
    /// Left out: none is asked for.
    #[serde(default)]
    pub certificate: Option<String>,
    /// The addresses that messages may come from, such as `10.4.0.0/16`: without a `certificate`
    /// syslog has no other proof of its sender. Left out: only this machine; with a `certificate`,
    /// any for what comes over TLS.
    #[serde(default)]
    pub from: Vec<String>,
    /// The time zone of senders that do not say theirs (RFC 3164). Left out: `UTC`.
    #[serde(default)]
    pub zone: Option<String>,
}

/// Checked addresses.
#[derive(Clone, Debug, PartialEq)]
pub struct Syslog {
    /// Where datagrams come in.
    pub udp: Option<SocketAddr>,
    /// Where streams come in.
    pub tcp: Option<SocketAddr>,
    /// Where streams come in over TLS.
    pub tls: Option<SocketAddr>,
    /// What a sender over TLS must have a certificate of.
    pub(in crate::source) certificate: Option<Glob>,
    /// Where messages may come from.
    from: Vec<AddressRange>,
    /// Whether those over TLS may come from anywhere: their certificates prove them.
    tls_from_anywhere: bool,
    zone: Tz,
}

impl SyslogDoc {
    pub(super) fn check(self, check: &mut Checker<'_>, at: &str) -> Option<Syslog> {
        let mut address = |name: &str, text: Option<String>| {
            let text = text?;
            let address = text.parse::<SocketAddr>().ok();
            if address.is_none() {
                let why = format!("`{text}` is not an address and a port, such as 127.0.0.1:5514");
                check.fail(&format!("{at}/{name}"), why);
            }
            address
        };
        let named = self.udp.is_some() || self.tcp.is_some() || self.tls.is_some();
        let (udp, tcp) = (address("udp", self.udp), address("tcp", self.tcp));
        let tls = address("tls", self.tls);
        let is_proved = self.certificate.is_some();
        let certificate = self
            .certificate
            .and_then(|name| certificate_name(check, &format!("{at}/certificate"), &name));
        if is_proved && tls.is_none() {
            let why = "is for senders over TLS; write `tls: 0.0.0.0:6514`";
            check.fail(&format!("{at}/certificate"), why);
        }
        if !named {
            check.fail(
                at,
                "says nowhere to listen; write `udp: 127.0.0.1:5514`, `tcp: \
                127.0.0.1:5514`, `tls: 127.0.0.1:6514` or several of them",
            );
        }
        let mut from = ranges(check, &format!("{at}/from"), &self.from);
        let tls_unproved = tls.filter(|_| !is_proved);
        let unproved = [udp, tcp, tls_unproved].into_iter().flatten();
        let elsewhere = unproved.into_iter().any(|address| !address.ip().is_loopback());
        if self.from.is_empty() && elsewhere {
            let why = "is missing: others than this machine reach the address, and syslog has no \
                other proof of its \
                sender; name the addresses that messages may come from, such as `from: \
                [10.4.0.0/16]`";
            check.fail(&format!("{at}/from"), why);
        }
        let tls_from_anywhere = self.from.is_empty() && is_proved;
        if self.from.is_empty() {
            from = ["127.0.0.0/8", "::1"].into_iter().filter_map(AddressRange::parse).collect();
        }
        let zone = match self.zone.as_deref().unwrap_or("UTC").parse::<Tz>() {
            Ok(zone) => zone,
            Err(_) => {
                check.fail(&format!("{at}/zone"), "is not a time zone such as Europe/London");
                Tz::UTC
            }
        };
        Some(Syslog { udp, tcp, tls, certificate, from, tls_from_anywhere, zone })
    }
}

/// The kind is the program, the resource the host; a message needs not be cleared.
pub(super) fn default_read() -> ReadDoc {
    let words = [
        ("emerg", Severity::Critical),
        ("alert", Severity::Critical),
        ("crit", Severity::Critical),
        ("err", Severity::Major),
        ("warning", Severity::Warning),
    ];
    let labels = [("facility", "facility"), ("app", "app")];
    ReadDoc {
        each: None,
        id: None,
        kind: r#""syslog." + slug(app)"#.into(),
        severity: Some(SeverityDoc::Words(SeverityWords {
            of: "severity".into(),
            words: words.map(|(word, severity)| (word.to_owned(), severity)).into(),
            otherwise: Some(Severity::Indeterminate),
        })),
        state: Some(r#""noted""#.into()),
        resource: r#""host/" + slug(host)"#.into(),
        time: Some("time".into()),
        summary: Some("message".into()),
        value: None,
        labels: labels.map(|(label, of)| (label.to_owned(), of.to_owned())).into(),
        labels_of: None,
        keep: None,
        trial: None,
    }
}

type Priority = (Option<SyslogFacility>, Option<SyslogSeverity>);

/// The priority at the beginning of a message, and what follows it.
fn priority(text: &str) -> Option<(Priority, &str)> {
    let (number, rest) = text.strip_prefix('<')?.split_once('>')?;
    let number: u8 = number.parse().ok().filter(|number| *number < 192)?;
    Some((decompose_pri(number), rest))
}

impl Syslog {
    /// Whether a message may come from there.
    pub fn admits(&self, peer: IpAddr) -> bool {
        self.from.iter().any(|range| range.holds(peer))
    }

    /// Whether somebody may connect from there over TLS.
    pub fn admits_over_tls(&self, peer: IpAddr) -> bool {
        self.tls_from_anywhere || self.admits(peer)
    }

    /// Whether a sender over TLS with a certificate of these names is one of its own.
    pub fn knows_certificate(&self, names: &[String]) -> bool {
        let is_it = |glob: &Glob| names.iter().any(|name| glob.matches(name));
        self.certificate.as_ref().is_none_or(is_it)
    }

    /// The parts of a message. What follows neither form is a message without parts (RFC 3164,
    /// section 4.3.3).
    pub(super) fn decode(&self, delivery: &Delivery<'_>) -> Result<Value, String> {
        let text = String::from_utf8_lossy(delivery.raw);
        let text = text.trim_start_matches('\u{feff}').trim_end_matches(['\n', '\r', '\0']);
        if text.trim().is_empty() {
            return Err("is empty".into());
        }
        let peer = delivery.properties.get(PEER).and_then(Value::as_str).unwrap_or_default();
        // The parser is not ours: whatever it may do to a text, the sender is answered.
        let parsed = catch_unwind(AssertUnwindSafe(|| self.parse(text, peer, delivery.received)));
        parsed.map_err(|_| "cannot be taken apart".to_owned())
    }

    fn parse(&self, text: &str, peer: &str, received: DateTime<Utc>) -> Value {
        // A message without a year is of the year in which it is not from the future.
        let year = |(month, day, ..): (u32, u32, u32, u32, u32)| {
            let now = (received + Duration::days(1)).with_timezone(&self.zone);
            if (month, day) > (now.month(), now.day()) { now.year() - 1 } else { now.year() }
        };
        // Messages are of now: the zone's offset of now is theirs.
        let offset = self.zone.offset_from_utc_datetime(&received.naive_utc()).fix();
        let parts = parse_message_with_year_tz(text, year, Some(offset), Variant::Either);
        // Of what is of neither form the priority counts all the same.
        let (facility, severity, message) = match priority(parts.msg) {
            Some((pri, rest)) if parts.facility.is_none() => (pri.0, pri.1, rest),
            _ => (parts.facility, parts.severity, parts.msg),
        };
        let own =
            |text: Option<&str>| clean(text.filter(|t| *t != "-").unwrap_or_default()).into_owned();
        let host = own(parts.hostname);
        let mut data: Map<String, Value> = Map::new();
        for element in &parts.structured_data {
            let params: BTreeMap<_, _> = element
                .params()
                .map(|(name, value)| (own(Some(name)), clean(&value).into_owned()))
                .collect();
            data.insert(own(Some(element.id)), json!(params));
        }
        let process_id = match parts.procid {
            Some(ProcId::PID(number)) => number.to_string(),
            Some(ProcId::Name(name)) => own(Some(name)),
            None => String::new(),
        };
        json!({
            // What says nothing of its priority is `user.notice` (RFC 3164, section 4.3.3).
            "facility": facility.map_or("user", SyslogFacility::as_str),
            "severity": severity.map_or("notice", SyslogSeverity::as_str),
            "time": parts.timestamp.map(|time| time.with_timezone(&Utc).to_rfc3339()),
            "host": if host.is_empty() { peer } else { &host },
            "app": own(parts.appname),
            "process_id": process_id,
            "message_id": own(parts.msgid),
            "message": clean(message.trim_start_matches('\u{feff}').trim()),
            "data": data,
            PEER: peer,
        })
    }
}
