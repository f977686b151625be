//! The connection or the runbook that a step names: as written, or worked out while the job runs
//! from an expression, as one of those that the author lists. So one runbook serves all sites,
//! regions and accounts, and no alert turns it to a connection that nobody listed.

use super::document::Build;
use crate::{
    definition::{Fault, Kind, Mismatch, Missing, Others},
    document::Checker,
    expr::{ExprError, Names, Part, Scope, Template},
    glob::Glob,
    runbook::type_environment::{Evaluated, TypeEnvironment, Visitor},
    text::cut,
};
use serde_json::Value;
use std::fmt;

/// Most names and globs of one list.
const MAX_LISTED: usize = 50;
/// Most definitions that a list may match: each may be what a step names.
const MAX_MATCHED: usize = 200;
/// Most definitions of which it is said that they do not fit.
const MAX_UNFIT: usize = 5;
/// Names of which the value may change while a job runs: tries of one call would go different ways.
const CHANGING: [&str; 5] = ["job", "alarm", "memory", "result", "decision"];

/// Names one definition of a kind.
#[derive(Clone, Debug)]
pub enum Reference {
    /// This one.
    Written(String),
    /// One of those that are listed.
    Listed(Box<ListedReference>),
}

/// A name that is worked out.
#[derive(Clone, Debug)]
pub struct ListedReference {
    kind: Kind,
    text: String,
    name: Template,
    names: Vec<Glob>,
    /// Where it stands, and where the names are listed.
    pointers: [String; 2],
    of_inputs: bool,
}

/// As written: the key with its value, and the list beside it.
pub(super) struct ReferenceDoc<'d> {
    /// What is named.
    pub kind: Kind,
    /// The key and its value.
    pub named: (&'static str, String),
    /// The key of the list, and its names and globs.
    pub listed: (&'static str, &'d [String]),
    /// What stands for the list where it is empty, with its pointer.
    pub otherwise: Option<(&'d str, &'d [Glob])>,
}

/// Why a name cannot be worked out, or is none of those that are listed.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum ReferenceError {
    /// The expression goes wrong.
    #[error(transparent)]
    Expr(#[from] ExprError),
    /// It is none of those that are listed.
    #[error("{kind} `{name}` is none of {listed}")]
    NotListed {
        /// What it would be.
        kind: Kind,
        /// What came out.
        name: String,
        /// The names and globs.
        listed: String,
    },
    /// It is not there.
    #[error(transparent)]
    Missing(#[from] Missing),
}

impl ReferenceDoc<'_> {
    pub(super) fn check(
        self,
        build: &mut Build<'_, '_>,
        at: &str,
        names: Names<'_>,
    ) -> Option<Reference> {
        let (key, text) = self.named;
        let (list, listed) = self.listed;
        let pointer = format!("{at}/{key}");
        let roots: Vec<&str> =
            names.roots.iter().copied().filter(|root| !CHANGING.contains(root)).collect();
        let names = Names { roots: &roots, ..names };
        let name = build.check.template(&pointer, &Value::String(text.clone()), names)?;
        let own = format!("{at}/{list}");
        if let Some(Value::String(name)) = name.fixed() {
            if !listed.is_empty() {
                let wrong = format!(
                    "`{list}` belongs to a `{key}` that is worked out, as in `${{inputs.site}}`"
                );
                build.check.fail(&own, wrong);
                return None;
            }
            return Some(Reference::Written(name));
        }
        let (list_at, globs) = match (listed, self.otherwise) {
            ([], Some((at, globs))) if !globs.is_empty() => (at.to_owned(), globs.to_vec()),
            ([], _) => {
                let wrong = format!(
                    "`{key}` is worked out here; add `{list}`, the names and globs of all {}s \
                    that it may give",
                    self.kind
                );
                build.check.fail(&pointer, wrong);
                return None;
            }
            (listed, _) => (own.clone(), globs(build.check, &own, listed)?),
        };
        let of_inputs = roots.iter().all(|root| *root == "inputs" || !name.reads(root));
        let pointers = [pointer, list_at];
        let listed =
            ListedReference { kind: self.kind, text, name, names: globs, pointers, of_inputs };
        Some(Reference::Listed(Box::new(listed)))
    }
}

/// The names and globs of a list.
pub(in crate::runbook) fn globs(
    check: &mut Checker<'_>,
    at: &str,
    listed: &[String],
) -> Option<Vec<Glob>> {
    if listed.len() > MAX_LISTED {
        check.fail(at, format!("lists at most {MAX_LISTED} names and globs"));
        return None;
    }
    let one = |(n, text): (usize, &String)| match Glob::parse(text) {
        Ok(glob) => Some(glob),
        Err(e) => {
            check.fail(&format!("{at}/{n}"), e.to_string());
            None
        }
    };
    let made: Vec<Option<Glob>> = listed.iter().enumerate().map(one).collect();
    made.into_iter().collect()
}

impl Reference {
    /// The name, where it is written out.
    pub fn written(&self) -> Option<&str> {
        match self {
            Self::Written(name) => Some(name),
            Self::Listed(_) => None,
        }
    }

    /// All names that are written out, those of the list without its globs.
    pub fn written_out(&self) -> Vec<&str> {
        match self {
            Self::Written(name) => vec![name],
            Self::Listed(of) => of.names.iter().filter_map(Glob::exact).collect(),
        }
    }

    /// As it is written, and the list beside it.
    pub(super) fn as_written(&self) -> (&str, Vec<&str>) {
        match self {
            Self::Written(name) => (name, Vec::new()),
            Self::Listed(of) => (&of.text, of.names.iter().map(Glob::as_str).collect()),
        }
    }

    /// The expression; none where the name is written out.
    pub fn template(&self) -> Option<&Template> {
        match self {
            Self::Written(_) => None,
            Self::Listed(of) => Some(&of.name),
        }
    }

    /// The name that it is now.
    ///
    /// # Errors
    /// If it cannot be worked out, or is none of those that are listed.
    pub fn resolve<'a>(&'a self, scope: &'a dyn Scope<'a>) -> Result<String, ReferenceError> {
        match self {
            Self::Written(name) => Ok(name.clone()),
            Self::Listed(of) => of.chosen(of.name.fill_text(scope)?),
        }
    }

    /// Where it stands, if it is worked out of the inputs alone: what it is shows before the job.
    pub(in crate::runbook) fn of_inputs(&self) -> Option<&ListedReference> {
        match self {
            Self::Listed(of) if of.of_inputs => Some(of),
            _ => None,
        }
    }

    /// Whether it may name this one.
    pub fn may_name(&self, name: &str) -> bool {
        match self {
            Self::Written(written) => written == name,
            Self::Listed(of) => of.lists(name),
        }
    }

    /// All that it may name.
    pub fn all<'a>(&'a self, others: &'a dyn Others) -> Vec<&'a str> {
        match self {
            Self::Written(name) => vec![name],
            Self::Listed(of) => {
                others.names(of.kind).into_iter().filter(|name| of.lists(name)).collect()
            }
        }
    }

    /// The one input that it is made of, with whatever is written around it, and the values of that
    /// input for which there is something; none if it is made otherwise.
    pub(in crate::runbook) fn choices(&self, others: &dyn Others) -> Option<(&str, Vec<String>)> {
        let Self::Listed(of) = self else { return None };
        let (before, expr, behind) = match &of.name {
            Template::Whole(expr) => ("", expr, ""),
            Template::Text(parts) => match &parts[..] {
                [Part::Fill(expr)] => ("", expr, ""),
                [Part::Plain(before), Part::Fill(expr)] => (before.as_str(), expr, ""),
                [Part::Fill(expr), Part::Plain(behind)] => ("", expr, behind.as_str()),
                [Part::Plain(before), Part::Fill(expr), Part::Plain(behind)] => {
                    (before.as_str(), expr, behind.as_str())
                }
                _ => return None,
            },
            _ => return None,
        };
        let plain = |c: char| c.is_ascii_alphanumeric() || c == '_';
        let input = expr.text().trim().strip_prefix("inputs.")?;
        let input = Some(input).filter(|name| name.chars().all(plain))?;
        let value = |name: &str| Some(name.strip_prefix(before)?.strip_suffix(behind)?.to_owned());
        Some((input, self.all(others).into_iter().filter_map(value).collect()))
    }

    /// What of it does not fit with the definitions around it, where each that it may name is asked
    /// what does not fit with it. Of a name that is written out all of that stands where it says.
    pub(super) fn misfits(
        &self,
        others: &dyn Others,
        unfit: &dyn Fn(&str) -> Vec<Mismatch>,
    ) -> Vec<Mismatch> {
        let of = match self {
            Self::Written(name) => return unfit(name),
            Self::Listed(of) => of,
        };
        let names = others.names(of.kind);
        let [_, listed] = &of.pointers;
        let matched = names.iter().filter(|name| of.lists(name)).count();
        if matched > MAX_MATCHED {
            let wrong = format!("matches {matched} {}s; {MAX_MATCHED} are allowed", of.kind);
            return vec![Mismatch::at(listed.clone(), Fault::Unfit(wrong))];
        }
        let idle = of
            .names
            .iter()
            .enumerate()
            .filter(|(_, glob)| !names.iter().any(|name| glob.matches(name)));
        let idle = idle.map(|(n, glob)| {
            let missing = Missing::new(of.kind.as_str(), glob.as_str(), names.iter().copied());
            Mismatch::at(format!("{listed}/{n}"), missing)
        });
        let unfit = names.iter().filter(|name| of.lists(name)).flat_map(|name| {
            let whose = format!("{} `{name}`", of.kind);
            let said = move |fault: Fault| match fault {
                Fault::Unfit(wrong) if wrong.starts_with(&whose) => Fault::Unfit(wrong),
                Fault::Unfit(wrong) => Fault::Unfit(format!("{whose}: {wrong}")),
                Fault::Missing(missing) => Fault::Missing(match &missing.of {
                    None => missing.of(whose.clone()),
                    Some(of) => missing.clone().of(format!("{of}, which is that of {whose}")),
                }),
            };
            unfit(name).into_iter().map(move |m| Mismatch::at(m.pointer, said(m.fault)))
        });
        idle.chain(unfit.take(MAX_UNFIT)).collect()
    }

    pub(super) fn visit<'a>(
        &'a self,
        at: &str,
        known: &TypeEnvironment<'a>,
        look: &mut Visitor<'a, '_>,
    ) {
        // Where it was taken over from another step it was looked at there.
        if let Self::Listed(of) = self
            && of.pointers[0] == at
        {
            look(at, Evaluated::Template(&of.name), known.names());
        }
    }
}

impl ListedReference {
    fn lists(&self, name: &str) -> bool {
        self.names.iter().any(|glob| glob.matches(name))
    }

    fn chosen(&self, name: String) -> Result<String, ReferenceError> {
        if self.lists(&name) {
            return Ok(name);
        }
        let listed =
            self.names.iter().map(|glob| format!("`{}`", glob.as_str())).collect::<Vec<_>>();
        let (name, listed) = (cut(&name, 100).to_owned(), listed.join(", "));
        Err(ReferenceError::NotListed { kind: self.kind, name, listed })
    }

    /// Checks what it is with these inputs.
    pub(in crate::runbook) fn check_with<'a>(
        &'a self,
        inputs: &'a dyn Scope<'a>,
        others: &dyn Others,
    ) -> Result<(), ReferenceError> {
        let name = self.chosen(self.name.fill_text(inputs)?)?;
        Ok(others.must_have(self.kind, &name)?)
    }
}

impl fmt::Display for Reference {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Written(name) => f.write_str(name),
            Self::Listed(of) => {
                let listed: Vec<&str> = of.names.iter().map(Glob::as_str).collect();
                write!(f, "{}, one of {}", of.text, listed.join(", "))
            }
        }
    }
}
