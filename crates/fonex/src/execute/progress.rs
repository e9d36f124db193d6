//! Progress on standard error, with an estimate; silent when it is not a terminal.

use std::io::IsTerminal;
use std::time::Duration;

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};

/// A bar over the clips of a corpus.
pub fn clip_bar(what: &str, clips: u64) -> ProgressBar {
    let bar = bar(clips, "{prefix} {bar:30} {pos}/{len} clips, {eta} left");
    bar.set_prefix(what.to_owned());
    bar
}

/// A bar over the trials of a run.
pub fn trial_bar(planned: u64, done_before: u64) -> ProgressBar {
    let bar = bar(planned, "{prefix} {bar:30} {pos}/{len} trials, {eta} left {msg}");
    bar.set_position(done_before);
    bar.reset_eta();
    bar
}

fn bar(length: u64, template: &str) -> ProgressBar {
    if !std::io::stderr().is_terminal() {
        return ProgressBar::hidden();
    }
    let bar = ProgressBar::with_draw_target(Some(length), ProgressDrawTarget::stderr_with_hz(8));
    let style = ProgressStyle::with_template(template).unwrap_or_else(|_| ProgressStyle::default_bar());
    bar.set_style(style.progress_chars("━╸─"));
    bar.enable_steady_tick(Duration::from_millis(250));
    bar
}
