//! The cases of the language's specification, and what they give here: a value, an error when it is
//! evaluated, or a diagnostic before.

use crate::expr::{Expr, FUNCTIONS, Names, Scope, Val};
use serde_json::{Value, json};

const FILES: [(&str, &str); 6] = [
    ("grammar", include_str!("../../../cases/expressions/grammar.txt")),
    ("numbers", include_str!("../../../cases/expressions/numbers.txt")),
    ("texts", include_str!("../../../cases/expressions/texts.txt")),
    ("times", include_str!("../../../cases/expressions/times.txt")),
    ("lists_and_maps", include_str!("../../../cases/expressions/lists_and_maps.txt")),
    ("logic", include_str!("../../../cases/expressions/logic.txt")),
];

struct Body(Value);

impl<'a> Scope<'a> for Body {
    fn name(&'a self, name: &str) -> Option<Val<'a>> {
        (name == "body").then(|| Val::json(&self.0))
    }
}

const NAMES: Names<'static> = Names { roots: &["body"], functions: &[], types: &[] };

fn body() -> Body {
    Body(json!({
        "l": [{ "a": 1 }, { "b": 2 }], "m": { "k": 1, "in": 2, "odd-key": 3 }, "n": 5, "f": 1.5,
            "s": "abc",
        "big": u64::MAX, "none": null
    }))
}

/// What a case gives, in the words of the files where it is no value.
fn given(text: &str, wanted: &str, body: &Body) -> Result<(), String> {
    let expr = match Expr::compile(text, NAMES) {
        Ok(expr) => expr,
        Err(_) if wanted == "refused" => return Ok(()),
        Err(e) => return Err(format!("refused: {e}")),
    };
    let value = match expr.eval(body) {
        Ok(value) => value,
        Err(_) if wanted == "error" => return Ok(()),
        Err(e) => return Err(format!("error: {e}")),
    };
    if ["refused", "error"].contains(&wanted) {
        return Err(value.text());
    }
    let expected = Expr::compile(wanted, NAMES).map_err(|e| format!("{wanted}: {e}"))?;
    let expected = expected.eval(body).map_err(|e| format!("{wanted}: {e}"))?;
    let same = value.type_name() == expected.type_name() && value.to_json() == expected.to_json();
    if same { Ok(()) } else { Err(format!("{} {}", value.type_name(), value.text())) }
}

#[test]
fn the_reference_lists_every_function() {
    let page = include_str!("../../../../../docs/reference/expressions.md");
    let rows: Vec<String> =
        FUNCTIONS.iter().map(|f| format!("| `{}` | {} |", f.form(), f.says)).collect();
    let table = rows.join("\n");
    assert!(
        page.contains(&table),
        "docs/reference/expressions.md does not hold this table:\n{table}"
    );
}

#[test]
fn expressions_give_what_the_specification_says() {
    let body = body();
    let mut cases = 0;
    let mut differing = Vec::new();
    for (file, text) in FILES {
        for line in text.lines().filter(|l| !l.is_empty() && !l.starts_with('#')) {
            let (expr, wanted) = line.rsplit_once(" => ").expect(line);
            cases += 1;
            if let Err(found) = given(expr, wanted, &body) {
                differing.push(format!("{file}: {expr}\n    wanted {wanted}, found {found}"));
            }
        }
    }
    assert!(
        differing.is_empty(),
        "{} of {cases} differ:\n{}",
        differing.len(),
        differing.join("\n")
    );
    assert!(cases >= 475, "there are {cases} cases");
}
