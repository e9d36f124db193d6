//! `fonex watch`: a run as it goes, as a page on loopback or in the terminal.

mod server;
#[cfg(feature = "team")]
mod spread;
mod text;

use std::io::IsTerminal;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use clap::Args;
use fonex_analysis::{Next, Progress, follow_run};
use fonex_core::measures::{Measure, find};
use fonex_formats::{Place, Problem};
use fonex_report::figures::{figure_with_interval, milliseconds};
use fonex_report::watch_page;
use fonex_run::Interrupt;
use fonex_store::{Run, RunRef, Store};
use serde::Serialize;

use self::text::{in_words, screen, variants_table};
#[cfg(feature = "team")]
use super::spread::ServerArg;
use super::{find_run, store_to_read};
use crate::cli::{BenchArg, Format, FormatArg};
use crate::failure::{Code, Failure};
use crate::output::{self, Screen};

#[derive(Debug, Args)]
#[command(
    after_help = "Start it beside a run, in another terminal: it serves a page on loopback and prints its address; --terminal shows the
same full screen. The run is not disturbed: what it has stored is read. Ctrl-C ends watching, not the run.
With --spread it follows all runs that a server spreads, and their workers, from any machine, in the terminal.
Example, in the folder the demo made: fonex watch last --once"
)]
pub struct WatchOptions {
    /// The run: its number, its label, or last; without one, always the newest
    #[arg(value_name = "RUN")]
    #[cfg_attr(feature = "team", arg(conflicts_with = "spread"))]
    pub run: Option<String>,
    /// Show it in this terminal, full screen
    #[arg(long, conflicts_with = "once")]
    pub terminal: bool,
    /// Print how far it has come, and end
    #[arg(long)]
    pub once: bool,
    /// Port of the page on loopback; 0 takes a free one
    #[arg(long, value_name = "PORT", default_value_t = 0, conflicts_with_all = ["terminal", "once"])]
    #[cfg_attr(feature = "team", arg(conflicts_with = "spread"))]
    pub port: u16,
    #[cfg(feature = "team")]
    #[command(flatten)]
    pub server: ServerArg,
    #[command(flatten)]
    pub bench: BenchArg,
    #[command(flatten)]
    pub format: FormatArg,
}

/// What is shown of each variant, where its task has it.
const SHOWN: [&str; 5] = ["wer", "first_audible_p50", "first_piece_p50", "latency_p50", "latency_p95"];
/// Between two looks at a run that goes on; a look that takes long is repeated less often.
const BETWEEN: Duration = Duration::from_millis(500);
const SHARE_OF_TIME: u32 = 8;

pub fn watch(options: &WatchOptions) -> Result<Code, Failure> {
    let one_look = options.once;
    if options.format.format != Format::Table && !one_look {
        let problem = Problem::new("a run that is followed has no last line", Place::default().field("--format"));
        return Err(problem.remedy("use --format with --once").into());
    }
    if options.terminal && !std::io::stdout().is_terminal() {
        let problem = Problem::new("standard output is no terminal", Place::default().field("--terminal"));
        return Err(problem.remedy("leave out --terminal for a page, or use --once").into());
    }
    #[cfg(feature = "team")]
    if let Some(address) = options.server.address(&options.bench.bench)? {
        return spread::watch_spread(&address, one_look, options.format.format);
    }
    let measures: Vec<&'static Measure> = SHOWN.iter().filter_map(|id| find(id)).collect();
    let bench = &options.bench.bench;
    // A run that was named is followed to its end and beyond; without a name there may be none yet.
    let waits = !one_look && options.run.is_none() && bench.is_file() && !options.bench.store().is_there();
    let store = if waits { None } else { Some(store_to_read(&options.bench)?) };
    let named =
        options.run.as_deref().zip(store.as_ref()).map(|(typed, store)| find_run(store, typed)).transpose()?;
    if let Some(store) = store.as_ref().filter(|_| one_look) {
        let run = named.map_or_else(|| find_run(store, "last"), Ok)?;
        return once(store, &run, &measures, options.format.format);
    }
    let interrupt = Interrupt::listen();
    let _heeding = interrupt.heed();
    let mut shown = Shown::open(options)?;
    while waits && !options.bench.store().is_there() && !interrupt.flag().is_set() {
        std::thread::sleep(BETWEEN);
    }
    let store = match store {
        Some(store) => store,
        None if interrupt.flag().is_set() => return Ok(Code::Done),
        None => store_to_read(&options.bench)?,
    };
    while !interrupt.flag().is_set() {
        let run = match &named {
            Some(run) => Some(run.clone()),
            None => store.run(&RunRef::Last)?,
        };
        let Some(run) = run else {
            std::thread::sleep(BETWEEN);
            continue;
        };
        let mut begun = Instant::now();
        follow_run(&store, &run, &measures, |progress| {
            shown.show(progress);
            let took = begun.elapsed();
            std::thread::sleep(BETWEEN.max(took * SHARE_OF_TIME));
            begun = Instant::now();
            let newer = named.is_none() && matches!(store.run(&RunRef::Last), Ok(Some(last)) if last.id != run.id);
            if newer || interrupt.flag().is_set() { Next::End } else { Next::Look }
        })?;
        if named.is_some() && !interrupt.flag().is_set() {
            let problem = Problem::new(format!("run {} was deleted while it was watched", run.id), Place::default());
            return Err(problem.remedy("fonex runs lists those that are there").into());
        }
    }
    shown.close();
    Ok(Code::Done)
}

/// Prints how far a run has come.
fn once(store: &Store, run: &Run, measures: &[&'static Measure], format: Format) -> Result<Code, Failure> {
    let mut seen = None;
    follow_run(store, run, measures, |progress| {
        seen = Some(progress.clone());
        Next::End
    })?;
    let Some(progress) = seen else { return Ok(Code::Done) };
    match format {
        Format::Json => output::print_json(&progress)?,
        Format::Table => output::print(&screen(&progress, output::width()))?,
        form => output::print_table(&variants_table(&progress), form)?,
    }
    Ok(Code::Done)
}

/// Where a run is shown.
enum Shown {
    Page(server::State),
    Terminal(Box<Screen>, Option<Progress>),
}

impl Shown {
    fn open(options: &WatchOptions) -> Result<Self, Failure> {
        if options.terminal {
            return Ok(Self::Terminal(Box::new(Screen::open()?), None));
        }
        let page = watch_page(env!("CARGO_PKG_VERSION"))
            .map_err(|error| Problem::new(error.to_string(), Place::default()))?;
        let state: server::State = Arc::new(Mutex::new("{}".to_owned()));
        let address = server::serve(options.port, page, Arc::clone(&state)).map_err(|error| {
            let problem = Problem::new(format!("port {} cannot be used: {error}", options.port), Place::default());
            problem.remedy("choose another with --port, or leave it out for a free one")
        })?;
        output::note(&format!("The run is shown on http://{address}/ until Ctrl-C."));
        Ok(Self::Page(state))
    }

    fn show(&mut self, progress: &Progress) {
        match self {
            Self::Page(state) => {
                let json = serde_json::to_string(&told(progress)).unwrap_or_default();
                *state.lock().expect("nobody panics while it is held") = json;
            }
            Self::Terminal(shown, last) => {
                shown.draw(&screen(progress, output::width()));
                *last = Some(progress.clone());
            }
        }
    }

    /// Gives the terminal back, with what was seen last.
    fn close(self) {
        if let Self::Terminal(shown, last) = self {
            drop(shown);
            if let Some(progress) = last {
                drop(output::print(&screen(&progress, output::width())));
            }
        }
    }
}

/// What the page is told: figures as they are read.
#[derive(Serialize, schemars::JsonSchema)]
struct Told<'p> {
    run: i64,
    label: Option<&'p str>,
    plan: &'p str,
    state: fonex_analysis::ProgressState,
    in_words: String,
    planned: u64,
    done: u64,
    variants: Vec<ToldVariant<'p>>,
    recent: Vec<ToldTrial<'p>>,
}

#[derive(Serialize, schemars::JsonSchema)]
struct ToldVariant<'p> {
    name: &'p str,
    trials: u64,
    outcomes: &'p [fonex_analysis::OutcomeCount],
    figures: Vec<ToldFigure>,
    latest_ms: &'p [f64],
    longest: String,
}

#[derive(Serialize, schemars::JsonSchema)]
struct ToldFigure {
    name: &'static str,
    text: String,
}

#[derive(Serialize, schemars::JsonSchema)]
struct ToldTrial<'p> {
    clip: &'p str,
    variant: &'p str,
    outcome: &'static str,
    answered: bool,
    #[serde(skip_serializing_if = "Option::is_none")]
    took: Option<String>,
    words: Option<&'p str>,
}

fn told(progress: &Progress) -> Told<'_> {
    let figure = |one: &fonex_analysis::FigureSoFar| {
        let measure = find(one.measure)?;
        let text = figure_with_interval(measure.unit, Some(one.value), one.interval);
        Some(ToldFigure { name: measure.name, text })
    };
    let variants = progress.variants.iter().map(|variant| ToldVariant {
        name: &variant.name,
        trials: variant.trials,
        outcomes: &variant.outcomes,
        figures: variant.figures.iter().filter_map(figure).collect(),
        latest_ms: &variant.latest_ms,
        longest: milliseconds(variant.latest_ms.iter().copied().fold(0.0, f64::max)),
    });
    let recent = progress.recent.iter().map(|trial| ToldTrial {
        clip: &trial.clip,
        variant: &trial.variant,
        outcome: trial.outcome.as_str(),
        answered: trial.outcome.is_answer(),
        took: trial.took_ms.map(milliseconds),
        words: trial.words.as_deref(),
    });
    Told {
        run: progress.run,
        label: progress.label.as_deref(),
        plan: &progress.plan,
        state: progress.state,
        in_words: in_words(progress),
        planned: progress.planned,
        done: progress.done,
        variants: variants.collect(),
        recent: recent.collect(),
    }
}
