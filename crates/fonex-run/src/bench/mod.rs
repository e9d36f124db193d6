//! The bench file: what there is to test and what is to be run. Raw TOML becomes one checked value here.

mod gate;
mod listeners;
mod matters;
mod overrides;
mod own;
mod plan;
mod profile;
mod read;
mod spans;
mod store;
mod sweep;

use std::collections::{BTreeMap, HashMap};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use fonex_core::Clip;
use fonex_core::cost::{Price, Prices};
use fonex_core::material::Accepted;
use fonex_core::measures::{Mattering, OwnMeasure};
use fonex_core::text::TextProfile;
use fonex_engines::{EngineConfig, Secrets, Surroundings};
use fonex_formats::{Corpus, Place, Problem, Problems, nearest, read_corpus};

pub use gate::Gate;
pub use plan::{Budget, Plan, PlannedVariant, voice_condition};
pub use profile::{profile_checksum, read_profile, read_toml};
pub use read::{BenchFile, read_bench};
pub use store::StoreChoice;

/// A bench file, read and checked.
pub struct Bench {
    /// The file.
    pub path: PathBuf,
    /// Its folder: corpora, commands and the store are relative to it.
    pub folder: PathBuf,
    /// SHA-256 of the file.
    pub checksum: String,
    /// Overrides given on the command line.
    pub overrides: Vec<String>,
    /// The commit that its runs are told to be of; that of the repository around the bench file where it is none.
    pub commit: Option<String>,
    /// The corpus of plans that name none.
    pub corpus: Option<String>,
    /// Seed of everything random.
    pub seed: u64,
    /// The program that plays audio, with its arguments; `{audio}` is the file, at the end where it is not among them.
    pub player: Vec<String>,
    /// How texts are compared.
    pub text_profile: TextProfile,
    /// The engines by name.
    pub engines: BTreeMap<String, EngineConfig>,
    /// The plans by name.
    pub plans: BTreeMap<String, Plan>,
    /// What cannot be used.
    pub broken: Broken,
    /// What the corpus check need not complain of.
    pub accept: Vec<Accepted>,
    /// The dialogues by name: the clips said in them, in order.
    pub dialogues: BTreeMap<String, Vec<String>>,
    gate: Gate,
    matters: Mattering,
    /// Measures of one's own, but for those that cannot be used.
    pub own: Vec<OwnMeasure>,
}

/// Engines and plans that cannot be used, each with what is wrong with it. Others can.
#[derive(Debug, Default)]
pub struct Broken {
    /// Engines by name.
    pub engines: BTreeMap<String, Problem>,
    /// Plans by name; those of a broken engine too.
    pub plans: BTreeMap<String, Problem>,
    /// What is wrong with the gate.
    pub gate: Vec<Problem>,
    /// Problems in `[matters]`.
    pub matters: Vec<Problem>,
    /// What is wrong with measures of one's own.
    pub measures: Vec<Problem>,
}

impl Bench {
    /// The engine a person named.
    pub fn engine(&self, name: &str) -> Result<&EngineConfig, Problem> {
        if let Some(problem) = self.broken.engines.get(name) {
            return Err(problem.clone());
        }
        self.engines.get(name).ok_or_else(|| {
            let what = format!("there is no engine \"{name}\" in the bench file");
            unknown(what, name, self.engines.keys(), Place::file(&self.path))
        })
    }

    /// The plan a person named, or the only one.
    pub fn plan(&self, name: Option<&str>) -> Result<&Plan, Problem> {
        let broken = name.or_else(|| self.only_plan()).and_then(|name| self.broken.plans.get(name));
        if let Some(problem) = broken {
            return Err(problem.clone());
        }
        match name {
            Some(name) => self.plans.get(name).ok_or_else(|| {
                let what = format!("there is no plan \"{name}\" in the bench file");
                unknown(what, name, self.plans.keys(), Place::file(&self.path))
            }),
            None if self.plans.len() + self.broken.plans.len() == 1 => {
                Ok(self.plans.values().next().expect("there is one plan"))
            }
            None if self.plans.is_empty() && !self.broken.engines.is_empty() => {
                Err(self.broken.engines.values().next().expect("there is one").clone())
            }
            None => {
                let names: Vec<&str> = self.plans.keys().map(String::as_str).collect();
                let what = if names.is_empty() {
                    "there is no plan".to_owned()
                } else {
                    format!("which of {} plans?", names.len())
                };
                let problem = Problem::new(what, Place::file(&self.path));
                Err(match names.as_slice() {
                    [] => problem.remedy("add a [plan.NAME] to the bench file; fonex init shows one"),
                    _ => problem.expected(names.join(" or ")).remedy(format!("write: fonex run {}", names[0])),
                })
            }
        }
    }

    fn only_plan(&self) -> Option<&str> {
        let mut names = self.plans.keys().chain(self.broken.plans.keys());
        names.next().filter(|_| names.next().is_none()).map(String::as_str)
    }

    /// What runs must keep.
    ///
    /// # Errors
    /// Everything that is wrong with it.
    pub fn gate(&self) -> Result<&Gate, Problems> {
        if self.broken.gate.is_empty() { Ok(&self.gate) } else { Err(Problems(self.broken.gate.clone())) }
    }

    /// The differences that matter.
    ///
    /// # Errors
    /// All problems in `[matters]`.
    pub fn matters(&self) -> Result<&Mattering, Problems> {
        if self.broken.matters.is_empty() { Ok(&self.matters) } else { Err(Problems(self.broken.matters.clone())) }
    }

    /// The clips of the dialogue a person named.
    pub fn dialogue(&self, name: &str) -> Result<&[String], Problem> {
        self.dialogues.get(name).map(Vec::as_slice).ok_or_else(|| {
            let what = format!("there is no dialogue \"{name}\" in the bench file");
            let problem = unknown(what, name, self.dialogues.keys(), Place::file(&self.path));
            if self.dialogues.is_empty() {
                problem.remedy("add one: [dialogue.NAME] with turns = [\"CLIP\", \"CLIP\"]")
            } else {
                problem
            }
        })
    }

    /// What a variant is charged: the engine's prices, with its voice's own price of a character.
    pub fn prices(&self, variant: &PlannedVariant) -> Option<Prices> {
        let engine = &self.engines[&variant.engine];
        let prices = engine.prices.clone()?;
        Some(match engine.voices.find(&variant.voice).and_then(|voice| voice.price) {
            Some(price) => Prices { character: Some(Price::Flat(price)), ..prices },
            None => prices,
        })
    }

    /// What its engines are built with. Secrets are read now, and only from here on.
    pub fn surroundings(
        &self,
        scratch: PathBuf,
        labels: Arc<HashMap<String, Clip>>,
    ) -> Result<Surroundings, Problem> {
        Ok(Surroundings {
            bench: self.path.clone(),
            folder: self.folder.clone(),
            scratch,
            labels,
            seed: self.seed,
            secrets: Secrets::read(&self.folder)?,
            pace: None,
        })
    }

    /// Reads a corpus the bench file names.
    pub fn read_corpus(&self, plan: Option<&Plan>) -> Result<Corpus, Problems> {
        let name = plan.and_then(|plan| plan.corpus.as_ref()).or(self.corpus.as_ref()).ok_or_else(|| {
            Problem::new("the bench file names no corpus", Place::file(&self.path))
                .remedy("add corpus = \"corpus.jsonl\" at its top")
        })?;
        read_corpus(&self.folder.join(name))
    }
}

/// A name that is not among the known ones, with the nearest that is.
pub fn unknown<'n>(what: String, name: &str, known: impl IntoIterator<Item = &'n String>, place: Place) -> Problem {
    let known: Vec<&str> = known.into_iter().map(String::as_str).collect();
    let problem = Problem::new(what, place);
    // Of a long list the first ones are an example.
    const MOST: usize = 8;
    let problem = match known.len() {
        0 => problem,
        1..=MOST => problem.expected(known.join(" or ")),
        many => problem.expected(format!("one of {many}, such as {}", known[..MOST].join(", "))),
    };
    match nearest(name, known.iter().copied()) {
        Some(near) => problem.remedy(format!("write \"{near}\" if that is meant")),
        None => problem,
    }
}

/// The folder of a bench file, also where it does not exist: the store can be read without it.
#[must_use]
pub fn folder_of(bench: &Path) -> &Path {
    bench.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."))
}
