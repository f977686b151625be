//! Any text as a file of definitions: it is checked, or refused with places inside the file.
#![no_main]

use arvok_core::catalog::{Catalog, Seen, check_files};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    let checked = check_files([("fuzz.yaml", text)], &Catalog::default(), &Seen::default());
    for problem in checked.problems.iter().chain(&checked.warnings) {
        assert!(problem.line >= 1 && problem.column >= 1, "{problem}");
        let _ = problem.to_string();
    }
});
