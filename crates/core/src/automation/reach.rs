//! What the jobs of a rule or a plan may reach: its runbooks with those that they have done, the
//! contacts that they send messages to, and the connections that all of these call through; and
//! what the pulse of a connection goes through. Whoever changes any of it changes what acts.

use crate::{
    Catalog, Kind,
    connector::Connection,
    definition::{Definition, Others},
    plan::Plan,
    rule::{Rule, Stance},
    runbook::Runbook,
};
use std::{
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
};

/// What stands for the connection of what runs on a node itself.
const SCRIPTS: &str = "scripts";

/// Something that acts by itself, and newly or otherwise than before.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Acting {
    /// A rule, a plan or a connection.
    pub kind: Kind,
    /// Its name.
    pub name: String,
    /// The connections that it may call through; `scripts` for scripts on a node.
    pub connections: BTreeSet<String>,
    /// What of it changed: itself, a runbook, a shared step, a contact, a connection, a connector
    /// or a group.
    pub changed: Vec<(Kind, String)>,
}

/// Everything that is reached, with its version.
type Reach = BTreeMap<(Kind, String), i32>;

/// What of a set acts by itself and did not before, or otherwise.
pub fn acting_anew(whole: &Catalog, published: &Catalog) -> Vec<Acting> {
    let (mut now, mut before) = (Reaches::new(whole), Reaches::new(published));
    let kinds = [Kind::Rule, Kind::Plan, Kind::Connection].into_iter();
    let all = kinds.flat_map(|kind| whole.entries(kind).map(move |e| (kind, e.name.as_str())));
    let one = |(kind, name): (Kind, &str)| {
        let reach = now.of(kind, name)?;
        let old = before.of(kind, name).unwrap_or_default();
        let changed = reach.iter().filter(|(what, version)| old.get(*what) != Some(version));
        let changed: Vec<(Kind, String)> = changed.map(|(what, _)| what.clone()).collect();
        let connections = reach.keys().filter(|(kind, _)| *kind == Kind::Connection);
        let connections = connections.map(|(_, name)| name.clone()).collect();
        let name = name.to_owned();
        (!changed.is_empty()).then_some(Acting { kind, name, connections, changed })
    };
    all.filter_map(one).collect()
}

/// What is reached within one set; each runbook is gone through once.
struct Reaches<'a> {
    catalog: &'a Catalog,
    of_runbooks: BTreeMap<String, Arc<Reach>>,
}

impl<'a> Reaches<'a> {
    fn new(catalog: &'a Catalog) -> Self {
        Self { catalog, of_runbooks: BTreeMap::new() }
    }

    /// What a rule, a plan or the pulse of a connection reaches; none if it does not act by itself.
    fn of(&mut self, kind: Kind, name: &str) -> Option<Reach> {
        let entry = self.catalog.entry(kind, name)?;
        if let Some(connection) = entry.as_kind::<Connection>() {
            connection.pulse.as_ref()?;
            let mut reach = Reach::new();
            self.add_used(&mut reach, kind, name);
            return Some(reach);
        }
        let mut reach = Reach::from([((kind, name.to_owned()), entry.version)]);
        if let Some(rule) = entry.as_kind::<Rule>().filter(|rule| rule.stance == Stance::Act) {
            for dispatch in &rule.dispatch {
                reach.extend((*self.of_runbook(&dispatch.runbook)).clone());
            }
            for (_, name) in rule.uses().into_iter().filter(|(kind, _)| *kind == Kind::Contact) {
                self.add_used(&mut reach, Kind::Contact, &name);
            }
            return Some(reach);
        }
        let plan = entry.as_kind::<Plan>().filter(|plan| plan.at.is_some())?;
        self.add(&mut reach, &plan.runbook);
        for (kind, name) in entry.definition.uses() {
            if kind == Kind::Group {
                self.note(&mut reach, kind, &name);
            }
        }
        Some(reach)
    }

    fn of_runbook(&mut self, name: &str) -> Arc<Reach> {
        if let Some(known) = self.of_runbooks.get(name) {
            return Arc::clone(known);
        }
        // Runbooks that have each other done are refused elsewhere; here that has an end.
        self.of_runbooks.insert(name.to_owned(), Arc::default());
        let mut reach = Reach::new();
        if let Some((runbook, _)) = self.catalog.get::<Runbook>(name) {
            self.note(&mut reach, Kind::Runbook, name);
            self.add(&mut reach, runbook);
        }
        let reach = Arc::new(reach);
        self.of_runbooks.insert(name.to_owned(), Arc::clone(&reach));
        reach
    }

    /// What the steps of a runbook reach.
    fn add(&mut self, reach: &mut Reach, runbook: &Runbook) {
        for (via, _) in runbook.possible_calls(self.catalog) {
            self.add_used(reach, Kind::Connection, via);
        }
        // Messages to people are calls as well, which their contacts say.
        for contact in runbook.contacts() {
            self.add_used(reach, Kind::Contact, contact);
        }
        for step in runbook.shared_steps() {
            self.note(reach, Kind::Step, step);
        }
        if !runbook.scripts().is_empty() {
            reach.insert((Kind::Connection, SCRIPTS.to_owned()), 0);
        }
        let children = runbook.children().into_iter().flat_map(|child| child.all(self.catalog));
        let children: Vec<&str> = children.collect();
        for child in children {
            reach.extend((*self.of_runbook(child)).clone());
        }
    }

    /// A connection with its connector and those that it goes through, or a contact with its
    /// members and the connections of their ways.
    fn add_used(&self, reach: &mut Reach, kind: Kind, name: &str) {
        if reach.contains_key(&(kind, name.to_owned())) {
            return;
        }
        self.note(reach, kind, name);
        let uses = self.catalog.definition(kind, name).map(|d| d.uses());
        // The calendar of somebody's hours says when, and not what is done.
        let uses = uses.unwrap_or_default().into_iter().filter(|(kind, _)| *kind != Kind::Calendar);
        uses.for_each(|(kind, used)| self.add_used(reach, kind, &used));
    }

    fn note(&self, reach: &mut Reach, kind: Kind, name: &str) {
        let version = self.catalog.entry(kind, name).map_or(0, |entry| entry.version);
        reach.insert((kind, name.to_owned()), version);
    }
}
