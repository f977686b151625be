//! What senders show that post over HTTP, and what they are answered.

use crate::{
    connector::{Credential, SenderCredentialDoc},
    document::Checker,
    expr::Template,
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Payloads that are posted to `/in/{source}`.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct HttpIntakeDoc {
    /// What the sender must show.
    pub credential: SenderCredentialDoc,
    /// The status of the answer when alerts are taken, 200 or 202. Left out: 202.
    #[serde(default)]
    pub answer: Option<u16>,
}

/// How payloads are posted, checked.
#[derive(Clone, Debug)]
pub struct HttpIntake {
    /// What the sender must show.
    pub credential: Credential,
    /// The status of the answer when alerts are taken.
    pub answer: u16,
}

impl HttpIntake {
    /// The templates of its credential, with the place of that.
    pub(super) fn templates(&self, at: &'static str) -> Vec<(&'static str, &Template)> {
        self.credential.parts().into_iter().map(|part| (at, part)).collect()
    }
}

impl HttpIntakeDoc {
    pub(super) fn check(self, check: &mut Checker<'_>, at: &str) -> Option<HttpIntake> {
        let credential = self.credential.check(check, &format!("{at}/credential"));
        let answer = self.answer.unwrap_or(202);
        if ![200, 202].contains(&answer) {
            check.fail(&format!("{at}/answer"), format!("is {answer}; 200 or 202 is possible"));
        }
        credential.map(|credential| HttpIntake { credential, answer })
    }
}
