//! Measures of one's own, as a bench file defines them.

use std::path::Path;

use fonex_core::Task;
use fonex_core::material::Condition;
use fonex_core::measures::{ALL, Better, Figure, How, OwnMeasure, OwnWords, Trials, Unit, own_line};
use fonex_formats::{Place, Problem, checksum};
use serde::Deserialize;

/// A measure as written.
#[derive(Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct OwnConfig {
    /// What the engines do that it measures.
    #[serde(default = "hear")]
    task: Task,
    /// Its name for people.
    name: Option<String>,
    /// What it means.
    about: Option<String>,
    /// The condition whose share of trials it is.
    holds: Option<String>,
    /// The program that answers a number for each trial, with its arguments.
    program: Option<Vec<String>>,
    /// Only trials of which this condition holds.
    #[serde(rename = "where")]
    of: Option<String>,
    /// How the numbers of a program become a figure.
    figure: Option<FigureConfig>,
    /// Its unit.
    unit: Option<Unit>,
    /// Which direction is better.
    better: Option<Better>,
    /// Whether compare asks about it by default.
    #[serde(default = "yes")]
    compared: bool,
    /// Whether failed trials count as well.
    #[serde(default)]
    trials: TrialsConfig,
    /// How long the program may take for a batch, in seconds.
    #[serde(default = "a_minute")]
    time_limit_s: f64,
}

#[derive(Deserialize, Clone, Copy, PartialEq, Eq, Debug, schemars::JsonSchema)]
#[serde(rename_all = "lowercase")]
enum FigureConfig {
    Share,
    Mean,
    Median,
    P95,
}

#[derive(Deserialize, Clone, Copy, Default, Debug, schemars::JsonSchema)]
#[serde(rename_all = "lowercase")]
enum TrialsConfig {
    #[default]
    Answered,
    All,
}

const fn hear() -> Task {
    Task::Hear
}

const fn yes() -> bool {
    true
}

const fn a_minute() -> f64 {
    60.0
}

impl OwnConfig {
    /// The measure, checked.
    pub(super) fn resolve(self, id: &str, folder: &Path, at: &dyn Fn(&str) -> Place) -> Result<OwnMeasure, Problem> {
        if !id.bytes().all(|b| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'_') || id.is_empty() {
            let problem = Problem::new(format!("\"{id}\" cannot name a measure"), at(""));
            return Err(problem.expected("small letters, digits and _"));
        }
        if ALL.iter().any(|measure| measure.id == id) {
            let problem = Problem::new(format!("{id} is a measure of Fonex itself"), at(""));
            return Err(problem.remedy("give it another name"));
        }
        let condition = |field: &str, text: &str| {
            Condition::parse(text).map_err(|error| {
                let what = format!("in \"{text}\", column {}: {}", error.column, error.what);
                Problem::new(what, at(field)).expected(error.expected)
            })
        };
        let of = self.of.as_deref().map(|text| condition("where", text)).transpose()?;
        if !(self.time_limit_s > 0.0 && self.time_limit_s <= 86_400.0) {
            let what = format!("time_limit_s is {}", self.time_limit_s);
            return Err(Problem::new(what, at("time_limit_s")).expected("seconds, above 0"));
        }
        let (how, what) = match (&self.holds, &self.program) {
            (Some(text), None) => (How::Holds(condition("holds", text)?), format!("trials for which {text}")),
            (None, Some(argv)) if !argv.is_empty() && !argv[0].is_empty() => {
                let (argv, time_limit_s) = (argv.clone(), self.time_limit_s);
                let what = format!("what {} answers for each trial", argv.join(" "));
                (How::Program { argv, folder: folder.to_owned(), time_limit_s }, what)
            }
            _ => {
                let problem = Problem::new("this measure is not defined", at(""));
                return Err(problem.expected("holds = \"CONDITION\" or program = [\"PROGRAM\", \"ARGUMENT\"]"));
            }
        };
        let of_words = self.of.as_ref().map_or_else(String::new, |of| format!(", of those for which {of}"));
        let words = OwnWords {
            id: id.to_owned(),
            name: self.name.clone().unwrap_or_else(|| id.replace('_', " ")),
            about: self.about.clone().unwrap_or(format!("{what}{of_words}")),
            task: self.task,
            unit: self.unit(at)?,
            better: self.better.unwrap_or(if self.holds.is_some() { Better::Higher } else { Better::Neither }),
            figure: self.figure(),
            asked: self.compared,
            trials: match self.trials {
                TrialsConfig::Answered => Trials::Answered,
                TrialsConfig::All => Trials::All,
            },
            checksum: self.checksum(folder),
        };
        Ok(OwnMeasure { measure: own_line(&words), how, of })
    }

    fn figure(&self) -> Figure {
        match self.figure {
            Some(FigureConfig::Share) => Figure::Share,
            Some(FigureConfig::Mean) => Figure::Mean,
            Some(FigureConfig::Median) => Figure::Median,
            Some(FigureConfig::P95) => Figure::P95,
            None if self.holds.is_some() => Figure::Share,
            None => Figure::Mean,
        }
    }

    fn unit(&self, at: &dyn Fn(&str) -> Place) -> Result<Unit, Problem> {
        if self.holds.is_some() && (self.figure.is_some() || self.unit.is_some()) {
            let field = if self.figure.is_some() { "figure" } else { "unit" };
            let problem = Problem::new(format!("a condition is counted as a share, but {field} is given"), at(field));
            return Err(problem.remedy(format!("leave out {field}")));
        }
        let by_figure = if self.figure() == Figure::Share { Unit::Share } else { Unit::Ratio };
        Ok(self.unit.unwrap_or(by_figure))
    }

    /// Of everything that a trial's number depends on: the definition, and the files that the program's arguments name.
    fn checksum(&self, folder: &Path) -> String {
        let mut definition = format!("{:?}", (&self.holds, &self.program, &self.of, self.trials));
        for argument in self.program.iter().flatten() {
            let path = folder.join(argument);
            if path.is_file() {
                definition += &checksum::of_file(&path).unwrap_or_default();
            }
        }
        checksum::of_bytes(definition.as_bytes())
    }
}
