//! What acts by itself, and who may let it: rules of stance `act`, plans that have times and
//! connections that have a pulse. To publish is one right, to let something act that nobody is
//! asked about is another. It is given by the names of rules and plans and by the connections that
//! their jobs may call through.
//!
//! ```
//! use arvok_core::automation::Automation;
//!
//! let lines = |of: &[&str]| of.iter().map(|line| (*line).to_owned()).collect::<Vec<_>>();
//! let right = Automation::of(&lines(&["disk-*"]), &[], &lines(&["yard-*"])).expect("are globs");
//! assert!(right.is_some());
//! assert!(Automation::of(&lines(&[""]), &[], &[]).is_err());
//! ```

mod reach;

pub use reach::{Acting, acting_anew};

use crate::{
    Kind,
    glob::{Glob, GlobListError},
};

/// Most names and globs of one line.
const MAX_LINES: usize = 100;

/// What somebody may let act by itself.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Automation {
    rules: Vec<Glob>,
    plans: Vec<Glob>,
    connections: Vec<Glob>,
}

/// What is lacking to let something act.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Lacking {
    /// It is not among what may act.
    #[error("{kind} `{name}` acts by itself, and this token may not automate it")]
    Name {
        /// A rule, a plan or a connection.
        kind: Kind,
        /// Its name.
        name: String,
    },
    /// Its jobs call through what is not among the connections.
    #[error(
        "{kind} `{name}` acts by itself through `{connection}`, and this token may not automate \
        that connection"
    )]
    Connection {
        /// A rule or a plan.
        kind: Kind,
        /// Its name.
        name: String,
        /// The connection.
        connection: String,
    },
}

impl Automation {
    /// By names and globs of rules, plans and connections; none if there are no lines at all.
    ///
    /// # Errors
    /// If a line is neither, or there are too many.
    pub fn of(
        rules: &[String],
        plans: &[String],
        connections: &[String],
    ) -> Result<Option<Self>, GlobListError> {
        let globs = |of, lines| Glob::parse_all(of, lines, MAX_LINES);
        let right = Self {
            rules: globs("rules", rules)?,
            plans: globs("plans", plans)?,
            connections: globs("connections", connections)?,
        };
        Ok(Some(right).filter(|right| *right != Self::default()))
    }

    /// What is lacking to let this act; nothing if it may be.
    pub fn lacks(&self, acting: &Acting) -> Option<Lacking> {
        let names = match acting.kind {
            Kind::Plan => &self.plans,
            Kind::Connection => &self.connections,
            _ => &self.rules,
        };
        let has = |globs: &[Glob], name: &str| globs.iter().any(|glob| glob.matches(name));
        let (kind, name) = (acting.kind, acting.name.clone());
        if !has(names, &name) {
            return Some(Lacking::Name { kind, name });
        }
        let missing = acting.connections.iter().find(|via| !has(&self.connections, via))?;
        Some(Lacking::Connection { kind, name, connection: missing.clone() })
    }
}

#[cfg(test)]
mod tests;
