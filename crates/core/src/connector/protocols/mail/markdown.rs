//! A text in Markdown (CommonMark, with tables and strikethrough) as HTML for a mail.
//!
//! Whatever an alert brings may stand in the text. It may format, and no more: HTML is shown as it
//! is written, nothing is fetched, and links are their addresses, so that nobody follows one to a
//! place that he does not read.

use pulldown_cmark::{CowStr, Event, LinkType, Options, Parser, Tag, TagEnd, html::push_html};

/// How addresses begin that may be followed.
const FOLLOWED: [&str; 3] = ["https://", "http://", "mailto:"];

/// A link or an image that is open.
struct Open<'t> {
    address: CowStr<'t>,
    /// Where what is shown of it begins, among the events.
    begins: usize,
    shown: String,
}

/// The document in HTML.
pub(super) fn html(text: &str) -> String {
    let mut events = Vec::new();
    let mut open: Vec<Open<'_>> = Vec::new();
    for event in Parser::new_ext(text, Options::ENABLE_TABLES | Options::ENABLE_STRIKETHROUGH) {
        match event {
            Event::Html(text) | Event::InlineHtml(text) => events.push(Event::Text(text)),
            Event::Start(
                Tag::Link { link_type, dest_url, .. } | Tag::Image { link_type, dest_url, .. },
            ) => {
                let address = match link_type {
                    LinkType::Email => format!("mailto:{dest_url}").into(),
                    _ => dest_url,
                };
                open.push(Open { address, begins: events.len(), shown: String::new() });
            }
            Event::End(TagEnd::Link | TagEnd::Image) => {
                let Some(Open { address, begins, shown }) = open.pop() else { continue };
                let (before, after) = match is_address(&shown, &address) {
                    true => {
                        events.truncate(begins);
                        ("", "")
                    }
                    false => (" (", ")"),
                };
                events.push(Event::Text(before.into()));
                events.extend(link(address));
                events.push(Event::Text(after.into()));
            }
            event => {
                if let (Some(open), Event::Text(text) | Event::Code(text)) =
                    (open.last_mut(), &event)
                {
                    open.shown.push_str(text);
                }
                events.push(event);
            }
        }
    }
    let mut body = String::new();
    push_html(&mut body, events.into_iter());
    format!(
        "<!doctype html>\n<html><head><meta charset=\"utf-8\"></head>\n\
         <body style=\"font-family: sans-serif\">\n{body}</body></html>\n"
    )
}

fn is_address(shown: &str, address: &str) -> bool {
    let bare = |text: &str| text.trim().trim_start_matches("mailto:").to_owned();
    bare(shown) == bare(address)
}

/// An address that can be followed, or is shown alone where nobody should.
fn link(address: CowStr<'_>) -> Vec<Event<'_>> {
    let starts = |scheme: &&str| {
        address.get(..scheme.len()).is_some_and(|head| head.eq_ignore_ascii_case(scheme))
    };
    if !FOLLOWED.iter().any(starts) {
        return vec![Event::Text(address)];
    }
    let shown = address.clone();
    let tag = Tag::Link {
        link_type: LinkType::Inline,
        dest_url: address,
        title: "".into(),
        id: "".into(),
    };
    vec![Event::Start(tag), Event::Text(shown), Event::End(TagEnd::Link)]
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn body(text: &str) -> String {
        let html = html(text);
        let (_, rest) = html.split_once("sans-serif\">\n").expect("a body");
        rest.trim_end_matches("</body></html>\n").trim_end().to_owned()
    }

    #[test]
    fn text_is_formatted() {
        insta::assert_snapshot!(
            body("# Disk of vm/booking\n\nIt is **full**:\n\n- `/srv` 97 %\n- `/var` 12 %\n\n\
                  | who | when |\n|---|---|\n| Pat | now |\n"),
            @r#"
            <h1>Disk of vm/booking</h1>
            <p>It is <strong>full</strong>:</p>
            <ul>
            <li><code>/srv</code> 97 %</li>
            <li><code>/var</code> 12 %</li>
            </ul>
            <table><thead><tr><th>who</th><th>when</th></tr></thead><tbody>
            <tr><td>Pat</td><td>now</td></tr>
            </tbody></table>
            "#
        );
    }

    #[test]
    fn what_an_alert_brings_formats_and_no_more() {
        for (text, becomes) in [
            ("<script>alert(1)</script>", "&lt;script&gt;alert(1)&lt;/script&gt;"),
            ("a <b onclick=x>b</b>", "<p>a &lt;b onclick=x&gt;b&lt;/b&gt;</p>"),
            (
                "[Decide here](https://evil.example/a?b=\"c)",
                "<p>Decide here (<a href=\"https://evil.example/a?b=%22c\">\
                 https://evil.example/a?b=\"c</a>)</p>",
            ),
            (
                "[https://arvok.skerrow.example](https://evil.example)",
                "<p>https://arvok.skerrow.example (<a href=\"https://evil.example\">\
                 https://evil.example</a>)</p>",
            ),
            (
                "<https://arvok.skerrow.example/jobs/7>",
                "<p><a href=\"https://arvok.skerrow.example/jobs/7\">\
                 https://arvok.skerrow.example/jobs/7</a></p>",
            ),
            (
                "<pat@skerrow.example>",
                "<p><a href=\"mailto:pat@skerrow.example\">mailto:pat@skerrow.example</a></p>",
            ),
            ("[run](javascript:alert(1))", "<p>run (javascript:alert(1))</p>"),
            (
                "![seen](https://evil.example/pixel.png)",
                "<p>seen (<a href=\"https://evil.example/pixel.png\">\
                 https://evil.example/pixel.png</a>)</p>",
            ),
        ] {
            assert_eq!(body(text), becomes, "{text}");
        }
    }

    proptest! {
        #[test]
        fn no_tag_but_ours_and_no_address_but_those_that_are_shown(
            pieces in prop::collection::vec(prop::sample::select(PIECES.to_vec()), 0..30),
            rest in ".{0,20}",
        ) {
            let html = body(&(pieces.concat() + &rest));
            let page = tags_of(&html);
            for tag in page {
                prop_assert!(OURS.contains(&tag.as_str()), "{tag} in {html}");
            }
            for (_, rest) in html.match_indices("<a href=\"").map(|(at, m)| (at, &html[at + m.len()..])) {
                let address = rest.split('"').next().unwrap_or_default().to_lowercase();
                prop_assert!(FOLLOWED.iter().any(|scheme| address.starts_with(scheme)), "{html}");
            }
        }
    }

    /// The names of the tags of a piece of HTML.
    fn tags_of(html: &str) -> Vec<String> {
        let tags = html.split('<').skip(1);
        let name = |tag: &str| {
            tag.trim_start_matches('/').chars().take_while(char::is_ascii_alphanumeric).collect()
        };
        tags.map(name).collect()
    }

    const OURS: [&str; 26] = [
        "a",
        "blockquote",
        "br",
        "code",
        "del",
        "em",
        "h1",
        "h2",
        "h3",
        "h4",
        "h5",
        "h6",
        "hr",
        "li",
        "ol",
        "p",
        "pre",
        "strong",
        "table",
        "tbody",
        "td",
        "th",
        "thead",
        "tr",
        "ul",
        "",
    ];

    const PIECES: [&str; 24] = [
        "<",
        ">",
        "[",
        "]",
        "(",
        ")",
        "!",
        "*",
        "_",
        "`",
        "~~",
        "\n",
        "\n\n",
        "# ",
        "- ",
        "1. ",
        "> ",
        "|",
        "|-|",
        "https://x.example",
        "javascript:x",
        "<b>",
        "\"",
        "&lt;",
    ];
}
