//! How messages arrive. One file for each kind of intake: what it is written as, and what its messages offer to the
//! expressions of `read`.

mod webhook;

pub use webhook::{Webhook, WebhookDoc};

use crate::{document::Checker, expr::Template};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// How messages arrive.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct IntakeDoc {
    /// JSON posted to `/in/{source}`.
    pub webhook: WebhookDoc,
}

/// A checked intake.
#[derive(Clone, Debug)]
pub enum Intake {
    /// JSON posted to `/in/{source}`.
    Webhook(Webhook),
}

impl IntakeDoc {
    /// The names that its messages offer to expressions.
    pub(super) const fn offers(&self) -> &'static [&'static str] {
        &webhook::OFFERS
    }

    pub(super) fn check(self, check: &mut Checker<'_>, at: &str) -> Option<Intake> {
        self.webhook.check(check, &format!("{at}/webhook")).map(Intake::Webhook)
    }
}

impl Intake {
    /// The names that its messages offer to expressions.
    pub const fn offers(&self) -> &'static [&'static str] {
        match self {
            Self::Webhook(_) => &webhook::OFFERS,
        }
    }

    /// The templates of what a sender must show, with their places in the document.
    pub(super) fn credentials(&self) -> Vec<(&'static str, &Template)> {
        match self {
            Self::Webhook(webhook) => webhook.credential.templates("/intake/webhook/credential"),
        }
    }
}
