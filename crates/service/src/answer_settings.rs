//! How a node takes answers to questions by mail.

use arvok_connect::MailboxPlace;
use serde::Deserialize;
use std::{fs, net::SocketAddr, path::PathBuf};

/// Longest file of a password or of certificates, in bytes.
const MAX_FILE: u64 = 1 << 20;

/// How answers come by mail, as whoever runs the node says.
#[derive(Clone, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct AnswerSettings {
    /// The address for answers, `decide@skerrow.example`: each question has one of its own, with
    /// what it is known by behind a `+`. Absent: nobody answers by mail.
    pub address: Option<String>,
    /// Where a mail server delivers them, over LMTP.
    pub listen: Option<SocketAddr>,
    /// The mailbox that they come into and are read from, over IMAP.
    pub mailbox: Option<String>,
    /// The file with the mailbox's password.
    pub password_file: Option<PathBuf>,
    /// The file with the certificates that the mailbox's server is trusted by, in PEM. Absent: what
    /// the system trusts.
    pub authorities: Option<PathBuf>,
}

impl AnswerSettings {
    /// What cannot be.
    pub(crate) fn wrong(&self) -> Option<String> {
        if let Some(address) = &self.address
            && self.parts().is_none()
        {
            return Some(format!(
                "answers.address: `{address}` is not an address such as decide@skerrow.example, \
                 with 20 characters at most before the @"
            ));
        }
        if let Some(mailbox) = &self.mailbox
            && let Err(reason) = MailboxPlace::parse(mailbox)
        {
            return Some(format!("answers.mailbox: {reason}"));
        }
        if self.mailbox.is_some() != self.password_file.is_some() {
            return Some("answers has both `mailbox` and `password_file`, or neither".to_owned());
        }
        if self.authorities.is_some() && self.mailbox.is_none() {
            return Some("answers.authorities is for `mailbox`, which is not there".to_owned());
        }
        let comes = self.listen.is_some() || self.mailbox.is_some();
        (comes != self.address.is_some()).then(|| {
            "answers has an `address`, and `listen` or `mailbox` by which they come; or none of them"
                .to_owned()
        })
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

    /// The mailbox, its password and what its server is trusted by, as the files say at this
    /// moment; none if answers come into no mailbox.
    ///
    /// # Errors
    /// Which file cannot be read.
    pub(crate) fn mailbox(&self) -> Result<Option<(MailboxPlace, String, Option<String>)>, String> {
        let (Some(mailbox), Some(password)) = (&self.mailbox, &self.password_file) else {
            return Ok(None);
        };
        let read = |file: &PathBuf| {
            let wrong = |why: String| format!("{}: {why}", file.display());
            let size = fs::metadata(file).map_err(|e| wrong(e.to_string()))?.len();
            if size > MAX_FILE {
                return Err(wrong(format!("has {size} bytes; {MAX_FILE} are allowed")));
            }
            fs::read_to_string(file).map_err(|e| wrong(e.to_string()))
        };
        let place = MailboxPlace::parse(mailbox)?;
        let password = read(password)?.trim_end_matches(['\r', '\n']).to_owned();
        let authorities = self.authorities.as_ref().map(read).transpose()?;
        Ok(Some((place, password, authorities)))
    }
}
