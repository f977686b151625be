//! What is written of a call to a hypervisor, and what it is with everything filled in.

use crate::{
    connector::protocols::{RequestError, shared::CallScope},
    document::Checker,
    expr::{Names, Template},
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::Value;

/// Longest name of a guest, a disk or a snapshot, and longest address, in bytes.
const MAX_NAME: usize = 255;
const MAX_ADDRESS: usize = 1024;
const MAX_DESCRIPTION: usize = 4096;
/// Most memory, in MiB, most processors, and the largest disk, in bytes: more than any hypervisor
/// gives to a guest.
const MAX_MIB: u64 = 64 << 20;
const MAX_COUNT: u64 = 4096;
const MAX_BYTES: u64 = 1 << 60;
const GIB: f64 = (1_u64 << 30) as f64;

/// What is asked of a hypervisor. It has one of `look`, `power`, `memory`, `vcpus`, `disk`,
/// `snapshot`, `migrate` and `cancel_migration`.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct LibvirtDoc {
    /// The guest: its name or its UUID. Left out where all are looked at, or the host.
    #[serde(default)]
    pub domain: Option<String>,
    /// What is looked at.
    #[serde(default)]
    pub look: Option<LibvirtLook>,
    /// The state that the guest is brought to. What is there already is left alone.
    #[serde(default)]
    pub power: Option<Power>,
    /// How much memory the guest has.
    #[serde(default)]
    pub memory: Option<MemoryDoc>,
    /// How many processors the guest has.
    #[serde(default)]
    pub vcpus: Option<VcpusDoc>,
    /// A disk of a running guest that is grown, never made smaller.
    #[serde(default)]
    pub disk: Option<DiskDoc>,
    /// A snapshot of the guest that is made, put back or removed.
    #[serde(default)]
    pub snapshot: Option<SnapshotDoc>,
    /// Moves the guest to another host.
    #[serde(default)]
    pub migrate: Option<MigrateDoc>,
    /// Has the guest stay where it is, if it is being moved. Only `true` is of use.
    #[serde(default)]
    pub cancel_migration: bool,
}

crate::words! {
    /// What is looked at.
    #[derive(JsonSchema)]
    pub enum LibvirtLook("look at a hypervisor") {
        /// All guests, each with its state, for which none of them is asked.
        Domains = "domains",
        /// One guest: its state and why it is in it, its memory and its processors.
        Domain = "domain",
        /// What is counted of a guest: processor time, memory, disks, interfaces.
        Statistics = "statistics",
        /// The whole description of a guest, as libvirt has it.
        Definition = "definition",
        /// The snapshots of a guest.
        Snapshots = "snapshots",
        /// How far moving a guest, or another long act on it, has come.
        Progress = "progress",
        /// The host: its name, processors and memory.
        Host = "host",
    }
}

crate::words! {
    /// The state that a guest is brought to.
    #[derive(JsonSchema)]
    pub enum Power("power act") {
        /// It runs.
        Start = "start",
        /// It is asked to shut down; it does so by itself, some time later, or not at all.
        Shutdown = "shutdown",
        /// It is asked to start anew.
        Reboot = "reboot",
        /// It is reset, as by the button.
        Reset = "reset",
        /// It is switched off, as by pulling the plug.
        Off = "off",
        /// It stands still and keeps its memory.
        Suspend = "suspend",
        /// It goes on after it stood still.
        Resume = "resume",
    }
}

crate::words! {
    /// When a change holds.
    #[derive(JsonSchema)]
    pub enum ChangeTime("time of a change") {
        /// At once, until the guest is switched off.
        Now = "now",
        /// When the guest is started the next time.
        NextStart = "next-start",
        /// At once and from then on.
        Both = "both",
    }
}

crate::words! {
    /// What is done with a snapshot.
    #[derive(JsonSchema)]
    pub enum SnapshotAct("snapshot act") {
        /// It is made: disks, and the memory of a guest that runs. One of the name that is there
        /// already is left alone.
        Create = "create",
        /// The guest is put back to it.
        Revert = "revert",
        /// It is removed. One that is not there is left alone.
        Delete = "delete",
    }
}

/// How much memory a guest has.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct MemoryDoc {
    /// In MiB.
    pub mib: Value,
    /// When it holds. Left out: `both` for a guest that runs, else `next-start`. At the next start
    /// it may be more than the guest's most, which is raised with it.
    #[serde(default)]
    pub at: Option<ChangeTime>,
}

/// How many processors a guest has.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct VcpusDoc {
    /// How many.
    pub count: Value,
    /// When it holds. Left out: `both` for a guest that runs, else `next-start`. At the next start
    /// it may be more than the guest's most, which is raised with it.
    #[serde(default)]
    pub at: Option<ChangeTime>,
}

/// A disk that is grown.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct DiskDoc {
    /// Which: the name that the guest's description gives it (`vda`), or the path of its file.
    pub name: String,
    /// How large it is then, in GiB.
    pub gib: Value,
}

/// A snapshot.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct SnapshotDoc {
    /// What is done with it.
    pub act: SnapshotAct,
    /// Its name.
    pub name: String,
    /// A line for people, kept with one that is made.
    #[serde(default)]
    pub description: Option<String>,
}

/// Where a guest is moved to, and how.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct MigrateDoc {
    /// The other host's libvirt, as the host that has the guest reaches it:
    /// `qemu+ssh://quill-hv-2/system`. What is filled in is a part of a host's name or of a path.
    pub to: String,
    /// The address over which the guest's memory goes, where the other host does not say the right
    /// one by itself: `tcp://10.7.0.12`.
    #[serde(default)]
    pub over: Option<String>,
    /// Whether it keeps running meanwhile. Left out: yes. A guest that is off is moved as it is.
    #[serde(default = "yes")]
    pub live: bool,
    /// Whether its disks are copied, where both hosts do not share them. Left out: no.
    #[serde(default)]
    pub copy_disks: bool,
    /// Whether it is slowed down if it writes to its memory faster than that can be moved. Left
    /// out: yes.
    #[serde(default = "yes")]
    pub slow_down: bool,
    /// At most so many MiB a second.
    #[serde(default)]
    pub mib_per_second: Option<Value>,
}

const fn yes() -> bool {
    true
}

/// A checked act.
#[derive(Clone, Debug)]
pub(super) enum CheckedAct {
    Look(LibvirtLook),
    Power(Power),
    Memory(Template, Option<ChangeTime>),
    Vcpus(Template, Option<ChangeTime>),
    Disk { name: Template, gib: Template },
    Snapshot { act: SnapshotAct, name: Template, description: Option<Template> },
    Migrate(Box<MigrateTemplate>),
    CancelMigration,
}

/// Where a guest is moved to, as checked.
#[derive(Clone, Debug)]
pub(super) struct MigrateTemplate {
    to: Template,
    over: Option<Template>,
    live: bool,
    copy_disks: bool,
    slow_down: bool,
    mib_per_second: Option<Template>,
}

/// An act on a hypervisor with everything filled in.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum LibvirtAct {
    /// Something is looked at.
    Look(LibvirtLook),
    /// A guest is brought to a state.
    Power(Power),
    /// A guest has so many MiB.
    Memory {
        /// How many.
        mib: u64,
        /// When it holds.
        #[serde(skip_serializing_if = "Option::is_none")]
        at: Option<ChangeTime>,
    },
    /// A guest has so many processors.
    Vcpus {
        /// How many.
        count: u32,
        /// When it holds.
        #[serde(skip_serializing_if = "Option::is_none")]
        at: Option<ChangeTime>,
    },
    /// A disk has so many bytes.
    Disk {
        /// Which.
        name: String,
        /// How many.
        bytes: u64,
    },
    /// A snapshot is made, put back or removed.
    Snapshot {
        /// Which of it.
        act: SnapshotAct,
        /// Its name.
        name: String,
        /// A line for people.
        #[serde(skip_serializing_if = "Option::is_none")]
        description: Option<String>,
    },
    /// A guest is moved.
    Migrate(Migration),
    /// A guest that is being moved stays.
    CancelMigration,
}

/// Where a guest is moved to, and how.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Migration {
    /// The other host's libvirt.
    pub to: String,
    /// The address over which the guest's memory goes.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub over: Option<String>,
    /// Whether it keeps running.
    pub live: bool,
    /// Whether its disks are copied.
    pub copy_disks: bool,
    /// Whether it may be slowed down.
    pub slow_down: bool,
    /// At most so many MiB a second.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub mib_per_second: Option<u64>,
}

impl LibvirtDoc {
    /// What it asks for, as written.
    pub(super) fn line(&self) -> String {
        let named = |act: &str, what: &str| format!("{act} {what}").trim_end().to_owned();
        let acts = [
            self.look.map(|look| named("look", look.as_str())),
            self.power.map(|power| power.as_str().to_owned()),
            self.memory.as_ref().map(|_| "memory".to_owned()),
            self.vcpus.as_ref().map(|_| "vcpus".to_owned()),
            self.disk.as_ref().map(|disk| named("disk", &disk.name)),
            self.snapshot.as_ref().map(|doc| named("snapshot", doc.act.as_str())),
            self.migrate.as_ref().map(|doc| named("migrate to", &doc.to)),
            self.cancel_migration.then(|| "cancel migration".to_owned()),
        ];
        let act = acts.into_iter().flatten().next().unwrap_or_default();
        match &self.domain {
            None => format!("libvirt {act}"),
            Some(domain) => format!("libvirt {domain}: {act}"),
        }
    }
}

impl CheckedAct {
    pub(super) fn check(
        check: &mut Checker<'_>,
        at: &str,
        doc: LibvirtDoc,
        names: Names<'_>,
    ) -> Option<Self> {
        let written = [
            doc.look.is_some(),
            doc.power.is_some(),
            doc.memory.is_some(),
            doc.vcpus.is_some(),
            doc.disk.is_some(),
            doc.snapshot.is_some(),
            doc.migrate.is_some(),
            doc.cancel_migration,
        ];
        if written.iter().filter(|is_there| **is_there).count() != 1 {
            let wrong = "has one of `look`, `power`, `memory`, `vcpus`, `disk`, `snapshot`, \
                         `migrate` and `cancel_migration`";
            check.fail(at, wrong);
            return None;
        }
        let of_all = matches!(doc.look, Some(LibvirtLook::Domains | LibvirtLook::Host));
        match (of_all, &doc.domain) {
            (true, Some(_)) => {
                check.fail(&format!("{at}/domain"), "is of one guest; this look is at more")
            }
            (false, None) => {
                check.fail(&format!("{at}/domain"), "is missing: the guest's name or its UUID")
            }
            _ => {}
        }
        let mut part =
            |path: &str, value: Value| check.template(&format!("{at}/{path}"), &value, names);
        if let Some(look) = doc.look {
            return Some(Self::Look(look));
        }
        if let Some(power) = doc.power {
            return Some(Self::Power(power));
        }
        if let Some(MemoryDoc { mib, at }) = doc.memory {
            return part("memory/mib", mib).map(|mib| Self::Memory(mib, at));
        }
        if let Some(VcpusDoc { count, at }) = doc.vcpus {
            return part("vcpus/count", count).map(|count| Self::Vcpus(count, at));
        }
        if let Some(DiskDoc { name, gib }) = doc.disk {
            let (name, gib) = (part("disk/name", name.into()), part("disk/gib", gib));
            return Some(Self::Disk { name: name?, gib: gib? });
        }
        if let Some(SnapshotDoc { act, name, description }) = doc.snapshot {
            let name = part("snapshot/name", name.into());
            let description = match description {
                None => Some(None),
                Some(text) => part("snapshot/description", text.into()).map(Some),
            };
            return Some(Self::Snapshot { act, name: name?, description: description? });
        }
        match doc.migrate {
            Some(doc) => MigrateTemplate::check(&mut part, doc)
                .map(|migrate| Self::Migrate(Box::new(migrate))),
            None => Some(Self::CancelMigration),
        }
    }

    /// Whether it changes nothing.
    pub(super) const fn looks(&self) -> bool {
        matches!(self, Self::Look(_))
    }

    pub(super) fn fill(&self, view: &CallScope<'_>) -> Result<LibvirtAct, RequestError> {
        Ok(match self {
            Self::Look(look) => LibvirtAct::Look(*look),
            Self::Power(power) => LibvirtAct::Power(*power),
            Self::Memory(mib, at) => {
                let mib = whole("memory: mib", &mib.fill(view)?, MAX_MIB)?;
                LibvirtAct::Memory { mib, at: *at }
            }
            Self::Vcpus(count, at) => {
                let count = whole("vcpus: count", &count.fill(view)?, MAX_COUNT)?;
                LibvirtAct::Vcpus { count: u32::try_from(count).unwrap_or(u32::MAX), at: *at }
            }
            Self::Disk { name, gib } => LibvirtAct::Disk {
                name: named("disk: name", name.fill_text(view)?, MAX_NAME)?,
                bytes: bytes(&gib.fill(view)?)?,
            },
            Self::Snapshot { act, name, description } => LibvirtAct::Snapshot {
                act: *act,
                name: named("snapshot: name", name.fill_text(view)?, MAX_NAME)?,
                description: match description {
                    None => None,
                    Some(text) => {
                        let text = text.fill_text(view)?;
                        Some(named("snapshot: description", text, MAX_DESCRIPTION)?)
                    }
                },
            },
            Self::Migrate(migrate) => LibvirtAct::Migrate(migrate.fill(view)?),
            Self::CancelMigration => LibvirtAct::CancelMigration,
        })
    }
}

impl MigrateTemplate {
    fn check(
        part: &mut dyn FnMut(&str, Value) -> Option<Template>,
        doc: MigrateDoc,
    ) -> Option<Self> {
        let to = part("migrate/to", doc.to.into());
        let mut optional = |path: &str, value: Option<Value>| match value {
            None => Some(None),
            Some(value) => part(path, value).map(Some),
        };
        let over = optional("migrate/over", doc.over.map(Value::String));
        let mib_per_second = optional("migrate/mib_per_second", doc.mib_per_second);
        let MigrateDoc { live, copy_disks, slow_down, .. } = doc;
        Some(Self {
            to: to?,
            over: over?,
            live,
            copy_disks,
            slow_down,
            mib_per_second: mib_per_second?,
        })
    }

    fn fill(&self, view: &CallScope<'_>) -> Result<Migration, RequestError> {
        let address = |what: &str, template: &Template| {
            let text = template.fill_encoded(view, of_address)?;
            named(what, text, MAX_ADDRESS)
        };
        Ok(Migration {
            to: address("migrate: to", &self.to)?,
            over: self.over.as_ref().map(|over| address("migrate: over", over)).transpose()?,
            live: self.live,
            copy_disks: self.copy_disks,
            slow_down: self.slow_down,
            mib_per_second: match &self.mib_per_second {
                None => None,
                Some(most) => Some(whole("migrate: mib_per_second", &most.fill(view)?, 1 << 20)?),
            },
        })
    }
}

/// Stands for what cannot be a part of an address that is filled in: it would add an option, a user
/// or another host to it.
const IMPOSSIBLE: char = '\0';

fn of_address(text: &str) -> String {
    let good = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '.' | '_');
    text.chars().map(|c| if good(c) { c } else { IMPOSSIBLE }).collect()
}

/// A name of something that the hypervisor has: no control characters, and not too long.
pub(super) fn named(what: &str, text: String, most: usize) -> Result<String, RequestError> {
    let wrong = match &text {
        text if text.trim().is_empty() => "is empty",
        text if text.len() > most => "is too long",
        text if text.contains(|c: char| c.is_control() || matches!(c, '\u{fffe}' | '\u{ffff}')) => {
            "holds what no name may hold"
        }
        _ => return Ok(text),
    };
    let shown = text.replace(char::is_control, "?");
    Err(RequestError::Part(format!("{what} {wrong}: `{}`", crate::text::cut(&shown, 80))))
}

/// The name or the UUID of a guest.
pub(super) fn domain(text: String) -> Result<String, RequestError> {
    named("domain", text, MAX_NAME)
}

/// A whole number from 1 on.
fn whole(what: &str, value: &Value, most: u64) -> Result<u64, RequestError> {
    let number = match value {
        Value::Number(number) => number
            .as_u64()
            .or_else(|| number.as_f64().filter(|n| n.fract() == 0.0).map(|n| n as u64)),
        Value::String(text) => text.parse().ok(),
        _ => None,
    };
    number.filter(|number| (1..=most).contains(number)).ok_or_else(|| {
        let shown = value.to_string();
        let shown = crate::text::cut(&shown, 80);
        RequestError::Part(format!("{what} is a whole number from 1 to {most}, and not {shown}"))
    })
}

/// Bytes of so many GiB, in whole sectors.
fn bytes(gib: &Value) -> Result<u64, RequestError> {
    let number = match gib {
        Value::Number(number) => number.as_f64(),
        Value::String(text) => text.parse().ok(),
        _ => None,
    };
    let bytes =
        number.map(|gib| gib * GIB).filter(|bytes| (512.0..=MAX_BYTES as f64).contains(bytes));
    bytes.map(|bytes| (bytes as u64) / 512 * 512).ok_or_else(|| {
        let shown = gib.to_string();
        let shown = crate::text::cut(&shown, 80);
        RequestError::Part(format!("disk: gib is a number of GiB, and not {shown}"))
    })
}
