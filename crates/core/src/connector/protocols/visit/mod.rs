//! Visits to web pages: what a visitor does and sees, without a browser. Pages are opened one after
//! the other, links followed, forms filled in. What a page lacks, or that it does not come, is what
//! a visit tells, and no failure of its call.
//!
//! [`document`] has what is written, [`expected`] what a page must be like, [`page`] what a page
//! is, [`form`] what a form sends.

mod document;
mod expected;
mod form;
mod page;

pub use document::{ExpectedPageDoc, VisitDoc, VisitedPageDoc};
pub use expected::{Arrival, PageCame, PageVisit, SeenPage};
pub use page::{Page, PageReader, PageTarget, TargetBase};

use super::{
    RequestError,
    shared::{CallScope, GivenValues, OneAnswer, ShownRequest},
};
use crate::{
    Period,
    connector::failure::{Failure, Hiding},
    document::Checker,
    expr::{Names, Type},
};
use document::PageTemplate;
use serde_json::{Value, json};
use std::sync::Arc;

/// A checked visit.
#[derive(Clone, Debug)]
pub struct VisitCall {
    line: String,
    pages: Vec<PageTemplate>,
    also: Vec<String>,
    only_looks: bool,
}

impl VisitCall {
    /// Checks a visit; what is given has the type `give`. With it comes what `output` may use, and
    /// the types of that.
    pub(in crate::connector) fn check(
        check: &mut Checker<'_>,
        at: &str,
        doc: VisitDoc,
        give: &Type,
    ) -> (Option<Self>, Vec<(&'static str, Type)>) {
        let given = [("give", give.clone())];
        let names = Names { roots: &["give"], functions: &[], types: &given };
        let line = doc.line();
        let also = doc.also.clone();
        let pages = document::check(check, &format!("{at}/visit"), doc, names);
        let record = |fields: &[(&str, Type)]| {
            let fields = fields.iter().map(|(name, of)| ((*name).to_owned(), of.clone()));
            Type::Record(Arc::new(fields.collect()))
        };
        let page = record(&[
            ("url", Type::Text),
            ("status", Type::Any),
            ("title", Type::Any),
            ("took_ms", Type::Number),
            ("read", Type::Any),
        ]);
        let response = record(&[
            ("ok", Type::Bool),
            ("why", Type::Any),
            ("pages", Type::List(Arc::new(page))),
            ("certificate", Type::Any),
        ]);
        let made = pages.map(|pages| {
            let only_looks = pages.iter().all(PageTemplate::only_looks);
            Self { line, pages, also, only_looks }
        });
        (made, vec![("give", give.clone()), ("response", response)])
    }

    /// What it does, as written.
    pub fn line(&self) -> &str {
        &self.line
    }

    /// Whether it changes nothing: it submits no form.
    pub const fn is_safe(&self) -> bool {
        self.only_looks
    }

    /// How long all of it may take, if one request may take so long: a visit asks for each page,
    /// and wherever that leads.
    pub fn longest(&self, request: Period) -> Period {
        let pages = u64::try_from(self.pages.len()).unwrap_or(u64::MAX);
        Period::from_millis(request.millis().saturating_mul(pages)).min(Period::LONGEST)
    }

    pub(super) fn begin<'o>(
        &self,
        gives: GivenValues<'o>,
        give: Value,
    ) -> Result<VisitPlan<'o>, RequestError> {
        let view = CallScope { give: &give, response: None };
        let pages = self.pages.iter().map(|page| page.fill(&view)).collect::<Result<_, _>>()?;
        Ok(VisitPlan { pages, also: self.also.clone(), answer: OneAnswer::new(gives, give) })
    }
}

/// A visit that is to be made.
#[derive(Debug)]
pub struct VisitPlan<'o> {
    pages: Vec<PageVisit>,
    also: Vec<String>,
    answer: OneAnswer<'o>,
}

impl<'o> VisitPlan<'o> {
    /// What its failures say of answers is hidden by this; its outputs are not touched.
    #[must_use]
    pub fn hiding(self, hiding: Hiding<'o>) -> Self {
        Self { answer: self.answer.hiding(hiding), ..self }
    }

    /// The pages in their order.
    pub fn pages(&self) -> &[PageVisit] {
        &self.pages
    }

    /// Other origins to which the pages may lead.
    pub fn also(&self) -> &[String] {
        &self.also
    }

    pub(super) fn shown(&self) -> ShownRequest {
        let pages: Vec<String> = self.pages.iter().map(|page| page.arrival.to_string()).collect();
        ShownRequest { method: "VISIT".into(), target: pages.join(", then "), body: None }
    }

    /// The output of a visit that has ended with these pages, the last of which may be wrong.
    ///
    /// # Errors
    /// That none can be made of it.
    pub fn seen(&self, pages: &[SeenPage], certificate: Value) -> Result<Value, Failure> {
        let response = self.response(pages, certificate);
        self.answer.output(response, 0)
    }

    /// What a visit found, as people see it.
    pub fn response(&self, pages: &[SeenPage], certificate: Value) -> Value {
        let wrong = pages.iter().zip(&self.pages).enumerate().find_map(|(n, (seen, page))| {
            let wrong = seen.wrong.as_ref()?;
            Some(format!("page {} ({}): {wrong}", n + 1, page.arrival))
        });
        let shown: Vec<&Value> = pages.iter().map(|page| &page.shown).collect();
        json!({ "ok": wrong.is_none(), "why": wrong, "pages": shown, "certificate": certificate })
    }
}
