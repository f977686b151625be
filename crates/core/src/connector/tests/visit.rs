//! Visits to web pages: how they are written, where pages lead, and what they lack.

use super::{check, give};
use crate::{
    Period,
    connector::{
        Connector, Planned,
        visit::{Page, PageCame, PageReader, PageTarget, PageVisit, TargetBase, VisitPlan},
    },
};
use serde_json::{Value, json};

fn connector(pages: &str) -> Connector {
    let text = format!(
        "connector: site\noperations:\n  op:\n    takes: {{ x: {{ default: a b }} }}\n    visit: \
         {{ pages: {pages} }}\n"
    );
    check(&text).unwrap_or_else(|e| panic!("{e}"))
}

fn with_plan<T>(pages: &str, given: Value, see: impl FnOnce(&VisitPlan<'_>) -> T) -> T {
    let connector = connector(pages);
    match connector.operations["op"].begin(&give(given), "k", None) {
        Ok(Planned::Visit(plan)) => see(&plan),
        other => panic!("{other:?}"),
    }
}

fn page(html: &str) -> Page {
    let mut reader = PageReader::default();
    // However it is cut.
    for piece in html.split_inclusive(['<', '"', ' ']) {
        reader.read(piece);
    }
    reader.finish()
}

/// The second page's target, by the first.
fn leads(second: &str, html: &str) -> Result<PageTarget, String> {
    let pages = format!("[{{ open: / }}, {second}]");
    with_plan(&pages, json!({}), |plan| plan.pages()[1].target(Some(&page(html))))
}

fn get(address: &str, base: TargetBase) -> PageTarget {
    PageTarget { address: address.to_owned(), base, fields: None, is_post: false }
}

fn wrong(expect: &str, html: &str, status: u16, took: u64) -> Option<String> {
    let came = PageCame {
        url: "https://a/".into(),
        status,
        took: Period::from_millis(took),
        is_cut: false,
    };
    let pages = format!("[{{ open: /, expect: {expect} }}]");
    let see = |page_visit: &PageVisit| page_visit.see(&came, &page(html)).wrong;
    with_plan(&pages, json!({}), |plan| see(&plan.pages()[0]))
}

#[test]
fn what_is_given_is_a_part_of_an_address_and_no_more() {
    for (x, at) in [("a/../b?c#d", "/s/a%2F..%2Fb%3Fc%23d?q=1"), ("é", "/s/%C3%A9?q=1")] {
        let target = with_plan("[{ open: '/s/${give.x}?q=1' }]", json!({ "x": x }), |plan| {
            plan.pages()[0].target(None)
        });
        assert_eq!(target, Ok(get(at, TargetBase::Connection)));
    }
}

#[test]
fn links_are_found_by_selectors() {
    let html = "<base href='/en/'><p><a class=x href=' next?a=1&amp;b=2 '>n</a><li class=y><a \
                href=in>i</a></li><b class=z>no</b>";
    let base = || TargetBase::Named("/en/".to_owned());
    assert_eq!(leads("{ follow: a.x }", html), Ok(get("next?a=1&b=2", base())));
    assert_eq!(leads("{ follow: .y }", html), Ok(get("in", base())), "the link within it");
    let nothing = Err("there is no such link on the page before it".to_owned());
    assert_eq!(leads("{ follow: a.w }", html), nothing);
    let none = Err("what is found on the page before it is no link".to_owned());
    assert_eq!(leads("{ follow: .z }", html), none);
}

#[test]
fn forms_send_what_a_browser_would_send() {
    let html = r#"<form id=f action="/go" method=POST>
        <input type=hidden name=csrf value="a&amp;b"><input name=q value=old><input name=off disabled value=1>
        <input type=checkbox name=no><input type=checkbox name=yes checked><input type=radio name=r value=1>
        <input type=radio name=r value=2 checked><select name=s><option>one<option value=2 selected>two</select>
        <select name=first><option disabled>zero<option>one</select><textarea name=t>x
y</textarea><input type=file name=file><button type=button name=b1>n</button>
        <button name=b2 value=v>first</button><input type=submit name=b3 value=other></form>
        <input form=f name=away value=far><input name=alone value=not>"#;
    let sent = |fill: &str| {
        leads(&format!("{{ submit: 'form#f', fill: {{ {fill} }} }}"), html).map(|target| {
            assert!(target.is_post && target.address == "/go" && target.base == TargetBase::Page);
            target.fields.unwrap_or_default()
        })
    };
    let rest = "s=2&first=one&t=x%0Ay&b2=v&away=far";
    assert_eq!(sent(""), Ok(format!("csrf=a%26b&q=old&yes=on&r=2&{rest}")));
    let filled = sent("q: '${give.x}', no: '1', r: '9'");
    assert_eq!(filled, Ok(format!("csrf=a%26b&q=a%20b&no=1&yes=on&r=9&{rest}")));
    let names = "csrf, q, no, yes, r, s, first, t, away";
    let missing = format!("the form has no field `alone`; it has {names}");
    assert_eq!(sent("alone: '1'"), Err(missing));
    let of = |form: &str| leads("{ submit: form }", form);
    let looks = of("<base href=/b/><form><input name=q value=1></form>").expect("leads");
    let asks = PageTarget { fields: Some("q=1".into()), ..get("", TargetBase::Page) };
    assert_eq!(looks, asks, "its own page is asked, whatever addresses are relative to");
    for (form, wrong) in [
        ("<form method=dialog>", "the form is that of a dialog, which sends nothing"),
        (
            "<form method=post enctype=multipart/form-data>",
            "the form is sent as multipart/form-data, which a visit does not",
        ),
        ("<p>", "there is no such form on the page before it"),
    ] {
        assert_eq!(of(form), Err(wrong.to_owned()));
    }
}

#[test]
fn pages_are_seen_as_a_visitor_without_scripts_sees_them() {
    let html = "<!doctype html><title> T  t </title><style>Sorry</style><script>Sorry</script>\
                <noscript>Turn&nbsp;it on</noscript><p>Book <b>a cross</b>ing</p><p>now</p><!-- Sorry --><i \
                class=error>No  ferry</i>";
    let well = "{ text: ['Book a crossing now', Turn it on], no_text: [Sorry], elements: [p b], \
                no_elements: [form], within: 2s }";
    assert_eq!(wrong(well, html, 204, 2000), None);
    for (expect, status, took, why) in [
        ("{}", 500, 0, "answered 500"),
        ("{ status: 404 }", 200, 0, "answered 200 and not 404"),
        ("{ text: [crossingnow] }", 200, 0, "`crossingnow` is not on it"),
        ("{ text: [T t] }", 200, 0, "`T t` is not on it"),
        ("{ no_text: [Book] }", 200, 0, "`Book` is on it"),
        ("{ elements: ['p > i'] }", 200, 0, "it has no element `p > i`"),
        ("{ no_elements: [.error] }", 200, 0, "it has an element `.error`: No ferry"),
        ("{ within: 2s }", 200, 2001, "took 2s1ms, more than 2s"),
    ] {
        assert_eq!(wrong(expect, html, status, took).as_deref(), Some(why));
    }
    assert_eq!(wrong("{ status: 404, text: [Book] }", html, 404, 0), None);
}

#[test]
fn what_is_no_html_is_a_text() {
    let page = Page::of_text("<p>a &amp; b</p>\n up");
    let came =
        PageCame { url: String::new(), status: 200, took: Period::from_millis(1), is_cut: true };
    let pages = "[{ open: /, expect: { text: ['<p>a &amp; b</p> up'], elements: [p] } }]";
    let seen = with_plan(pages, json!({}), |plan| plan.pages()[0].see(&came, &page).wrong);
    assert_eq!(seen.as_deref(), Some("it has no element `p` in the part of it that was read"));
}

#[test]
fn a_visit_is_shown_and_says_what_was_seen() {
    let pages = "[{ open: '/a/${give.x}', read: { h: h1, v: input, n: .none } }, { follow: a }, { \
                 submit: form, fill: { q: '1' } }]";
    let connector = connector(pages);
    let operation = &connector.operations["op"];
    let shown = operation.request(&give(json!({})), "k").expect("plans");
    insta::assert_snapshot!(format!("{} | {} | {}", operation.line(), operation.only_looks(), shown.target), @"VISIT /a/${give.x} and 2 pages after it | false | open /a/a%20b, then follow `a`, then submit `form`");
    let came = PageCame {
        url: "https://a/".into(),
        status: 200,
        took: Period::from_millis(7),
        is_cut: false,
    };
    let output = with_plan(pages, json!({}), |plan| {
        let first = page("<title>t</title><h1> Hello  you </h1><input value=' v '>");
        let seen = plan.pages()[0].see(&came, &first);
        let missing = plan.pages()[1].target(Some(&first)).expect_err("has no link");
        let missing = crate::connector::visit::SeenPage::missing("https://a/", came.took, missing);
        plan.seen(&[seen, missing], Value::Null).expect("gives")
    });
    insta::assert_snapshot!(output, @r#"{"ok":false,"why":"page 2 (follow `a`): there is no such link on the page before it","pages":[{"url":"https://a/","status":200,"title":"t","took_ms":7,"read":{"h":"Hello you","n":null,"v":" v "}},{"url":"https://a/","status":null,"title":null,"took_ms":7,"read":{}}],"certificate":null}"#);
}

#[test]
fn what_is_written_wrong_is_said_where_it_is() {
    let said = |visit: &str| {
        let text = format!("connector: c\noperations:\n  op:\n    visit: {visit}\n");
        check(&text).expect_err("is wrong")
    };
    let all = [
        "{ pages: [] }",
        "{ pages: [{ follow: a }] }",
        "{ pages: [{ open: x, follow: a }] }",
        "{ pages: [{ open: x }] }",
        "{ pages: [{ open: /, fill: { a: b } }] }",
        "{ pages: [{ open: /, expect: { elements: ['a[', '${give.x}'], status: 42 }, read: { 'a/b': '>' } }] }",
        "{ pages: [{ open: '/${give.y}', expect: { text: ['${steps.x}'] } }] }",
        "{ pages: [{ open: / }], also: ['https://a/b', 'ftp://a'] }",
        "{ pages: [{ open: / }] }\n    repeat: keyed",
        "{ pages: [{ open: / }] }\n    request: { method: GET, path: / }",
    ];
    insta::assert_snapshot!(all.map(said).join("\n"), @"
    yard.yaml:4:21: has from 1 to 20 pages
        4 |     visit: { pages: [] }
          |                     ^
    yard.yaml:4:22: is the first page, which has `open`
        4 |     visit: { pages: [{ follow: a }] }
          |                      ^^
    yard.yaml:4:22: has one of `open`, `follow` and `submit`
        4 |     visit: { pages: [{ open: x, follow: a }] }
          |                      ^^
    yard.yaml:4:30: begins with /
        4 |     visit: { pages: [{ open: x }] }
          |                              ^
    yard.yaml:4:39: belongs to a form that is a `submit`
        4 |     visit: { pages: [{ open: /, fill: { a: b } }] }
          |                                       ^^
    yard.yaml:4:54: `a[` is not a CSS selector
        4 |     visit: { pages: [{ open: /, expect: { elements: ['a[', '${give.x}'], status: 42 }, read: { 'a/b': '>' } }] }
          |                                                      ^^^^
    yard.yaml:4:60: is a CSS selector as it stands; nothing is filled in
        4 |     visit: { pages: [{ open: /, expect: { elements: ['a[', '${give.x}'], status: 42 }, read: { 'a/b': '>' } }] }
          |                                                            ^^^^^^^^^^^
    yard.yaml:4:82: is a status of HTTP, from 100 to 599
        4 |     visit: { pages: [{ open: /, expect: { elements: ['a[', '${give.x}'], status: 42 }, read: { 'a/b': '>' } }] }
          |                                                                                  ^^
    yard.yaml:4:103: `>` is not a CSS selector
        4 |     visit: { pages: [{ open: /, expect: { elements: ['a[', '${give.x}'], status: 42 }, read: { 'a/b': '>' } }] }
          |                                                                                                       ^^^^
    yard.yaml:4:34: there is no field `y`; there are none here
        4 |     visit: { pages: [{ open: '/${give.y}', expect: { text: ['${steps.x}'] } }] }
          |                                  ^^^^^^
    yard.yaml:4:64: `steps` is not known here; known here: give
        4 |     visit: { pages: [{ open: '/${give.y}', expect: { text: ['${steps.x}'] } }] }
          |                                                                ^^^^^
    yard.yaml:4:43: is an origin and nothing more, such as https://login.skerrow.example
        4 |     visit: { pages: [{ open: / }], also: ['https://a/b', 'ftp://a'] }
          |                                           ^^^^^^^^^^^^^
    yard.yaml:4:58: is an origin and nothing more, such as https://login.skerrow.example
        4 |     visit: { pages: [{ open: / }], also: ['https://a/b', 'ftp://a'] }
          |                                                          ^^^^^^^^^
    yard.yaml:5:13: is `keyed`, and no web page knows a visit by its key; write `never`, or `safe` where a second one does no harm
        5 |     repeat: keyed
          |             ^^^^^
    yard.yaml:4:5: an operation has one of `request`, `visit`, `mail`, `command`, `upload`, `download`, `netconf`, `libvirt`, `snmp`, `mqtt`, `amqp` and `arvok`
        4 |     visit: { pages: [{ open: / }] }
          |     ^
    ");
}
