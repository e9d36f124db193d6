//! Hostile services and programs: outcome, time and peak memory of each. Fails when one takes a second longer than its limit, or more
//! than 300 MiB. With `FONEX_WRITE_DOCS=1` the table goes into docs/reliability.md.
#![allow(clippy::print_stdout, clippy::expect_used, reason = "a program of its own, which tells what it measured")]

#[path = "../tests/peers/attack.rs"]
mod attack;
#[path = "../tests/peers/servers.rs"]
mod servers;

use std::process::ExitCode;

use attack::{LIMIT_S, MOST_MEMORY_MIB, meet, peers};

/// Seconds beyond its limit that the end of a trial may take, the start of the program included.
const GRACE_S: f64 = 1.0;

fn main() -> ExitCode {
    let mut table = "| peer | outcome | seconds | peak memory |\n|---|---|---|---|\n".to_owned();
    let mut wrong = 0;
    for peer in peers() {
        let met = meet(env!("CARGO_BIN_EXE_fonex"), &peer);
        let fine = peer.ends_as(&met) && met.took_s < LIMIT_S + GRACE_S && met.memory_mib <= MOST_MEMORY_MIB;
        wrong += usize::from(!fine);
        let line = format!("| {} | {} | {:.1} | {} MiB |", peer.name, met.outcome, met.took_s, met.memory_mib);
        println!("{line}{}", if fine { String::new() } else { format!("  WRONG: {}", met.detail) });
        table += &format!("{line}\n");
    }
    if std::env::var_os("FONEX_WRITE_DOCS").is_some() {
        let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/reliability.md");
        let page = std::fs::read_to_string(path).expect("the page is there");
        let begin = "<!-- hostile peers: written by a bench -->\n";
        let (before, rest) = page.split_once(begin).expect("the page has a place for the table");
        let (_, after) = rest.split_once("<!-- end -->").expect("the place has an end");
        std::fs::write(path, format!("{before}{begin}{table}<!-- end -->{after}")).expect("the page can be written");
    }
    if wrong == 0 { ExitCode::SUCCESS } else { ExitCode::FAILURE }
}
