//! Who may post over HTTP, and what they are answered.

use super::{
    address_range::{AddressRange, ranges},
    sender::{SenderProof, SenderProofs},
};
use crate::{document::Checker, expr::Template};
use core::net::IpAddr;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Payloads that are posted to `/in/{source}`.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct HttpIntakeDoc {
    /// What the sender must show; of several proofs any will do, so that one can take the place of
    /// another.
    pub credential: SenderProofs,
    /// The addresses that senders may come from, such as `10.4.0.0/16`. Left out: any.
    #[serde(default)]
    pub from: Vec<String>,
    /// The status of the answer when alerts are taken, 200 or 202. Left out: 202.
    #[serde(default)]
    pub answer: Option<u16>,
}

/// How payloads are posted, checked.
#[derive(Clone, Debug)]
pub struct HttpIntake {
    /// What the sender must show: any of these.
    pub proofs: Vec<SenderProof>,
    from: Vec<AddressRange>,
    /// The status of the answer when alerts are taken.
    pub answer: u16,
}

impl HttpIntake {
    /// The templates of its proofs, with the place of these.
    pub(super) fn templates(&self, at: &'static str) -> Vec<(&'static str, &Template)> {
        self.proofs.iter().flat_map(SenderProof::parts).map(|part| (at, part)).collect()
    }

    /// Whether a sender with a certificate of these names has proved itself by it.
    pub fn knows_certificate(&self, names: &[String]) -> bool {
        let matches = |proof: &SenderProof| match proof {
            SenderProof::Certificate(glob) => names.iter().any(|name| glob.matches(name)),
            _ => false,
        };
        self.proofs.iter().any(matches)
    }

    /// Whether its senders may come from an address.
    pub fn admits(&self, peer: Option<IpAddr>) -> bool {
        self.from.is_empty() || peer.is_some_and(|peer| self.from.iter().any(|r| r.holds(peer)))
    }
}

impl HttpIntakeDoc {
    pub(super) fn check(self, check: &mut Checker<'_>, at: &str) -> Option<HttpIntake> {
        let proofs = self.credential.check(check, &format!("{at}/credential"));
        let from = ranges(check, &format!("{at}/from"), &self.from);
        let answer = self.answer.unwrap_or(202);
        if ![200, 202].contains(&answer) {
            check.fail(&format!("{at}/answer"), format!("is {answer}; 200 or 202 is possible"));
        }
        proofs.map(|proofs| HttpIntake { proofs, from, answer })
    }
}
