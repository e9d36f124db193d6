//! The programs and data that pages carry, and the sums by which a page's policy lets them run and nothing else.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use serde::Serialize;
use sha2::{Digest, Sha256};

/// The modules of the report's program, each behind those that it uses.
const MODULES: [&str; 9] = [
    include_str!("../page/make.js"),
    include_str!("../page/book.js"),
    include_str!("../page/choose.js"),
    include_str!("../page/list.js"),
    include_str!("../page/sound.js"),
    include_str!("../page/timeline.js"),
    include_str!("../page/detail.js"),
    include_str!("../page/browser.js"),
    include_str!("../page/main.js"),
];

/// The look of every page.
pub(crate) const LOOK: &str = include_str!("../page/look.css");

/// The modules of the program that follows a run.
const OF_WATCH: [&str; 2] = [include_str!("../page/make.js"), include_str!("../page/watch.js")];

/// The program of the report.
pub(crate) fn report_program() -> String {
    one_program(&MODULES)
}

/// The program of the page that follows a run.
pub(crate) fn watch_program() -> String {
    one_program(&OF_WATCH)
}

/// Modules as one program: a page without a server can load no module.
fn one_program(modules: &[&str]) -> String {
    let mut program = "(() => {\n\"use strict\";\n".to_owned();
    for line in modules.iter().flat_map(|module| module.lines()) {
        if !line.starts_with("import ") {
            program += line.strip_prefix("export ").unwrap_or(line);
            program.push('\n');
        }
    }
    program + "})();\n"
}

/// What a content policy calls a text: its SHA-256 in base64.
pub(crate) fn sum(text: &str) -> String {
    STANDARD.encode(Sha256::digest(text.as_bytes()))
}

/// Data as JSON that stands in a script element: what could end the element or be taken for markup is escaped.
pub(crate) fn data_block(data: &impl Serialize) -> String {
    let json = serde_json::to_string(data).expect("a page is plain data");
    json.replace('<', "\\u003c").replace('>', "\\u003e").replace('&', "\\u0026")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_modules_make_one_program() {
        let program = report_program() + &watch_program();
        assert!(!program.contains("\nimport ") && !program.contains("\nexport "));
        assert!(!program.contains("innerHTML") && !program.contains("</script") && !program.contains("<!--"));
        // What one module takes from another is there before it.
        for (at, module) in MODULES.iter().chain(&OF_WATCH).enumerate() {
            for line in module.lines().filter(|line| line.starts_with("import ")) {
                let (names, from) = line.trim_start_matches("import { ").split_once(" } from \"./").unwrap();
                assert!(from.ends_with(".js\";"), "{line}");
                for name in names.split(", ") {
                    let told = [
                        format!("export function {name}("),
                        format!("export class {name} "),
                        format!("export const {name} "),
                    ];
                    let before = MODULES
                        .iter()
                        .chain(&OF_WATCH)
                        .take(at)
                        .any(|module| told.iter().any(|told| module.contains(told)));
                    assert!(before, "{name} of {from} stands behind where it is used");
                }
            }
        }
    }

    #[test]
    fn data_cannot_end_its_element() {
        assert_eq!(data_block(&"</script><!-- & \u{2028}"), "\"\\u003c/script\\u003e\\u003c!-- \\u0026 \u{2028}\"");
    }
}
