//! `fonex gate`: a run held against limits and a baseline; the exit code says whether it passes.

mod pages;
mod record;

use std::path::{Path, PathBuf};

use clap::{Args, ValueEnum};
use fonex_analysis::gate::{Baseline, GateResult, Held, Unlike, hold};
use fonex_analysis::{RunView, Wanted};
use fonex_core::measures::{Fact, all, tell_own};
use fonex_core::verdict::{CountsAs, Limit};
use fonex_formats::{Place, Problem, regular};
use fonex_run::{Bench, read_bench};
use fonex_store::{Run, RunState, Store};

use self::pages::{gate_brief, gate_json, gate_junit, limits_table};
use super::chosen::{MeasureArg, ProfileArg, UnitArg};
use super::run_names::look_up;
use super::runs::note_in_words;
use super::selected::{Selecting, WhereArg};
use super::{find_run, load_run};
use crate::cli::{BenchArg, Format, FormatArg};
use crate::failure::{Code, Failure};
use crate::output::{self, plural};

#[derive(Debug, Args)]
#[command(
    after_help = "Limits stand under [gate] in the bench file. The exit code is 0 if the gate passes, 1 if not.
Examples, in the folder the demo made:
  fonex gate w44 --baseline w43                a build against the one before
  fonex gate w45 --accept                      make this run the baseline
  fonex gate w46 -o gate.xml -o gate.md        stopped with exit code 1; JUnit XML and Markdown
  fonex gate w43 w44 w45 --record              limits that these runs would have kept"
)]
pub struct GateOptions {
    /// The run: a number, a label, or last; several only with --record
    #[arg(value_name = "RUN", default_value = "last")]
    pub runs: Vec<String>,
    /// File or run to hold it against, in place of the bench file's baseline
    #[arg(long, value_name = "FILE|RUN")]
    pub baseline: Option<String>,
    /// Make the run the baseline: write its counts clip by clip to the baseline file
    #[arg(long, conflicts_with_all = ["record", "output"])]
    pub accept: bool,
    /// Propose limits that the runs named would have kept
    #[arg(long, conflicts_with_all = ["output", "baseline", "across"])]
    pub record: bool,
    /// Compare across a change of these, which are refused otherwise
    #[arg(long, value_enum, value_name = "WHAT", value_delimiter = ',')]
    pub across: Vec<Across>,
    /// Also write the result: .xml (JUnit), .md or .json; may be repeated
    #[arg(short, long, value_name = "FILE")]
    pub output: Vec<PathBuf>,
    #[command(flatten)]
    pub measures: MeasureArg,
    #[command(flatten)]
    pub unit: UnitArg,
    #[command(flatten)]
    pub profile: ProfileArg,
    #[command(flatten)]
    pub only: WhereArg,
    #[command(flatten)]
    pub bench: BenchArg,
    #[command(flatten)]
    pub format: FormatArg,
}

/// What may differ between a run and its baseline once it is allowed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Across {
    /// Another corpus: the clips that both have are compared
    Corpus,
    /// Another text profile
    Profile,
    /// A Fonex that counts otherwise
    Version,
}

impl Across {
    fn allows(self, unlike: Unlike) -> bool {
        matches!(
            (self, unlike),
            (Self::Corpus, Unlike::Corpus) | (Self::Profile, Unlike::Profile) | (Self::Version, Unlike::Version)
        )
    }
}

pub fn gate(options: &GateOptions) -> Result<Code, Failure> {
    for path in &options.output {
        Written::of(path)?;
    }
    let bench = read_bench(&options.bench.bench, &[])?;
    bench.broken.measures.iter().for_each(|problem| output::caution(&problem.to_string()));
    tell_own(bench.own.clone());
    let mut store = options.bench.store().existing()?;
    if !options.record && !options.measures.measures.is_empty() {
        let problem = Problem::new("the limits say what is measured", Place::default().field("--measure"));
        return Err(problem.expected("--measure with --record only").into());
    }
    if options.record {
        return record::record(&mut store, &bench, options);
    }
    if let Some(second) = options.runs.get(1) {
        let problem = Problem::new(format!("two runs are named, {} and {second}", options.runs[0]), Place::default());
        return Err(problem.expected("one run; --record takes several").into());
    }
    let view = load(&mut store, &options.runs[0], options)?;
    if options.accept && options.only.r#where.is_some() {
        let problem = Problem::new("a baseline holds every clip of its run", Place::default().field("--where"));
        return Err(problem.remedy("leave out --where").into());
    }
    if options.accept {
        return accept(&mut store, &bench, &view, options);
    }
    let limits = &bench.gate()?.limits;
    check_limits(&bench, &view, limits)?;
    let baseline = baseline(&mut store, &bench, limits, options)?;
    if let Some(baseline) = &baseline {
        check_unlike(baseline, &view, options)?;
    }
    let unit = options.unit.chosen().or(bench.gate()?.unit);
    let busy_share = bench.gate()?.busy_share;
    let result = hold(&store, &view, limits, Held { baseline: baseline.as_ref(), unit, busy_share })?;
    match options.format.format {
        Format::Json => output::print_json(&result)?,
        form @ (Format::Table | Format::Markdown) => {
            let mut answer = gate_brief(&result);
            answer.stands_out.splice(0..0, notes(&store, &view, baseline.as_ref())?);
            answer.print(form)?;
        }
        Format::Csv => output::print_table(&limits_table(&result), Format::Csv)?,
    }
    for path in &options.output {
        Written::of(path)?.write(path, &result, &view.run)?;
    }
    Ok(if result.verdict == CountsAs::Pass { Code::Done } else { Code::NotPassed })
}

/// In which form a result is written.
#[derive(Debug, Clone, Copy)]
enum Written {
    Junit,
    Markdown,
    Json,
}

impl Written {
    fn of(path: &Path) -> Result<Self, Problem> {
        match path.extension().and_then(|ending| ending.to_str()) {
            Some("xml") => Ok(Self::Junit),
            Some("md") => Ok(Self::Markdown),
            Some("json") => Ok(Self::Json),
            _ => {
                let problem = Problem::new("the file extension decides the format of the result", Place::file(path));
                Err(problem.expected(".xml, .md or .json"))
            }
        }
    }

    fn write(self, path: &Path, result: &GateResult, run: &Run) -> Result<(), Failure> {
        let text = match self {
            Self::Junit => gate_junit(result, (&run.started_at, took_s(run)))?,
            Self::Markdown => gate_brief(result).markdown(),
            Self::Json => gate_json(result)?,
        };
        output::write_whole(path, |out| Ok(out.write_all(text.as_bytes())?))?;
        output::note(&format!("Wrote {}.", path.display()));
        Ok(())
    }
}

/// Seconds from the start of a run to its end.
fn took_s(run: &Run) -> Option<f64> {
    let moment = |text: &str| text.parse::<jiff::Timestamp>().ok();
    Some(moment(run.finished_at.as_ref()?)?.duration_since(moment(&run.started_at)?).as_secs_f64())
}

/// A run that has ended.
fn load(store: &mut Store, typed: &str, options: &GateOptions) -> Result<RunView, Failure> {
    let run = find_run(store, typed)?;
    if run.state == RunState::Unfinished {
        let plan = &run.plan;
        let problem = Problem::new(format!("run {} is unfinished", run.id), Place::default());
        return Err(problem.remedy(format!("resume it first: fonex run {plan}")).into());
    }
    let selecting = Selecting { r#where: options.only.r#where.as_deref(), by: &[], bench: &options.bench };
    let wanted = selecting.wanted(store, &run, Wanted::default())?;
    load_run(store, run, options.profile.chosen()?.as_ref(), &wanted)
}

/// A gate that asks nothing of the run is a mistake, and so is a tag that no clip has.
fn check_limits(bench: &Bench, view: &RunView, limits: &[Limit]) -> Result<(), Problem> {
    let place = || Place::file(&bench.path);
    if limits.is_empty() {
        let problem = Problem::new("the bench file has no limits", place().field("gate"));
        return Err(problem.remedy("add [gate.limit.NAME]; fonex gate RUN --record proposes some"));
    }
    let own = |limit: &&Limit| limit.plan.as_ref().is_none_or(|plan| *plan == view.run.plan);
    if !limits.iter().any(|limit| own(&limit)) {
        let what = format!("no limit is for runs of the plan {}", view.run.plan);
        return Err(Problem::new(what, place().field("gate")).remedy("leave out plan in a limit, or name this one"));
    }
    for limit in limits.iter().filter(own) {
        let Some((by, _)) = &limit.slice else { continue };
        let known: Vec<&String> = view.sheet().keys.iter().map(|key| &key.by).collect();
        if !known.contains(&by) {
            let field = place().field(format!("gate.limit.{}.slice", limit.name));
            return Err(fonex_run::unknown(format!("no clip has the tag \"{by}\""), by, known, field));
        }
    }
    Ok(())
}

/// The facts that a baseline holds: those of the limits against it, and of what compare asks by default.
fn facts(limits: &[Limit], view: &RunView) -> Vec<&'static Fact> {
    let limited = limits.iter().filter(|limit| limit.bound.is_relative()).map(|limit| limit.measure.fact);
    let task = |task| view.variants.iter().any(|variant| variant.variant.task == task);
    let asked = all().filter(|measure| measure.asked && measure.tasks.iter().any(|own| task(*own)));
    let mut facts: Vec<&'static Fact> = Vec::new();
    for fact in limited.chain(asked.map(|measure| measure.fact)) {
        if facts.iter().all(|known| known.id != fact.id) {
            facts.push(fact);
        }
    }
    facts
}

/// The baseline named, else that of the bench file where it is there.
fn baseline(
    store: &mut Store,
    bench: &Bench,
    limits: &[Limit],
    options: &GateOptions,
) -> Result<Option<Baseline>, Failure> {
    let Some(typed) = &options.baseline else {
        let Some(file) = &bench.gate()?.baseline else { return Ok(None) };
        let path = bench.folder.join(file);
        return Ok(if path.exists() { Some(read(&path)?) } else { None });
    };
    if Path::new(typed).is_file() {
        return Ok(Some(read(Path::new(typed))?));
    }
    if look_up(store, typed)?.is_none() {
        let problem =
            Problem::new(format!("\"{typed}\" is neither a file nor a run"), Place::default().field("--baseline"));
        return Err(problem.expected("a file that fonex gate --accept wrote, or a run that fonex runs lists").into());
    }
    let view = load(store, typed, options)?;
    Ok(Some(Baseline::of(store, &view, &facts(limits, &view))?))
}

/// What people noted about the run and about the one that is the baseline.
fn notes(store: &Store, view: &RunView, baseline: Option<&Baseline>) -> Result<Vec<String>, Failure> {
    let own = view.run.notes.iter().map(|note| format!("note of {}", note_in_words(note)));
    let mut notes: Vec<String> = own.collect();
    let Some(baseline) = baseline.filter(|baseline| !baseline.is_of(&view.run)) else { return Ok(notes) };
    let accepted = store.runs()?.into_iter().find(|run| baseline.is_of(run));
    let of_baseline = accepted.iter().flat_map(|run| &run.notes);
    notes.extend(of_baseline.map(|note| format!("note on the baseline, {}", note_in_words(note))));
    Ok(notes)
}

fn read(path: &Path) -> Result<Baseline, Problem> {
    let text = regular::read_text(path).map_err(|error| Problem::io("read", path, &error))?;
    Baseline::parse(&text, path)
}

fn check_unlike(baseline: &Baseline, view: &RunView, options: &GateOptions) -> Result<(), Problem> {
    for unlike in baseline.unlike(view) {
        if options.across.iter().any(|across| across.allows(unlike)) {
            continue;
        }
        let (what, word) = match unlike {
            Unlike::Corpus => (format!("is of another corpus, {}", baseline.head.corpus), "corpus"),
            Unlike::Profile => {
                (format!("was scored under the text profile {}", baseline.head.text_profile.name), "profile")
            }
            Unlike::Version => {
                (format!("was counted by Fonex {}, which counts otherwise", baseline.head.fonex_version), "version")
            }
        };
        let problem = Problem::new(format!("the baseline, {}, {what}", baseline.name()), Place::default());
        return Err(problem.remedy(format!("accept a new baseline, or compare all the same with --across {word}")));
    }
    Ok(())
}

/// Writes the baseline file, whole or not at all.
fn accept(store: &mut Store, bench: &Bench, view: &RunView, options: &GateOptions) -> Result<Code, Failure> {
    let gate = bench.gate()?;
    let path = match (&options.baseline, &gate.baseline) {
        (Some(file), _) => PathBuf::from(file),
        (None, Some(file)) => bench.folder.join(file),
        (None, None) => {
            let problem = Problem::new("the bench file names no baseline", Place::file(&bench.path).field("gate"));
            return Err(problem
                .remedy("add baseline = \"baseline.jsonl\" under [gate], or give --baseline FILE")
                .into());
        }
    };
    let before = if path.exists() { Some(read(&path)?) } else { None };
    if let Some(before) = &before {
        check_unlike(before, view, options)?;
    }
    let baseline = Baseline::of(store, view, &facts(&gate.limits, view))?;
    let text = baseline.to_text().map_err(|error| Problem::new(error.to_string(), Place::file(&path)))?;
    output::write_whole(&path, |out| Ok(out.write_all(text.as_bytes())?))?;
    let variants = view.variants.iter().filter(|v| baseline.has_variant(&v.variant.name)).count();
    output::note(&format!(
        "Run {} is the baseline now: {} with {}, {} kB in {}.",
        view.name(),
        plural(variants as u64, "variant"),
        plural(baseline.head.lines as u64, "line"),
        text.len().div_ceil(1000),
        path.display()
    ));
    let same = |before: &Baseline| {
        (before.head.run, &before.head.started_at) == (baseline.head.run, &baseline.head.started_at)
    };
    if let Some(before) = before.filter(|before| !same(before)) {
        let unit = options.unit.chosen().or(gate.unit);
        let busy_share = gate.busy_share;
        let held = hold(store, view, &gate.limits, Held { baseline: Some(&before), unit, busy_share })?;
        let verdict = if held.verdict == CountsAs::Pass { "passes" } else { "does not pass" };
        // Where nothing is asked nothing is passed.
        if !held.limits.is_empty() {
            output::note(&format!("Against the baseline before it, {}, it {verdict} the gate.", before.name()));
        }
    }
    Ok(Code::Done)
}
