//! What is written of a visit, and its pages with everything filled in.

use super::{
    expected::{Arrival, ExpectedPage, PageVisit},
    page,
};
use crate::{
    Period,
    connector::protocols::{RequestError, shared::CallScope},
    document::Checker,
    expr::{Names, Template},
    text::{cut, percent},
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// Most pages of a visit, other origins, and texts or elements of each kind on a page.
const MAX_PAGES: usize = 20;
const MAX_ALSO: usize = 10;
const MAX_EACH: usize = 20;
/// Longest value of a field, in bytes.
const MAX_FILL: usize = 64 << 10;

/// A visit to web pages, one after the other, as a browser makes it that runs no scripts: redirects
/// are followed, cookies kept until its end. It ends at the first page that is not as expected.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct VisitDoc {
    /// The pages in their order.
    pub pages: Vec<VisitedPageDoc>,
    /// Other origins to which the pages may lead (`https://login.skerrow.example`). Nothing of the
    /// connection's credential is shown there. Left out: a visit stays at its connection's.
    #[serde(default)]
    pub also: Vec<String>,
}

/// A page, how it is come to and what is expected of it. It has one of `open`, `follow` and
/// `submit`; the first page has `open`.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct VisitedPageDoc {
    /// Its path, below the connection's base address; what is filled in is percent-encoded.
    #[serde(default)]
    pub open: Option<String>,
    /// The link on the page before it that is followed: the first that this CSS selector finds.
    #[serde(default)]
    pub follow: Option<String>,
    /// The form on the page before it that is submitted: the first that this CSS selector finds.
    #[serde(default)]
    pub submit: Option<String>,
    /// What is filled into the form, by the names of its fields. The others are sent as they stand.
    #[serde(default)]
    pub fill: BTreeMap<String, String>,
    /// What it must be like.
    #[serde(default)]
    pub expect: ExpectedPageDoc,
    /// Texts that are read of it: of the first element that each CSS selector finds, by names of
    /// yours. Of a field it is the value.
    #[serde(default)]
    pub read: BTreeMap<String, String>,
}

/// What a page must be like.
#[derive(Clone, Debug, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ExpectedPageDoc {
    /// The status of the answer. Left out: any from 200 to 299.
    #[serde(default)]
    pub status: Option<u16>,
    /// Texts that are on it, as a reader sees them. However many spaces stand for one.
    #[serde(default)]
    pub text: Vec<String>,
    /// Texts that are not on it.
    #[serde(default)]
    pub no_text: Vec<String>,
    /// Elements that it has, each by a CSS selector.
    #[serde(default)]
    pub elements: Vec<String>,
    /// Elements that it has not.
    #[serde(default)]
    pub no_elements: Vec<String>,
    /// How long it may take, with its redirects. Left out: as long as a request of its connection.
    #[serde(default)]
    pub within: Option<Period>,
}

/// A checked page.
#[derive(Clone, Debug)]
pub(super) struct PageTemplate {
    arrival: ArrivalTemplate,
    status: Option<u16>,
    text: Vec<Template>,
    no_text: Vec<Template>,
    elements: Vec<String>,
    no_elements: Vec<String>,
    within: Option<Period>,
    read: Vec<(String, String)>,
}

#[derive(Clone, Debug)]
enum ArrivalTemplate {
    Open(Template),
    Follow(String),
    Submit { form: String, fill: Vec<(String, Template)> },
}

impl VisitDoc {
    /// What it does, as written.
    pub(super) fn line(&self) -> String {
        let first = self.pages.first().and_then(|page| page.open.as_deref());
        let more = match self.pages.len().saturating_sub(1) {
            0 => String::new(),
            1 => " and 1 page after it".to_owned(),
            more => format!(" and {more} pages after it"),
        };
        format!("VISIT {}{more}", first.unwrap_or_default())
    }
}

/// Checks the pages of a visit.
pub(super) fn check(
    check: &mut Checker<'_>,
    at: &str,
    doc: VisitDoc,
    names: Names<'_>,
) -> Option<Vec<PageTemplate>> {
    if doc.pages.is_empty() || doc.pages.len() > MAX_PAGES {
        check.fail(&format!("{at}/pages"), format!("has from 1 to {MAX_PAGES} pages"));
        return None;
    }
    if doc.also.len() > MAX_ALSO {
        check.fail(&format!("{at}/also"), format!("has at most {MAX_ALSO} origins"));
    }
    for (n, origin) in doc.also.iter().enumerate() {
        if !is_origin(origin) {
            check.fail(
                &format!("{at}/also/{n}"),
                "is an origin and nothing more, such as https://login.skerrow.example",
            );
        }
    }
    let pages = doc.pages.into_iter().enumerate();
    let pages: Vec<Option<PageTemplate>> =
        pages.map(|(n, page)| PageTemplate::check(check, at, n, page, names)).collect();
    pages.into_iter().collect()
}

/// Whether a text is a scheme, a host and perhaps a port (RFC 6454).
fn is_origin(text: &str) -> bool {
    let host = text.strip_prefix("https://").or_else(|| text.strip_prefix("http://"));
    host.is_some_and(|host| {
        let fits = |c: char| c.is_ascii_alphanumeric() || "-.:[]".contains(c);
        !host.is_empty() && host.chars().all(fits)
    })
}

fn selectors(check: &mut Checker<'_>, at: &str, all: &[String]) {
    if all.len() > MAX_EACH {
        check.fail(at, format!("has at most {MAX_EACH} of them"));
    }
    for (n, selector) in all.iter().enumerate() {
        is_selector(check, &format!("{at}/{n}"), selector);
    }
}

fn is_selector(check: &mut Checker<'_>, at: &str, selector: &str) {
    if selector.contains("${") {
        check.fail(at, "is a CSS selector as it stands; nothing is filled in");
    } else if !page::is_selector(selector) {
        check.fail(at, format!("`{}` is not a CSS selector", cut(selector, 80)));
    }
}

impl PageTemplate {
    fn check(
        check: &mut Checker<'_>,
        at: &str,
        n: usize,
        doc: VisitedPageDoc,
        names: Names<'_>,
    ) -> Option<Self> {
        let at = format!("{at}/pages/{n}");
        if !doc.fill.is_empty() && doc.submit.is_none() {
            check.fail(&format!("{at}/fill"), "belongs to a form that is a `submit`");
        }
        let arrival = match (doc.open, doc.follow, doc.submit) {
            (Some(path), None, None) => {
                if !path.starts_with('/') {
                    check.fail(&format!("{at}/open"), "begins with /");
                }
                let path = check.template(&format!("{at}/open"), &path.into(), names);
                path.map(ArrivalTemplate::Open)
            }
            (None, Some(link), None) => {
                is_selector(check, &format!("{at}/follow"), &link);
                Some(ArrivalTemplate::Follow(link))
            }
            (None, None, Some(form)) => {
                is_selector(check, &format!("{at}/submit"), &form);
                let fill = doc.fill.into_iter().map(|(name, value)| {
                    let key = name.replace('~', "~0").replace('/', "~1");
                    let value = check.template(&format!("{at}/fill/{key}"), &value.into(), names);
                    value.map(|value| (name, value))
                });
                let fill: Vec<Option<_>> = fill.collect();
                let fill = fill.into_iter().collect::<Option<Vec<_>>>();
                fill.map(|fill| ArrivalTemplate::Submit { form, fill })
            }
            _ => {
                check.fail(&at, "has one of `open`, `follow` and `submit`");
                None
            }
        };
        if n == 0
            && matches!(arrival, Some(ref first) if !matches!(first, ArrivalTemplate::Open(_)))
        {
            check.fail(&at, "is the first page, which has `open`");
        }
        let ExpectedPageDoc { status, text, no_text, elements, no_elements, within } = doc.expect;
        if status.is_some_and(|status| !(100..600).contains(&status)) {
            check.fail(&format!("{at}/expect/status"), "is a status of HTTP, from 100 to 599");
        }
        selectors(check, &format!("{at}/expect/elements"), &elements);
        selectors(check, &format!("{at}/expect/no_elements"), &no_elements);
        let read: Vec<(String, String)> = doc.read.into_iter().collect();
        if read.len() > MAX_EACH {
            check.fail(&format!("{at}/read"), format!("has at most {MAX_EACH} of them"));
        }
        for (name, selector) in &read {
            let key = name.replace('~', "~0").replace('/', "~1");
            is_selector(check, &format!("{at}/read/{key}"), selector);
        }
        let mut texts = |key: &str, all: Vec<String>| {
            let at = format!("{at}/expect/{key}");
            if all.len() > MAX_EACH {
                check.fail(&at, format!("has at most {MAX_EACH} of them"));
            }
            let each = all.into_iter().enumerate();
            let each: Vec<Option<Template>> = each
                .map(|(n, text)| check.template(&format!("{at}/{n}"), &text.into(), names))
                .collect();
            each.into_iter().collect::<Option<Vec<_>>>()
        };
        let (text, no_text) = (texts("text", text), texts("no_text", no_text));
        Some(Self {
            arrival: arrival?,
            status,
            text: text?,
            no_text: no_text?,
            elements,
            no_elements,
            within,
            read,
        })
    }

    /// Whether it is only looked at.
    pub(super) const fn only_looks(&self) -> bool {
        !matches!(self.arrival, ArrivalTemplate::Submit { .. })
    }

    pub(super) fn fill(&self, view: &CallScope<'_>) -> Result<PageVisit, RequestError> {
        let arrival = match &self.arrival {
            ArrivalTemplate::Open(path) => Arrival::Open(path.fill_encoded(view, percent)?),
            ArrivalTemplate::Follow(link) => Arrival::Follow(link.clone()),
            ArrivalTemplate::Submit { form, fill } => {
                let fill = fill.iter().map(|(name, value)| {
                    let value = value.fill_text(view)?;
                    if value.len() > MAX_FILL {
                        let wrong = format!(
                            "fill: {name}: has {} bytes; {MAX_FILL} are allowed",
                            value.len()
                        );
                        return Err(RequestError::Part(wrong));
                    }
                    Ok((name.clone(), value))
                });
                Arrival::Submit { form: form.clone(), fill: fill.collect::<Result<_, _>>()? }
            }
        };
        let texts = |all: &[Template]| -> Result<Vec<String>, RequestError> {
            all.iter().map(|text| Ok(text.fill_text(view)?)).collect()
        };
        let expected = ExpectedPage {
            status: self.status,
            text: texts(&self.text)?,
            no_text: texts(&self.no_text)?,
            elements: self.elements.clone(),
            no_elements: self.no_elements.clone(),
            within: self.within,
        };
        Ok(PageVisit { arrival, expected, read: self.read.clone() })
    }
}
