//! The baseline: what an accepted run counted clip by clip, as a small text file fit for version control.

use std::collections::{BTreeMap, HashMap};
use std::path::Path;

use fonex_core::Clip;
use fonex_core::measures::{FACTS_VERSION, Fact, versions_of};
use fonex_core::text::TextProfile;
use fonex_formats::{Place, Problem, parse_strict};
use fonex_store::{Machine, Run, Store, StoreError};
use serde::{Deserialize, Serialize};
use serde_json::Number;

use crate::by_clip::{ByClip, Rows};
use crate::column::Column;
use crate::profile_checksum;
use crate::view::RunView;

/// The version of the file's form.
const FORM: u32 = 1;

/// What a baseline comes from: the first line of its file.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct BaselineHead {
    /// The version of the file's form.
    pub fonex_baseline: u32,
    /// The Fonex that wrote it.
    pub fonex_version: String,
    /// The version of what all facts share.
    pub facts_version: u32,
    /// Number of the accepted run in its store.
    pub run: i64,
    /// Its label.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub label: Option<String>,
    /// Its plan.
    pub plan: String,
    /// When it started.
    pub started_at: String,
    /// The corpus as it was given.
    pub corpus: String,
    /// Checksum of the corpus.
    pub corpus_checksum: String,
    /// How texts were compared.
    pub text_profile: TextProfile,
    /// The machine it ran on.
    pub machine: Machine,
    /// The versions of the facts that it holds, by fact; those of the first version are left out.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub facts: BTreeMap<String, u32>,
    /// The versions that the engines gave, by variant.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub engine_versions: BTreeMap<String, String>,
    /// Trials without an answer, by variant, where there are any.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub unanswered: BTreeMap<String, u64>,
    /// The lines that follow.
    pub lines: usize,
}

/// What one variant's trials of one clip count: a line of the file.
/// What a variant counts for a clip: every further line.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct BaselineLine {
    /// The variant.
    variant: String,
    /// The clip.
    clip: String,
    /// By fact: for each repeat its rows, one after the other.
    facts: BTreeMap<String, Vec<Vec<Number>>>,
}

/// An accepted run.
#[derive(Debug, Clone, PartialEq)]
pub struct Baseline {
    /// What it comes from.
    pub head: BaselineHead,
    lines: Vec<BaselineLine>,
}

impl Baseline {
    /// Whether it was taken from this run.
    #[must_use]
    pub fn is_of(&self, run: &Run) -> bool {
        let BaselineHead { started_at, plan, corpus_checksum, machine, .. } = &self.head;
        (started_at, plan, corpus_checksum, machine)
            == (&run.started_at, &run.plan, &run.corpus_checksum, &run.machine)
    }

    /// What a run counts for some facts. Variants that have none of them are left out.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn of(store: &Store, view: &RunView, facts: &[&'static Fact]) -> Result<Self, StoreError> {
        let clips = store.clips(&view.run.corpus_checksum)?;
        let mut lines = Vec::new();
        for variant in &view.variants {
            let by_clip = ByClip::new(variant.places());
            let mut columns = Vec::new();
            for fact in facts {
                columns.push((fact.id, view.fact(store, variant, fact)?.0));
            }
            for clip in &by_clip.clips {
                let rows = |column: &Column| -> Vec<Vec<Number>> {
                    let trials = by_clip.trials_of(*clip).iter().filter(|trial| column.trials() > **trial as usize);
                    let rows = trials.map(|trial| column.rows(*trial as usize)).filter(|rows| !rows.is_empty());
                    rows.map(|rows| rows.iter().copied().filter_map(number).collect()).collect()
                };
                let facts: BTreeMap<String, Vec<Vec<Number>>> = columns
                    .iter()
                    .map(|(id, column)| ((*id).to_owned(), rows(column)))
                    .filter(|(_, repeats)| !repeats.is_empty())
                    .collect();
                if !facts.is_empty() {
                    let (variant, clip) = (variant.variant.name.clone(), clips[*clip as usize].id.clone());
                    lines.push(BaselineLine { variant, clip, facts });
                }
            }
        }
        let run = &view.run;
        let by_variant = |of: &dyn Fn(&crate::VariantView) -> Option<String>| {
            view.variants.iter().filter_map(|v| Some((v.variant.name.clone(), of(v)?))).collect()
        };
        let unanswered = view.variants.iter().map(|v| (v.variant.name.clone(), v.failed()));
        let head = BaselineHead {
            fonex_baseline: FORM,
            fonex_version: run.fonex_version.clone(),
            facts_version: FACTS_VERSION,
            run: run.id,
            label: run.label.clone(),
            plan: run.plan.clone(),
            started_at: run.started_at.clone(),
            corpus: run.corpus_path.clone(),
            corpus_checksum: run.corpus_checksum.clone(),
            text_profile: view.profile().clone(),
            machine: run.machine.clone(),
            facts: versions_of(facts),
            engine_versions: by_variant(&|v| v.variant.engine_version.clone()),
            unanswered: unanswered.filter(|(_, failed)| *failed > 0).collect(),
            lines: lines.len(),
        };
        Ok(Self { head, lines })
    }

    /// The file's text.
    ///
    /// # Errors
    /// When a value cannot be written as JSON.
    pub fn to_text(&self) -> serde_json::Result<String> {
        let mut text = serde_json::to_string(&self.head)? + "\n";
        for line in &self.lines {
            text += &serde_json::to_string(line)?;
            text.push('\n');
        }
        Ok(text)
    }

    /// Reads a file's text.
    ///
    /// # Errors
    /// Where it is no baseline, is cut short, or comes from a newer Fonex.
    pub fn parse(text: &str, path: &Path) -> Result<Self, Problem> {
        #[derive(Deserialize, schemars::JsonSchema)]
        struct Form {
            fonex_baseline: u32,
        }
        let mut lines = text.lines().enumerate().filter(|(_, line)| !line.trim().is_empty());
        let place = |at: usize| Place::line(path, at as u64 + 1);
        let not_one = || {
            Problem::new("this is no baseline", Place::file(path)).expected("a file that fonex gate --accept wrote")
        };
        let (at, first) = lines.next().ok_or_else(not_one)?;
        let form: Form = serde_json::from_str(first).map_err(|_| not_one())?;
        if form.fonex_baseline > FORM {
            let what = format!("this baseline was written by a newer Fonex, in form {}", form.fonex_baseline);
            let problem = Problem::new(what, place(at)).expected(format!("form {FORM}"));
            return Err(problem.remedy("use that version, or accept the baseline again with this one"));
        }
        let head: BaselineHead = parse_strict(first, place(at))?;
        let lines: Vec<BaselineLine> =
            lines.map(|(at, line)| parse_strict(line, place(at))).collect::<Result<_, Problem>>()?;
        if lines.len() != head.lines {
            let what = format!("the baseline has {} lines of clips; its first line says {}", lines.len(), head.lines);
            let problem = Problem::new(what, Place::file(path)).expected("the whole file");
            return Err(problem.remedy("restore it from version control, or accept it again"));
        }
        Ok(Self { head, lines })
    }

    /// A name for people.
    #[must_use]
    pub fn name(&self) -> String {
        match &self.head.label {
            Some(label) => format!("run {} ({label})", self.head.run),
            None => format!("run {}", self.head.run),
        }
    }

    /// In what it is unlike a run: what must be allowed before the two are compared.
    #[must_use]
    pub fn unlike(&self, view: &RunView) -> Vec<Unlike> {
        let mut unlike = Vec::new();
        let mut differs = |differs: bool, what: Unlike| {
            if differs {
                unlike.push(what);
            }
        };
        differs(self.head.corpus_checksum != view.run.corpus_checksum, Unlike::Corpus);
        differs(profile_checksum(&self.head.text_profile) != profile_checksum(view.profile()), Unlike::Profile);
        differs(self.head.facts_version != FACTS_VERSION, Unlike::Version);
        unlike
    }

    /// Whether it has clips of a variant.
    #[must_use]
    pub fn has_variant(&self, variant: &str) -> bool {
        self.lines.iter().any(|line| line.variant == variant)
    }

    /// The rows of a fact of a variant, by the places that clips have in a corpus. None where it has no row of it.
    pub(super) fn column(&self, variant: &str, fact: &Fact, places: &HashMap<&str, u32>) -> Option<Rows> {
        let (mut column, mut of_trials) = (Column::new(fact.width), Vec::new());
        for line in self.lines.iter().filter(|line| line.variant == variant) {
            let (Some(repeats), Some(place)) = (line.facts.get(fact.id), places.get(line.clip.as_str())) else {
                continue;
            };
            for rows in repeats {
                let rows: Vec<f64> = rows.iter().filter_map(Number::as_f64).collect();
                if rows.len().is_multiple_of(fact.width) {
                    column.push(&rows);
                    of_trials.push(*place);
                }
            }
        }
        (column.trials() > 0).then(|| Rows::new(column, &of_trials))
    }

    /// Whether a fact is counted today as it was counted in the baseline.
    #[must_use]
    pub fn counts_alike(&self, fact: &Fact) -> bool {
        self.head.facts.get(fact.id).copied().unwrap_or_default() == fact.version
    }

    /// Whether it holds a fact of a variant at all.
    #[must_use]
    pub fn holds(&self, variant: &str, fact: &Fact) -> bool {
        self.lines.iter().any(|line| line.variant == variant && line.facts.contains_key(fact.id))
    }
}

/// In what a baseline and a run may be unlike.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, schemars::JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Unlike {
    /// Another corpus: only the clips that both have are compared.
    Corpus,
    /// Another text profile.
    Profile,
    /// A version of Fonex that counts otherwise.
    Version,
}

/// Places of a corpus's clips by their ids.
pub(super) fn places(clips: &[Clip]) -> HashMap<&str, u32> {
    (0..).zip(clips).map(|(place, clip)| (clip.id.as_str(), place)).collect()
}

/// A number as short as it can be written. Facts are finite.
fn number(number: f64) -> Option<Number> {
    if number.fract() == 0.0 && number.abs() < 9e15 {
        return Some(Number::from(number as i64));
    }
    Number::from_f64(number)
}
