//! Any two texts as a glob and a name: matching ends soon, and agrees with the plain rules.
#![no_main]

use arvok_core::glob::Glob;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|pair: (&str, &str)| {
    let (pattern, text) = pair;
    let Ok(glob) = Glob::parse(pattern) else { return };
    let hit = glob.matches(text);
    if glob.exact().is_some() {
        assert_eq!(hit, pattern == text);
    }
    if hit {
        assert!(text.contains(glob.factor()));
        if let Ok(name) = Glob::parse(text)
            && name.exact().is_some()
        {
            assert!(glob.meets(&name), "{pattern} meets {text}");
        }
    }
    if let Ok(other) = Glob::parse(text) {
        assert_eq!(glob.meets(&other), other.meets(&glob));
        assert!(glob.meets(&glob));
    }
});
