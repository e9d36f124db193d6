//! How much memory `fonex score` takes: `cargo bench --workspace --bench memory -- [CLIPS]` scores up to so many clips (a million by default),
//! the whole and a part of sixteen, prints the table of docs/scale.md and draws its chart.
#![allow(
    clippy::print_stdout,
    clippy::zombie_processes,
    reason = "a program of its own, which tells what it measured; programs are reaped"
)]
#![allow(
    clippy::unwrap_used,
    dead_code,
    reason = "a bench that cannot run should stop; what others share is not all used"
)]

#[path = "util/score.rs"]
mod score;

use std::path::Path;
use std::process::{Command, Stdio};

use fonex_report::charts::{PlaneAxis, PlaneChart, PlaneSeries, plane_svg};
use score::Texts;

fn main() {
    let most = std::env::args().skip(1).find_map(|typed| typed.parse().ok()).unwrap_or(1_000_000);
    let folder = Path::new(env!("CARGO_TARGET_TMPDIR")).join("memory");
    std::fs::create_dir_all(&folder).unwrap();
    let [corpus, heard] = ["corpus.jsonl", "heard.jsonl"].map(|name| folder.join(name));
    let part = folder.join("1.part");
    let (mut whole, mut parts) = (Vec::new(), Vec::new());
    println!("| clips of ten words | MiB, whole | MiB, a part of 16 |\n|---|---|---|");
    for clips in (3..=7).map(|power| 10_usize.pow(power)).filter(|clips| *clips <= most) {
        Texts { clips, words: 10, wrong: 12, bare: false }.write(&corpus, &heard);
        let files = [corpus.as_os_str(), heard.as_os_str()];
        let peak = |more: &[&std::ffi::OsStr]| {
            let mut fonex = Command::new(env!("CARGO_BIN_EXE_fonex"));
            fonex.arg("score").args(files).args(more).stdout(Stdio::null()).stderr(Stdio::null());
            let pid = fonex_system::start(&mut fonex).unwrap().id();
            fonex_system::wait_until_exited(pid);
            fonex_system::forget(pid);
            let reaped = fonex_system::reap(pid);
            assert!(reaped.status.success(), "the files are there");
            reaped.peak_memory_kib.unwrap() as f64 / 1_024.0
        };
        whole.push((clips as f64, peak(&[])));
        parts.push((clips as f64, peak(&["--part".as_ref(), "1/16".as_ref(), "-o".as_ref(), part.as_os_str()])));
        println!("| {clips} | {:.0} | {:.0} |", whole[whole.len() - 1].1, parts[parts.len() - 1].1);
    }
    std::fs::remove_dir_all(&folder).unwrap();
    let axis = |label: &str| PlaneAxis { label: label.to_owned(), log: true, ..PlaneAxis::default() };
    let series = |name: &str, points| PlaneSeries { name: name.to_owned(), points, ..PlaneSeries::default() };
    let chart = PlaneChart {
        title: "Memory of fonex score by the number of clips".to_owned(),
        x: axis("clips of ten words"),
        y: axis("peak memory in MiB"),
        series: vec![series("the whole", whole), series("a part of 16", parts)],
        ..PlaneChart::default()
    };
    let docs = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/charts");
    std::fs::write(docs.join("score-memory.svg"), plane_svg(&chart)).unwrap();
}
