//! `fonex runs`: what is stored.

use clap::{Args, Subcommand};
use fonex_formats::{Place, Problem};
use fonex_run::now;
use fonex_store::{Run, RunNote, RunState, Store, StoreError, Study, StudyKind};
use serde::Serialize;

use super::find_run;
use super::run_names::check_label;
use crate::brief::Brief;
use crate::cli::{BenchArg, Format, FormatArg};
use crate::failure::{Code, Failure};
use crate::output::{self, Cell, Table, plural, shortened};

#[derive(Debug, Args)]
#[command(args_conflicts_with_subcommands = true)]
#[command(after_help = "Examples, in the folder the demo made:
  fonex runs
  fonex runs list --studies")]
pub struct RunsOptions {
    #[command(subcommand)]
    pub action: Option<RunsAction>,
    #[command(flatten)]
    pub list: ListOptions,
}

#[derive(Debug, Args)]
#[command(after_help = "Example, in the folder the demo made: fonex runs list --format json")]
pub struct ListOptions {
    /// List every run, not only the latest 20
    #[arg(long)]
    pub all: bool,
    /// List studies instead: load, turns, panels
    #[arg(long)]
    pub studies: bool,
    #[command(flatten)]
    pub bench: BenchArg,
    #[command(flatten)]
    pub format: FormatArg,
}

#[derive(Debug, Subcommand)]
pub enum RunsAction {
    /// List runs, as fonex runs alone does
    List(ListOptions),
    /// Delete runs, and the audio that no other run refers to
    Delete(DeleteOptions),
    /// Change the label of a run
    Relabel(RelabelOptions),
    /// Keep a note with a run: what was decided, and why
    Note(NoteOptions),
}

#[derive(Debug, Args)]
#[command(
    after_help = "Example, in the folder the demo made: fonex runs note w46 'held back: radio calls are worse'"
)]
pub struct NoteOptions {
    /// Run: its number, its label, or last
    pub run: String,
    /// The note
    pub text: String,
    /// Who writes it; by default the user of this machine
    #[arg(long, value_name = "NAME")]
    pub by: Option<String>,
    #[command(flatten)]
    pub bench: BenchArg,
}

#[derive(Debug, Args)]
#[command(after_help = "Example, in the folder the demo made: fonex runs delete w41 --dry-run")]
pub struct DeleteOptions {
    /// Runs: numbers, labels, or last
    #[arg(required = true, value_name = "RUN")]
    pub runs: Vec<String>,
    /// Delete nothing; say what would go
    #[arg(long)]
    pub dry_run: bool,
    #[command(flatten)]
    pub bench: BenchArg,
}

#[derive(Debug, Args)]
#[command(after_help = "Example, in the folder the demo made: fonex runs relabel w41 first-week")]
pub struct RelabelOptions {
    /// Run: its number, its label, or last
    pub run: String,
    /// The new label; left out, the run has none any more
    pub label: Option<String>,
    #[command(flatten)]
    pub bench: BenchArg,
}

/// One stored run in short.
#[derive(Serialize, schemars::JsonSchema)]
pub(in crate::commands) struct RunLine {
    run: i64,
    label: Option<String>,
    plan: String,
    started_at: String,
    state: RunState,
    variants: Vec<String>,
    planned: u64,
    trials: u64,
    failed: u64,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    notes: Vec<RunNote>,
}

/// One stored study in short.
#[derive(Serialize, schemars::JsonSchema)]
pub(in crate::commands) struct StudyLine {
    study: i64,
    of: StudyKind,
    made_at: String,
    machine: String,
}

pub fn runs(options: &RunsOptions) -> Result<Code, Failure> {
    match &options.action {
        Some(RunsAction::Delete(options)) => delete(options),
        Some(RunsAction::Relabel(options)) => relabel(options),
        Some(RunsAction::Note(options)) => note(options),
        Some(RunsAction::List(options)) => list(options),
        None => list(&options.list),
    }
}

fn list(options: &ListOptions) -> Result<Code, Failure> {
    let store = options.bench.store().existing()?;
    if options.studies {
        return studies(&store, options.format.format);
    }
    let mut lines = Vec::new();
    let mut notes = store.noted_runs()?;
    for run in store.listed_runs()? {
        let outcomes = &run.outcomes;
        lines.push(RunLine {
            run: run.id,
            label: run.label,
            plan: run.plan,
            started_at: run.started_at,
            state: run.state,
            planned: run.planned,
            trials: outcomes.iter().map(|(_, trials)| trials).sum(),
            failed: outcomes.iter().filter(|(outcome, _)| !outcome.is_answer()).map(|(_, trials)| trials).sum(),
            variants: run.variants,
            notes: notes.remove(&run.id).unwrap_or_default(),
        });
    }
    if options.format.format == Format::Json {
        output::print_json(&lines)?;
        return Ok(Code::Done);
    }
    if options.format.format == Format::Table {
        return print_runs(&store, lines, options.all);
    }
    let mut table = Table::new([
        ("run", 0),
        ("label", 0),
        ("plan", 1),
        ("started", 3),
        ("trials", 0),
        ("failed", 0),
        ("state", 2),
        ("variants", 4),
    ]);
    for line in lines {
        let state = if line.state == RunState::Finished {
            "finished".to_owned()
        } else {
            format!("unfinished, {} planned", line.planned)
        };
        table.row([
            Cell::Count(line.run as u64),
            Cell::text(line.label.unwrap_or_default()),
            Cell::text(line.plan),
            Cell::text(moment(&line.started_at)),
            Cell::Count(line.trials),
            Cell::Alarm(line.failed),
            Cell::text(state),
            Cell::text(line.variants.join(", ")),
        ]);
    }
    output::print_table(&table, options.format.format)?;
    Ok(Code::Done)
}

/// Runs listed, the latest first.
const MOST_RUNS: usize = 20;
/// Characters of a note in the list.
const MOST_OF_A_NOTE: usize = 60;
/// Variants named of one run.
const MOST_VARIANTS: usize = 3;

/// A line a run, the latest first.
fn print_runs(store: &Store, mut lines: Vec<RunLine>, all: bool) -> Result<Code, Failure> {
    lines.reverse();
    let mut table = Table::new([
        ("run", 0),
        ("label", 0),
        ("plan", 1),
        ("started", 2),
        ("trials", 1),
        ("failed", 0),
        ("state", 0),
        ("variants", 0),
        ("note", 0),
    ]);
    let shown = if all { lines.len() } else { lines.len().min(MOST_RUNS) };
    for line in &lines[..shown] {
        let state = match line.state {
            RunState::Finished => Cell::Empty,
            RunState::Unfinished => Cell::Warning(format!("unfinished, {} of {}", line.trials, line.planned)),
        };
        // A voice as a recogniser hears it repeats the voice's name.
        let own: Vec<&String> = line.variants.iter().filter(|name| !name.contains(" by ")).collect();
        let named: Vec<&str> = own.iter().take(MOST_VARIANTS).map(|name| name.as_str()).collect();
        let more = own.len().saturating_sub(MOST_VARIANTS);
        let variants = if more > 0 { format!("{} and {more} more", named.join(", ")) } else { named.join(", ") };
        table.row([
            Cell::Count(line.run as u64),
            Cell::text(line.label.clone().unwrap_or_default()),
            Cell::text(line.plan.as_str()),
            Cell::text(moment(&line.started_at).chars().take(16).collect::<String>()),
            Cell::Count(line.trials),
            if line.failed == 0 { Cell::Empty } else { Cell::Alarm(line.failed) },
            state,
            Cell::text(variants),
            line.notes.last().map_or(Cell::Empty, |note| Cell::text(shortened(&note.text, MOST_OF_A_NOTE))),
        ]);
    }
    let unfinished = lines.iter().filter(|line| line.state == RunState::Unfinished).count() as u64;
    let open = if unfinished == 0 { String::new() } else { format!(", {unfinished} unfinished") };
    let mut more = Vec::new();
    if shown < lines.len() {
        more.push(format!("fonex runs --all ({} earlier)", lines.len() - shown));
    }
    more.extend(lines.first().map(|last| format!("fonex show {}", last.run)));
    if !store.studies()?.is_empty() {
        more.push("fonex runs --studies".to_owned());
    }
    Brief {
        heading: format!("{}{open}, the latest first", plural(lines.len() as u64, "run")),
        tables: vec![table.without_empty_columns()],
        more,
        ..Brief::default()
    }
    .print(Format::Table)?;
    Ok(Code::Done)
}

fn delete(options: &DeleteOptions) -> Result<Code, Failure> {
    let store = options.bench.store().to_change()?;
    let mut runs: Vec<Run> = Vec::new();
    for typed in &options.runs {
        let run = find_run(&store, typed)?;
        if runs.iter().all(|other| other.id != run.id) {
            runs.push(run);
        }
    }
    let numbers: Vec<i64> = runs.iter().map(|run| run.id).collect();
    // A run that is being executed is not taken away from under its trials.
    let locks = numbers.iter().map(|run| Ok((*run, store.lock(*run)?))).collect::<Result<Vec<_>, StoreError>>()?;
    let sound = store.unused_audio(&numbers)?;
    let verb = if options.dry_run { "Would delete" } else { "Deleted" };
    let mut text = String::new();
    for run in &runs {
        let label = run.label.as_ref().map_or_else(String::new, |label| format!(" \"{label}\""));
        let trials = plural(store.trial_count(run.id)?, "trial");
        text += &format!("{verb} run {}{label} of plan {}: {trials}.\n", run.id, run.plan);
    }
    if !sound.is_empty() {
        let mib = sound.iter().map(|(_, bytes)| bytes).sum::<u64>() as f64 / f64::from(1 << 20);
        let count = plural(sound.len() as u64, "sound file");
        text += &format!("{verb} {count} that no other run refers to ({mib:.1} MiB).\n");
    }
    if !options.dry_run {
        store.delete_runs(&numbers)?;
        for (name, _) in &sound {
            store.delete_audio(name)?;
        }
    }
    for (run, lock) in locks {
        store.unlock(run, lock);
    }
    output::print_lines(&text)?;
    Ok(Code::Done)
}

/// Characters of a note.
const MOST_CHARACTERS: usize = 2_000;

fn note(options: &NoteOptions) -> Result<Code, Failure> {
    let text = options.text.split_whitespace().collect::<Vec<_>>().join(" ");
    if text.is_empty() || text.chars().count() > MOST_CHARACTERS {
        let problem = Problem::new("the note is empty or too long", Place::default().field("TEXT"));
        return Err(problem.expected(format!("1 to {MOST_CHARACTERS} characters")).into());
    }
    let store = options.bench.store().to_change()?;
    let run = find_run(&store, &options.run)?;
    let user = || ["USER", "LOGNAME", "USERNAME"].into_iter().find_map(|name| std::env::var(name).ok());
    let by = options.by.clone().or_else(user).filter(|name| !name.trim().is_empty());
    let note = RunNote { text, by: by.unwrap_or_else(|| "unknown".to_owned()), at: now() };
    store.add_notes(run.id, std::slice::from_ref(&note))?;
    output::print_lines(&format!("Run {}: {}\n", run.id, note_in_words(&note)))?;
    Ok(Code::Done)
}

/// `2026-12-02, anna: held back`.
pub(super) fn note_in_words(note: &RunNote) -> String {
    let day = note.at.get(..10).unwrap_or(&note.at);
    format!("{day}, {}: {}", note.by, note.text)
}

fn relabel(options: &RelabelOptions) -> Result<Code, Failure> {
    let store = options.bench.store().to_change()?;
    let run = find_run(&store, &options.run)?;
    if let Some(label) = &options.label {
        check_label(label)?;
        if let Some(other) = store.labelled(label)?.iter().find(|other| other.id != run.id) {
            output::caution(&format!(
                "run {} has the label \"{label}\" as well; #{} and #{0} tell them apart",
                other.id, run.id
            ));
        }
    }
    store.relabel(run.id, options.label.as_deref())?;
    let label =
        options.label.as_ref().map_or_else(|| "no label".to_owned(), |label| format!("the label \"{label}\""));
    output::print_lines(&format!("Run {} has {label}.\n", run.id))?;
    Ok(Code::Done)
}

fn studies(store: &Store, form: Format) -> Result<Code, Failure> {
    let line = |(study, kept): (i64, Study)| StudyLine {
        study,
        of: kept.kind,
        made_at: kept.made_at,
        machine: kept.machine.cpu,
    };
    let lines: Vec<StudyLine> = store.studies()?.into_iter().map(line).collect();
    if form == Format::Json {
        output::print_json(&lines)?;
        return Ok(Code::Done);
    }
    let mut table = Table::new([("study", 0), ("of", 0), ("made", 0), ("machine", 1)]);
    for line in lines {
        table.row([
            Cell::Count(line.study as u64),
            Cell::text(line.of.as_str()),
            Cell::text(moment(&line.made_at)),
            Cell::text(line.machine),
        ]);
    }
    output::print_table(&table, form)?;
    Ok(Code::Done)
}

/// A moment as people write it.
fn moment(rfc_3339: &str) -> String {
    rfc_3339.replace('T', " ").trim_end_matches('Z').to_owned()
}
