//! `fonex completions`: a script for a shell, and the answers that the program gives it.
//!
//! The shell asks the program itself at every word, so that runs, labels, plans, engines, measures and clips of the bench file at
//! hand are known.

use std::ffi::OsStr;
use std::path::PathBuf;

use clap::{Args, Command};
use clap_complete::engine::{ArgValueCompleter, CompletionCandidate};
use clap_complete::env::Shells;
use fonex_core::measures::all;
use fonex_formats::{Place, Problem};
use fonex_run::{Bench, read_bench};
use fonex_store::Store;

use crate::cli::BenchArg;
use crate::failure::{Code, Failure};
use crate::output;

/// The variable by which a shell asks for completions.
pub const ASKED_BY: &str = "FONEX_COMPLETE";
/// Clips that are offered.
const MOST_CLIPS: u32 = 2_000;

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  fonex completions bash > ~/.local/share/bash-completion/completions/fonex
  fonex completions zsh > ~/.zfunc/_fonex
  fonex completions fish > ~/.config/fish/completions/fonex.fish")]
pub struct CompletionsOptions {
    /// The shell
    pub shell: clap_complete::Shell,
}

pub fn completions(options: &CompletionsOptions) -> Result<Code, Failure> {
    let shells = Shells::builtins();
    let name = options.shell.to_string();
    let Some(shell) = shells.completer(&name) else {
        let problem = Problem::new(format!("there is no script for {name}"), Place::default().field("SHELL"));
        return Err(problem.expected("bash, zsh, fish, elvish or powershell").into());
    };
    let mut script = Vec::new();
    shell.write_registration(ASKED_BY, "fonex", "fonex", "fonex", &mut script)?;
    output::print(&String::from_utf8_lossy(&script))?;
    Ok(Code::Done)
}

/// The command line with what the values of its arguments can be.
#[must_use]
pub fn with_values(command: Command) -> Command {
    let name = command.get_name().to_owned();
    command
        .mut_args(|arg| match values_of(&name, arg.get_id().as_str()) {
            Some(values) => arg.add(ArgValueCompleter::new(values)),
            None => arg,
        })
        .mut_subcommands(with_values)
}

type Values = fn(&OsStr) -> Vec<CompletionCandidate>;

/// What completes an argument of a command.
fn values_of(command: &str, argument: &str) -> Option<Values> {
    Some(match (command, argument) {
        ("try", "clip") | (_, "clip") => clips,
        (_, "run" | "runs" | "recordings" | "with") => runs,
        (_, "plan") => plans,
        ("try", "engine") | ("probe" | "voices", "engine") | (_, "heard_by") => engines,
        (_, "voice") => voices,
        (_, "variant") => variants,
        (_, "measures") | ("measures", "measure") => measures,
        (_, "by" | "best_by") => tags,
        _ => return None,
    })
}

fn bench_arg() -> BenchArg {
    BenchArg { bench: PathBuf::from("fonex.toml"), store: None }
}

fn bench() -> Option<Bench> {
    read_bench(&bench_arg().bench, &[]).ok()
}

fn store() -> Option<Store> {
    bench_arg().store().existing().ok()
}

/// Those that begin with what is typed so far; after a comma, what follows the last one.
fn beginning(typed: &OsStr, names: impl IntoIterator<Item = (String, Option<String>)>) -> Vec<CompletionCandidate> {
    let typed = typed.to_string_lossy();
    let (before, last) = typed.rfind(',').map_or(("", &*typed), |at| typed.split_at(at + 1));
    let mut offered: Vec<(String, Option<String>)> =
        names.into_iter().filter(|(name, _)| name.starts_with(last)).collect();
    offered.dedup_by(|a, b| a.0 == b.0);
    let candidate = |(name, about): (String, Option<String>)| {
        CompletionCandidate::new(format!("{before}{name}")).help(about.map(Into::into))
    };
    offered.into_iter().map(candidate).collect()
}

fn plain(names: impl IntoIterator<Item = String>) -> impl Iterator<Item = (String, Option<String>)> {
    names.into_iter().map(|name| (name, None))
}

/// Labels, numbers, and `RUN:VARIANT` once a run is typed.
fn runs(typed: &OsStr) -> Vec<CompletionCandidate> {
    let listed = store().and_then(|store| store.listed_runs().ok()).unwrap_or_default();
    let typed_text = typed.to_string_lossy();
    if let Some((run, _)) = typed_text.split_once(':') {
        let named = listed.iter().rev().find(|one| one.label.as_deref() == Some(run) || one.id.to_string() == run);
        let variants = named.into_iter().flat_map(|one| one.variants.iter().map(|name| format!("{run}:{name}")));
        return beginning(typed, plain(variants));
    }
    let names = listed.iter().rev().map(|run| {
        let about = format!("{}, {}", run.plan, run.started_at.get(..10).unwrap_or_default());
        (run.label.clone().unwrap_or_else(|| run.id.to_string()), Some(about))
    });
    beginning(typed, names.chain([("last".to_owned(), None)]))
}

fn plans(typed: &OsStr) -> Vec<CompletionCandidate> {
    beginning(typed, plain(bench().into_iter().flat_map(|bench| bench.plans.into_keys())))
}

fn engines(typed: &OsStr) -> Vec<CompletionCandidate> {
    beginning(typed, plain(bench().into_iter().flat_map(|bench| bench.engines.into_keys())))
}

/// Voices of the bench file's plans.
fn voices(typed: &OsStr) -> Vec<CompletionCandidate> {
    let bench = bench();
    let variants = bench.iter().flat_map(|bench| bench.plans.values()).flat_map(|plan| &plan.variants);
    let mut names: Vec<String> =
        variants.map(|variant| variant.voice.clone()).filter(|voice| !voice.is_empty()).collect();
    names.sort();
    names.dedup();
    beginning(typed, plain(names))
}

/// Variants of the latest runs.
fn variants(typed: &OsStr) -> Vec<CompletionCandidate> {
    let listed = store().and_then(|store| store.listed_runs().ok()).unwrap_or_default();
    let mut names: Vec<String> = listed.into_iter().rev().take(20).flat_map(|run| run.variants).collect();
    names.sort();
    names.dedup();
    beginning(typed, plain(names))
}

fn measures(typed: &OsStr) -> Vec<CompletionCandidate> {
    beginning(typed, all().map(|measure| (measure.id.to_owned(), Some(measure.name.to_owned()))))
}

/// What the clips of the latest run share.
fn tags(typed: &OsStr) -> Vec<CompletionCandidate> {
    let keys = store().and_then(|store| {
        let last = store.runs().ok()?.pop()?;
        Some(fonex_analysis::Sheet::load(&store, &last.corpus_checksum).ok()?.keys)
    });
    let names = keys.into_iter().flatten().map(|key| key.by).chain(["length".to_owned(), "snr".to_owned()]);
    beginning(typed, plain(names))
}

/// Clips of the latest run.
fn clips(typed: &OsStr) -> Vec<CompletionCandidate> {
    let mut ids: Vec<String> = Vec::new();
    let last = store().and_then(|store| {
        let last = store.runs().ok()?.pop()?;
        Some((store, last))
    });
    if let Some((store, last)) = last {
        drop(store.labels_at(&last.corpus_checksum, 0..MOST_CLIPS, |_, id, _| ids.push(id.to_owned())));
    }
    beginning(typed, plain(ids))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn after_a_comma_the_last_name_is_completed() {
        let names = || plain(["wer", "wil", "cer"].map(str::to_owned));
        let offered = |typed: &str| -> Vec<String> {
            let all = beginning(OsStr::new(typed), names());
            all.iter().map(|one| one.get_value().to_string_lossy().into_owned()).collect()
        };
        assert_eq!(offered("w"), ["wer", "wil"]);
        assert_eq!(offered("cer,we"), ["cer,wer"]);
        assert_eq!(offered("x"), [""; 0]);
    }

    #[test]
    fn every_completed_argument_exists() {
        fn completed(command: &Command) -> usize {
            let own = command
                .get_arguments()
                .filter(|arg: &&clap::Arg| values_of(command.get_name(), arg.get_id().as_str()).is_some());
            own.count() + command.get_subcommands().map(completed).sum::<usize>()
        }
        assert!(completed(&crate::cli::command()) > 30);
    }
}
