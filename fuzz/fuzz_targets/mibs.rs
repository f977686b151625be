//! Any text as a MIB file: what it names, or a reason with its line.
#![no_main]

use arvok_core::source::{MibFile, named_objects};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    let _ = named_objects(&[MibFile { name: "fuzz", text }], true);
});
