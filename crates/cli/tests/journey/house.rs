//! The house itself: within a crate, folders import each other in one direction only, and names say
//! what things are.

use std::{
    collections::{BTreeMap, BTreeSet},
    fs,
    path::{Path, PathBuf},
};

type Edges = BTreeMap<String, BTreeSet<String>>;

/// The code of a file, without its tests and comments.
pub fn code(path: &Path) -> String {
    let text = fs::read_to_string(path).expect("a source");
    let text = text.split("#[cfg(test)]\nmod tests {").next().unwrap_or_default();
    let line = |l: &str| l.split("//").next().unwrap_or_default().to_owned();
    text.lines().map(line).collect::<Vec<_>>().join("\n")
}

fn word(text: &str) -> &str {
    let end = text.find(|c: char| !c.is_alphanumeric() && c != '_').unwrap_or(text.len());
    &text[..end]
}

/// The names that follow a path's beginning: one, or those of a list in braces, not of lists
/// within.
fn first_names(rest: &str) -> Vec<&str> {
    let Some(list) = rest.strip_prefix('{') else { return vec![word(rest)] };
    let (mut depth, mut names, mut begins) = (1, Vec::new(), true);
    for (at, c) in list.char_indices() {
        match c {
            '{' => depth += 1,
            '}' => depth -= 1,
            ',' if depth == 1 => begins = true,
            c if c.is_whitespace() => {}
            _ if begins && depth == 1 => {
                names.push(word(&list[at..]));
                begins = false;
            }
            _ => {}
        }
        if depth == 0 {
            break;
        }
    }
    names
}

/// Which names the root of a crate passes on from which folder.
fn passed_on(root: &str) -> BTreeMap<String, String> {
    let mut from = BTreeMap::new();
    for part in root.split("pub use ").skip(1) {
        let (folder, rest) = part.split_once("::").expect("a path");
        from.extend(first_names(rest).into_iter().map(|name| (name.to_owned(), folder.to_owned())));
    }
    from
}

fn collect(folder: &Path, module: &str, from: &BTreeMap<String, String>, edges: &mut Edges) {
    for entry in fs::read_dir(folder).expect("a folder").map(|e| e.expect("an entry").path()) {
        let name = entry.file_stem().and_then(|n| n.to_str()).expect("a name").to_owned();
        let module = if module.is_empty() { &name } else { module };
        if matches!(name.as_str(), "tests" | "lib" | "main") {
            continue;
        }
        if entry.is_dir() {
            collect(&entry, module, from, edges);
            continue;
        }
        let imports = edges.entry(module.to_owned()).or_default();
        for rest in code(&entry).split("crate::").skip(1) {
            let names = first_names(rest).into_iter();
            imports.extend(
                names
                    .map(|n| from.get(n).map_or(n, String::as_str).to_owned())
                    .filter(|n| n != module),
            );
        }
    }
}

/// What is left when whoever imports nothing that is left is taken away again and again.
fn cycles(mut edges: Edges) -> Edges {
    loop {
        let left: BTreeSet<String> = edges.keys().cloned().collect();
        edges.values_mut().for_each(|to| to.retain(|t| left.contains(t)));
        let before = edges.len();
        edges.retain(|_, to| !to.is_empty());
        if edges.len() == before {
            return edges;
        }
    }
}

#[test]
fn folders_import_each_other_in_one_direction() {
    let crates = Path::new(concat!(env!("CARGO_MANIFEST_DIR"), "/.."));
    for name in ["api", "cli", "connect", "core", "service", "standins", "store"] {
        let source = crates.join(name).join("src");
        let root = fs::read_to_string(source.join("lib.rs")).unwrap_or_default();
        let mut edges = Edges::new();
        collect(&source, "", &passed_on(&root), &mut edges);
        assert!(edges.len() >= 3, "{name}: {edges:?}");
        assert_eq!(cycles(edges), Edges::new(), "{name}: these import each other in a circle");
    }
}

/// All files of code below a folder.
pub fn sources(folder: &Path, found: &mut Vec<PathBuf>) {
    for entry in fs::read_dir(folder).expect("a folder").map(|e| e.expect("an entry").path()) {
        if entry.is_dir() && entry.file_stem().is_none_or(|name| name != "tests") {
            sources(&entry, found);
        } else if entry.extension().is_some_and(|e| e == "rs") {
            found.push(entry);
        }
    }
}

/// The types that a file has for others.
fn public_types(text: &str) -> Vec<&str> {
    let named = |line: &str| -> Option<usize> {
        let at = line.find(|c: char| !c.is_whitespace())?;
        let rest = line[at..].strip_prefix("pub")?;
        let rest = if rest.starts_with('(') { rest.split_once(')')?.1 } else { rest };
        let rest = rest.strip_prefix(' ')?;
        let rest = ["struct ", "enum ", "trait ", "type "]
            .iter()
            .find_map(|kind| rest.strip_prefix(kind))?;
        Some(line.len() - rest.len())
    };
    text.lines().filter_map(|line| named(line).map(|at| word(&line[at..]))).collect()
}

/// Types of one crate that share a name, since each is the same thing of its own area.
const SHARED: [(&str, &str); 6] = [
    // The machine of `settle` and that of a job.
    ("core", "Effect"),
    ("core", "Event"),
    ("core", "Machine"),
    // A step of a runbook, and what its operation sends.
    ("core", "Call"),
    // Each table.
    ("store", "Model"),
    ("store", "Relation"),
];

/// Names that could be those of anything.
const VAGUE: [&str; 22] = [
    "Asked", "Began", "Chosen", "Come", "Common", "Data", "Ended", "Given", "Heard", "Helper",
    "Info", "Item", "Kept", "Known", "Made", "Manager", "Said", "Seen", "Standing", "Told", "Went",
    "What",
];

#[test]
fn each_type_has_a_name_of_its_own_that_says_what_it_is() {
    let crates = Path::new(concat!(env!("CARGO_MANIFEST_DIR"), "/.."));
    for name in ["api", "connect", "core", "service", "standins", "store"] {
        let mut files = Vec::new();
        sources(&crates.join(name).join("src"), &mut files);
        let mut first: BTreeMap<String, PathBuf> = BTreeMap::new();
        for file in files {
            let text = code(&file);
            for found in public_types(&text) {
                assert!(!VAGUE.contains(&found), "{}: `{found}` could be anything", file.display());
                let other =
                    first.insert(found.to_owned(), file.clone()).filter(|other| *other != file);
                let may = SHARED.contains(&(name, found)) || name == "standins";
                assert!(
                    may || other.is_none(),
                    "`{found}` is in {} and in {other:?}",
                    file.display()
                );
            }
        }
        assert!(first.len() > 5, "{name}: {first:?}");
    }
}

/// Words of the language, the field and its standards that modules are called by. A word that is not
/// among them is looked up in the glossary.
const PLAIN: &str = "
    accept access act address admission amqp announce announcer announcing answer answers
    api ask asking assertion attempt audit automation awaiting back batch batches bodies
    body bound bounds broker cache call callback callbacks caller calls candidates capacity
    catalog changes check child children choose circuits clear client clients clock
    cloudevents command concerns config console consumer contact contacts continuation
    copy counting credential credentials cryptography data day days deadlock decide
    deciding decode definition definitions demands described description digest dispatch
    distinct doctor document draft driver drivers dry due duty each element emit end
    entity envelope environment error escaping eval event events example examples exchange
    executor exit expected explain explanation expr failure fault field file filters
    finish flood folder followers forecast form found framing function functions glob
    group guarded guards handshake header health heartbeat heartbeats hits holding host
    hours html http ids index inputs judging key keys labels later launch launches leases
    length lexer library libvirt limit limits line lines lint list listen listeners
    literal live lmtp log lookup lower machine mail mailbox markdown matcher memory
    message metrics mib migrate monitoring mqtt netconf new node nodes not oauth2 object
    offline open openapi operation or order outbox outline output outputs over overdue
    own pace packet page pages parts pause period permits play poll preview private problem process
    profiling progress protocols published pulse query questions quoting random range rate reach
    read readiness reads ready reason record recorded recording records redact redaction
    reference references refusals rehearsal remember replay reply report request require
    resource restore retention retry role routines rpc run runner runs sample sandbox
    schedule schema scope script secret secrets security self sender sending serve session sessions
    set setting settings severity share shared signature silence snmp spellings sql ssh
    standing state steps storage stored stream subscriber subscribers suggestion supervise
    suspensions syntax syscalls syslog table taken tcp tell template text through time
    timeline timers times tls together token tokens touch touches trace transition trap type
    types typing udp undecided unexecuted unreadable unsent upkeep usage user uses v4
    value vault views visit warning watch webhook write xdr xml yaml";

#[test]
fn modules_are_called_by_plain_words_or_by_those_of_the_glossary() {
    let root = Path::new(concat!(env!("CARGO_MANIFEST_DIR"), "/../.."));
    let glossary = fs::read_to_string(root.join("docs/glossary.md")).expect("a glossary");
    let rows = glossary.lines().filter_map(|line| line.strip_prefix("| ")?.split(" |").next());
    let ours =
        rows.flat_map(|row| row.split("**").skip(1).step_by(2)).flat_map(str::split_whitespace);
    let known: BTreeSet<String> =
        ours.chain(PLAIN.split_whitespace()).map(str::to_lowercase).collect();
    let mut seen = BTreeSet::new();
    for name in ["api", "connect", "core", "service", "store"] {
        let source = root.join("crates").join(name).join("src");
        let mut files = Vec::new();
        sources(&source, &mut files);
        for file in files {
            let below = file.strip_prefix(&source).expect("below it").with_extension("");
            for module in below.iter().map(|part| part.to_string_lossy().into_owned()) {
                for word in module.split('_').filter(|word| !["lib", "mod", "tests"].contains(word))
                {
                    let one = word.strip_suffix("ies").map_or_else(
                        || word.strip_suffix('s').unwrap_or(word).to_owned(),
                        |stem| format!("{stem}y"),
                    );
                    let is_known = known.contains(word) || known.contains(&one);
                    assert!(is_known, "{}: what is `{word}`?", file.display());
                    seen.insert(word.to_owned());
                }
            }
        }
    }
    let unused: Vec<&str> = PLAIN.split_whitespace().filter(|word| !seen.contains(*word)).collect();
    assert!(unused.is_empty(), "no module is called so: {unused:?}");
}

/// Names of functions that leave open what is done.
const VAGUE_VERBS: [&str; 8] =
    ["breathe", "consider", "heard", "insist", "knock", "poke", "say", "told"];

#[test]
fn functions_are_called_by_what_they_do() {
    let mut files = Vec::new();
    sources(Path::new(concat!(env!("CARGO_MANIFEST_DIR"), "/..")), &mut files);
    for file in files.iter().filter(|file| !file.iter().any(|part| part == "tests")) {
        let text = code(file);
        let name = text.split("fn ").skip(1).map(word).find(|name| VAGUE_VERBS.contains(name));
        assert_eq!(name, None, "{}", file.display());
    }
}

#[test]
fn the_glossary_has_no_word_that_is_not_used() {
    let root = Path::new(concat!(env!("CARGO_MANIFEST_DIR"), "/../.."));
    let glossary = fs::read_to_string(root.join("docs/glossary.md")).expect("a glossary");
    let mut files = Vec::new();
    for name in ["core", "service", "store", "connect"] {
        sources(&root.join("crates").join(name).join("src"), &mut files);
    }
    let all: String = files
        .iter()
        .map(|file| fs::read_to_string(file).expect("a source").to_lowercase())
        .collect();
    let (_, inside) = glossary
        .split_once("## What those who change it read")
        .expect("a part for those who change it");
    let rows = inside.lines().filter_map(|line| line.strip_prefix("| **"));
    let words: Vec<&str> = rows.filter_map(|row| row.split("**").next()).collect();
    assert!(words.len() > 8, "{words:?}");
    for word in words {
        assert!(all.contains(&word.to_lowercase()), "`{word}` is not used any more");
    }
}

#[test]
fn no_comment_is_wider_than_a_hundred_columns() {
    let crates = Path::new(concat!(env!("CARGO_MANIFEST_DIR"), "/.."));
    let mut files = Vec::new();
    sources(crates, &mut files);
    assert!(files.len() > 300, "{}", files.len());
    for file in files {
        let text = fs::read_to_string(&file).expect("a source");
        let is_comment = |line: &&str| line.trim_start().starts_with("//");
        let wide = text.lines().filter(is_comment).find(|line| line.chars().count() > 100);
        assert_eq!(wide, None, "{}", file.display());
    }
}
