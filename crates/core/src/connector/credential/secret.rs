//! Secrets as documents name them, and the addresses that they may stand in.

use crate::{
    connector::Protocol,
    document::Checker,
    expr::{Names, Template},
};
use serde_json::Value;

/// The functions that a credential or an address may use: `secret(name)`, `setting(name)`.
pub const SECRETS: Names<'static> =
    Names { roots: &[], functions: &["secret", "setting"], types: &[] };

/// The template of an address. A name and a password have a place of their own; a secret may stand
/// in its path, as hooks have it, and never where it would choose whom the request goes to.
pub(crate) fn address(
    check: &mut Checker<'_>,
    at: &str,
    text: String,
    of: &[Protocol],
) -> Option<Template> {
    let schemes: Vec<&str> = of.iter().flat_map(|protocol| protocol.schemes()).copied().collect();
    let starts = schemes.iter().any(|scheme| text.starts_with(scheme));
    if !text.contains("${") && !starts {
        check.fail(at, format!("is not an address; it begins with one of {}", schemes.join(", ")));
        return None;
    }
    let authority = text
        .split_once("://")
        .map_or("", |(_, rest)| rest.split(['/', '?', '#']).next().unwrap_or_default());
    if starts && authority.contains('@') {
        check.fail(
            at,
            "holds a name or a password, which everybody would see; it stands under `credential`",
        );
        return None;
    }
    let made = check.template(at, &Value::String(text.clone()), SECRETS)?;
    if !is_named(check, at, &made) {
        return None;
    }
    let secrets = made.calls("secret");
    let before = text.split("secret(").next().unwrap_or_default();
    let in_path =
        before.split_once("://").map_or(before.contains("}/"), |(_, rest)| rest.contains('/'));
    if !secrets.is_empty() && !in_path {
        check.fail(at, "a secret may stand in the path of an address only, behind the host");
        return None;
    }
    Some(made)
}

/// A template that may hold settings and secrets, each of which is named.
pub(super) fn text(check: &mut Checker<'_>, at: &str, text: String) -> Option<Template> {
    let made = check.template(at, &Value::String(text), SECRETS)?;
    is_named(check, at, &made).then_some(made)
}

/// A part that may be left out, checked by what checks it where it is written.
pub(super) fn optional(
    check: &mut Checker<'_>,
    at: &str,
    written: Option<String>,
    by: fn(&mut Checker<'_>, &str, String) -> Option<Template>,
) -> Option<Option<Template>> {
    match written {
        None => Some(None),
        Some(written) => by(check, at, written).map(Some),
    }
}

/// Whether the names of the secrets in it are written out: one that is worked out could be any.
fn is_named(check: &mut Checker<'_>, at: &str, template: &Template) -> bool {
    let is_named = !template.calls("secret").contains(&None);
    if !is_named {
        check.fail(at, "the name of a secret is written out: secret('its-name')");
    }
    is_named
}

/// A template that is a secret of somebody's, and not written out.
pub(crate) fn secret(check: &mut Checker<'_>, at: &str, text: String) -> Option<Template> {
    let made = check.template(at, &Value::String(text), SECRETS)?;
    let secrets = made.calls("secret");
    if !made.calls("setting").is_empty() {
        check.fail(
            at,
            "a credential is a secret, and settings are read by every author; \
            write \"${secret('its-name')}\"",
        );
        return None;
    }
    if secrets.is_empty() {
        check.fail(
            at,
            "a credential is not written out; set a secret and write \"${secret('its-name')}\"",
        );
        return None;
    }
    is_named(check, at, &made).then_some(made)
}
