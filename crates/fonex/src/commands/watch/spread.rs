//! Runs that are spread over machines, as the server between these shows them: what is left, and who is at work.

use std::io::IsTerminal;
use std::time::Duration;

use fonex_formats::{Place, Problem};
use fonex_run::{Interrupt, Lookout, Seen, SeenJob, SpreadAddress};

use crate::cli::Format;
use crate::commands::spread::{jobs_table, print_seen, workers_table};
use crate::failure::{Code, Failure};
use crate::output::{self, Screen, plural};

/// Between two looks.
const BETWEEN: Duration = Duration::from_secs(1);

/// Prints what there is to be seen once, or follows it on the whole screen until Ctrl-C.
pub fn watch_spread(address: &SpreadAddress, once: bool, format: Format) -> Result<Code, Failure> {
    if !once && !std::io::stdout().is_terminal() {
        let problem = Problem::new("what is spread is followed in a terminal", Place::default().field("--spread"));
        return Err(problem.remedy("start it in a terminal, or print it once with --once").into());
    }
    let mut lookout = Lookout::open(address)?;
    if once {
        print_seen(&lookout.look()?, format)?;
        return Ok(Code::Done);
    }
    let interrupt = Interrupt::listen();
    let _heeding = interrupt.heed();
    let shown = Screen::open()?;
    let mut last = String::new();
    while !interrupt.flag().is_set() {
        match lookout.look() {
            Ok(seen) => {
                last = screen(address, &seen, output::width());
                shown.draw(&last);
            }
            Err(problem) => shown.draw(&format!("{last}\nThe server does not answer now: {problem}\n")),
        }
        interrupt.flag().pause(BETWEEN);
    }
    drop(shown);
    output::print(&last)?;
    Ok(Code::Done)
}

fn screen(address: &SpreadAddress, seen: &Seen, width: usize) -> String {
    let mut text = format!("Runs spread by {address}\n\n");
    for job in &seen.jobs {
        text += &bar(job, width.clamp(20, 100));
    }
    if seen.jobs.is_empty() {
        text += "No job is there.\n\n";
    }
    text + &output::text(&workers_table(seen)) + "\n" + &output::text(&jobs_table(seen))
}

fn bar(job: &SeenJob, room: usize) -> String {
    let label = job.job.label.as_ref().map_or_else(String::new, |label| format!(" ({label})"));
    let done = job.job.groups.saturating_sub(job.left);
    let filled = (done as usize * room).checked_div(job.job.groups as usize).unwrap_or(0).min(room);
    let waits = if job.asked { "" } else { "; nobody stores what it gives, so workers wait" };
    format!(
        "Plan {}{label}: {done} of {} done{waits}\n{}{}\n\n",
        job.job.plan,
        plural(job.job.groups, "group"),
        "█".repeat(filled),
        "·".repeat(room - filled)
    )
}

#[cfg(test)]
mod tests {
    use fonex_run::SpreadAccess;

    use super::*;

    #[test]
    fn a_bar_is_as_full_as_its_job_is_done() {
        let job = |left: u64, asked: bool| SeenJob {
            job: serde_json::from_value(serde_json::json!({
                "form": 1, "fonex": "0", "plan": "hear", "started_at": "", "bench": "", "clips": "",
                "groups": 4, "put": 4, "lease_s": 60, "most_deliveries": 5,
            }))
            .unwrap(),
            left,
            to_store: 0,
            asked,
        };
        assert_eq!(bar(&job(1, true), 8), "Plan hear: 3 of 4 groups done\n██████··\n\n");
        assert!(bar(&job(4, false), 8).contains("nobody stores what it gives"));
        let address = SpreadAddress::parse("nats://ann:hunter2@h", SpreadAccess::default()).unwrap();
        let empty = screen(&address, &Seen::default(), 80);
        assert!(empty.contains("No job is there.") && !empty.contains("hunter2"), "{empty}");
    }
}
