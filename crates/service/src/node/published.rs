//! What is published, compiled, with the opened secrets: swapped in whole, never changed.

use crate::{config::Config, settings::Settings};
use arvok_connect::{Redactor, TrustedKeys, Vault};
use arvok_core::{
    Catalog, Kind, Principal,
    calendar::NamedCalendar,
    catalog::{self, Entry},
    connector::Connection,
    document::{DocumentPart, parse_file},
    expr::{Scope, Template, Val},
    guard::Guards,
    matcher::Matcher,
    mute::Mute,
    rule::Rule,
    runbook::Runbook,
};
use arvok_store::{
    DatabaseConnection, StoreError, calendars, definitions,
    entity::definition::{Model, StoredPart},
    host_keys,
    intake::Rules,
    jobs::{Limited, guards},
    mutes, secrets,
};
use chrono::{DateTime, Utc};
use std::{
    collections::{BTreeMap, BTreeSet},
    panic::{AssertUnwindSafe, catch_unwind},
    sync::Arc,
};

/// When and by whom a version was published.
#[derive(Clone, Debug)]
pub(crate) struct Stamp {
    pub at: DateTime<Utc>,
    pub by: Principal,
}

/// An opened secret and where it may go.
#[derive(Clone, Debug)]
pub(crate) struct Secret {
    pub value: String,
    /// Sources and connections as `kind/name`.
    pub allowed: BTreeSet<String>,
}

/// Everything published.
#[derive(Debug, Default)]
pub(crate) struct Published {
    pub catalog: Arc<Catalog>,
    pub matcher: Arc<Matcher>,
    pub stamps: Arc<BTreeMap<(Kind, String), Stamp>>,
    /// Mutes that stand or come.
    pub mutes: Vec<Mute>,
    /// Runbooks of which there may be so many jobs at once.
    pub at_once: Vec<(String, i32)>,
    /// The guards, with their groups.
    pub guards: Guards,
    /// Rules that propose what they would dispatch, since a circuit is open, and why.
    pub proposing: BTreeMap<String, String>,
    pub secrets: BTreeMap<String, Secret>,
    /// The fingerprints of the keys that were trusted, by connection and machine.
    pub host_keys: BTreeMap<String, TrustedKeys>,
    pub settings: Arc<Settings>,
    pub redactor: Redactor,
    /// The generation of all this.
    pub generation: i64,
    /// When it was loaded.
    pub loaded_at: DateTime<Utc>,
    /// What could not be compiled; its last good version stays.
    pub faulty: Vec<String>,
}

/// The events of calendars that were read from where they are kept, and since when they stand so.
type ReadCalendars = BTreeMap<String, (String, DateTime<Utc>)>;

type Stamps = BTreeMap<(Kind, String), Stamp>;

/// What is compiled.
struct Compiled {
    catalog: Arc<Catalog>,
    matcher: Arc<Matcher>,
    guards: Guards,
    stamps: Arc<Stamps>,
    faulty: Vec<String>,
}

impl Published {
    /// Loads what is published now. What has not changed is taken over from before, so that a
    /// publication costs as much as it changes; the matcher is built anew beside the old one, and
    /// only if rules have changed.
    pub async fn load(
        db: &DatabaseConnection,
        vault: &Vault,
        settings: Arc<Settings>,
        before: Arc<Self>,
        now: DateTime<Utc>,
    ) -> Result<Self, StoreError> {
        let definitions::PublishedVersions { generation, newest } =
            definitions::standing(db).await?;
        let changed: Vec<_> =
            newest.iter().filter(|n| !n.withdrawn && !before.has(n)).cloned().collect();
        let rows =
            if changed.is_empty() { Vec::new() } else { definitions::load(db, &changed).await? };
        let known = before.calendars(&newest);
        let read = calendars::newer(db, &known).await?.into_iter();
        let read = read.map(|one| (one.name, (one.text, one.read_at))).collect();
        let secrets = opened(db, vault).await?;
        let host_keys = host_keys::all(db).await?;
        let (mutes, unknown) = mutes::open(db).await?;
        let circuits = guards::circuits(db).await?;
        let last = Arc::clone(&before);
        let compiled = tokio::task::spawn_blocking(move || {
            catch_unwind(AssertUnwindSafe(|| compile((&rows, &read), &newest, &before, now)))
                .unwrap_or_else(|_| {
                    let faulty = vec![
                        "the set as a whole cannot be compiled; the one before stays".to_owned(),
                    ];
                    let before = &last;
                    Compiled {
                        catalog: Arc::clone(&before.catalog),
                        matcher: Arc::clone(&before.matcher),
                        guards: before.guards.clone(),
                        stamps: Arc::clone(&before.stamps),
                        faulty,
                    }
                })
        })
        .await
        .map_err(|_| StoreError::BrokenOff("compiling"))?;
        for faulty in &compiled.faulty {
            tracing::error!("a published definition cannot be compiled: {faulty}");
        }
        let Compiled { catalog, matcher, guards, stamps, mut faulty } = compiled;
        faulty.extend(unknown);
        let private = settings.values().filter(|s| s.allowed.is_some()).map(|s| s.value.clone());
        let redactor = Redactor::new(secrets.values().map(|s| s.value.clone()).chain(private));
        let limited = catalog
            .all::<Runbook>()
            .filter_map(|(r, _)| Some((r.name.clone(), i32::try_from(r.at_once?).ok()?)));
        let at_once = limited.collect();
        let stopped =
            |(rule, _): (&Rule, i32)| Some((rule.name.clone(), guards.stop(rule, &circuits)?));
        let proposing = catalog.all::<Rule>().filter_map(stopped).collect();
        Ok(Self {
            catalog,
            matcher,
            stamps,
            mutes,
            at_once,
            guards,
            proposing,
            secrets,
            host_keys,
            settings,
            redactor,
            generation,
            loaded_at: now,
            faulty,
        })
    }

    /// The calendars that were read from where they are kept, and since when these stand so, as far
    /// as their documents are the newest.
    fn calendars(&self, newest: &[definitions::Newest]) -> Vec<(String, DateTime<Utc>)> {
        let of_calendars = newest.iter().filter(|n| n.kind == Kind::Calendar.as_str());
        let known = of_calendars.filter(|n| !n.withdrawn && self.has(n)).filter_map(|n| {
            let (named, _) = self.catalog.get::<NamedCalendar>(&n.name)?;
            Some((n.name.clone(), named.read_at?))
        });
        known.collect()
    }

    fn has(&self, n: &definitions::Newest) -> bool {
        let entry = Kind::parse(&n.kind).and_then(|kind| self.catalog.entry(kind, &n.name));
        entry.is_some_and(|e| e.version == n.version)
    }

    /// What holds jobs back besides their targets.
    pub fn limited(&self) -> Limited<'_> {
        Limited { at_once: &self.at_once, guards: &self.guards }
    }

    /// What deciding needs.
    pub fn rules(&self) -> Rules<'_> {
        Rules {
            catalog: &self.catalog,
            matcher: &self.matcher,
            mutes: &self.mutes,
            guards: &self.guards,
            proposing: &self.proposing,
            generation: self.generation,
        }
    }
}

async fn opened(
    db: &DatabaseConnection,
    vault: &Vault,
) -> Result<BTreeMap<String, Secret>, StoreError> {
    let mut opened = BTreeMap::new();
    for secret in secrets::all(db).await? {
        match vault.unseal(&secret.name, &secret.sealed) {
            Ok(value) => {
                let allowed = secret.allowed.into_iter().collect();
                opened.insert(secret.name, Secret { value, allowed });
            }
            Err(e) => tracing::error!("{e}"),
        }
    }
    Ok(opened)
}

/// Compiles what is new beside what stays. What cannot be compiled keeps its last good version.
fn compile(
    (rows, read): (&[Model], &ReadCalendars),
    newest: &[definitions::Newest],
    before: &Published,
    now: DateTime<Utc>,
) -> Compiled {
    let mut entries: Vec<(Arc<Entry>, Stamp)> = Vec::new();
    let mut faulty = Vec::new();
    let stay = |kind: &str, name: &str| {
        let kind = Kind::parse(kind)?;
        let entry = before.catalog.entry(kind, name)?;
        let stamp = before.stamps.get(&(kind, name.to_owned()))?;
        Some((Arc::clone(entry), stamp.clone()))
    };
    for row in rows {
        match catch_unwind(AssertUnwindSafe(|| recompile(row))) {
            Ok(Some(entry)) => {
                entries.push((
                    Arc::new(entry),
                    Stamp { at: row.published_at, by: row.published_by.0.clone() },
                ));
            }
            _ => {
                faulty.push(format!("{} {} version {}", row.kind, row.name, row.version));
                entries.extend(stay(&row.kind, &row.name));
            }
        }
    }
    entries.extend(
        newest
            .iter()
            .filter(|n| !n.withdrawn && before.has(n))
            .filter_map(|n| stay(&n.kind, &n.name)),
    );
    let versions: Vec<_> = newest
        .iter()
        .filter_map(|n| Some(((Kind::parse(&n.kind)?, n.name.clone()), n.version)))
        .collect();
    let stamps = entries.iter().map(|(e, s)| ((e.kind, e.name.clone()), s.clone())).collect();
    let catalog = Catalog::new(entries.into_iter().map(|(e, _)| e)).after(versions);
    let (catalog, unread) = catalog.with_calendars(read);
    faulty.extend(unread);
    let same = |a: &Catalog, b: &Catalog| {
        let rules = |c: &Catalog| c.entries(Kind::Rule).map(Arc::as_ptr).collect::<Vec<_>>();
        rules(a) == rules(b)
    };
    let matcher = if same(&catalog, &before.catalog) {
        Arc::clone(&before.matcher)
    } else {
        Arc::new(catalog.matcher())
    };
    // What is on in calendars is worked out here, off the workers.
    let guards = catalog.guards(now);
    Compiled { catalog: Arc::new(catalog), matcher, guards, stamps: Arc::new(stamps), faulty }
}

/// Compiles a stored version.
pub(super) fn recompile(row: &Model) -> Option<Entry> {
    let mut document = parse_file(&row.file, &row.text).ok()?.into_iter().next()?;
    let part = |(name, part): (&String, &StoredPart)| {
        let document = parse_file("", &part.text).ok()?.into_iter().next()?;
        Some((name.clone(), DocumentPart { version: part.version, document: Arc::new(document) }))
    };
    let parts: Option<BTreeMap<String, DocumentPart>> = row.parts.0.iter().map(part).collect();
    document.parts = Arc::new(parts?);
    let (kind, definition) = catalog::check_document(&document).ok()?;
    let (name, version, document) = (row.name.clone(), row.version, Arc::new(document));
    Some(Entry { name, version, document, kind, definition })
}

/// The functions `secret(name)` and `setting(name)`, for one source or connection.
#[derive(Debug)]
pub(crate) struct SecretScope<'a> {
    pub secrets: &'a BTreeMap<String, Secret>,
    pub settings: &'a Settings,
    /// Who asks, as `kind/name`: only what may go there is opened.
    pub user: String,
}

impl<'a> SecretScope<'a> {
    /// For one source or connection.
    pub fn of(published: &'a Published, kind: Kind, name: &str) -> Self {
        Self {
            secrets: &published.secrets,
            settings: &published.settings,
            user: format!("{kind}/{name}"),
        }
    }

    /// Fills a template of a credential or an address.
    pub fn fill(&self, template: &Template) -> Result<String, String> {
        template.fill_text(self).map_err(|e| e.to_string())
    }

    /// Whether a secret is set, and may go there.
    pub fn may_open(&self, name: &str) -> bool {
        self.secret(name).is_ok()
    }

    /// A secret, where it is set and may go there.
    pub fn secret(&self, name: &str) -> Result<&'a str, String> {
        let how = format!("an admin sets it with `arvok secret set {name} --for {}`", self.user);
        match self.secrets.get(name) {
            None => Err(format!("there is no secret `{name}`; {how}")),
            Some(secret) if !secret.allowed.contains(&self.user) => {
                Err(format!("secret `{name}` may not be used by {}; {how}", self.user))
            }
            Some(secret) => Ok(&secret.value),
        }
    }

    /// A setting, where there is one that may go there.
    pub fn setting(&self, name: &str) -> Result<&'a str, String> {
        let how = "add it to [settings] of arvok.toml, or as ARVOK_SETTING_...";
        let setting = self.settings.get(name);
        setting
            .ok_or_else(|| format!("there is no setting `{name}`; {how}"))?
            .value_for(name, &self.user)
    }
}

impl<'a> Scope<'a> for SecretScope<'_> {
    fn name(&'a self, _: &str) -> Option<Val<'a>> {
        None
    }

    fn call(&'a self, function: &str, args: &[Val<'a>]) -> Option<Result<Val<'a>, String>> {
        if !["secret", "setting"].contains(&function) {
            return None;
        }
        let Some(Val::Str(name)) = args.first() else {
            return Some(Err(format!("{function}() takes a name")));
        };
        if function == "secret" {
            return Some(self.secret(name).map(Val::str));
        }
        Some(self.setting(name).map(Val::str))
    }
}

/// Settings that connections ask for and this node does not have.
pub(crate) fn missing_settings(catalog: &Catalog, config: &Config) -> Vec<String> {
    let secrets = BTreeMap::new();
    let wrong = |(c, _): (&Connection, i32)| {
        let user = format!("{}/{}", Kind::Connection, c.name);
        let scope = SecretScope { secrets: &secrets, settings: &config.settings, user };
        let named = !c.base.calls("secret").is_empty();
        scope
            .fill(&c.base)
            .err()
            .filter(|_| !named)
            .map(|why| format!("connection {}: {why}", c.name))
    };
    catalog.all().filter_map(wrong).collect()
}
