//! Makes sure that the console is there to be embedded: a release without it would serve
//! nothing, silently.

use std::{env, fs, path::Path};

fn main() {
    let dist = Path::new("../../console/dist");
    if !dist.join("index.html").exists() {
        assert!(
            env::var("PROFILE").as_deref() != Ok("release"),
            "console/dist is missing: run `make console` first"
        );
        let _ = fs::create_dir_all(dist);
    }
    println!("cargo::rerun-if-changed=../../console/dist");
}
