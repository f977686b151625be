//! How a node takes answers to questions by mail.

use serde::Deserialize;
use std::net::SocketAddr;

/// How answers come by mail, as whoever runs the node says.
#[derive(Clone, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct AnswerSettings {
    /// The address for answers, `decide@skerrow.example`: each question has one of its own, with
    /// what it is known by behind a `+`. Absent: nobody answers by mail.
    pub address: Option<String>,
    /// Where a mail server delivers them, over LMTP.
    pub listen: Option<SocketAddr>,
}

impl AnswerSettings {
    /// What cannot be.
    pub(crate) fn wrong(&self) -> Option<String> {
        match (&self.address, self.listen) {
            (None, None) => None,
            (Some(address), Some(_)) => self.parts().is_none().then(|| {
                format!(
                    "answers.address: `{address}` is not an address such as decide@skerrow.example, \
                     with 20 characters at most before the @"
                )
            }),
            _ => Some("answers has both `address` and `listen`, or neither".to_owned()),
        }
    }

    /// What is before and behind the `@` of the address.
    pub(crate) fn parts(&self) -> Option<(&str, &str)> {
        let (local, domain) = self.address.as_deref()?.split_once('@')?;
        let plain =
            |text: &str| text.chars().all(|c| c.is_ascii_alphanumeric() || ".-_".contains(c));
        let fits =
            !local.is_empty() && local.len() <= 20 && !domain.is_empty() && domain.len() <= 200;
        (fits && plain(local) && plain(domain)).then_some((local, domain))
    }
}
