//! What is published, compiled, with the opened secrets: swapped in whole, never changed.

use crate::config::Config;
use arvok_connect::{Redactor, Vault};
use arvok_core::{
    Catalog, Definition, Kind,
    catalog::Entry,
    document::parse_file,
    expr::{Scope, Template, Val},
    matcher::Matcher,
};
use arvok_store::{DatabaseConnection, StoreError, definitions, intake::Rules, secrets};
use chrono::{DateTime, Utc};
use std::{collections::BTreeMap, sync::Arc};

/// When and by whom a version was published.
#[derive(Clone, Debug)]
pub(crate) struct Stamp {
    pub at: DateTime<Utc>,
    pub by: String,
}

/// Everything published.
#[derive(Debug, Default)]
pub(crate) struct Published {
    pub catalog: Catalog,
    pub matcher: Matcher,
    pub stamps: BTreeMap<(Kind, String), Stamp>,
    pub secrets: BTreeMap<String, String>,
    pub redactor: Redactor,
}

impl Published {
    /// Loads what is published now. What has not changed is taken over from before, so that a
    /// publication costs as much as it changes; the matcher is built anew beside the old one.
    pub async fn load(db: &DatabaseConnection, vault: &Vault, before: Arc<Self>) -> Result<Self, StoreError> {
        let newest = definitions::newest(db).await?;
        let (same, changed): (Vec<_>, Vec<_>) = newest.into_iter().partition(|n| before.has(n));
        let rows = if changed.is_empty() { Vec::new() } else { definitions::load(db, &changed).await? };
        let mut opened = BTreeMap::new();
        for (name, sealed) in secrets::all(db).await? {
            match vault.unseal(&name, &sealed) {
                Ok(value) => {
                    opened.insert(name, value);
                }
                Err(e) => tracing::error!("{e}"),
            }
        }
        let compile = move || {
            let mut entries: Vec<(Arc<Entry>, Stamp)> = rows.iter().filter_map(compiled).collect();
            for n in same {
                let Some(kind) = Kind::parse(&n.kind) else { continue };
                if let (Some(entry), Some(stamp)) =
                    (before.catalog.entry(kind, &n.name), before.stamps.get(&(kind, n.name.clone())))
                {
                    entries.push((Arc::clone(entry), stamp.clone()));
                }
            }
            let stamps = entries.iter().map(|(e, s)| ((e.definition.kind(), e.name.clone()), s.clone())).collect();
            let catalog = Catalog::new(entries.into_iter().map(|(e, _)| e));
            let matcher = catalog.matcher();
            (catalog, matcher, stamps)
        };
        let (catalog, matcher, stamps) = tokio::task::spawn_blocking(compile).await.unwrap_or_default();
        Ok(Self { catalog, matcher, stamps, redactor: Redactor::new(opened.values().cloned()), secrets: opened })
    }

    fn has(&self, n: &definitions::Newest) -> bool {
        let entry = Kind::parse(&n.kind).and_then(|kind| self.catalog.entry(kind, &n.name));
        entry.is_some_and(|e| e.version == n.version)
    }

    /// What deciding needs.
    pub fn rules(&self) -> Rules<'_> {
        Rules { catalog: &self.catalog, matcher: &self.matcher }
    }
}

fn compiled(row: &arvok_store::entity::definition::Model) -> Option<(Arc<Entry>, Stamp)> {
    let entry = recompile(row);
    if entry.is_none() {
        tracing::error!(
            kind = row.kind,
            name = row.name,
            version = row.version,
            "a published definition cannot be compiled"
        );
    }
    entry.map(|e| (Arc::new(e), Stamp { at: row.published_at, by: row.published_by.clone() }))
}

/// Compiles a stored version.
pub(super) fn recompile(row: &arvok_store::entity::definition::Model) -> Option<Entry> {
    let document = parse_file(&row.file, &row.text).ok()?.into_iter().next()?;
    let definition = Definition::check(&document).ok()?;
    Some(Entry { name: row.name.clone(), version: row.version, document, definition })
}

/// The functions `secret(name)` and `setting(name)`.
#[derive(Debug)]
pub(crate) struct SecretScope<'a> {
    pub secrets: &'a BTreeMap<String, String>,
    pub settings: &'a BTreeMap<String, String>,
}

impl SecretScope<'_> {
    /// Fills a template of a credential or an address.
    pub fn fill(&self, template: &Template) -> Result<String, String> {
        template.fill_text(self).map_err(|e| e.to_string())
    }
}

impl<'a> Scope<'a> for SecretScope<'_> {
    fn name(&'a self, _: &str) -> Option<Val<'a>> {
        None
    }

    fn call(&'a self, function: &str, args: &[Val<'a>]) -> Option<Result<Val<'a>, String>> {
        let (map, how) = match function {
            "secret" => (self.secrets, "set it with `arvok secret set`"),
            "setting" => (self.settings, "add it to [settings] of arvok.toml, or as ARVOK_SETTING_..."),
            _ => return None,
        };
        let Some(Val::Str(name)) = args.first() else { return Some(Err(format!("{function}() takes a name"))) };
        let found = map.get(name.as_ref()).map(|v| Val::str(v));
        Some(found.ok_or_else(|| format!("there is no {function} `{name}`; {how}")))
    }
}

/// Settings that connections ask for and this node does not have.
pub(crate) fn missing_settings(catalog: &Catalog, config: &Config) -> Vec<String> {
    let secrets = BTreeMap::new();
    let scope = SecretScope { secrets: &secrets, settings: &config.settings };
    let wrong = |e: &Arc<Entry>| match &e.definition {
        Definition::Connection(c) => scope.fill(&c.base).err().map(|why| format!("connection {}: {why}", c.name)),
        _ => None,
    };
    catalog.entries(Kind::Connection).filter_map(wrong).collect()
}
