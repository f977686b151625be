//! The `group:` document: resources under one name, of which guards take shares.
//!
//! Owns the document, its check, which resources belong to it and how many they are. What a guard
//! does with that is [`crate::guard`]'s business.

use crate::{
    definition::{Defined, Definition, Kind},
    document::{Checker, Document, Problem},
    glob::Glob,
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Most names and globs of one group.
const MAX_NAMES: usize = 5_000;
/// Most resources of a group that says how many it has.
const MAX_SIZE: u32 = 1_000_000;

/// A group as written.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct GroupDoc {
    /// The name.
    pub group: String,
    /// One line for people.
    #[serde(default)]
    pub summary: Option<String>,
    /// The resources, by name or by glob.
    pub resources: Vec<String>,
    /// How many they are, where globs stand among them. Left out: as many as are named.
    #[serde(default)]
    pub size: Option<u32>,
}

/// A checked group.
#[derive(Clone, Debug)]
pub struct Group {
    /// The name.
    pub name: String,
    /// One line for people.
    pub summary: Option<String>,
    /// The resources.
    resources: Vec<Glob>,
    /// How many they are, if that is known.
    size: Option<u32>,
}

impl Group {
    /// Whether a resource belongs to it.
    pub fn has(&self, resource: &str) -> bool {
        self.resources.iter().any(|glob| glob.matches(resource))
    }

    /// Its resources, if each is named.
    pub fn named(&self) -> Option<Vec<&str>> {
        self.resources.iter().map(Glob::exact).collect()
    }

    /// How many resources it has; none if globs stand among them and it does not say so.
    pub fn size(&self) -> Option<u32> {
        self.size
    }
}

impl Definition for Group {
    fn summary(&self) -> Option<&str> {
        self.summary.as_deref()
    }
}

impl Defined for Group {
    const KIND: Kind = Kind::Group;
    type Doc = GroupDoc;

    fn check(document: &Document) -> Result<Self, Vec<Problem>> {
        let (doc, mut check) = Checker::decoding::<GroupDoc>(document)?;
        if doc.resources.is_empty() {
            check.fail("/resources", "names nothing; a group has at least one resource");
        }
        if doc.resources.len() > MAX_NAMES {
            let named = doc.resources.len();
            check.fail("/resources", format!("names {named} things; {MAX_NAMES} are allowed"));
        }
        let mut resources: Vec<Glob> = Vec::new();
        for (i, text) in doc.resources.iter().enumerate().take(MAX_NAMES) {
            let at = format!("/resources/{i}");
            let Some(glob) = check.accept(&at, Glob::parse(text)) else { continue };
            if resources.contains(&glob) {
                check.fail(&at, format!("names {text} a second time"));
            }
            resources.push(glob);
        }
        let named = u32::try_from(resources.len()).unwrap_or(u32::MAX);
        let has_globs = resources.iter().any(|glob| glob.exact().is_none());
        let size = match doc.size {
            None => (!has_globs).then_some(named),
            Some(size) if !(1..=MAX_SIZE).contains(&size) => {
                check.fail("/size", format!("is a number from 1 to {MAX_SIZE}"));
                None
            }
            Some(size) if !has_globs && size != named => {
                let wrong = format!("is {size}, and {named} resources are named; leave it out");
                check.fail("/size", wrong);
                None
            }
            size => size,
        };
        check.finish(Some(Self { name: doc.group, summary: doc.summary, resources, size }))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::document::parse_file;

    fn checked(text: &str) -> Result<Group, String> {
        let documents = parse_file("group.yaml", text).map_err(|p| p.to_string())?;
        let told = |all: Vec<Problem>| {
            all.iter().map(|p| format!("{}: {}", p.line, p.message)).collect::<Vec<_>>().join("\n")
        };
        Group::check(&documents[0]).map_err(told)
    }

    #[test]
    fn names_and_globs_belong_and_only_names_are_counted() {
        let named = checked("group: web\nresources: [vm/quill-web-1, vm/quill-web-2]\n");
        let named = named.expect("is a group");
        assert!(named.has("vm/quill-web-1") && !named.has("vm/quill-web-3"));
        assert_eq!(named.size(), Some(2));
        let globs = checked("group: web\nresources: ['vm/quill-web-*']\n").expect("is a group");
        assert_eq!(globs.size(), None, "nobody knows how many there are");
        let said = checked("group: web\nresources: ['vm/quill-web-*']\nsize: 12\n");
        assert_eq!(said.expect("is a group").size(), Some(12));
    }

    #[test]
    fn what_cannot_be_a_group_is_said_with_its_line() {
        let wrong = |text: &str| checked(text).expect_err("is wrong");
        assert_eq!(
            wrong("group: web\nresources: []\n"),
            "2: names nothing; a group has at least one resource"
        );
        assert_eq!(wrong("group: web\nresources: [vm/a, vm/a]\n"), "2: names vm/a a second time");
        assert_eq!(
            wrong("group: web\nresources: [vm/a, vm/b]\nsize: 3\n"),
            "3: is 3, and 2 resources are named; leave it out"
        );
        assert_eq!(wrong("group: web\nresources: ['vm/*']\nsize: 0\n"), {
            "3: is a number from 1 to 1000000"
        });
    }
}
