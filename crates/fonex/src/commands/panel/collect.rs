//! `fonex panel collect`: what listeners sent back, put together and kept as a study.

use std::fs;
use std::path::{Path, PathBuf};

use clap::Args;
use fonex_analysis::panel::{
    LeftOut, NamedRatings, PanelKey, PanelResult, Ratings, agree_with_measures, collect, read_ratings,
};
use fonex_analysis::{RunView, Wanted};
use fonex_core::panel::PanelKind;
use fonex_formats::{Place, Problem, regular};
use fonex_store::{RunRef, Store, StudyKind};

use super::read_key;
use super::tables::{brief, depth, panel_tables};
use crate::cli::{BenchArg, Format, FormatArg, seconds_above_zero};
use crate::commands::studies::{find_study, keep_study};
use crate::failure::{Code, Failure};
use crate::output::{self, plural};

#[derive(Debug, Args)]
#[command(after_help = "Examples, in the folder the demo made:
  fonex panel collect panel.key.json ratings
  fonex panel collect --study last")]
pub struct PanelCollect {
    /// The key of the panel
    #[arg(value_name = "KEY", required_unless_present = "study")]
    pub key: Option<PathBuf>,
    /// Ratings files, or folders of them
    #[arg(value_name = "FILE", required_unless_present = "study")]
    pub files: Vec<PathBuf>,
    /// Half width of an interval to reckon the number of listeners for: points of the scale; by default 0.25 of 5, 5 of 100; not for pairs
    #[arg(long, value_name = "POINTS", value_parser = seconds_above_zero)]
    pub within: Option<f64>,
    /// Print this stored study, a number or last, and read no files
    #[arg(long, value_name = "STUDY", conflicts_with_all = ["key", "files", "within"])]
    pub study: Option<String>,
    /// Show every table below the answer
    #[arg(long)]
    pub all: bool,
    #[command(flatten)]
    pub bench: BenchArg,
    #[command(flatten)]
    pub format: FormatArg,
}

pub fn collect_ratings(options: &PanelCollect) -> Result<Code, Failure> {
    if let Some(typed) = &options.study {
        let store = options.bench.store().existing()?;
        let command = format!("fonex panel collect --study {typed}");
        print(&find_study::<PanelResult>(&store, StudyKind::Panel, typed)?.figures, options, &command)?;
        return Ok(Code::Done);
    }
    let Some(key_path) = &options.key else { return Ok(Code::WrongUse) };
    let key = read_key(key_path)?;
    if key.kind == PanelKind::Pairs && options.within.is_some() {
        let problem =
            Problem::new("the listeners needed are not reckoned for pairs", Place::default().field("--within"));
        return Err(problem.remedy("leave it out; each pair says how many listeners would tell it").into());
    }
    let (files, left_out) = read_all(&key, &options.files)?;
    let within = options.within.unwrap_or(match key.kind {
        PanelKind::Opinion => 0.25,
        PanelKind::Anchored => 5.0,
        PanelKind::Pairs => 0.1,
    });
    let (mut result, sittings) = collect(&key, files, left_out, within);
    if result.careful().is_empty() {
        for left_out in &result.left_out {
            output::caution(&format!("{}: {}", left_out.file, left_out.why));
        }
        let problem = Problem::new("no listener's ratings count", Place::file(key_path));
        return Err(problem.expected("at least one ratings file of this panel").into());
    }
    let mut store = options.bench.store().open()?;
    let liked = PanelResult::liked(&key, &sittings, &result.careful());
    let views = views(&mut store, &key)?;
    result.measures = agree_with_measures(&store, &key, &views, &liked)?;
    let number = keep_study(&store, StudyKind::Panel, &result)?;
    output::note(&format!("Kept as study {number}: fonex report RUN --panel {number} puts it on a page."));
    print(&result, options, &format!("fonex panel collect --study {number}"))?;
    Ok(Code::Done)
}

fn print(result: &PanelResult, options: &PanelCollect, command: &str) -> Result<(), Failure> {
    match options.format.format {
        Format::Json => output::print_json(result)?,
        form @ (Format::Table | Format::Markdown) => {
            let mut answer = brief(result, command);
            let depth = if options.all && form == Format::Table { depth(result) } else { String::new() };
            if options.all {
                answer.more.clear();
            }
            answer.print(form)?;
            output::print_lines(&depth)?;
        }
        form => {
            for table in panel_tables(result) {
                output::print_table(&table, form)?;
            }
        }
    }
    Ok(())
}

/// The runs whose voices the panel has, measured; those that are not in the store are left out.
fn views(store: &mut Store, key: &PanelKey) -> Result<Vec<RunView>, Failure> {
    let mut numbers: Vec<i64> = key.voices.iter().filter_map(|voice| voice.run).collect();
    numbers.sort_unstable();
    numbers.dedup();
    let mut views = Vec::new();
    for number in numbers {
        let Some(run) = store.run(&RunRef::Number(number))? else {
            output::caution(&format!(
                "run {number} is not in this store: its measures are not held against the listeners"
            ));
            continue;
        };
        views.push(RunView::load(store, run, None, &Wanted::default())?);
    }
    Ok(views)
}

/// Reads every file; what cannot be used is left out and told.
fn read_all(key: &PanelKey, paths: &[PathBuf]) -> Result<(NamedRatings, Vec<LeftOut>), Failure> {
    let mut all = Vec::new();
    for path in paths {
        if path.is_dir() {
            let entries = fs::read_dir(path).map_err(|error| Problem::io("read", path, &error))?;
            let is_json = |path: &PathBuf| path.extension().is_some_and(|ending| ending == "json");
            let mut inside: Vec<PathBuf> =
                entries.filter_map(|entry| Some(entry.ok()?.path())).filter(|path| is_json(path)).collect();
            inside.sort();
            if inside.is_empty() {
                let problem = Problem::new("the folder holds no ratings", Place::file(path));
                return Err(problem.expected("files that end in .json").into());
            }
            all.extend(inside);
        } else {
            all.push(path.clone());
        }
    }
    all.dedup();
    let (mut files, mut left_out) = (Vec::new(), Vec::new());
    for path in all {
        match read_one(key, &path) {
            Ok(ratings) => files.push((path.display().to_string(), ratings)),
            Err(problem) => {
                let why = match &problem.expected {
                    Some(expected) => format!("{}; expected {expected}", problem.what),
                    None => problem.what.clone(),
                };
                left_out.push(LeftOut { file: path.display().to_string(), why });
            }
        }
    }
    if !left_out.is_empty() && !files.is_empty() {
        output::caution(&format!("{} left out; see below", plural(left_out.len() as u64, "file")));
    }
    Ok((files, left_out))
}

/// No ratings file is larger.
const MOST_BYTES: u64 = 8 << 20;

fn read_one(key: &PanelKey, path: &Path) -> Result<Ratings, Problem> {
    let bytes = regular::read(path, MOST_BYTES).map_err(|error| Problem::io("read", path, &error))?;
    let text = String::from_utf8(bytes).map_err(|_| Problem::new("it is not text in UTF-8", Place::file(path)))?;
    read_ratings(&text, &Place::file(path), key)
}
