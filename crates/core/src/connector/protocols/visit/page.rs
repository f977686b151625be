//! A page as a visitor without scripts sees it (HTML, WHATWG living standard; selectors, CSS
//! Selectors level 4).

use html5ever::{
    ParseOpts, Parser, driver,
    tendril::{StrTendril, TendrilSink},
    tree_builder::TreeBuilderOpts,
};
use scraper::{ElementRef, Html, HtmlTreeSink, Node, Selector};

/// Where a page leads.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PageTarget {
    /// The address.
    pub address: String,
    /// What it is relative to.
    pub base: TargetBase,
    /// The fields of a form, encoded; they are sent in the place of the address's query, or as the
    /// body.
    pub fields: Option<String>,
    /// Whether it is asked for by POST.
    pub is_post: bool,
}

/// What an address is relative to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum TargetBase {
    /// It is a path below the connection's base address, whatever path that has.
    Connection,
    /// The page on which it stands (RFC 3986, section 5).
    Page,
    /// What that page says instead, by its `base` element.
    Named(String),
}

/// Elements whose text no visitor sees.
const UNSEEN: [&str; 5] = ["head", "script", "style", "template", "title"];

/// Reads a page piece by piece, so that whoever reads it can leave off: a hostile page may make
/// very much of little.
pub struct PageReader {
    parser: Parser<HtmlTreeSink>,
}

/// A page that was read.
#[derive(Debug)]
pub struct Page {
    html: Html,
}

impl Default for PageReader {
    fn default() -> Self {
        // A visitor without scripts sees what stands in `noscript`.
        let tree_builder = TreeBuilderOpts { scripting_enabled: false, ..Default::default() };
        let options = ParseOpts { tree_builder, ..Default::default() };
        let sink = HtmlTreeSink::new(Html::new_document());
        Self { parser: driver::parse_document(sink, options) }
    }
}

impl PageReader {
    /// Reads on.
    pub fn read(&mut self, piece: &str) {
        self.parser.process(StrTendril::from(piece));
    }

    /// How many nodes there are until now.
    pub fn nodes(&self) -> usize {
        self.parser.tokenizer.sink.sink.0.borrow().tree.nodes().len()
    }

    /// The page.
    pub fn finish(self) -> Page {
        Page { html: self.parser.finish() }
    }
}

impl Page {
    /// The page of a text that is no HTML.
    pub fn of_text(text: &str) -> Self {
        let mut html = Html::parse_document("<!doctype html><pre></pre>");
        let pre = html
            .tree
            .nodes()
            .find(|node| node.value().as_element().is_some_and(|element| element.name() == "pre"));
        if let Some(id) = pre.map(|pre| pre.id())
            && let Some(mut pre) = html.tree.get_mut(id)
        {
            pre.append(Node::Text(scraper::node::Text { text: text.into() }));
        }
        Self { html }
    }

    /// Its title; none if it has none.
    pub(super) fn title(&self) -> Option<String> {
        self.element("title").map(text_of)
    }

    /// What stands on it, with one space for however many.
    pub(super) fn text(&self) -> String {
        collapsed(&self.seen(' ', &[]))
    }

    /// What stands on it, line by line, without what it quotes.
    pub(crate) fn lines(&self) -> String {
        let seen = self.seen('\n', &["blockquote"]);
        seen.lines().map(collapsed).collect::<Vec<_>>().join("\n")
    }

    /// The texts that a reader sees, with this between blocks: what stands in two is not one word.
    fn seen(&self, between: char, passed_over: &[&str]) -> String {
        let is_unseen = |node: &Node| {
            node.as_element().is_some_and(|element| {
                UNSEEN.contains(&element.name()) || passed_over.contains(&element.name())
            })
        };
        let (mut text, mut unseen) = (String::new(), 0_usize);
        for edge in self.html.tree.root().traverse() {
            let (node, opens) = match edge {
                ego_tree::iter::Edge::Open(node) => (node.value(), true),
                ego_tree::iter::Edge::Close(node) => (node.value(), false),
            };
            if is_unseen(node) {
                unseen = if opens { unseen + 1 } else { unseen.saturating_sub(1) };
            }
            match node {
                // A line end of the source is a space for a reader.
                Node::Text(part) if opens && unseen == 0 => {
                    text.extend(part.chars().map(|c| if c == '\n' { ' ' } else { c }));
                }
                Node::Element(element) if is_block(element.name()) => text.push(between),
                _ => {}
            }
        }
        text
    }

    /// Whether it has an element.
    pub(super) fn has(&self, selector: &str) -> bool {
        self.element(selector).is_some()
    }

    /// The text of the first element that a selector finds; the value, where it is a field.
    pub(super) fn first(&self, selector: &str) -> Option<String> {
        self.element(selector).map(|element| match element.value().name() {
            "input" => element.attr("value").unwrap_or_default().to_owned(),
            "meta" => element.attr("content").unwrap_or_default().to_owned(),
            _ => text_of(element),
        })
    }

    /// Where the first link that a selector finds leads.
    pub(super) fn link(&self, selector: &str) -> Result<PageTarget, String> {
        let found = self.element(selector).ok_or("there is no such link on the page before it")?;
        let is_link = |element: &ElementRef<'_>| {
            matches!(element.value().name(), "a" | "area") && element.attr("href").is_some()
        };
        let link = std::iter::once(found)
            .chain(found.descendent_elements())
            .find(is_link)
            .ok_or("what is found on the page before it is no link")?;
        let address = link.attr("href").unwrap_or_default().trim().to_owned();
        Ok(PageTarget { address, base: self.base(), fields: None, is_post: false })
    }

    /// What addresses on it are relative to.
    pub(super) fn base(&self) -> TargetBase {
        let named = self.element("base[href]").and_then(|base| base.attr("href"));
        named.map_or(TargetBase::Page, |href| TargetBase::Named(href.trim().to_owned()))
    }

    pub(super) fn element(&self, selector: &str) -> Option<ElementRef<'_>> {
        let selector = Selector::parse(selector).ok()?;
        self.html.select(&selector).next()
    }

    /// All elements that a selector finds, in the order of the page.
    pub(super) fn elements(&self, selector: &str) -> Vec<ElementRef<'_>> {
        let Ok(selector) = Selector::parse(selector) else { return Vec::new() };
        self.html.select(&selector).collect()
    }
}

impl std::fmt::Debug for PageReader {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("PageReader").field("nodes", &self.nodes()).finish()
    }
}

/// Whether a text is a CSS selector.
pub(super) fn is_selector(text: &str) -> bool {
    Selector::parse(text).is_ok()
}

/// The text of an element, with one space for however many.
pub(super) fn text_of(element: ElementRef<'_>) -> String {
    collapsed(&element.text().collect::<String>())
}

/// A text with one space for however many spaces and line ends, and none around it.
pub(super) fn collapsed(text: &str) -> String {
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}

/// Whether an element stands apart from the text around it.
fn is_block(name: &str) -> bool {
    const INLINE: [&str; 22] = [
        "a", "abbr", "b", "bdi", "bdo", "cite", "code", "em", "font", "i", "kbd", "mark", "q", "s",
        "small", "span", "strong", "sub", "sup", "tt", "u", "wbr",
    ];
    !INLINE.contains(&name)
}
