//! What we depend on, as it is locked: where it comes from, under which licence, in how many
//! versions, and whether it is used. Worked out without the network; whether something of it was
//! withdrawn or is known to be unsafe cannot be seen without.

use super::house::sources;
use serde_json::Value;
use std::{
    collections::{BTreeMap, BTreeSet},
    fs,
    path::Path,
    process::Command,
};

/// Licences under which whatever is linked may be passed on with a product under Apache-2.0. MPL-2.0
/// asks for the sources of its own files alone, which we pass on as they came.
const LICENCES: [&str; 13] = [
    "0BSD",
    "Apache-2.0",
    "BSD-2-Clause",
    "BSD-3-Clause",
    "CC0-1.0",
    "CDLA-Permissive-2.0",
    "ISC",
    "MIT",
    "MIT-0",
    "MPL-2.0",
    "Unicode-3.0",
    "Unlicense",
    "Zlib",
];

/// What others of our dependencies want in different versions. Whoever adds one looks first for a
/// release that makes do with what is there. The client of SNMP still makes do with the cryptography
/// of the year before.
const DOUBLED: [&str; 42] = [
    "aes",
    "asn1-rs",
    "asn1-rs-derive",
    "async-channel",
    "atoi",
    "base64",
    "bit-vec",
    "block-buffer",
    "block-padding",
    "cbc",
    "cipher",
    "cookie",
    "cpufeatures",
    "crypto-common",
    "des",
    "digest",
    "event-listener",
    "flume",
    "generic-array",
    "getrandom",
    "hashbrown",
    "heck",
    "hmac",
    "http",
    "inout",
    "md-5",
    "nom",
    "num-bigint",
    "phf",
    "phf_shared",
    "rand",
    "rand_chacha",
    "rand_core",
    "rustls-webpki",
    "sha1",
    "sha2",
    "strum",
    "strum_macros",
    "syn",
    "synstructure",
    "thiserror",
    "thiserror-impl",
];

/// Declared for their features alone, each with the crate that does it.
const FOR_FEATURES: [(&str, &str); 2] =
    [("arvok-bench", "rustix"), ("arvok-bench", "tokio-stream")];

fn metadata() -> Value {
    let version = Command::new(env!("CARGO")).arg("-vV").output().expect("cargo");
    let version = String::from_utf8(version.stdout).expect("text");
    let host = version.lines().find_map(|l| l.strip_prefix("host: ")).expect("a platform");
    let said = Command::new(env!("CARGO"))
        .args(["metadata", "--offline", "--locked", "--format-version", "1"])
        .args(["--filter-platform", host])
        .current_dir(env!("CARGO_MANIFEST_DIR"))
        .output()
        .expect("cargo");
    assert!(said.status.success(), "{}", String::from_utf8_lossy(&said.stderr));
    serde_json::from_slice(&said.stdout).expect("JSON")
}

fn packages(all: &Value) -> Vec<&Value> {
    all["packages"].as_array().expect("packages").iter().collect()
}

fn text<'a>(package: &'a Value, field: &str) -> &'a str {
    package[field].as_str().unwrap_or_default()
}

/// Whether an expression of licences (SPDX) can be kept with those that are allowed.
fn is_allowed(expression: &str) -> bool {
    let expression = expression.replace('/', " OR ").replace(['(', ')'], " ");
    let kept = |one: &str| {
        let name = one.trim().trim_end_matches(" WITH LLVM-exception");
        LICENCES.contains(&name)
    };
    // `OR` within `AND` is read as if it stood outside: all of what is joined by `AND` is asked for.
    match expression.contains(" AND ") {
        true => expression.split(" AND ").all(|part| part.split(" OR ").any(kept)),
        false => expression.split(" OR ").any(kept),
    }
}

#[test]
fn all_of_it_comes_from_the_registry_under_a_licence_that_allows_it() {
    let all = metadata();
    let mut seen = 0;
    for package in packages(&all) {
        let (name, source) = (text(package, "name"), text(package, "source"));
        if source.is_empty() {
            assert!(name.starts_with("arvok"), "{name} is neither ours nor of the registry");
            continue;
        }
        seen += 1;
        assert!(source.starts_with("registry+"), "{name} comes from {source}");
        let licence = text(package, "license");
        assert!(is_allowed(licence), "{name} is under `{licence}`");
    }
    assert!(seen > 300, "{seen}");
    assert!(is_allowed("(MIT OR Apache-2.0) AND Unicode-3.0") && is_allowed("Unlicense/MIT"));
    assert!(!is_allowed("GPL-3.0-only") && !is_allowed("MIT AND GPL-3.0-only") && !is_allowed(""));
}

#[test]
fn what_is_there_in_several_versions_is_known() {
    let all = metadata();
    let mut versions: BTreeMap<&str, BTreeSet<&str>> = BTreeMap::new();
    for package in packages(&all) {
        versions.entry(text(package, "name")).or_default().insert(text(package, "version"));
    }
    let doubled: BTreeSet<&str> =
        versions.iter().filter(|(_, all)| all.len() > 1).map(|(name, _)| *name).collect();
    assert_eq!(doubled, DOUBLED.into_iter().collect());
}

#[test]
fn what_is_declared_is_used() {
    let all = metadata();
    for package in packages(&all).into_iter().filter(|package| package["source"].is_null()) {
        let folder = Path::new(text(package, "manifest_path")).parent().expect("a folder");
        let mut code = String::new();
        for below in ["src", "tests", "benches"] {
            let mut files = Vec::new();
            if folder.join(below).is_dir() {
                every_source(&folder.join(below), &mut files);
            }
            files.iter().for_each(|file| code += &fs::read_to_string(file).expect("a source"));
        }
        for dependency in package["dependencies"].as_array().expect("a list") {
            let name = text(dependency, "name");
            let known = dependency["rename"].as_str().unwrap_or(name).replace('-', "_");
            let names = [format!("{known}::"), format!("use {known};"), format!("use {known} ")];
            let is_used = names.iter().any(|name| code.contains(name.as_str()));
            let owner = text(package, "name");
            assert!(
                is_used || FOR_FEATURES.contains(&(owner, name)),
                "{owner} declares {name} and does not use it"
            );
        }
    }
}

/// All sources below a folder, those of tests as well.
fn every_source(folder: &Path, found: &mut Vec<std::path::PathBuf>) {
    sources(folder, found);
    for entry in
        fs::read_dir(folder).expect("a folder").map(|entry| entry.expect("an entry").path())
    {
        if entry.is_dir() {
            every_source(&entry, found);
        }
    }
}
