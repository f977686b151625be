//! Values for `setting(name)`, as whoever runs the service gives them.
//!
//! A plain one is public: every author may use it, and everybody sees what is made of it. One that
//! is not says what it is for, as a secret does, and is hidden where it would be shown. What is
//! shown to prove who speaks is never a setting.

use serde::Deserialize;
use std::collections::{BTreeMap, BTreeSet};

/// The value of a setting, and who may use it.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(from = "Written")]
pub struct Setting {
    /// The value.
    pub value: String,
    /// The only ones that may use it, as `kind/name`; none: everybody.
    pub allowed: Option<BTreeSet<String>>,
}

/// Values by their names.
pub type Settings = BTreeMap<String, Setting>;

/// A setting as it is written: `yard = "http://..."`, or `{ value = "...", for =
/// ["connection/yard"] }`.
#[derive(Deserialize)]
#[serde(untagged)]
enum Written {
    Public(String),
    For(WrittenFor),
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct WrittenFor {
    value: String,
    #[serde(rename = "for")]
    allowed: BTreeSet<String>,
}

impl From<Written> for Setting {
    fn from(written: Written) -> Self {
        match written {
            Written::Public(value) => Self::public(value),
            Written::For(WrittenFor { value, allowed }) => Self { value, allowed: Some(allowed) },
        }
    }
}

/// Parts of names by which one tells what should not be public.
const PRIVATE: [&str; 8] =
    ["password", "passwd", "secret", "token", "credential", "credentials", "key", "apikey"];

impl Setting {
    /// One that everybody may use and see.
    pub fn public(value: String) -> Self {
        Self { value, allowed: None }
    }

    /// Why it may not stand as it is: a public one by the name of something that is not.
    pub(crate) fn wrong(&self, name: &str) -> Option<String> {
        let private = name.split(['-', '_']).any(|part| PRIVATE.contains(&part));
        (self.allowed.is_none() && private).then(|| {
            format!(
                "settings.{name} would be read by every author and sent to any address: a \
                credential is a secret \
                (`arvok secret set {name} --for connection/NAME`), and what else is not public \
                says what it is for: \
                {name} = {{ value = \"...\", for = [\"connection/NAME\"] }}"
            )
        })
    }

    /// Its value for one who asks for it.
    pub(crate) fn value_for(&self, name: &str, user: &str) -> Result<&str, String> {
        match &self.allowed {
            Some(allowed) if !allowed.contains(user) => Err(format!(
                "setting `{name}` may not be used by {user}; its `for` in [settings] says who may"
            )),
            _ => Ok(&self.value),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_that_is_for_somebody_is_for_nobody_else() {
        let text =
            "yard = \"http://a\"\nhook-path = { value = \"a1b2\", for = [\"connection/hook\"] }\n";
        let settings: Settings = toml::from_str(text).expect("reads");
        assert_eq!(settings["yard"].value_for("yard", "connection/any"), Ok("http://a"));
        assert_eq!(settings["hook-path"].value_for("hook-path", "connection/hook"), Ok("a1b2"));
        let said =
            settings["hook-path"].value_for("hook-path", "connection/any").expect_err("refused");
        assert!(said.contains("may not be used by connection/any"), "{said}");
        assert!(toml::from_str::<Settings>("x = { value = \"a\", to = [] }").is_err());
    }

    #[test]
    fn what_is_private_by_its_name_is_not_public() {
        let public = Setting::public("a".into());
        for name in ["db-password", "password", "pier_token", "api-key"] {
            assert!(public.wrong(name).is_some_and(|why| why.contains("secret set")), "{name}");
        }
        for name in ["yard", "monkey", "tokens-page", "keyring-url"] {
            assert_eq!(public.wrong(name), None, "{name}");
        }
        let bound = Setting { value: "a".into(), allowed: Some(BTreeSet::new()) };
        assert_eq!(bound.wrong("db-password"), None);
    }
}
