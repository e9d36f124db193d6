//! Progress on standard error, with an estimate; silent when it is not a terminal.

use std::io::IsTerminal;
use std::sync::OnceLock;
use std::time::Duration;

use fonex_run::Progress;
use fonex_store::TrialRecord;
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};

/// A bar over the clips of a corpus.
pub fn clip_bar(what: &str, clips: u64) -> ProgressBar {
    let bar = bar(clips, "{prefix} {bar:30} {pos}/{len} clips, {eta} left");
    bar.set_prefix(what.to_owned());
    bar
}

/// A bar over so many of anything.
pub fn count_bar(what: &str, many: u64, of: &str) -> ProgressBar {
    let bar = bar(many, &format!("{{prefix}} {{bar:30}} {{pos}}/{{len}} {of}, {{eta}} left"));
    bar.set_prefix(what.to_owned());
    bar
}

/// A bar over the trials of a run.
#[derive(Default)]
pub struct RunBar(OnceLock<ProgressBar>);

impl Progress for RunBar {
    fn begun(&self, run: i64, trials: u64, done: u64) {
        let bar = self.0.get_or_init(|| bar(trials, "{prefix} {bar:30} {pos}/{len} trials, {eta} left {msg}"));
        bar.set_position(done);
        bar.reset_eta();
        bar.set_prefix(format!("run {run}"));
    }

    fn trial(&self, record: &TrialRecord) {
        let Some(bar) = self.0.get() else { return };
        if !record.outcome.is_answer() {
            bar.set_message(format!("(last failure: {} on {})", record.outcome, record.key.clip_id));
        }
        bar.inc(1);
    }

    fn halted(&self, variant: &str, why: &str) {
        let say = || super::caution(&format!("{variant} is stopped: {why}"));
        match self.0.get() {
            Some(bar) => bar.suspend(say),
            None => say(),
        }
    }

    fn ended(&self) {
        if let Some(bar) = self.0.get() {
            bar.finish_and_clear();
        }
    }
}

fn bar(length: u64, template: &str) -> ProgressBar {
    if super::is_quiet() || !std::io::stderr().is_terminal() {
        return ProgressBar::hidden();
    }
    let bar = ProgressBar::with_draw_target(Some(length), ProgressDrawTarget::stderr_with_hz(8));
    let style = ProgressStyle::with_template(template).unwrap_or_else(|_| ProgressStyle::default_bar());
    bar.set_style(style.progress_chars("━╸─"));
    bar.enable_steady_tick(Duration::from_millis(250));
    bar
}
