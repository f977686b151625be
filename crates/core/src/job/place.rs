//! Where a step stands in a running job: the path of the steps around it, and which item of their
//! lists.

use serde::{Deserialize, Serialize};
use std::fmt;

/// The path of a step from the top, such as `pool[3].grow`: ids of steps, each with the number of
/// the item, from 0, where it goes through a list. What belongs to a step stands behind it:
/// `pool[3].grow.undo`.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Place(String);

impl Place {
    /// A place as it is written.
    pub fn new(text: impl Into<String>) -> Self {
        Self(text.into())
    }

    /// A step within the one at this place, or what belongs to it.
    #[must_use]
    pub fn within(&self, id: &str) -> Self {
        if self.0.is_empty() { Self(id.to_owned()) } else { Self(format!("{}.{id}", self.0)) }
    }

    /// One item of the list that the step at this place goes through.
    #[must_use]
    pub fn item(&self, number: usize) -> Self {
        Self(format!("{}[{number}]", self.0))
    }

    /// As it is written.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// The id of the step itself.
    pub fn id(&self) -> &str {
        self.0.rsplit('.').next().unwrap_or(&self.0)
    }

    /// The innermost item that it stands in; empty outside of all lists.
    pub fn lane(&self) -> &str {
        self.0.rfind(']').map_or("", |at| &self.0[..=at])
    }

    /// The items that it stands in, from the outermost: the step that goes through the list, and
    /// the number.
    pub fn items(&self) -> Vec<(Self, usize)> {
        let ends = self.0.match_indices(']').map(|(at, _)| at);
        let item = |end: usize| {
            let begin = self.0[..end].rfind('[')?;
            Some((Self(self.0[..begin].to_owned()), self.0[begin + 1..end].parse().ok()?))
        };
        ends.filter_map(item).collect()
    }

    /// The question of which this is a message.
    pub fn asks(&self) -> Option<&str> {
        let (step, part) = self.0.rsplit_once('.')?;
        matches!(part, "told" | "reached").then_some(step)
    }

    /// Whether a step of the runbook stands here, and not what belongs to one.
    pub fn is_step(&self) -> bool {
        !matches!(self.id(), "undo" | "probe" | "told" | "reached" | "announced")
    }
}

impl fmt::Display for Place {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_place_knows_the_items_that_it_stands_in() {
        let top = Place::new("");
        let grow = top.within("pool").item(3).within("go").within("disks").item(0).within("grow");
        assert_eq!(grow.as_str(), "pool[3].go.disks[0].grow");
        assert_eq!((grow.id(), grow.lane()), ("grow", "pool[3].go.disks[0]"));
        assert_eq!(grow.items(), [(Place::new("pool"), 3), (Place::new("pool[3].go.disks"), 0)]);
        assert_eq!((top.within("go").within("grow").lane(), top.items()), ("", vec![]));
        assert!(grow.is_step() && !grow.within("undo").is_step());
    }
}
