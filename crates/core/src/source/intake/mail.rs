//! Alerts that come as mail (RFC 5322): a mail server delivers them over LMTP (RFC 2033).

use super::{
    Delivery,
    address_range::{AddressRange, ranges},
};
use crate::{
    document::Checker,
    glob::Glob,
    html_text::text_of_html,
    source::read::ReadDoc,
    text::{clean, cut},
};
use chrono::{DateTime, SecondsFormat};
use core::net::{IpAddr, SocketAddr};
use mail_parser::{Address, HeaderValue, Message, MessageParser, MimeHeaders};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value, json};
use std::{
    collections::BTreeMap,
    panic::{AssertUnwindSafe, catch_unwind},
};

/// What a message offers to expressions. A text that it leaves out is empty, a time null.
pub(super) const OFFERS: [&str; 9] =
    ["from", "to", "subject", "text", "date", "message_id", "headers", "attachments", RECIPIENT];
/// The name of what the address is offered as that the mail server delivered to.
pub const RECIPIENT: &str = "recipient";

/// Most globs of addresses.
const MOST_GLOBS: usize = 50;
/// Longest text, in bytes; and of one attachment, and most of these.
const LONGEST_TEXT: usize = 64 << 10;
const LONGEST_ATTACHMENT: usize = 64 << 10;
const MOST_ATTACHMENTS: usize = 20;
/// Most headers and addresses, and the longest header, in bytes.
const MOST_HEADERS: usize = 200;
const LONGEST_HEADER: usize = 4 << 10;
const MOST_ADDRESSES: usize = 50;

/// Mail that a mail server delivers.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct MailIntakeDoc {
    /// Where each node listens for mail servers, over LMTP, as `address:port`.
    pub lmtp: String,
    /// The addresses to which messages may be delivered, names or globs, such as
    /// `alarms@skerrow.example`. Left out: any.
    #[serde(default)]
    pub to: Vec<String>,
    /// The addresses in `From` of whose messages are taken, names or globs; it is the mail server's
    /// business that they are not forged. Left out: any.
    #[serde(default)]
    pub senders: Vec<String>,
    /// The addresses that mail servers may come from, such as `10.4.0.0/16`. Left out: only this
    /// machine.
    #[serde(default)]
    pub from: Vec<String>,
}

/// Mail that a mail server delivers, checked.
#[derive(Clone, Debug)]
pub struct MailIntake {
    /// Where mail servers deliver.
    pub lmtp: SocketAddr,
    to: Vec<Glob>,
    senders: Vec<Glob>,
    from: Vec<AddressRange>,
}

impl MailIntakeDoc {
    pub(super) fn check(self, check: &mut Checker<'_>, at: &str) -> Option<MailIntake> {
        let lmtp = self.lmtp.parse::<SocketAddr>().ok();
        if lmtp.is_none() {
            let why =
                format!("`{}` is not an address and a port, such as 127.0.0.1:2525", self.lmtp);
            check.fail(&format!("{at}/lmtp"), why);
        }
        let mut globs = |key: &str, texts: &[String]| {
            if texts.len() > MOST_GLOBS {
                let wrong = format!("has {} entries; {MOST_GLOBS} are allowed", texts.len());
                check.fail(&format!("{at}/{key}"), wrong);
            }
            let one = |(n, text): (usize, &String)| match Glob::parse(&text.to_lowercase()) {
                Ok(glob) => Some(glob),
                Err(wrong) => {
                    check.fail(&format!("{at}/{key}/{n}"), wrong.to_string());
                    None
                }
            };
            texts.iter().enumerate().filter_map(one).collect::<Vec<_>>()
        };
        let (to, senders) = (globs("to", &self.to), globs("senders", &self.senders));
        let mut from = ranges(check, &format!("{at}/from"), &self.from);
        let is_elsewhere = lmtp.is_some_and(|address| !address.ip().is_loopback());
        if self.from.is_empty() && is_elsewhere {
            let why = "is missing: others than this machine reach the address, and LMTP has no \
                proof of who delivers; name the addresses that mail servers may come from, such as \
                `from: [10.4.0.0/16]`";
            check.fail(&format!("{at}/from"), why);
        }
        if self.from.is_empty() {
            from = ["127.0.0.0/8", "::1"].into_iter().filter_map(AddressRange::parse).collect();
        }
        Some(MailIntake { lmtp: lmtp?, to, senders, from })
    }
}

/// The kind is `mail`, the resource the domain and the name of whoever has written it; a message
/// needs not be cleared.
pub(super) fn default_read() -> ReadDoc {
    ReadDoc {
        each: None,
        id: None,
        kind: r#""mail""#.into(),
        severity: None,
        state: Some(r#""noted""#.into()),
        resource: r#""mail/" + slug(from)"#.into(),
        time: Some("date".into()),
        summary: Some("subject".into()),
        value: None,
        labels: BTreeMap::new(),
        labels_of: None,
        keep: None,
        trial: None,
    }
}

impl MailIntake {
    /// Whether a mail server may come from there.
    pub fn admits(&self, peer: IpAddr) -> bool {
        self.from.iter().any(|range| range.holds(peer))
    }

    /// Whether messages may be delivered to an address.
    pub fn is_to(&self, address: &str) -> bool {
        fits(&self.to, address)
    }

    /// An address to which a message may be delivered, as an example.
    pub fn example_recipient(&self) -> String {
        let plain = |glob: &&Glob| !glob.as_str().contains(['*', '?']);
        let named = self.to.iter().find(plain).map(|glob| glob.as_str().to_owned());
        named.unwrap_or_else(|| "alarms@skerrow.example".to_owned())
    }

    /// What a message says.
    pub(super) fn decode(&self, delivery: &Delivery<'_>) -> Result<Value, String> {
        let recipient = delivery.properties.get(RECIPIENT).and_then(Value::as_str);
        // The parser is not ours: whatever it may do to a message, the sender is answered.
        let parsed = catch_unwind(AssertUnwindSafe(|| {
            let message = MessageParser::default().parse(delivery.raw)?;
            Some(value_of(&message, recipient.unwrap_or_default()))
        }));
        let parsed = parsed.map_err(|_| "cannot be taken apart".to_owned())?;
        let value = parsed.ok_or("is no message (RFC 5322)")?;
        let from = value["from"].as_str().unwrap_or_default();
        match fits(&self.senders, from) {
            true => Ok(value),
            false => Err(format!("is from `{}`, of whom nothing is taken", cut(from, 200))),
        }
    }
}

fn fits(globs: &[Glob], address: &str) -> bool {
    let address = address.to_lowercase();
    globs.is_empty() || globs.iter().any(|glob| glob.matches(&address))
}

/// A text without characters that no record holds, up to a length.
fn shown(text: &str, longest: usize) -> String {
    clean(cut(text, longest)).into_owned()
}

/// The addresses of a header, in small letters.
fn addresses(header: Option<&Address<'_>>) -> Vec<String> {
    let all = header.into_iter().flat_map(|list| list.iter());
    let address = all.filter_map(|one| one.address()).map(|one| shown(one.trim(), LONGEST_HEADER));
    address.map(|one| one.to_lowercase()).take(MOST_ADDRESSES).collect()
}

fn value_of(message: &Message<'_>, recipient: &str) -> Value {
    let is_html = message.text_part(0).is_some_and(|part| part.is_text_html());
    let text = match message.body_html(0).filter(|_| is_html) {
        Some(html) => text_of_html(&html),
        None => message.body_text(0).unwrap_or_default().into_owned(),
    };
    let date = message.date().and_then(|date| DateTime::from_timestamp(date.to_timestamp(), 0));
    // The first of several by one name, as it was decoded.
    let mut headers = Map::new();
    for header in message.headers().iter().take(MOST_HEADERS) {
        let text = match header.value() {
            HeaderValue::Text(text) => Some(shown(text, LONGEST_HEADER)),
            HeaderValue::TextList(all) => Some(shown(&all.join(" "), LONGEST_HEADER)),
            _ => None,
        };
        let raw = || {
            let name = header.name();
            let of = message.headers_raw().find(|(other, _)| other.eq_ignore_ascii_case(name));
            of.map(|(_, value)| shown(value.trim(), LONGEST_HEADER))
        };
        if let Some(text) = text.or_else(raw) {
            headers.entry(header.name().to_ascii_lowercase()).or_insert_with(|| text.into());
        }
    }
    let attachment = |part: &mail_parser::MessagePart<'_>| {
        let of_type = part.content_type().map(|of| match of.subtype() {
            Some(sub) => format!("{}/{sub}", of.ctype()),
            None => of.ctype().to_owned(),
        });
        let text = part.text_contents().map(|text| shown(text, LONGEST_ATTACHMENT));
        json!({ "name": shown(part.attachment_name().unwrap_or_default(), LONGEST_HEADER),
            "type": of_type.unwrap_or_default().to_lowercase(),
            "bytes": part.contents().len(), "text": text })
    };
    let attachments: Vec<Value> =
        message.attachments().take(MOST_ATTACHMENTS).map(attachment).collect();
    json!({
        "from": addresses(message.from()).into_iter().next().unwrap_or_default(),
        "to": addresses(message.to()),
        "subject": shown(message.subject().unwrap_or_default(), LONGEST_HEADER),
        "text": shown(text.trim_end(), LONGEST_TEXT),
        "date": date.map(|date| date.to_rfc3339_opts(SecondsFormat::Secs, true)),
        "message_id": shown(message.message_id().unwrap_or_default(), LONGEST_HEADER),
        "headers": headers,
        "attachments": attachments,
        RECIPIENT: shown(recipient, LONGEST_HEADER),
    })
}
