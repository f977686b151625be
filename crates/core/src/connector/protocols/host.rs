//! On which of its connection's machines a call is.

use super::{RequestError, shared::CallScope};
use crate::{
    document::Checker,
    expr::{Names, Template},
    text::cut,
};

/// The machine that a call names, where its connection stands for many.
#[derive(Clone, Debug)]
pub(super) struct HostTemplate(Option<Template>);

impl HostTemplate {
    pub(super) fn check(
        check: &mut Checker<'_>,
        at: &str,
        host: Option<String>,
        names: Names<'_>,
    ) -> Option<Self> {
        match host {
            None => Some(Self(None)),
            Some(host) => {
                let made = check.template(&format!("{at}/host"), &host.into(), names);
                made.map(|made| Self(Some(made)))
            }
        }
    }

    /// Whether the call says on which machine it is.
    pub(super) const fn is_named(&self) -> bool {
        self.0.is_some()
    }

    pub(super) fn fill(&self, view: &CallScope<'_>) -> Result<Option<String>, RequestError> {
        self.0.as_ref().map(|host| host_name(&host.fill_text(view)?)).transpose()
    }
}

/// A machine's name or address. Nothing else: what an alert brings must not add a port, a user or
/// an option to it.
fn host_name(text: &str) -> Result<String, RequestError> {
    let of_name = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '.' | '_');
    let of_ipv6 = |c: char| c.is_ascii_hexdigit() || matches!(c, ':' | '.');
    let good = match text.matches(':').count() {
        0 => {
            !text.is_empty()
                && text.len() <= 253
                && text.chars().all(of_name)
                && !text.starts_with(['-', '.'])
        }
        1 => false,
        _ => text.len() <= 45 && text.chars().all(of_ipv6),
    };
    good.then(|| text.to_ascii_lowercase()).ok_or_else(|| {
        RequestError::Part(format!(
            "host: `{}` is not the name or the address of a machine",
            cut(text, 80)
        ))
    })
}
