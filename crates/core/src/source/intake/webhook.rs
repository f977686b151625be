//! JSON over HTTP, posted by the sender.

use crate::{
    connector::{Credential, CredentialDoc},
    document::Checker,
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// What a message offers to expressions: its body, and its headers with names in lower case.
pub(super) const OFFERS: [&str; 2] = ["body", "headers"];

/// JSON over HTTP.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct WebhookDoc {
    /// What the sender must show.
    pub credential: CredentialDoc,
    /// The status of the answer when alerts are taken, 200 or 202. Left out: 202.
    #[serde(default)]
    pub answer: Option<u16>,
}

/// A checked webhook.
#[derive(Clone, Debug)]
pub struct Webhook {
    /// What the sender must show.
    pub credential: Credential,
    /// The status of the answer when alerts are taken.
    pub answer: u16,
}

impl WebhookDoc {
    pub(super) fn check(self, check: &mut Checker<'_>, at: &str) -> Option<Webhook> {
        let credential = self.credential.check(check, &format!("{at}/credential"));
        if matches!(credential, Some(Credential::OAuth2 { .. } | Credential::Certificate(_))) {
            check.fail(&format!("{at}/credential"), "a sender shows one of `bearer`, `basic` or `header`");
        }
        let answer = self.answer.unwrap_or(202);
        if ![200, 202].contains(&answer) {
            check.fail(&format!("{at}/answer"), format!("is {answer}; 200 or 202 is possible"));
        }
        credential.map(|credential| Webhook { credential, answer })
    }
}
