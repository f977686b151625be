//! Notifications of agents over SNMP: traps and informs of the versions 1, 2c and 3. What is told
//! by version 1 is read as RFC 3584, section 3.1, translates it.

use super::{
    Delivery, PEER,
    address_range::{AddressRange, ranges},
};
use crate::{
    connector::{
        AgentCredential, AgentDoc,
        snmp::{ObjectId, SnmpValue},
    },
    document::Checker,
    expr::Template,
    source::read::ReadDoc,
    text::{clean, clean_json, cut},
};
use core::net::{IpAddr, Ipv4Addr, SocketAddr};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value, json};
use std::{collections::BTreeMap, fmt};

/// What a notification offers to expressions. A text that the sender left out is empty.
pub(super) const OFFERS: [&str; 12] = [
    "notification",
    "name",
    "text",
    "varbinds",
    "objects",
    "uptime",
    "agent",
    "version",
    "user",
    "engine",
    "context",
    PEER,
];

/// Most credentials of a source, and most objects that it names.
const MOST_CREDENTIALS: usize = 16;
const MOST_NAMED: usize = 2_000;
/// Most values of an object that have a word, and the longest name and word, in bytes.
const MOST_WORDS: usize = 500;
const LONGEST_NAME: usize = 100;
/// Most objects of a notification that are read.
const MOST_OBJECTS: usize = 500;
/// Longest line of all that is told, in bytes.
const LONGEST_LINE: usize = 500;

/// Objects of every notification (RFC 3418, section 2; RFC 3584, section 3.1).
const UPTIME: [u32; 9] = [1, 3, 6, 1, 2, 1, 1, 3, 0];
const TRAP_NUMBER: [u32; 11] = [1, 3, 6, 1, 6, 3, 1, 1, 4, 1, 0];
const TRAP_ADDRESS: [u32; 10] = [1, 3, 6, 1, 6, 3, 18, 1, 3, 0];
/// Below it stand the notifications that every agent may send.
const GENERIC: [u32; 9] = [1, 3, 6, 1, 6, 3, 1, 1, 5];
/// What version 1 calls a notification of the agent's maker.
const SPECIFIC: i64 = 6;

/// What is named without being asked for: the notifications of RFC 3418, section 2, and what RFC
/// 2863 and RFC 3584 send along.
const USUAL: [UsualObject; 17] = [
    ("1.3.6.1.6.3.1.1.5.1", "coldStart", &[]),
    ("1.3.6.1.6.3.1.1.5.2", "warmStart", &[]),
    ("1.3.6.1.6.3.1.1.5.3", "linkDown", &[]),
    ("1.3.6.1.6.3.1.1.5.4", "linkUp", &[]),
    ("1.3.6.1.6.3.1.1.5.5", "authenticationFailure", &[]),
    ("1.3.6.1.6.3.1.1.5.6", "egpNeighborLoss", &[]),
    ("1.3.6.1.6.3.1.1.4.3", "snmpTrapEnterprise", &[]),
    ("1.3.6.1.6.3.18.1.3", "snmpTrapAddress", &[]),
    ("1.3.6.1.2.1.1.1", "sysDescr", &[]),
    ("1.3.6.1.2.1.1.5", "sysName", &[]),
    ("1.3.6.1.2.1.1.6", "sysLocation", &[]),
    ("1.3.6.1.2.1.2.2.1.1", "ifIndex", &[]),
    ("1.3.6.1.2.1.2.2.1.2", "ifDescr", &[]),
    ("1.3.6.1.2.1.2.2.1.7", "ifAdminStatus", &[("up", 1), ("down", 2), ("testing", 3)]),
    ("1.3.6.1.2.1.2.2.1.8", "ifOperStatus", &OPER_STATUS),
    ("1.3.6.1.2.1.31.1.1.1.1", "ifName", &[]),
    ("1.3.6.1.2.1.31.1.1.1.18", "ifAlias", &[]),
];
/// A number, its name, and the words of its values.
type UsualObject = (&'static str, &'static str, &'static [(&'static str, i64)]);
const OPER_STATUS: [(&str, i64); 7] = [
    ("up", 1),
    ("down", 2),
    ("testing", 3),
    ("unknown", 4),
    ("dormant", 5),
    ("notPresent", 6),
    ("lowerLayerDown", 7),
];

/// Traps and informs of agents (SNMP versions 1, 2c and 3).
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct TrapIntakeDoc {
    /// Where each node listens for datagrams, as `address:port`.
    pub udp: String,
    /// What senders prove themselves by, any of them: a `community` (versions 1 and 2c, which
    /// everybody on the way can read), or a `user` (version 3).
    pub credentials: Vec<AgentDoc>,
    /// The addresses that notifications may come from, such as `10.4.0.0/16`. Left out: only this
    /// machine; any, where all credentials are of users.
    #[serde(default)]
    pub from: Vec<String>,
    /// What objects and notifications are called, by their numbers, such as
    /// `1.3.6.1.4.1.8072.2.3.0.1`; `arvok source mib FILE` prints these lines of MIB files.
    #[serde(default)]
    pub objects: BTreeMap<String, NamedObjectDoc>,
}

/// What an object or a notification is called.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct NamedObjectDoc {
    /// Its name.
    pub name: String,
    /// Words for its values, each with its number.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub values: BTreeMap<String, i64>,
}

/// Traps and informs of agents, checked.
#[derive(Clone)]
pub struct TrapIntake {
    /// Where datagrams come in.
    pub udp: SocketAddr,
    /// What senders prove themselves by: any of these.
    pub credentials: Vec<AgentCredential<Template>>,
    /// Where they may come from; anywhere if it is empty.
    from: Vec<AddressRange>,
    objects: BTreeMap<Vec<u32>, NamedObject>,
}

/// What an object is called, and its values.
#[derive(Clone, Debug, Default)]
struct NamedObject {
    name: String,
    words: BTreeMap<i64, String>,
}

/// A notification whose sender is known, as it is read and kept.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SnmpNotification {
    /// The version of SNMP: `1`, `2c` or `3`.
    pub version: String,
    /// The user, of version 3.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub user: String,
    /// The sender's engine, of version 3, in hexadecimal digits.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub engine: String,
    /// The context, of version 3.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub context: String,
    /// Its number; empty if it does not say one.
    pub notification: String,
    /// For how long the agent has been up, in hundredths of a second.
    #[serde(default)]
    pub uptime: Option<u64>,
    /// The agent, where it says its address.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub agent: String,
    /// What it tells, by numbers.
    pub objects: Vec<(String, Value)>,
}

/// The head of a notification of version 1.
#[derive(Clone, Debug)]
pub struct TrapHead {
    /// What kind of agent sends it.
    pub enterprise: ObjectId,
    /// The agent.
    pub agent: Ipv4Addr,
    /// Which of the notifications that every agent may send.
    pub generic: i64,
    /// Which of those of its maker.
    pub specific: i64,
    /// For how long the agent has been up, in hundredths of a second.
    pub uptime: u64,
}

impl SnmpNotification {
    /// What version 1 tells (RFC 3584, section 3.1).
    pub fn of_version_1(head: &TrapHead, objects: &[(ObjectId, SnmpValue)]) -> Self {
        let mut made = Self::new("1", objects);
        made.notification = head.notification().map_or_else(String::new, |id| id.to_string());
        made.uptime = Some(head.uptime);
        if made.agent.is_empty() && !head.agent.is_unspecified() {
            made.agent = head.agent.to_string();
        }
        made
    }

    /// What a later version tells (RFC 3416, section 4.2.6).
    pub fn of_version_2(objects: &[(ObjectId, SnmpValue)]) -> Self {
        Self::new("2c", objects)
    }

    fn new(version: &str, objects: &[(ObjectId, SnmpValue)]) -> Self {
        let mut made = Self {
            version: version.to_owned(),
            user: String::new(),
            engine: String::new(),
            context: String::new(),
            notification: String::new(),
            uptime: None,
            agent: String::new(),
            objects: Vec::new(),
        };
        for (number, value) in objects {
            match (number.parts(), value) {
                (parts, SnmpValue::Reference(of)) if parts == TRAP_NUMBER => {
                    made.notification = of.to_string();
                }
                (parts, SnmpValue::Unsigned(ticks)) if parts == UPTIME => {
                    made.uptime = Some(*ticks);
                }
                (parts, SnmpValue::Address(address)) if parts == TRAP_ADDRESS => {
                    made.agent = address.to_string();
                }
                _ => made.objects.push((number.to_string(), value.json())),
            }
        }
        made
    }
}

impl TrapHead {
    /// The number that later versions have for it.
    fn notification(&self) -> Option<ObjectId> {
        let mut number = self.enterprise.parts().to_vec();
        match u32::try_from(self.generic).ok()? {
            generic if self.generic < SPECIFIC => {
                number = GENERIC.to_vec();
                number.push(generic + 1);
            }
            _ if self.generic == SPECIFIC => number.extend([0, u32::try_from(self.specific).ok()?]),
            _ => return None,
        }
        ObjectId::new(number)
    }
}

impl TrapIntakeDoc {
    pub(super) fn check(self, check: &mut Checker<'_>, at: &str) -> Option<TrapIntake> {
        let udp = self.udp.parse::<SocketAddr>().ok();
        if udp.is_none() {
            let why =
                format!("`{}` is not an address and a port, such as 127.0.0.1:1162", self.udp);
            check.fail(&format!("{at}/udp"), why);
        }
        let count = self.credentials.len();
        if count == 0 || count > MOST_CREDENTIALS {
            let wrong = format!("has {count} entries; 1 to {MOST_CREDENTIALS} are possible");
            check.fail(&format!("{at}/credentials"), wrong);
        }
        let each = self.credentials.into_iter().enumerate();
        let credentials: Vec<Option<AgentCredential<Template>>> =
            each.map(|(n, doc)| doc.check(check, &format!("{at}/credentials/{n}"))).collect();
        let credentials: Option<Vec<_>> = credentials.into_iter().collect();
        let is_shown = |one: &AgentCredential<_>| matches!(one, AgentCredential::Community(_));
        let is_any_shown = credentials.iter().flatten().any(is_shown);
        let mut from = ranges(check, &format!("{at}/from"), &self.from);
        let is_elsewhere = udp.is_some_and(|address| !address.ip().is_loopback());
        if self.from.is_empty() && is_any_shown && is_elsewhere {
            let why = "is missing: others than this machine reach the address, and everybody on \
                the way can read a community; name the addresses that notifications may come from, \
                such as `from: [10.4.0.0/16]`";
            check.fail(&format!("{at}/from"), why);
        }
        if self.from.is_empty() && is_any_shown {
            from = ["127.0.0.0/8", "::1"].into_iter().filter_map(AddressRange::parse).collect();
        }
        let objects = named(check, &format!("{at}/objects"), self.objects);
        Some(TrapIntake { udp: udp?, credentials: credentials?, from, objects })
    }
}

impl fmt::Debug for TrapIntake {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("TrapIntake").field("udp", &self.udp).finish_non_exhaustive()
    }
}

/// What objects are called: those that are usual, and those of a source.
fn named(
    check: &mut Checker<'_>,
    at: &str,
    docs: BTreeMap<String, NamedObjectDoc>,
) -> BTreeMap<Vec<u32>, NamedObject> {
    let usual = USUAL.iter().filter_map(|(number, name, words)| {
        let words = words.iter().map(|(word, number)| (*number, (*word).to_owned()));
        let named = NamedObject { name: (*name).to_owned(), words: words.collect() };
        Some((ObjectId::parse(number)?.parts().to_vec(), named))
    });
    let mut all: BTreeMap<Vec<u32>, NamedObject> = usual.collect();
    if docs.len() > MOST_NAMED {
        check.fail(at, format!("has {} entries; {MOST_NAMED} are allowed", docs.len()));
    }
    for (number, doc) in docs {
        let at = format!("{at}/{number}");
        let Some(id) = ObjectId::parse(&number) else {
            check.fail(&at, "is not the number of an object, such as 1.3.6.1.4.1.8072.2.3.0.1");
            continue;
        };
        let is_name = |name: &str| {
            let is_of_it = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.');
            (1..=LONGEST_NAME).contains(&name.len()) && name.chars().all(is_of_it)
        };
        if !is_name(&doc.name) {
            let wrong = format!("`{}` is not a name such as ifOperStatus", doc.name);
            check.fail(&format!("{at}/name"), wrong);
        }
        if doc.values.len() > MOST_WORDS || doc.values.keys().any(|word| !is_name(word)) {
            let wrong = format!("has up to {MOST_WORDS} words such as `up: 1`");
            check.fail(&format!("{at}/values"), wrong);
        }
        let words = doc.values.into_iter().map(|(word, number)| (number, word)).collect();
        all.insert(id.parts().to_vec(), NamedObject { name: doc.name, words });
    }
    all
}

/// The kind is the notification, the resource the agent; a notification needs not be cleared.
pub(super) fn default_read() -> ReadDoc {
    ReadDoc {
        each: None,
        id: None,
        kind: r#""trap." + slug(name)"#.into(),
        severity: None,
        state: Some(r#""noted""#.into()),
        resource: r#""host/" + slug(agent)"#.into(),
        time: None,
        summary: Some("text".into()),
        value: None,
        labels: BTreeMap::from([("version".to_owned(), "version".to_owned())]),
        labels_of: None,
        keep: None,
        trial: None,
    }
}

impl TrapIntake {
    /// Whether a notification may come from there.
    pub fn admits(&self, peer: IpAddr) -> bool {
        self.from.is_empty() || self.from.iter().any(|range| range.holds(peer))
    }

    /// The templates of what senders prove themselves by.
    pub(super) fn templates(&self) -> Vec<(&'static str, &Template)> {
        let parts = self.credentials.iter().flat_map(AgentCredential::parts);
        parts.map(|part| ("/intake/trap/credentials", part)).collect()
    }

    /// What a number is called, with what follows of it; none if nothing names it.
    fn name(&self, number: &ObjectId) -> Option<(&NamedObject, String)> {
        let parts = number.parts();
        let at = (1..=parts.len()).rev().find(|n| self.objects.contains_key(&parts[..*n]))?;
        let rest: Vec<String> = parts[at..].iter().map(u32::to_string).collect();
        Some((&self.objects[&parts[..at]], rest.join(".")))
    }

    /// What a notification tells.
    pub(super) fn decode(&self, delivery: &Delivery<'_>) -> Result<Value, String> {
        let told: SnmpNotification = serde_json::from_slice(delivery.raw)
            .map_err(|e| format!("is no notification of SNMP: {e}"))?;
        if told.notification.is_empty() {
            return Err("does not say which notification it is (snmpTrapOID.0, RFC 3416)".into());
        }
        if told.objects.len() > MOST_OBJECTS {
            return Err(format!("has {} objects; {MOST_OBJECTS} are read", told.objects.len()));
        }
        let peer = delivery.properties.get(PEER).and_then(Value::as_str).unwrap_or_default();
        let (mut varbinds, mut objects) = (Map::new(), Vec::new());
        for (number, value) in told.objects {
            let named = ObjectId::parse(&number).and_then(|id| self.name(&id));
            let (name, instance, words) = match &named {
                Some((object, instance)) => (&object.name, instance.as_str(), &object.words),
                None => (&number, "", &NONE),
            };
            let word = value.as_i64().and_then(|value| words.get(&value));
            let value = word.map_or_else(|| clean_json(value), |word| json!(word));
            // Of several of one table the first has the plain name.
            let key = match varbinds.contains_key(name) {
                true => format!("{name}.{instance}"),
                false => name.clone(),
            };
            objects.push(json!({ "number": number, "name": name, "instance": instance,
                "value": value }));
            varbinds.insert(key, value);
        }
        let named = ObjectId::parse(&told.notification).and_then(|id| self.name(&id));
        let name = match named {
            // What stands below a name is another notification.
            Some((object, rest)) if rest.is_empty() => object.name.clone(),
            _ => told.notification.clone(),
        };
        let shown = |text: &str| clean(text).into_owned();
        let line = line_of(&name, &varbinds);
        Ok(json!({
            "notification": told.notification,
            "name": name,
            "text": line,
            "varbinds": varbinds,
            "objects": objects,
            "uptime": told.uptime.map(|ticks| ticks / 100),
            "agent": if told.agent.is_empty() { peer } else { &told.agent },
            "version": told.version,
            "user": shown(&told.user),
            "engine": told.engine,
            "context": shown(&told.context),
            PEER: peer,
        }))
    }
}

/// What is told, in a line.
fn line_of(name: &str, varbinds: &Map<String, Value>) -> String {
    let each = varbinds.iter().map(|(name, value)| match value {
        Value::String(text) => format!("{name}={text}"),
        value => format!("{name}={value}"),
    });
    let all: Vec<String> = each.collect();
    let line = match all.is_empty() {
        true => name.to_owned(),
        false => format!("{name}: {}", all.join(", ")),
    };
    let line = line.split_whitespace().collect::<Vec<_>>().join(" ");
    cut(&line, LONGEST_LINE).to_owned()
}

static NONE: BTreeMap<i64, String> = BTreeMap::new();
