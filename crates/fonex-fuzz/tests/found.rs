//! What once made a reader panic, and the whole files themselves: every target reads them.
#![allow(clippy::unwrap_used, reason = "tests")]

use std::path::Path;

use fonex_fuzz::{Scratch, TARGETS, target};

#[test]
fn every_target_reads_what_it_begins_from() {
    let scratch = Scratch::new();
    for target in TARGETS {
        let whole = target.whole();
        assert!(!whole.is_empty(), "{}", target.name);
        for bytes in whole {
            target.run(&scratch, &bytes);
            // Cut short in the middle, and as nothing at all.
            target.run(&scratch, &bytes[..bytes.len() / 2]);
        }
        target.run(&scratch, b"");
    }
}

#[test]
fn what_was_found_is_mended() {
    let scratch = Scratch::new();
    let found = Path::new(env!("CARGO_MANIFEST_DIR")).join("found");
    for folder in std::fs::read_dir(found).unwrap().map(|entry| entry.unwrap().path()).filter(|path| path.is_dir()) {
        let name = folder.file_name().unwrap().to_str().unwrap().to_owned();
        let Some(target) = target(&name) else {
            assert!(name == "parquet" && cfg!(not(feature = "parquet")), "there is no target {name}");
            continue;
        };
        for file in std::fs::read_dir(&folder).unwrap() {
            target.run(&scratch, &std::fs::read(file.unwrap().path()).unwrap());
        }
    }
}
