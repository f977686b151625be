//! Which field is meant by which line.

use super::{line::SuggestedLine, words};
use crate::{
    ResourcePath, Severity,
    document::scalar,
    shape::{FieldShape, FieldType, Shape},
    text::field_path,
};
use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet};

/// A required line is read from a field that so many of the payloads have at least.
const OFTEN: f64 = 0.6;
/// Most different values of what becomes a label, and most labels.
const FEW: u64 = 20;
const LABELS: usize = 6;

/// A list whose elements are alerts.
pub(super) struct EachList {
    /// Its name within the body; none for the body itself.
    name: Option<String>,
    pub line: SuggestedLine,
}

impl EachList {
    /// Its elements in a body.
    pub fn of(&self, body: &Value) -> Vec<Value> {
        let list = match &self.name {
            Some(name) => body.get(name),
            None => Some(body),
        };
        list.and_then(Value::as_array).cloned().unwrap_or_default()
    }
}

/// The list whose elements are the alerts: each body is one, or has exactly one of maps.
pub(super) fn list(bodies: &[Value]) -> Option<EachList> {
    let of_maps =
        |value: &Value| value.as_array().is_some_and(|items| items.iter().all(Value::is_object));
    let made = |name: Option<String>, text: String, why: &str| {
        let line = SuggestedLine { line: "each", text, why: why.to_owned() };
        Some(EachList { name, line })
    };
    if bodies.is_empty() {
        return None;
    }
    if bodies.iter().all(of_maps) {
        return made(None, "body".to_owned(), "each payload is a list");
    }
    let named = bodies.iter().map(|body| -> BTreeSet<&String> {
        let map = body.as_object().into_iter().flatten();
        map.filter(|(_, value)| of_maps(value)).map(|(name, _)| name).collect()
    });
    let common = named.reduce(|a, b| a.intersection(&b).copied().collect())?;
    let mut common = common.into_iter();
    let (name, None) = (common.next()?, common.next()) else { return None };
    let (text, why) = (field_path("body", name), "in every payload it is the only list of maps");
    made(Some(name.clone()), text, why)
}

/// An expression as it stands in YAML.
fn quoted(expression: &str) -> String {
    match scalar(expression) {
        plain if plain == expression => plain,
        _ => format!("'{}'", expression.replace('\'', "''")),
    }
}

/// A field, by its path below the body, with what joins both.
#[derive(Clone, Copy)]
struct Field<'s> {
    path: &'s str,
    shape: &'s FieldShape,
}

impl Field<'_> {
    /// Its own name, as it is compared with common ones.
    fn name(&self) -> String {
        let name = self.path.rsplit(['.', '[']).next().unwrap_or(self.path);
        let name = name.trim_matches(['"', ']', '@']);
        let name = name.chars().enumerate().flat_map(|(n, c)| {
            let broken = c.is_ascii_uppercase() && n > 0;
            let c = if c.is_ascii_alphanumeric() { c.to_ascii_lowercase() } else { '_' };
            broken.then_some('_').into_iter().chain([c])
        });
        name.collect()
    }

    fn is(&self, of: FieldType) -> bool {
        self.shape.types.keys().all(|t| *t == of || *t == FieldType::Null)
            && self.shape.types.contains_key(&of)
    }

    fn has_blanks(&self) -> bool {
        self.shape.examples.iter().any(|text| text.contains(' '))
    }

    /// What it holds, for people.
    fn such_as(&self) -> String {
        let examples: Vec<String> =
            self.shape.examples.iter().take(3).map(|text| format!("`{text}`")).collect();
        match self.shape.distinct() {
            0 | 1 => format!("always {}", examples.first().map_or("empty", String::as_str)),
            few @ 2..=12 => format!("{few} different values, such as {}", examples.join(", ")),
            many => format!("about {many} different values, such as {}", examples.join(", ")),
        }
    }
}

/// What is guessed of a shape.
pub(super) struct Guess<'s> {
    shape: &'s Shape,
    root: &'static str,
    source: &'s str,
    fields: Vec<Field<'s>>,
    used: BTreeSet<&'s str>,
}

impl<'s> Guess<'s> {
    pub fn new(shape: &'s Shape, root: &'static str, source: &'s str) -> Self {
        let fields = shape.fields.iter().filter_map(|(path, field)| {
            let path = path.strip_prefix("body").filter(|path| !path.is_empty())?;
            (!path.contains("[]") && !path.contains(".*") && !field.masked)
                .then_some(Field { path, shape: field })
        });
        let mut fields: Vec<Field<'s>> = fields.collect();
        // What stands higher up is more likely meant.
        fields.sort_by_key(|field| field.path.matches(['.', '[']).count());
        Self { shape, root, source, fields, used: BTreeSet::new() }
    }

    /// The lines in the order in which they are written.
    pub fn lines(mut self) -> Vec<SuggestedLine> {
        let id = self.id();
        let severity = self.severity();
        let state = self.state();
        let resource = self.resource();
        let kind = self.kind();
        let time = self.time();
        let summary = self.summary();
        let value = self.value();
        let labels = self.labels();
        let optional = [time, summary, value, labels].into_iter().flatten();
        let before = id.into_iter().chain([kind]).chain(severity).chain(state);
        before.chain([resource]).chain(optional).collect()
    }

    /// The likeliest field by its name of those that a test lets through.
    fn named<'n>(
        &self,
        names: impl IntoIterator<Item = &'n str>,
        fits: impl Fn(&Field<'s>) -> bool,
    ) -> Option<Field<'s>> {
        let free = |field: &&Field<'s>| !self.used.contains(field.path) && fits(field);
        names
            .into_iter()
            .find_map(|name| self.fields.iter().find(|f| free(f) && f.name() == name))
            .copied()
    }

    fn is_often(&self, field: &Field<'_>) -> bool {
        self.shape.share(field.shape) >= OFTEN
    }

    fn line(
        &mut self,
        line: &'static str,
        field: Field<'s>,
        text: String,
        why: &str,
    ) -> SuggestedLine {
        self.used.insert(field.path);
        let path = field.path.trim_start_matches('.');
        SuggestedLine { line, text, why: format!("`{path}` {why}: {}", field.such_as()) }
    }

    fn path(&self, field: &Field<'_>) -> String {
        format!("{}{}", self.root, field.path)
    }

    fn id(&mut self) -> Option<SuggestedLine> {
        let differs = |field: &Field<'s>| {
            let looked_at = self.shape.profiled as f64;
            looked_at >= 3.0
                && self.is_often(field)
                && field.shape.distinct() as f64 >= 0.8 * looked_at
        };
        let field = self.named(words::ID, differs)?;
        let text = quoted(&self.path(&field));
        Some(self.line("id", field, text, "is called so and is another one each time"))
    }

    fn kind(&mut self) -> SuggestedLine {
        let fits = |field: &Field<'s>| {
            field.is(FieldType::Text) && !field.has_blanks() && self.is_often(field)
        };
        match self.named(words::KIND, fits) {
            Some(field) => {
                let text = quoted(&self.path(&field));
                self.line("kind", field, text, "is called as what says the kind often is")
            }
            None => {
                let kind = format!("{}.alert", self.source.replace('-', "_"));
                let text = quoted(&format!("\"{kind}\""));
                let why = "no field seems to say of which kind it is; write what fits".to_owned();
                SuggestedLine { line: "kind", text, why }
            }
        }
    }

    fn severity(&mut self) -> Option<SuggestedLine> {
        let knows = |field: &Field<'s>| {
            let examples = &field.shape.examples;
            field.is(FieldType::Text) && examples.iter().any(|word| words::severity(word).is_some())
        };
        let field = self.named(words::SEVERITY, knows)?;
        let of = self.path(&field);
        let examples = &field.shape.examples;
        let text = if examples.iter().all(|word| Severity::parse(word).is_some()) {
            quoted(&of)
        } else {
            let known = examples
                .iter()
                .filter_map(|word| Some(format!("{}: {}", scalar(word), words::severity(word)?)));
            let known: BTreeSet<String> = known.collect();
            let known: Vec<String> = known.into_iter().collect();
            format!("{{ of: {}, as: {{ {} }}, else: warning }}", quoted(&of), known.join(", "))
        };
        // A status may say both how bad it is and whether it stands.
        let line = self.line("severity", field, text, "holds words for how bad something is");
        if examples.iter().any(|word| words::is_over(word) == Some(true)) {
            self.used.remove(field.path);
        }
        Some(line)
    }

    fn state(&mut self) -> Option<SuggestedLine> {
        let says = |field: &Field<'s>| {
            let examples = &field.shape.examples;
            field.is(FieldType::Bool)
                || (field.is(FieldType::Text)
                    && examples.iter().any(|word| words::is_over(word).is_some()))
        };
        let field = self.named(words::STATE, says)?;
        let of = self.path(&field);
        let condition = if field.is(FieldType::Bool) {
            match words::is_over(&field.name()) {
                Some(false) => format!("!{of}"),
                _ => of,
            }
        } else {
            let examples = &field.shape.examples;
            let over = examples.iter().filter(|word| words::is_over(word) == Some(true));
            let over: BTreeSet<String> =
                over.map(|word| Value::from(word.as_str()).to_string()).collect();
            let over: Vec<String> = over.into_iter().collect();
            match &over[..] {
                [] => format!("{of} in [\"ok\", \"resolved\", \"cleared\"]"),
                [one] => format!("{of} == {one}"),
                many => format!("{of} in [{}]", many.join(", ")),
            }
        };
        let text = quoted(&format!("{condition} ? \"cleared\" : \"raised\""));
        Some(self.line("state", field, text, "says whether it is over"))
    }

    fn resource(&mut self) -> SuggestedLine {
        let fits = |field: &Field<'s>| {
            field.is(FieldType::Text) && !field.has_blanks() && self.is_often(field)
        };
        let Some(field) = self.named(words::RESOURCE.map(|(name, _)| name), fits) else {
            let text = quoted(&format!("\"source/{}\"", self.source));
            let why = "no field seems to say what it is about; write what fits".to_owned();
            return SuggestedLine { line: "resource", text, why };
        };
        let name = field.name();
        let class = words::RESOURCE.iter().find(|(known, _)| *known == name);
        let class = class.map_or("host", |(_, class)| *class);
        let of = self.path(&field);
        let is_path = |text: &String| text.contains('/') && ResourcePath::parse(text).is_ok();
        let text = if field.shape.examples.iter().all(is_path) {
            quoted(&of)
        } else {
            quoted(&format!("\"{class}/\" + {of}"))
        };
        self.line("resource", field, text, "is called as what it is about often is")
    }

    fn time(&mut self) -> Option<SuggestedLine> {
        let is_time = |field: &Field<'s>| {
            let is_text =
                |text: &String| text.len() >= 10 && text.starts_with(|c: char| c.is_ascii_digit());
            let since_1970 = field.shape.least.is_some_and(|least| least > 1e9);
            (field.is(FieldType::Text) && field.shape.examples.iter().all(is_text))
                || (field.is(FieldType::Number) && since_1970)
        };
        let field = self.named(words::TIME, is_time)?;
        let text = quoted(&self.path(&field));
        Some(self.line("time", field, text, "holds times"))
    }

    fn summary(&mut self) -> Option<SuggestedLine> {
        let field = self.named(words::SUMMARY, |field| field.is(FieldType::Text))?;
        let text = quoted(&self.path(&field));
        Some(self.line("summary", field, text, "is text for people"))
    }

    fn value(&mut self) -> Option<SuggestedLine> {
        let begins = |text: &String| text.starts_with(|c: char| c.is_ascii_digit() || c == '-');
        let fits = |field: &Field<'s>| {
            field.is(FieldType::Number)
                || (field.is(FieldType::Text) && field.shape.examples.iter().all(begins))
        };
        let field = self.named(words::VALUE, fits)?;
        let text = quoted(&self.path(&field));
        Some(self.line("value", field, text, "holds numbers"))
    }

    fn labels(&mut self) -> Option<SuggestedLine> {
        let fits = |field: &&Field<'s>| {
            !self.used.contains(field.path)
                && field.is(FieldType::Text)
                && !field.has_blanks()
                && (1..=FEW).contains(&field.shape.distinct())
        };
        let mut labels = BTreeMap::new();
        for field in self.fields.iter().filter(fits) {
            let name = field.name();
            if labels.len() < LABELS && !name.is_empty() {
                labels.entry(name).or_insert_with(|| self.path(field));
            }
        }
        let written: Vec<String> = labels
            .iter()
            .map(|(name, path)| format!("{}: {}", scalar(name), quoted(path)))
            .collect();
        (!written.is_empty()).then(|| SuggestedLine {
            line: "labels",
            text: format!("{{ {} }}", written.join(", ")),
            why: "short texts with few different values, by which alerts can be chosen".to_owned(),
        })
    }
}
