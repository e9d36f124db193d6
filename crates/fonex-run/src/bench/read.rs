//! Reading and checking a bench file.

use std::collections::BTreeMap;
use std::path::Path;

use fonex_core::material::Accepted;
use fonex_core::text::TextProfile;
use fonex_engines::EngineConfig;
use fonex_formats::{Place, Problem, Problems, checksum, value_strict};
use fonex_store::StorePlace;
use serde::Deserialize;
use serde_json::{Map, Value};
use toml::Table;

use super::gate::{Gate, GateConfig};
use super::matters::{self, Written};
use super::own::OwnConfig;
use super::plan::{PlanConfig, resolve};
use super::spans::{line_at, line_of};
use super::{Bench, Broken, folder_of, overrides, read_profile};

/// A bench file, which is a TOML file.
// Engines, plans, the gate and measures are read one by one, so that a fault names its own.
#[derive(Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct BenchFile {
    /// The corpus of plans that name none, relative to this file.
    corpus: Option<String>,
    /// Seed of everything random.
    #[serde(default = "one")]
    seed: u64,
    /// The program that plays sound, with its arguments; {file} stands for the sound.
    #[serde(default)]
    player: Vec<String>,
    /// Where runs are stored: a folder relative to this file, or postgres://USER@HOST/DATABASE; .fonex where nothing is said.
    store: Option<String>,
    /// The text profile: a shipped one by name, or a file.
    #[serde(default = "neutral")]
    text_profile: String,
    /// Engines by name.
    #[serde(default)]
    #[schemars(with = "BTreeMap<String, fonex_engines::EngineTable>")]
    engine: BTreeMap<String, Map<String, Value>>,
    /// Plans by name.
    #[serde(default)]
    #[schemars(with = "BTreeMap<String, PlanConfig>")]
    plan: BTreeMap<String, Value>,
    /// Dialogues by name.
    #[serde(default)]
    dialogue: BTreeMap<String, DialogueConfig>,
    /// Complaints about a corpus that are known and accepted.
    #[serde(default)]
    accept: Vec<Accepted>,
    /// The gate.
    #[schemars(with = "Option<GateConfig>")]
    gate: Option<Value>,
    /// Differences that matter, by the id of the measure.
    #[serde(default)]
    matters: BTreeMap<String, Written>,
    /// Measures of one's own, by id.
    #[serde(default)]
    #[schemars(with = "BTreeMap<String, OwnConfig>")]
    measure: BTreeMap<String, Value>,
}

/// A scripted dialogue: what the person says, turn after turn.
#[derive(Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
struct DialogueConfig {
    /// Ids of clips.
    turns: Vec<String>,
}

const fn one() -> u64 {
    1
}

fn neutral() -> String {
    "neutral".to_owned()
}

/// Reads a bench file with the overrides of the command line.
///
/// # Errors
/// Every problem in it, with its line; nothing has been started by then.
pub fn read_bench(path: &Path, set: &[String]) -> Result<Bench, Problems> {
    let text = fonex_formats::regular::read_text(path).map_err(|error| match error.kind() {
        std::io::ErrorKind::NotFound => Problem::new("there is no bench file here", Place::file(path))
            .remedy("write one with fonex init, or name it with --bench FILE"),
        _ => Problem::io("read", path, &error),
    })?;
    let mut table: Table = toml::from_str(&text).map_err(|error| {
        let line = error.span().map(|span| line_at(&text, span.start));
        Problem::new(error.message().replace('`', "\""), Place { file: Some(path.to_owned()), line, field: None })
    })?;
    for typed in set {
        overrides::apply(&mut table, typed)?;
    }
    let located = |problem: Problem| {
        let line = problem.place.line.or_else(|| line_of(&text, problem.place.field.as_deref()?));
        Problem { place: Place { line, ..problem.place }, ..problem }
    };
    check(path, &text, set, &table, &located)
        .map_err(|problems| Problems(problems.into_iter().map(located).collect()))
}

fn check(
    path: &Path,
    text: &str,
    set: &[String],
    table: &Table,
    located: &dyn Fn(Problem) -> Problem,
) -> Result<Bench, Vec<Problem>> {
    let place = Place::file(path);
    let value = serde_json::to_value(table)
        .map_err(|error| vec![Problem::new(format!("a value cannot be used: {error}"), place.clone())])?;
    let file: BenchFile = value_strict(value, place.clone(), "", &[]).map_err(|problem| vec![problem])?;
    let mut problems = Vec::new();
    if file.store.as_ref().is_some_and(|store| StorePlace::has_password(store)) {
        let problem = Problem::new("the address of the store holds a password", place.clone().field("store"));
        problems.push(problem.remedy("leave it out, and set PGPASSWORD in the environment or in .env"));
    }
    let named = read_profile(&file.text_profile, folder_of(path), place.clone().field("text_profile"));
    let text_profile = named.unwrap_or_else(|problem| {
        problems.push(problem);
        TextProfile { name: file.text_profile.clone(), steps: Vec::new() }
    });
    // What is wrong with one engine or plan is told to whoever wants it, and stops nobody else.
    let (mut engines, mut broken) = (BTreeMap::new(), Broken::default());
    for (name, table) in file.engine {
        match EngineConfig::read(&name, table, &place, &format!("engine.{name}"), folder_of(path)) {
            Ok(engine) => drop(engines.insert(name, engine)),
            Err(problem) => drop(broken.engines.insert(name, located(problem))),
        }
    }
    let mut plans = BTreeMap::new();
    for (name, value) in file.plan {
        let field = format!("plan.{name}");
        let plan = value_strict::<PlanConfig>(value, place.clone(), &field, &[]).and_then(|config| {
            match config.engines.iter().find_map(|engine| broken.engines.get(engine)) {
                Some(problem) => Err(problem.clone()),
                None => resolve(&name, config, &engines, &place, &field),
            }
        });
        match plan {
            Ok(plan) => drop(plans.insert(name, plan)),
            Err(problem) => drop(broken.plans.insert(name, located(problem))),
        }
    }
    for (at, _) in file.accept.iter().enumerate().filter(|(_, accepted)| accepted.reason.trim().is_empty()) {
        let place = place.clone().field(format!("accept.{at}.reason"));
        problems.push(Problem::new("an accepted problem has no reason", place).expected("why it is right"));
    }
    for (name, _) in file.dialogue.iter().filter(|(_, dialogue)| dialogue.turns.is_empty()) {
        let place = place.clone().field(format!("dialogue.{name}.turns"));
        problems.push(Problem::new("this dialogue has no turns", place).expected("ids of clips"));
    }
    if !problems.is_empty() {
        return Err(problems);
    }
    let mut own = Vec::new();
    for (id, value) in file.measure {
        let prefix = format!("measure.{id}");
        let at = |field: &str| place.clone().field(format!("{prefix}.{field}").trim_end_matches('.').to_owned());
        let config = value_strict::<OwnConfig>(value, place.clone(), &prefix, &[]);
        match config.and_then(|config| config.resolve(&id, folder_of(path), &at)) {
            Ok(measure) => own.push(measure),
            Err(problem) => broken.measures.push(located(problem)),
        }
    }
    let config = file.gate.map(|value| value_strict::<GateConfig>(value, place.clone(), "gate", &[])).transpose();
    let gate = match config {
        Ok(config) => {
            let names: Vec<&String> = plans.keys().chain(broken.plans.keys()).collect();
            let (gate, wrong) = config.unwrap_or_default().resolve(&place, &names, &own);
            broken.gate = wrong.into_iter().map(located).collect();
            gate
        }
        Err(problem) => {
            broken.gate = vec![located(problem)];
            Gate::default()
        }
    };
    let (matters, wrong) = matters::resolve(file.matters, &place, &own);
    broken.matters = wrong.into_iter().map(located).collect();
    Ok(Bench {
        path: path.to_owned(),
        folder: folder_of(path).to_owned(),
        checksum: checksum::of_bytes(text.as_bytes()),
        overrides: set.to_vec(),
        commit: None,
        corpus: file.corpus,
        seed: file.seed,
        player: file.player,
        text_profile,
        engines,
        plans,
        broken,
        accept: file.accept,
        gate,
        matters,
        own,
        dialogues: file.dialogue.into_iter().map(|(name, dialogue)| (name, dialogue.turns)).collect(),
    })
}
