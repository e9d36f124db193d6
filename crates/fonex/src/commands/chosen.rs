//! What several commands let a person choose: measures, the unit of chance, another text profile.

use std::path::Path;

use clap::{Args, ValueEnum};
use fonex_core::measures::{Measure, matching};
use fonex_core::text::TextProfile;
use fonex_core::verdict::DrawnUnit;
use fonex_formats::{Place, Problem};
use fonex_run::{read_bench, read_profile, unknown};

use crate::output;

/// Which measures.
#[derive(Debug, Clone, Default, Args)]
pub struct MeasureArg {
    /// Measures by id, with * as a wildcard, such as wer,latency_*; see fonex measures
    #[arg(long = "measure", value_name = "ID,ID", value_delimiter = ',')]
    pub measures: Vec<String>,
}

impl MeasureArg {
    /// The measures named, in the order they were named; none where nothing was.
    pub fn chosen(&self) -> Result<Vec<&'static Measure>, Problem> {
        let mut chosen: Vec<&'static Measure> = Vec::new();
        for pattern in &self.measures {
            let found: Vec<&'static Measure> = matching(pattern.trim()).collect();
            if found.is_empty() {
                let what = format!("there is no measure \"{pattern}\"");
                let problem = Problem::new(what, Place::default().field("--measure"));
                return Err(problem.expected("an id that fonex measures lists, with * for any letters"));
            }
            for measure in found {
                if chosen.iter().all(|other| other.id != measure.id) {
                    chosen.push(measure);
                }
            }
        }
        Ok(chosen)
    }
}

/// The profile that was named, else that of the bench file in the current folder, else the neutral one.
pub fn profile_here(named: Option<&str>) -> Result<TextProfile, Problem> {
    let bench = Path::new("fonex.toml");
    if let Some(name) = named {
        return read_profile(name, Path::new(""), Place::default().field("--profile"));
    }
    if bench.is_file() {
        match read_bench(bench, &[]) {
            Ok(bench) => return Ok(bench.text_profile),
            Err(why) => output::caution(&format!("using the neutral text profile: {why}")),
        }
    }
    read_profile("neutral", Path::new(""), Place::default())
}

/// What was drawn.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum ChosenUnit {
    /// Verdicts hold for more clips of these speakers
    Clip,
    /// Verdicts hold for more speakers like these
    Speaker,
    /// Verdicts hold for more recordings like these
    Recording,
}

/// The unit of chance.
#[derive(Debug, Clone, Copy, Default, Args)]
pub struct UnitArg {
    /// Unit of sampling; by default speakers if there are at least eight and some have several clips, else recordings likewise, else clips
    #[arg(long, value_enum, value_name = "UNIT")]
    pub unit: Option<ChosenUnit>,
}

impl UnitArg {
    /// The unit named, if one was.
    pub fn chosen(self) -> Option<DrawnUnit> {
        self.unit.map(|unit| match unit {
            ChosenUnit::Clip => DrawnUnit::Clip,
            ChosenUnit::Speaker => DrawnUnit::Speaker,
            ChosenUnit::Recording => DrawnUnit::Recording,
        })
    }
}

/// Another text profile than the run's own.
#[derive(Debug, Clone, Default, Args)]
pub struct ProfileArg {
    /// Score the stored texts again under this profile: neutral, verbatim, a language such as en, or a .toml file
    #[arg(long, value_name = "PROFILE")]
    pub profile: Option<String>,
}

impl ProfileArg {
    /// The profile named, if one was.
    pub fn chosen(&self) -> Result<Option<TextProfile>, Problem> {
        let read = |name: &String| read_profile(name, Path::new(""), Place::default().field("--profile"));
        self.profile.as_ref().map(read).transpose()
    }
}

/// `TAG=VALUE` as typed for a slice, compared with what the runs' clips share.
pub fn parse_slice<'s>(typed: &'s str, keys: &[(String, Vec<String>)]) -> Result<(&'s str, &'s str), Problem> {
    let place = || Place::default().field("--slice");
    let (by, value) = typed.split_once('=').ok_or_else(|| {
        Problem::new(format!("\"{typed}\" is not a slice"), place()).expected("TAG=VALUE, such as channel=radio")
    })?;
    let Some((_, values)) = keys.iter().find(|(key, _)| key == by) else {
        let known: Vec<&String> = keys.iter().map(|(key, _)| key).collect();
        return Err(unknown(format!("no clip has the tag \"{by}\""), by, known, place()));
    };
    if !values.iter().any(|own| own == value) {
        return Err(unknown(format!("no clip has {by}={value}"), value, values, place()));
    }
    Ok((by, value))
}
