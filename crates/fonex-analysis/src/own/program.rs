//! A program that reads trials as JSON Lines and answers each with a number.

use std::collections::BTreeMap;
use std::path::Path;
use std::time::Duration;

use fonex_engines::StopFlag;
use fonex_engines::process::{Ending, Job, run};
use serde_json::Value;

use super::TrialLine;

/// Bytes of an answer's line, far more than a number takes.
const LONGEST_LINE: usize = 1 << 10;

/// The number of each trial, in their order; none where the program says `null`. Why, where it could not be asked.
pub(super) fn ask(
    argv: &[String],
    folder: &Path,
    time_limit_s: f64,
    trials: &[&TrialLine],
) -> Result<Vec<Option<f64>>, String> {
    if trials.is_empty() {
        return Ok(Vec::new());
    }
    let mut lines = Vec::new();
    for trial in trials {
        serde_json::to_writer(&mut lines, trial).map_err(|error| error.to_string())?;
        lines.push(b'\n');
    }
    let job = Job {
        argv,
        folder,
        env: &BTreeMap::new(),
        stdin: Some(lines),
        time_limit: Duration::try_from_secs_f64(time_limit_s).unwrap_or(Duration::MAX),
        output_limit: trials.len().saturating_mul(LONGEST_LINE),
    };
    let finished = run(&job, &StopFlag::default());
    let name = &argv[0];
    let said = String::from_utf8_lossy(&finished.stderr);
    let said = said.lines().last().map_or_else(String::new, |line| format!(": {}", line.trim()));
    match finished.ending {
        Ending::Exited(status) if status.success() => {}
        Ending::Exited(status) => return Err(format!("{name} ended with {status}{said}")),
        Ending::NotStarted(error) => return Err(format!("{name} cannot be started: {error}")),
        Ending::TimedOut => {
            return Err(format!("{name} took longer than {time_limit_s} s for {} trials", trials.len()));
        }
        Ending::Flooded => return Err(format!("{name} wrote more than a line for each trial")),
        Ending::Stopped => return Err(format!("{name} was stopped")),
    }
    let text =
        String::from_utf8(finished.stdout).map_err(|_| format!("{name} answered with bytes that are no UTF-8"))?;
    let answers: Vec<&str> = text.lines().collect();
    if answers.len() != trials.len() {
        return Err(format!("{name} answered {} lines to {} trials", answers.len(), trials.len()));
    }
    let number = |(line, text): (usize, &str)| match serde_json::from_str(text) {
        Ok(Value::Number(number)) => Ok(number.as_f64().filter(|number| number.is_finite())),
        Ok(Value::Bool(holds)) => Ok(Some(f64::from(u8::from(holds)))),
        Ok(Value::Null) => Ok(None),
        _ => {
            let shown: String = text.chars().take(40).collect();
            Err(format!(
                "{name} answered \"{shown}\" in line {}; a number, true, false or null was expected",
                line + 1
            ))
        }
    };
    answers.into_iter().enumerate().map(number).collect()
}
