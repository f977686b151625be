//! The language as Arvok speaks it: values, errors, bounds.

mod specification;

use super::*;
use proptest::prelude::*;
use serde_json::{Value, json};

const NAMES: Names<'static> =
    Names { roots: &["alert", "body"], functions: &["secret"], types: &[] };

struct Body(Value);

impl<'a> Scope<'a> for Body {
    fn name(&'a self, name: &str) -> Option<Val<'a>> {
        (name == "body").then(|| Val::json(&self.0))
    }
}

fn eval(text: &str) -> Result<Value, String> {
    let scope = Body(json!({
        "host": "quill-hv-1", "load": 88, "free": 2.5, "tags": ["gold", "db"],
            "disks": [{"gib": 40}, {"gib": 60}]
    }));
    let expr = Expr::compile(text, NAMES).map_err(|e| e.to_string())?;
    expr.eval(&scope).map(|v| v.to_json()).map_err(|e| e.to_string())
}

#[test]
fn values() {
    for (text, value) in [
        ("body.load >= 87.5", json!(true)),
        ("body.load + 1", json!(89)),
        ("body.free * 2", json!(5)),
        ("body.load / 100", json!(0.88)),
        ("(body.load + 2) / 4", json!(22.5)),
        ("body.load / 4", json!(22)),
        ("body.load % 5", json!(3)),
        ("7 / 2", json!(3)),
        ("body.tags[body.load - 88]", json!("gold")),
        ("body.disks.size() / 4", json!(0)),
        ("'gold' in body.tags", json!(true)),
        ("'host' in body", json!(true)),
        ("has(body.nothing)", json!(false)),
        ("has(body.host) && body.host.startsWith('quill')", json!(true)),
        ("body.nothing == 1 || body.load == 88", json!(true)),
        ("body.disks.map(d, d.gib)", json!([40, 60])),
        ("body.disks.filter(d, d.gib > 50).size()", json!(1)),
        ("body.disks.exists(d, d.gib == 60)", json!(true)),
        ("body.disks.all(d, d.gib == 60)", json!(false)),
        ("body.tags.join('+')", json!("gold+db")),
        ("body.load > 90 ? 'high' : 'low'", json!("low")),
        ("major > minor && critical == 'critical'", json!(true)),
        ("glob(body.host, 'quill-*')", json!(true)),
        ("body.host.matches('hv-[0-9]$')", json!(true)),
        ("body['host'] + '/' + string(body.load)", json!("quill-hv-1/88")),
        ("timestamp('2026-02-01T02:00:00Z') + duration('90s')", json!("2026-02-01T02:01:30Z")),
        ("{'a': body.tags[0]}", json!({"a": "gold"})),
    ] {
        assert_eq!(eval(text), Ok(value), "{text}");
    }
}

#[test]
fn diagnostics() {
    let deep = format!("{}1{}", "(".repeat(40), ")".repeat(40));
    let long = "1+".repeat(3000);
    let cases = [
        "",
        "1 +",
        "bdy.load",
        "sizee(body)",
        "size(body, 1)",
        "body.nothing",
        "body.load.x",
        "body.tags[9]",
        "1 / 0",
        "9223372036854775807 + 1",
        "body.host > 3",
        "!body.host",
        "body.load && true",
        "'abc'.matches('(')",
        "timestamp('noon')",
        "duration('soon')",
        "Thing{a: 1}",
        &deep,
        &long,
    ];
    let lines: Vec<String> = cases
        .iter()
        .map(|c| format!("{:28} {}", crate::text::cut(c, 26), eval(c).expect_err(c)))
        .collect();
    insta::assert_snapshot!(lines.join("\n"), @"
                                 is empty; an expression was expected
    1 +                          the expression ends here, and something more was expected
    bdy.load                     `bdy` is not known here; did you mean `body`?
    sizee(body)                  there is no function sizee() here; did you mean size()?
    size(body, 1)                size() takes 1 value with the one before the dot, not 2
    body.nothing                 there is no field `nothing`
    body.load.x                  there is no field `x` in a number
    body.tags[9]                 there is no element 9
    1 / 0                        division by zero
    9223372036854775807 + 1      the result is too large
    body.host > 3                cannot compare a string with a number
    !body.host                   is a string, not true or false
    body.load && true            is a number, not true or false
    'abc'.matches('(')           `(` is not a regular expression, or too large a one
    timestamp('noon')            `noon` is not an RFC 3339 time, such as 2026-02-01T02:00:00Z
    duration('soon')             `soon` is not a length of time; write it like 90s, 15m, 1h30m, 1.5h or 2d
    Thing{a: 1}                  makes a `Thing`; only lists and maps can be made here
    ((((((((((((((((((((((((((   is nested deeper than 32 levels
    1+1+1+1+1+1+1+1+1+1+1+1+1+   has 6000 bytes; an expression may have 4096
    ");
}

#[test]
fn what_cannot_be_read_is_told_in_words_of_the_language() {
    let cases = [
        "alert.value = 90",
        "alert.value === 90",
        "body.a and body.b",
        "body.a or body.b",
        "not body.a",
        "body.a <> 3",
        "body.a & body.b",
        "body.host is 'a'",
        "'abc",
        "(1 + 2",
        "[1, 2",
        "1 +",
        "* 2",
        "1 2",
        "body.",
        "body..a",
        "a b c",
        "if (body.a) 1",
        "body.a ? 1",
        "#",
        "1.2.3",
        "body[?0]",
    ];
    let said: Vec<String> =
        cases.iter().map(|c| format!("{c:22} {}", eval(c).expect_err(c))).collect();
    insta::assert_snapshot!(said.join("\n"), @"
    alert.value = 90       `=` has no meaning here; did you mean `==`?
    alert.value === 90     `===` has no meaning here; did you mean `==`?
    body.a and body.b      `and` has no meaning here; did you mean `&&`?
    body.a or body.b       `or` has no meaning here; did you mean `||`?
    not body.a             `not` has no meaning here; did you mean `!`?
    body.a <> 3            `<>` has no meaning here; did you mean `!=`?
    body.a & body.b        `&` has no meaning here; did you mean `&&`?
    body.host is 'a'       `is` has no meaning here; did you mean `==`?
    'abc                   a text begins here and does not end; the closing ' is missing
    (1 + 2                 the expression ends here, and a `)` is missing
    [1, 2                  the expression ends here, and a `]` is missing
    1 +                    the expression ends here, and something more was expected
    * 2                    `*` cannot stand here
    1 2                    `2` cannot stand here
    body.                  the expression ends here, and something more was expected
    body..a                `.` cannot stand here
    a b c                  `b` cannot stand here
    if (body.a) 1          `if` is a word that the language keeps for itself; it cannot be a name
    body.a ? 1             the expression ends here, and a `:` is missing
    #                      `#` cannot stand here
    1.2.3                  `.3` cannot stand here
    body[?0]               `[?` is no form of the language here
    ");
}

#[test]
fn a_place_is_right_behind_letters_of_more_than_one_byte() {
    let names = Names { roots: &["body"], functions: &[], types: &[] };
    let cases = ["'ü' = body.a", "'😀' == bdy.a", "'ü'\n+ '😀' body.a", "b\" +( b😀\"b\"\"", "😀"];
    let said: Vec<String> = cases
        .iter()
        .map(|text| {
            let error = Expr::compile(text, names).expect_err(text);
            let from: String =
                text.chars().skip(error.span.map_or(99, |(from, _)| from as usize)).collect();
            format!("{from:?}: {}", error.message)
        })
        .collect();
    insta::assert_snapshot!(said.join("\n"), @r#"
    "= body.a": `=` has no meaning here; did you mean `==`?
    "bdy.a": `bdy` is not known here; did you mean `body`?
    "body.a": `body` cannot stand here
    "b\"\"": `b""` cannot stand here
    "😀": `😀` cannot stand here
    "#);
}

#[test]
fn an_expression_that_would_never_end_is_stopped() {
    let ten = "[1,2,3,4,5,6,7,8,9,10]";
    let nested = (0..8).fold("true".to_owned(), |inner, i| format!("{ten}.all(x{i}, {inner})"));
    assert!(eval(&nested).expect_err("stopped").contains("takes more than"), "{nested}");
    let doubling =
        (0..24).fold("'ab'".to_owned(), |inner, _| format!("[{inner}].map(s, s + s)[0]"));
    assert!(eval(&doubling).is_err());
}

#[test]
fn templates() {
    let scope = Body(json!({"n": 4, "who": "quill"}));
    let value = json!({"whole": "${body.n}", "text": "n is ${body.n}, ${'}' + \
        body.who}", "plain": "$${x}", "list": ["${body.who}", 1]});
    let filled = Template::compile(&value, NAMES).expect("compiles").fill(&scope).expect("fills");
    assert_eq!(
        filled,
        json!({"whole": 4, "text": "n is 4, }quill", "plain": "${x}", "list": ["quill", 1]})
    );
    let errors = Template::compile(&json!({"a": {"b": "${bdy}"}, "c": "${"}), NAMES)
        .expect_err("two diagnostics");
    let seen: Vec<_> =
        errors.iter().map(|e| (e.pointer.as_str(), e.error.message.as_str())).collect();
    assert_eq!(seen[0].0, "/a/b");
    assert_eq!(seen[1], ("/c", "the closing } of ${ is missing"));
}

#[test]
fn found_by_fuzzing_two_constants_compared_end() {
    for text in ["7==5", "'a' < 'b' && 1 > alert.value", "minor == major || 2 in [2]"] {
        let names = Names { roots: &["alert"], functions: &[], types: &[] };
        let _ = Expr::compile(text, names).expect(text).demands();
    }
}

#[test]
fn demands_of_a_condition() {
    let names = Names { roots: &["alert"], functions: &[], types: &[] };
    let demands = |text: &str| format!("{:?}", Expr::compile(text, names).expect(text).demands());
    let cases = [
        "alert.value >= 5 && 10 > alert.value",
        "alert.severity >= major",
        "alert.kind == 'a' || alert.kind == 'b'",
        "alert.labels['site'] in ['q', 'b'] && alert.resource.startsWith('vm/')",
        "alert.body.rack.row == 'r1' && false",
        "alert.kind != 'a' || alert.value > 1",
    ];
    insta::assert_snapshot!(cases.map(|c| format!("{c}\n    {}", demands(c))).join("\n"), @r#"
    alert.value >= 5 && 10 > alert.value
        [Value(5.0, inf), Value(-inf, 9.999999999999998)]
    alert.severity >= major
        [Severity(24)]
    alert.kind == 'a' || alert.kind == 'b'
        [OneOf(Kind, ["a", "b"])]
    alert.labels['site'] in ['q', 'b'] && alert.resource.startsWith('vm/')
        [OneOf(Label("site"), ["q", "b"]), Like(Resource, Glob { text: "vm/**", tokens: Some([One('v'), One('m'), One('/'), Across]) })]
    alert.body.rack.row == 'r1' && false
        [OneOf(Body(["rack", "row"]), ["r1"]), Never]
    alert.kind != 'a' || alert.value > 1
        []
    "#);
}

#[test]
fn what_can_never_be_is_found_when_compiling() {
    let types =
        [("inputs", Type::Record(std::sync::Arc::new([("vm".to_owned(), Type::Text)].into())))];
    let names = Names { roots: &["alert", "inputs", "tally"], functions: &[], types: &types };
    let cases = [
        "alert.valu > 5",
        "alert.value > 'high'",
        "alert.kind == 5",
        "alert.severity == 'majr'",
        "alert.severity > 3",
        "alert.labels.site + 5",
        "alert.labels.site.deeper == 'a'",
        "inputs.vn == 'a'",
        "!alert.kind",
        "alert.value ? 1 : 2",
        "size(alert.kind).startsWith('a')",
        "alert.value.exists(v, v > 1)",
        "alert.labels.exists(k, k > 1)",
        "tally.gathered.map(a, a.resorce)",
        "alert.time > duration('5m')",
        "alert.kind in [1, 2]",
    ];
    let said = cases.map(|c| format!("{c:36} {}", Expr::compile(c, names).expect_err(c).message));
    insta::assert_snapshot!(said.join("\n"), @"
    alert.valu > 5                       there is no field `valu`; did you mean `value`?
    alert.value > 'high'                 cannot compare a number with a string
    alert.kind == 5                      a string is never equal to a number
    alert.severity == 'majr'             `majr` is not a severity; did you mean `major`?
    alert.severity > 3                   cannot compare a severity with a number
    alert.labels.site + 5                cannot add a string and a number; put string( ) around what is no string
    alert.labels.site.deeper == 'a'      there is no field `deeper` in a string
    inputs.vn == 'a'                     there is no field `vn`; did you mean `vm`?
    !alert.kind                          is a string, not true or false
    alert.value ? 1 : 2                  is a number, not true or false
    size(alert.kind).startsWith('a')     is a number; a string was expected
    alert.value.exists(v, v > 1)         cannot go through a number; a list or a map was expected
    alert.labels.exists(k, k > 1)        cannot compare a string with a number
    tally.gathered.map(a, a.resorce)     there is no field `resorce`; did you mean `resource`?
    alert.time > duration('5m')          cannot compare a time with a length of time
    alert.kind in [1, 2]                 a string is never in this list, which holds a number
    ");
    for good in [
        "alert.body.anything.at.all > 5",
        "alert.time - duration('5m') < alert.received",
        "alert.severity == 'major'",
        "tally.gathered.map(a, a.resource).join(', ') != ''",
        "has(alert.labels.site) && alert.value > 5 || inputs.vm == 'a'",
    ] {
        assert!(Expr::compile(good, names).is_ok(), "{good}");
    }
}

#[test]
fn a_long_chain_is_refused_and_a_wide_condition_is_not() {
    let chain = vec!["1"; 900].join("+");
    assert!(eval(&chain).expect_err("refused").contains("chain"), "{chain}");
    let wide = vec!["body.load == 1"; 120].join(" || ");
    assert_eq!(eval(&wide), Ok(json!(false)));
}

#[test]
fn the_longest_texts_end_on_the_stack_of_a_test() {
    for (head, part, tail) in [
        ("", "(", ""),
        ("", "[", ""),
        ("", "{1:", ""),
        ("", "-", "1"),
        ("", "!", "true"),
        ("1", "+1", ""),
        ("body", ".a", ""),
        ("body", "[0]", ""),
        ("", "true?1:", "2"),
        ("", "size(", ""),
        ("[1]", ".map(x,x)", ""),
        ("true", "&&true", ""),
        ("1", "<1", ""),
        ("", "'a'", ""),
        ("", "-1-", "1"),
    ] {
        let count = (MAX_TEXT - head.len() - tail.len()) / part.len();
        let text = format!("{head}{}{tail}", part.repeat(count));
        let _ = eval(&text);
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]

    #[test]
    fn no_text_panics(text in "[a-z0-9.()\\[\\]{}+*/%<>=!&|?:,'\" -]{0,60}") {
        let _ = eval(&text);
    }

    #[test]
    fn whole_numbers_agree_with_rust(a in -1000i64..1000, b in -1000i64..1000) {
        prop_assert_eq!(eval(&format!("({a}) + ({b}) * 2")), Ok(json!(a + b * 2)));
        prop_assert_eq!(eval(&format!("({a}) < ({b})")), Ok(json!(a < b)));
    }
}

fn over(text: &str, body: Value) -> Result<usize, String> {
    let expr = Expr::compile(text, NAMES).map_err(|e| e.to_string())?;
    let scope = Body(body);
    expr.eval(&scope).map(|v| v.to_json().to_string().len()).map_err(|e| e.to_string())
}

#[test]
fn a_thousand_hosts_are_ranked_within_one_evaluation() {
    let host = |n: usize| {
        json!({ "name": format!("tern-hv-{n}"), "load": (n * 7919) % 1000,
        "up": true, "site": "quill" })
    };
    let body = json!({ "hosts": (0..1000).map(host).collect::<Vec<_>>() });
    for good in [
        "body.hosts.minBy(h, h.load).name",
        "body.hosts.maxBy(h, double(h.load)).name",
        "body.hosts.sortBy(h, h.name)",
        "body.hosts.filter(h, h.up && h.site == 'quill').minBy(h, h.load).name",
    ] {
        over(good, body.clone()).expect(good);
    }
    let quadratic = over("body.hosts.filter(h, body.hosts.all(o, o.load >= 0))[0].name", body);
    assert!(quadratic.expect_err("compares each with all").contains("takes more than"));
}

/// Each of these took seconds or gigabytes while it cost a few steps.
#[test]
fn nothing_is_built_compared_or_compiled_that_is_not_paid_for() {
    let list: Vec<u32> = (0..20_000).collect();
    let text = "x".repeat(400_000);
    let body = json!({ "l": list, "t": text, "u": format!("{text}y"), "m": { "l": list },
        "n": { "l": list } });
    for wrong in [
        "body.l.map(a, body.l.exists(b, b < 0))",
        "body.l.exists(a, body.m == body.n && a < 0)",
        "body.l.exists(a, body.l == body.m.l && a < 0)",
        "body.l.exists(a, body.t == body.u || a < 0)",
        "body.l.exists(a, body.t > body.u || a < 0)",
        "body.l.exists(a, a in [body.l] || a < 0)",
        "body.l.exists(a, string(body.l) == '' || a < 0)",
        "body.l.exists(a, body.t.split('').size() < 0 || a < 0)",
        "body.l.exists(a, 'x'.matches(body.t) || a < 0)",
        "body.l.exists(a, 'x'.matches('a' + string(a) + '{50}') && a < 0)",
        "body.l.map(a, body.t + body.t)",
        "body.l.map(a, body.t)",
        "[body.t, body.t, body.t, body.t, body.t, body.t, body.t, body.t]",
    ] {
        let said = over(wrong, body.clone()).expect_err(wrong);
        assert!(said.contains("steps") || said.contains("too large"), "{wrong}: {said}");
    }
    for cheap in [
        "body.l.exists(a, size(body.l) < 0 || a == 900)",
        "body.l.exists(a, body.l.exists(b, b == 0) && a == 500)",
    ] {
        assert!(over(cheap, body.clone()).is_ok(), "{cheap}");
    }
}

#[test]
fn going_through_a_list_costs_its_length() {
    let list: Vec<u32> = (0..2000).collect();
    let body = json!({ "l": list });
    assert!(over("body.l.map(a, a + 1)", body.clone()).is_ok());
    assert!(over("body.l.filter(a, a % 2 == 0).map(a, a * 2)", body).is_ok());
}

#[test]
fn lists_and_maps_are_equal_part_by_part() {
    for (text, value) in [
        ("[1] == [1.0]", true),
        ("[1, 2] == [1]", false),
        ("{'a': [1]} == {'a': [1]}", true),
        ("{'a': 1} == {'b': 1}", false),
        ("body.disks == [{'gib': 40}, {'gib': 60}]", true),
        ("{'gib': 60} in body.disks", true),
    ] {
        assert_eq!(eval(text), Ok(json!(value)), "{text}");
    }
}

#[test]
fn a_result_is_bounded_in_depth() {
    let deep = (0..60).fold(json!(1), |inner, _| json!([inner]));
    assert!(over("[[body]]", deep.clone()).is_ok());
    let said = over("[[[[[[body]]]]]]", deep).expect_err("too deep");
    assert_eq!(said, "the result is nested deeper than 64 levels");
}

#[test]
fn what_is_filled_in_is_bounded_and_free_of_nul() {
    let fill = |value: Value, body: Value| {
        let template = Template::compile(&value, NAMES).expect("compiles");
        let scope = Body(body);
        template.fill(&scope).map_err(|e| e.to_string())
    };
    assert_eq!(fill(json!({"a": "${'x\\u0000y'}"}), json!({})), Ok(json!({"a": "x\u{fffd}y"})));
    let many: Vec<String> = vec!["${body.t}".into(); 9];
    assert_eq!(
        fill(json!(many), json!({"t": "x".repeat(400_000)})),
        Err("the result is too large".into())
    );
}

#[test]
fn whether_gathered_payloads_are_read_is_known_beforehand() {
    let names = Names { roots: &["alert", "tally"], functions: &[], types: &[] };
    let reads = |text: &str| Expr::compile(text, names).expect("compiles").reads_gathered_bodies();
    for text in [
        "tally.gathered.map(a, a.resource).join(' ')",
        "tally.gathered.map(a, a.labels.site == 'quill' ? a.value : 0.0)",
        "size(tally.gathered)",
        "tally.alerts + tally.jobs",
        "tally.gathered[0].resource",
        "alert.resource",
    ] {
        assert!(!reads(text), "{text}");
    }
    for text in [
        "tally.gathered",
        "tally",
        "tally.gathered.map(a, a)",
        "tally.gathered.map(a, a.body.host)",
        "tally.gathered.map(a, a['body'])",
        "tally.gathered.filter(a, a.value > 3)",
        "tally.gathered[0].body.x",
        "[tally.gathered][0]",
    ] {
        assert!(reads(text), "{text}");
    }
}
