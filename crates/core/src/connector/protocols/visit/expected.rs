//! One page of a visit: how it is come to, what it must be like, and what is wrong with it.

use super::{
    form,
    page::{self, Page, PageTarget, TargetBase},
};
use crate::{Period, text::cut};
use serde_json::{Map, Value, json};

/// Longest text that is read of an element, in bytes.
const MAX_READ: usize = 2000;

/// How one page is come to, and what it must be like.
#[derive(Clone, Debug, PartialEq)]
pub struct PageVisit {
    pub(super) arrival: Arrival,
    pub(super) expected: ExpectedPage,
    /// Selectors of elements that are read, by names.
    pub(super) read: Vec<(String, String)>,
}

/// How a page is come to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Arrival {
    /// By its address, below that of the connection.
    Open(String),
    /// By the link on the page before it that a selector finds.
    Follow(String),
    /// By the form on the page before it that a selector finds.
    Submit {
        /// The selector.
        form: String,
        /// What is filled in, by the names of its fields.
        fill: Vec<(String, String)>,
    },
}

#[derive(Clone, Debug, PartialEq)]
pub(super) struct ExpectedPage {
    pub status: Option<u16>,
    pub text: Vec<String>,
    pub no_text: Vec<String>,
    pub elements: Vec<String>,
    pub no_elements: Vec<String>,
    pub within: Option<Period>,
}

/// What came when a page was asked for.
#[derive(Clone, Debug)]
pub struct PageCame {
    /// Its address, after all redirects.
    pub url: String,
    /// The status of the answer.
    pub status: u16,
    /// How long it took, with its redirects.
    pub took: Period,
    /// Whether only its beginning was read.
    pub is_cut: bool,
}

/// A page that was seen, or did not come.
#[derive(Clone, Debug, PartialEq)]
pub struct SeenPage {
    /// As `response` has it.
    pub(super) shown: Value,
    /// What is wrong with it; none if it is as expected.
    pub wrong: Option<String>,
}

impl PageVisit {
    /// How it is come to.
    pub const fn arrival(&self) -> &Arrival {
        &self.arrival
    }

    /// Where it is, by the page before it; none for the first, which is opened.
    ///
    /// # Errors
    /// That nothing leads there.
    pub fn target(&self, before: Option<&Page>) -> Result<PageTarget, String> {
        match (&self.arrival, before) {
            (Arrival::Open(address), _) => Ok(PageTarget {
                address: address.clone(),
                base: TargetBase::Connection,
                fields: None,
                is_post: false,
            }),
            (Arrival::Follow(link), Some(before)) => before.link(link),
            (Arrival::Submit { form, fill }, Some(before)) => form::submitted(before, form, fill),
            (Arrival::Follow(_) | Arrival::Submit { .. }, None) => {
                Err("there is no page before it".to_owned())
            }
        }
    }

    /// Looks at what came.
    pub fn see(&self, came: &PageCame, page: &Page) -> SeenPage {
        let title = page.title();
        let mut read = Map::new();
        for (name, selector) in &self.read {
            let text = page.first(selector).map(|text| cut(&text, MAX_READ).to_owned());
            read.insert(name.clone(), text.map_or(Value::Null, Value::String));
        }
        let shown = json!({
            "url": came.url, "status": came.status, "title": title,
            "took_ms": came.took.millis(), "read": read,
        });
        SeenPage { shown, wrong: self.expected.misses(came, page) }
    }
}

impl SeenPage {
    /// One that did not come, and why.
    pub fn missing(url: &str, took: Period, why: String) -> Self {
        let shown = json!({
            "url": url, "status": null, "title": null, "took_ms": took.millis(), "read": {},
        });
        Self { shown, wrong: Some(why) }
    }
}

impl std::fmt::Display for Arrival {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Open(address) => write!(f, "open {address}"),
            Self::Follow(link) => write!(f, "follow `{link}`"),
            Self::Submit { form, .. } => write!(f, "submit `{form}`"),
        }
    }
}

impl ExpectedPage {
    /// What a page lacks, or has and should not.
    fn misses(&self, came: &PageCame, page: &Page) -> Option<String> {
        let good = self.status.map_or((200..300).contains(&came.status), |s| s == came.status);
        if !good {
            let wanted = self.status.map_or_else(String::new, |s| format!(" and not {s}"));
            return Some(format!("answered {}{wanted}", came.status));
        }
        let read = if came.is_cut { " in the part of it that was read" } else { "" };
        let text = page.text();
        let seen = |wanted: &String| text.contains(&page::collapsed(wanted));
        if let Some(wanted) = self.text.iter().find(|wanted| !seen(wanted)) {
            return Some(format!("`{}` is not on it{read}", cut(wanted, 200)));
        }
        if let Some(unwanted) = self.no_text.iter().find(|unwanted| seen(unwanted)) {
            return Some(format!("`{}` is on it", cut(unwanted, 200)));
        }
        if let Some(wanted) = self.elements.iter().find(|wanted| !page.has(wanted)) {
            return Some(format!("it has no element `{wanted}`{read}"));
        }
        if let Some(unwanted) = self.no_elements.iter().find(|unwanted| page.has(unwanted)) {
            let says = page.first(unwanted).filter(|text| !text.is_empty());
            let says = says.map_or_else(String::new, |text| format!(": {}", cut(&text, 200)));
            return Some(format!("it has an element `{unwanted}`{says}"));
        }
        let slow = self.within.filter(|most| came.took.millis() > most.millis())?;
        Some(format!("took {}, more than {slow}", came.took))
    }
}
