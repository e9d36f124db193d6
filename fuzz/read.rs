//! The coverage-guided fuzzer over one target, which `FONEX_TARGET` names; `list` names them all. `fuzz/run` runs it.
#![no_main]

use std::fs;
use std::path::Path;
use std::sync::LazyLock;

use fonex_fuzz::{Scratch, TARGETS, Target, target};

static TARGET: LazyLock<&Target> = LazyLock::new(|| {
    let name = std::env::var("FONEX_TARGET").unwrap_or_default();
    target(&name).unwrap_or_else(|| panic!("there is no target {name:?}"))
});
static SCRATCH: LazyLock<Scratch> = LazyLock::new(Scratch::new);

/// Names the targets where that is asked, and otherwise puts the whole files of this one among what the fuzzer begins from.
fn begin() {
    if std::env::var("FONEX_TARGET").is_ok_and(|name| name == "list") {
        TARGETS.iter().for_each(|target| println!("{}", target.name));
        std::process::exit(0);
    }
    if let Ok(folder) = std::env::var("FONEX_SEEDS") {
        for (number, whole) in TARGET.whole().iter().enumerate() {
            fs::write(Path::new(&folder).join(format!("whole-{number}")), whole).expect("the folder is there");
        }
    }
}

libfuzzer_sys::fuzz_target!(init: begin(), |bytes: &[u8]| TARGET.run(&SCRATCH, bytes));
