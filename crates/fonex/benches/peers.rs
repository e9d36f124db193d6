//! Hostile services and programs: outcome, time and peak memory of each. Fails when one ends in another way, takes more than 300 MiB,
//! or is late each of five times: two seconds longer than its limit and the pauses of the machine in that time. With
//! `FONEX_WRITE_DOCS=1` the table goes into docs/reliability.md.
#![allow(clippy::print_stdout, clippy::expect_used, reason = "a program of its own, which tells what it measured")]

#[path = "../tests/peers/attack.rs"]
mod attack;
#[path = "util/pauses.rs"]
mod pauses;
#[path = "../tests/peers/servers.rs"]
mod servers;

use std::process::ExitCode;

use attack::{LIMIT_S, meet, peers};
use pauses::Pauses;

/// Seconds beyond its limit that the end of a trial may take, the start of the program included.
const GRACE_S: f64 = 2.0;

fn main() -> ExitCode {
    let pauses = Pauses::watch();
    let mut table = "| peer | outcome | seconds | peak memory |\n|---|---|---|---|\n".to_owned();
    let mut wrong = 0;
    for peer in peers() {
        let (mut before, mut in_time) = (pauses.seconds(), true);
        let met = meet(env!("CARGO_BIN_EXE_fonex"), &peer, |met| {
            let paused_s = pauses.seconds() - before;
            before += paused_s;
            in_time = met.took_s - paused_s < LIMIT_S + GRACE_S;
            let late = !in_time || peer.may_be_slow(met);
            if late {
                println!(
                    "({}: {}, {:.1} s, of which the machine paused {paused_s:.1})",
                    peer.name, met.outcome, met.took_s
                );
            }
            late
        });
        let fault = peer.fault(&met).or((!in_time).then_some("late each time"));
        let line = format!("| {} | {} | {:.1} | {} MiB |", peer.name, met.outcome, met.took_s, met.memory_mib);
        println!("{line}{}", fault.map(|fault| format!("  WRONG: {fault}: {}", met.detail)).unwrap_or_default());
        wrong += usize::from(fault.is_some());
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
