//! Within a crate, files import each other in one direction only: what two of them need is in a
//! third. Where a name that a folder passes on comes from is followed to the file that has it.

use super::house::{code, sources};
use std::{
    collections::{BTreeMap, BTreeSet},
    fs,
    path::Path,
};

/// Files whose types hold each other, by nature: a step holds lists of steps of any kind.
const RECURSIVE: [&str; 2] = ["runbook::steps", "runbook::type_environment"];

/// What a file has, and what it takes from where.
struct Module {
    defines: BTreeSet<String>,
    /// Paths, each with whether it is passed on.
    uses: Vec<(bool, Vec<String>)>,
}

fn parts(path: &str) -> Vec<String> {
    path.split("::").map(|part| part.trim().to_owned()).filter(|part| !part.is_empty()).collect()
}

/// The paths of one `use`: one for each name in its braces.
fn expanded(tree: &str) -> Vec<Vec<String>> {
    let tree = tree.split(" as ").next().unwrap_or_default().trim();
    let Some(open) = tree.find('{') else { return vec![parts(tree)] };
    let inner = &tree[open + 1..tree.rfind('}').unwrap_or(tree.len())];
    let (mut depth, mut from, mut names) = (0, 0, Vec::new());
    for (at, c) in inner.char_indices() {
        match c {
            '{' => depth += 1,
            '}' => depth -= 1,
            ',' if depth == 0 => {
                names.push(&inner[from..at]);
                from = at + 1;
            }
            _ => {}
        }
    }
    names.push(&inner[from..]);
    let before = parts(&tree[..open]);
    names
        .into_iter()
        .filter(|name| !name.trim().is_empty())
        .flat_map(expanded)
        .map(|rest| before.iter().cloned().chain(rest).collect())
        .collect()
}

fn module(text: &str) -> Module {
    let defined =
        regex::Regex::new(r"\b(?:fn|struct|enum|trait|type|static|const|union)\s+([A-Za-z_]\w*)");
    let used = regex::Regex::new(r"(?m)^\s*(pub(?:\([^)]*\))?\s+)?use\s+([^;]+);");
    let inline = regex::Regex::new(r"\b(?:super|crate)(?:::\w+)+");
    let (defined, used, inline) =
        (defined.expect("a pattern"), used.expect("a pattern"), inline.expect("a pattern"));
    let text = text.replace("pub(in crate", "pub(in_crate");
    let mut uses: Vec<(bool, Vec<String>)> = Vec::new();
    for found in used.captures_iter(&text) {
        let passed_on = found.get(1).is_some();
        uses.extend(expanded(&found[2]).into_iter().map(|path| (passed_on, path)));
    }
    let rest = used.replace_all(&text, "");
    uses.extend(inline.find_iter(&rest).map(|path| (false, parts(path.as_str()))));
    let defines = defined.captures_iter(&text).map(|found| found[1].to_owned()).collect();
    Module { defines, uses }
}

fn modules(source: &Path) -> BTreeMap<Vec<String>, Module> {
    let mut files = Vec::new();
    sources(source, &mut files);
    let named = |file: &Path| -> Vec<String> {
        let below = file.strip_prefix(source).expect("below it").with_extension("");
        let names = below.iter().map(|part| part.to_string_lossy().into_owned());
        names.filter(|name| !["mod", "lib", "main"].contains(&name.as_str())).collect()
    };
    files
        .iter()
        .filter(|file| file.file_stem().is_some_and(|stem| stem != "tests"))
        .map(|file| (named(file), module(&code(file))))
        .collect()
}

/// The file that has what a path names, as it is seen from another; none for what is of another
/// crate.
fn resolve(
    all: &BTreeMap<Vec<String>, Module>,
    from: &[String],
    path: &[String],
    deep: usize,
) -> Option<Vec<String>> {
    let (first, mut rest) = path.split_first()?;
    let mut at = match first.as_str() {
        "crate" => Vec::new(),
        "super" => from[..from.len().checked_sub(1)?].to_vec(),
        "self" => from.to_vec(),
        _ => {
            let own: Vec<String> = from.iter().chain([first]).cloned().collect();
            all.contains_key(&own).then_some(own)?
        }
    };
    while let [next, more @ ..] = rest {
        if next == "super" {
            at.pop();
        } else {
            let below: Vec<String> = at.iter().chain([next]).cloned().collect();
            if !all.contains_key(&below) {
                break;
            }
            at = below;
        }
        rest = more;
    }
    let (Some(name), Some(module)) = (rest.first(), all.get(&at)) else { return Some(at) };
    if module.defines.contains(name) || deep == 0 {
        return Some(at);
    }
    let passes = |(_, used): &&(bool, Vec<String>)| used.last() == Some(name) && used != path;
    let passed = module.uses.iter().find(passes);
    passed.and_then(|(_, used)| resolve(all, &at, used, deep - 1)).or(Some(at))
}

type Edges = BTreeMap<String, BTreeSet<String>>;

fn imports(all: &BTreeMap<Vec<String>, Module>) -> Edges {
    let name = |module: &[String]| module.join("::");
    let is_recursive = |name: &str| RECURSIVE.iter().any(|within| name.starts_with(within));
    let mut edges = Edges::new();
    for (module, Module { uses, .. }) in all {
        for (passed_on, path) in uses {
            let Some(to) = resolve(all, module, path, 6) else { continue };
            // What a folder passes on of its own is no import.
            let own = *passed_on && to.starts_with(module);
            let (from, to) = (name(module), name(&to));
            if !own && to != from && !is_recursive(&from) && !is_recursive(&to) {
                edges.entry(from).or_default().insert(to);
            }
        }
    }
    edges
}

/// What is left when whoever imports nothing that is left, or is imported by nothing that is left,
/// is taken away again and again.
fn circles(mut edges: Edges) -> Edges {
    loop {
        let importing: BTreeSet<String> = edges.keys().cloned().collect();
        edges.values_mut().for_each(|to| to.retain(|to| importing.contains(to)));
        let imported: BTreeSet<String> = edges.values().flatten().cloned().collect();
        let before = edges.len();
        edges.retain(|from, to| !to.is_empty() && imported.contains(from));
        if edges.len() == before {
            return edges;
        }
    }
}

#[test]
fn files_import_each_other_in_one_direction() {
    let crates = Path::new(concat!(env!("CARGO_MANIFEST_DIR"), "/.."));
    for name in ["api", "connect", "core", "service", "store"] {
        let source = crates.join(name).join("src");
        let edges = imports(&modules(&source));
        assert!(edges.values().map(BTreeSet::len).sum::<usize>() > 5, "{name}: {edges:?}");
        let circles = circles(edges);
        assert!(circles.is_empty(), "{name}: these import each other in a circle: {circles:#?}");
    }
}

#[test]
fn a_circle_is_found_through_what_a_folder_passes_on() {
    let folder = crate::kit::folder("circles");
    for (file, text) in [
        ("lib.rs", "mod a;\nmod b;\npub use a::A;\n"),
        ("a.rs", "use crate::b::{B, C};\npub struct A(B, C);\n"),
        ("b.rs", "pub struct B;\npub struct C(super::A);\n"),
    ] {
        fs::write(folder.join(file), text).expect("a file");
    }
    let found: Vec<String> = circles(imports(&modules(&folder))).into_keys().collect();
    assert_eq!(found, ["a", "b"]);
}
