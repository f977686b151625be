//! The index over a published set of rules.
//!
//! For each rule a few demands are chosen that few other rules make: exact names out of a short
//! list, or a piece of text that its globs cannot do without. Rules that demand something of the
//! same fields share a *space*, a table from the demanded values to the rules. An alert is looked
//! up once in each space, with its own values of these fields; the pieces of text are found in it
//! by one automaton for each field. What the tables yield is compared by severity, state and
//! value, and only what is left is asked in full by [`super::test`].
//!
//! Why a few fields together and not one: a kind alone is shared by thousands of rules, a kind
//! and a site by a handful. Why not all fields: each further space is one more look-up.

use super::{Match, test};
use crate::{
    Alert, AlertState, Severity,
    expr::{Demand, Path},
    glob::Glob,
    rule::Rule,
};
use aho_corasick::AhoCorasick;
use rustc_hash::{FxHashMap, FxHasher};
use serde_json::Value;
use std::{
    hash::{Hash, Hasher},
    sync::Arc,
};

/// Most values of one rule in its space; a rule with more alternatives is indexed by fewer fields.
const MAX_WAYS: usize = 16;
/// Most fields of a space.
const MAX_FIELDS: usize = 3;
/// Shortest piece of text that is worth looking for, in bytes.
const MIN_FACTOR: usize = 2;
/// Most finds of pieces in one field. Pieces that lie within each other can be found millions of
/// times in a long text; beyond this all of them count as found, and the rules are asked.
const MAX_FINDS: usize = 1 << 16;

/// A compiled set of rules.
#[derive(Debug, Default)]
pub struct Matcher {
    rules: Vec<(Arc<Rule>, i32)>,
    fields: Fields,
    spaces: Vec<Space>,
    /// Rules that demand nothing that could be looked up.
    others: Vec<Posting>,
}

/// A rule that an alert matches, or that went wrong over it.
#[derive(Clone, Debug)]
pub struct Hit<'a> {
    /// The rule.
    pub rule: &'a Arc<Rule>,
    /// Its version.
    pub version: i32,
    /// What went wrong; none when it matches.
    pub broken: Option<String>,
}

/// What is looked up: the whole text of a field, or a piece of it.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
enum Field {
    Whole(Path),
    Piece(Path),
}

/// A demand on one field: any of these texts.
type Lookup = (Field, Vec<String>);

/// The fields that are looked up, and how their values are found in an alert.
#[derive(Debug, Default)]
struct Fields {
    numbers: FxHashMap<Field, u32>,
    whole: Vec<(Path, u32)>,
    labels: FxHashMap<String, u32>,
    pieces: Vec<(Path, u32, AhoCorasick, Vec<u64>)>,
}

#[derive(Debug)]
struct Space {
    fields: Vec<u32>,
    /// From the values to a range of postings.
    table: FxHashMap<u64, (u32, u32)>,
    postings: Vec<Posting>,
}

/// A rule in a space, with what can be compared at once.
#[derive(Clone, Copy, Debug)]
struct Posting {
    rule: u32,
    severities: u8,
    states: u8,
    /// Whether a value is demanded, between these bounds.
    valued: bool,
    low: f64,
    high: f64,
}

impl Posting {
    fn admits(&self, alert: &Alert) -> bool {
        self.severities & alert.severity.bit() != 0
            && self.states & state_bit(alert.state) != 0
            && (!self.valued || alert.value.is_some_and(|v| v >= self.low && v <= self.high))
    }
}

fn state_bit(s: AlertState) -> u8 {
    1 << s as u8
}

fn hashed(text: &str) -> u64 {
    let mut hasher = FxHasher::default();
    text.hash(&mut hasher);
    hasher.finish()
}

fn combined(before: u64, value: u64) -> u64 {
    (before.rotate_left(23) ^ value).wrapping_mul(0x9e37_79b9_7f4a_7c15)
}

impl Matcher {
    /// Compiles rules with their versions.
    pub fn new(rules: Vec<(Arc<Rule>, i32)>) -> Self {
        let sketches: Vec<Option<Sketch>> = rules.iter().map(|(rule, _)| sketch(rule)).collect();
        let mut shared: FxHashMap<(&Field, &str), u32> = FxHashMap::default();
        for (field, texts) in sketches.iter().flatten().flat_map(|s| &s.demands) {
            for text in texts {
                *shared.entry((field, text)).or_default() += 1;
            }
        }
        let mut fields = Numbering::default();
        let mut spaces: FxHashMap<Vec<u32>, Vec<(u64, Posting)>> = FxHashMap::default();
        let mut others = Vec::new();
        for (number, sketch) in sketches.iter().enumerate() {
            let Some(sketch) = sketch else { continue };
            let posting =
                Posting { rule: u32::try_from(number).unwrap_or(u32::MAX), ..sketch.posting };
            let mut chosen = choose(sketch, &shared, rules.len());
            chosen.sort_by_key(|(field, _)| fields.number(field));
            if chosen.is_empty() {
                others.push(posting);
                continue;
            }
            let numbers = chosen.iter().map(|(field, _)| fields.number(field)).collect();
            let into = spaces.entry(numbers).or_default();
            let mut ways = vec![0u64];
            for (field, texts) in chosen {
                let values: Vec<u64> = texts.iter().map(|t| fields.value(field, t)).collect();
                ways =
                    ways.iter().flat_map(|way| values.iter().map(|v| combined(*way, *v))).collect();
            }
            into.extend(ways.into_iter().map(|way| (way, posting)));
        }
        let fields = fields.finish();
        let mut spaces: Vec<Space> =
            spaces.into_iter().map(|(fields, rows)| Space::new(fields, rows)).collect();
        spaces.sort_by(|a, b| a.fields.cmp(&b.fields));
        Self { rules, fields, spaces, others }
    }

    /// All rules.
    pub fn rules(&self) -> impl Iterator<Item = (&Arc<Rule>, i32)> {
        self.rules.iter().map(|(rule, version)| (rule, *version))
    }

    /// The rules that concern an alert, in the order in which they were given.
    pub fn matching(&self, alert: &Alert) -> Vec<Hit<'_>> {
        let hit = |number: u32| {
            let (rule, version) = &self.rules[number as usize];
            match test(rule, alert) {
                Match::No => None,
                Match::Yes => Some(Hit { rule, version: *version, broken: None }),
                Match::Broken(why) => Some(Hit { rule, version: *version, broken: Some(why) }),
            }
        };
        self.candidates(alert).into_iter().filter_map(hit).collect()
    }

    /// The numbers of the rules that have to be asked in full.
    pub fn candidates(&self, alert: &Alert) -> Vec<u32> {
        let mut found: Vec<u32> = Vec::with_capacity(16);
        let mut take = |postings: &[Posting]| {
            found.extend(postings.iter().filter(|p| p.admits(alert)).map(|p| p.rule))
        };
        take(&self.others);
        let values = self.fields.values(alert);
        for space in &self.spaces {
            space.look_up(&values, &mut take);
        }
        found.sort_unstable();
        found.dedup();
        found
    }
}

impl Space {
    fn new(fields: Vec<u32>, mut rows: Vec<(u64, Posting)>) -> Self {
        rows.sort_by_key(|(value, posting)| (*value, posting.rule));
        let mut table = FxHashMap::default();
        table.reserve(rows.len());
        let mut start = 0;
        for group in rows.chunk_by(|a, b| a.0 == b.0) {
            let end = start + group.len();
            let range =
                (u32::try_from(start).unwrap_or(u32::MAX), u32::try_from(end).unwrap_or(u32::MAX));
            table.insert(group[0].0, range);
            start = end;
        }
        Self { fields, table, postings: rows.into_iter().map(|(_, posting)| posting).collect() }
    }

    /// Where an alert has so many values that going through all their combinations would cost more
    /// than asking all rules of the space, these are asked.
    fn look_up(&self, values: &[Vec<u64>], take: &mut impl FnMut(&[Posting])) {
        let ways = self
            .fields
            .iter()
            .fold(1usize, |ways, f| ways.saturating_mul(values[*f as usize].len()));
        if ways > self.postings.len().max(MAX_WAYS) {
            take(&self.postings);
        } else {
            self.ways(0, 0, values, take);
        }
    }

    fn ways(&self, at: usize, way: u64, values: &[Vec<u64>], take: &mut impl FnMut(&[Posting])) {
        let Some(field) = self.fields.get(at) else {
            if let Some((from, to)) = self.table.get(&way) {
                take(&self.postings[*from as usize..*to as usize]);
            }
            return;
        };
        for value in &values[*field as usize] {
            self.ways(at + 1, combined(way, *value), values, take);
        }
    }
}

impl Fields {
    /// The alert's values of every field.
    fn values(&self, alert: &Alert) -> Vec<Vec<u64>> {
        let mut values = vec![Vec::new(); self.numbers.len()];
        for (path, number) in &self.whole {
            if let Some(text) = text(path, alert) {
                values[*number as usize].push(hashed(text));
            }
        }
        if !self.labels.is_empty() {
            for (name, value) in &alert.labels {
                if let Some(number) = self.labels.get(name) {
                    values[*number as usize].push(hashed(value));
                }
            }
        }
        for (path, number, automaton, hashes) in &self.pieces {
            let Some(text) = text(path, alert) else { continue };
            let into = &mut values[*number as usize];
            let mut finds = automaton.find_overlapping_iter(text);
            into.extend(
                finds.by_ref().take(MAX_FINDS).map(|found| hashes[found.pattern().as_usize()]),
            );
            if finds.next().is_some() {
                into.clone_from(hashes);
            }
            into.sort_unstable();
            into.dedup();
        }
        values
    }
}

fn text<'a>(path: &Path, alert: &'a Alert) -> Option<&'a str> {
    match path {
        Path::Source => Some(&alert.source),
        Path::Kind => Some(&alert.kind),
        Path::State => Some(alert.state.as_str()),
        Path::Resource => Some(alert.resource.as_str()),
        Path::Summary => Some(&alert.summary),
        Path::Label(name) => alert.labels.get(name).map(String::as_str),
        Path::Body(path) => {
            path.iter().try_fold(&alert.body, |v, name| v.get(name)).and_then(Value::as_str)
        }
    }
}

/// Fields get their numbers while the rules are gone through.
#[derive(Default)]
struct Numbering {
    numbers: FxHashMap<Field, u32>,
    pieces: FxHashMap<Path, Vec<String>>,
    known: FxHashMap<(Path, String), ()>,
}

impl Numbering {
    fn number(&mut self, field: &Field) -> u32 {
        let next = u32::try_from(self.numbers.len()).unwrap_or(u32::MAX);
        *self.numbers.entry(field.clone()).or_insert(next)
    }

    fn value(&mut self, field: &Field, text: &str) -> u64 {
        if let Field::Piece(path) = field
            && self.known.insert((path.clone(), text.to_owned()), ()).is_none()
        {
            self.pieces.entry(path.clone()).or_default().push(text.to_owned());
        }
        hashed(text)
    }

    fn finish(mut self) -> Fields {
        let mut fields = Fields::default();
        for (field, number) in &self.numbers {
            match field {
                Field::Whole(Path::Label(name)) => {
                    fields.labels.insert(name.clone(), *number);
                }
                Field::Whole(path) => fields.whole.push((path.clone(), *number)),
                Field::Piece(path) => {
                    let texts = self.pieces.remove(path).unwrap_or_default();
                    let hashes = texts.iter().map(|t| hashed(t)).collect();
                    if let Ok(automaton) = AhoCorasick::new(&texts) {
                        fields.pieces.push((path.clone(), *number, automaton, hashes));
                    }
                }
            }
        }
        fields.numbers = self.numbers;
        fields
    }
}

/// What a rule demands, as far as the index is concerned; none for a rule that matches nothing.
struct Sketch {
    posting: Posting,
    demands: Vec<Lookup>,
}

fn sketch(rule: &Rule) -> Option<Sketch> {
    let listen = &rule.listen;
    let listed = listen.severity.as_ref().map_or(0b1_1111, |ranges| {
        let inside = |s: &Severity| ranges.iter().any(|r| r.contains(*s));
        Severity::ALL.into_iter().filter(inside).fold(0, |m, s| m | s.bit())
    });
    let mut posting = Posting {
        rule: 0,
        severities: listed,
        states: listen.states.iter().fold(0, |m, s| m | state_bit(*s)),
        valued: false,
        low: f64::NEG_INFINITY,
        high: f64::INFINITY,
    };
    let mut demands: Vec<Lookup> = Vec::new();
    demands.extend(named(Path::Source, listen.sources.as_deref()));
    demands.extend(named(Path::Kind, listen.kinds.as_deref()));
    demands.extend(named(Path::Resource, listen.resource.as_deref()));
    demands.extend(
        listen
            .labels
            .iter()
            .filter_map(|(name, globs)| named(Path::Label(name.clone()), Some(globs))),
    );
    for demand in listen.condition.iter().flat_map(crate::expr::Expr::demands) {
        match demand {
            Demand::OneOf(path, texts) => demands.push((Field::Whole(path), texts)),
            Demand::Like(path, glob) => demands.extend(named(path, Some(&[glob]))),
            Demand::Holds(path, text) => demands.extend(piece(path, vec![text])),
            Demand::Severity(set) => posting.severities &= set,
            Demand::Value(low, high) => {
                posting.valued = true;
                posting.low = posting.low.max(low);
                posting.high = posting.high.min(high);
            }
            Demand::Never => return None,
        }
    }
    let possible = posting.severities != 0 && posting.states != 0 && posting.low <= posting.high;
    possible.then(|| {
        for (_, texts) in &mut demands {
            texts.sort_unstable();
            texts.dedup();
        }
        Sketch { posting, demands }
    })
}

/// The demand of a list of names and globs, where it is one.
fn named(path: Path, globs: Option<&[Glob]>) -> Option<Lookup> {
    let globs = globs?;
    if globs.iter().all(|g| g.exact().is_some()) {
        return Some((Field::Whole(path), globs.iter().map(|g| g.as_str().to_owned()).collect()));
    }
    piece(path, globs.iter().map(|g| g.factor().to_owned()).collect())
}

fn piece(path: Path, texts: Vec<String>) -> Option<Lookup> {
    texts.iter().all(|t| t.len() >= MIN_FACTOR).then_some((Field::Piece(path), texts))
}

/// The demands that tell a rule best from the others.
fn choose<'a>(
    sketch: &'a Sketch,
    shared: &FxHashMap<(&Field, &str), u32>,
    rules: usize,
) -> Vec<&'a Lookup> {
    let sharing = |(field, texts): &Lookup| {
        texts.iter().map(|t| shared.get(&(field, t.as_str())).copied().unwrap_or(1)).sum::<u32>()
    };
    let mut ranked: Vec<(u32, &Lookup)> = sketch.demands.iter().map(|d| (sharing(d), d)).collect();
    ranked.sort_by(|a, b| (a.0, &a.1.0).cmp(&(b.0, &b.1.0)));
    let (mut chosen, mut ways, mut expected): (Vec<&Lookup>, usize, f64) =
        (Vec::new(), 1, rules as f64);
    for (sharing, demand) in ranked {
        let enough = chosen.len() >= MAX_FIELDS || (!chosen.is_empty() && expected <= 4.0);
        if enough || ways * demand.1.len() > MAX_WAYS || chosen.iter().any(|c| c.0 == demand.0) {
            continue;
        }
        ways *= demand.1.len();
        expected *= f64::from(sharing) / rules.max(1) as f64;
        chosen.push(demand);
    }
    chosen
}
