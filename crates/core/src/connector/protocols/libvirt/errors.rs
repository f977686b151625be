//! What libvirt's errors mean (`virErrorNumber`).

use crate::connector::failure::{CallEnd, Failure};

/// An error that libvirt answers.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LibvirtError {
    /// Its number.
    pub code: i32,
    /// What it says.
    pub message: String,
}

/// What an error is about.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum LibvirtErrorKind {
    /// There is no such guest.
    NoDomain,
    /// There is no such snapshot.
    NoSnapshot,
    /// A long act was broken off by somebody.
    Aborted,
    /// The moved guest runs at its new host, but is not kept there, or not removed here.
    MigratedInPart,
    /// The line to somebody behind was cut, or what it said made no sense.
    Broken,
    /// What is asked for cannot be done like this, now or later.
    Lasting,
    /// It cannot be done now.
    Passing,
}

impl LibvirtError {
    /// What it is about.
    pub const fn kind(&self) -> LibvirtErrorKind {
        match self.code {
            42 => LibvirtErrorKind::NoDomain,
            72 => LibvirtErrorKind::NoSnapshot,
            78 => LibvirtErrorKind::Aborted,
            69 => LibvirtErrorKind::MigratedInPart,
            // A monitor that went away is "internal"; so is many a refusal, with words that say so.
            26 | 39 => LibvirtErrorKind::Broken,
            // No support, denied, unsupported, unsafe, access denied, incompatible processor.
            3 | 8 | 27 | 29 | 45 | 67 | 74 | 81 | 84 | 88 | 91 | 92 => LibvirtErrorKind::Lasting,
            _ => LibvirtErrorKind::Passing,
        }
    }

    /// What it means for a call of which it says so much, and which may have changed something.
    pub(super) fn failure(&self, said: &str, may_have_changed: bool) -> Failure {
        match self.kind() {
            LibvirtErrorKind::Broken if may_have_changed => {
                Failure::new(CallEnd::Unknown, format!("broke off: {said}"))
            }
            LibvirtErrorKind::MigratedInPart => Failure::lasting(
                CallEnd::Done,
                format!("the guest was moved, but not all of it is in order: {said}"),
            ),
            LibvirtErrorKind::NoDomain
            | LibvirtErrorKind::NoSnapshot
            | LibvirtErrorKind::Lasting => {
                Failure::lasting(CallEnd::Refused, format!("says no: {said}"))
            }
            LibvirtErrorKind::Broken | LibvirtErrorKind::Aborted | LibvirtErrorKind::Passing => {
                Failure::new(CallEnd::Refused, format!("says no: {said}"))
            }
        }
    }
}
