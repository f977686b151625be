//! Everything that a rule is known to demand of an alert, lines and `where` together, so that
//! contradictions and overlaps can be told without any alert.

use super::Rule;
use crate::{
    Severity,
    expr::{Demand, Expr, Path},
    glob::Glob,
};
use std::collections::BTreeMap;

/// Demands that must all be met. What cannot be told beforehand is left out, so that they may
/// allow more than their rule, but never less.
#[derive(Clone, Debug)]
pub struct Demands {
    /// For each field lists of globs; of each list one must match.
    pub texts: BTreeMap<Path, Vec<Vec<Glob>>>,
    /// Bit 0 is indeterminate, bit 4 critical.
    severities: u8,
    states: u8,
    low: f64,
    high: f64,
    never: bool,
}

impl Demands {
    /// Of one rule.
    pub fn collect(rule: &Rule) -> Self {
        let listen = &rule.listen;
        let mut demands = Self {
            texts: BTreeMap::new(),
            severities: listen.severity.as_ref().map_or(0b1_1111, |ranges| {
                let inside =
                    Severity::ALL.into_iter().filter(|s| ranges.iter().any(|r| r.contains(*s)));
                inside.fold(0, |set, s| set | s.bit())
            }),
            states: listen.states.iter().fold(0, |set, s| set | 1 << *s as u8),
            low: f64::NEG_INFINITY,
            high: f64::INFINITY,
            never: false,
        };
        let lines = [
            (Path::Source, &listen.sources),
            (Path::Kind, &listen.kinds),
            (Path::Resource, &listen.resource),
        ];
        for (path, globs) in lines {
            demands.demand(path, globs.clone());
        }
        for (name, globs) in &listen.labels {
            demands.demand(Path::Label(name.clone()), Some(globs.clone()));
        }
        for demand in listen.condition.iter().flat_map(Expr::demands) {
            demands.narrow(demand);
        }
        demands
    }

    fn demand(&mut self, path: Path, globs: Option<Vec<Glob>>) {
        if let Some(globs) = globs {
            self.texts.entry(path).or_default().push(globs);
        }
    }

    fn narrow(&mut self, demand: Demand) {
        match demand {
            Demand::OneOf(path, texts) => {
                // A text with a wildcard in it cannot be said as a glob; it is left out.
                let globs: Option<Vec<Glob>> = texts
                    .iter()
                    .map(|t| Glob::parse(t).ok().filter(|g| g.exact().is_some()))
                    .collect();
                self.demand(path, globs);
            }
            Demand::Like(path, glob) => self.demand(path, Some(vec![glob])),
            Demand::Holds(path, text) if !text.contains(['*', '?']) => {
                self.demand(path, Glob::parse(&format!("**{text}**")).ok().map(|g| vec![g]));
            }
            Demand::Holds(..) => {}
            Demand::Severity(set) => self.severities &= set,
            Demand::Value(low, high) => {
                self.low = self.low.max(low);
                self.high = self.high.min(high);
            }
            Demand::Never => self.never = true,
        }
    }

    /// Whether alerts may well match both. Two globs that only a contrived name would match are
    /// taken as apart: a sample of one must match the other, or one of the names that are known.
    pub fn likely_meets(&self, other: &Self, known: &dyn Fn(&Path) -> Vec<String>) -> bool {
        let both = self.and(other);
        if both.contradiction().is_some() {
            return false;
        }
        both.texts.iter().all(|(path, lists)| {
            let samples = lists.iter().flatten().map(Glob::sample).chain(known(path));
            samples
                .into_iter()
                .any(|text| lists.iter().all(|list| list.iter().any(|g| g.matches(&text))))
        })
    }

    /// Why no alert can meet all of it, if that is so.
    pub fn contradiction(&self) -> Option<String> {
        if self.never {
            return Some("`where` is never true".into());
        }
        if self.severities == 0 {
            return Some("no severity meets all that is demanded of it".into());
        }
        if self.states == 0 {
            return Some("no state meets all that is demanded of it".into());
        }
        if self.low > self.high {
            return Some("no value meets all that is demanded of `alert.value`".into());
        }
        let disjoint = |lists: &[Vec<Glob>]| {
            lists.iter().enumerate().any(|(i, a)| {
                lists[i + 1..].iter().any(|b| !a.iter().any(|x| b.iter().any(|y| x.meets(y))))
            })
        };
        let (path, _) = self.texts.iter().find(|(_, lists)| disjoint(lists))?;
        Some(format!("nothing meets all that is demanded of `{path}`"))
    }

    /// The demands of both together.
    #[must_use]
    pub fn and(&self, other: &Self) -> Self {
        let mut both = self.clone();
        for (path, lists) in &other.texts {
            both.texts.entry(path.clone()).or_default().extend(lists.iter().cloned());
        }
        both.severities &= other.severities;
        both.states &= other.states;
        both.low = both.low.max(other.low);
        both.high = both.high.min(other.high);
        both.never |= other.never;
        both
    }
}
