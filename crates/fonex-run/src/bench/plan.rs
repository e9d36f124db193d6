//! Plans: which clips go through which variants, how often and how many at once.

use std::collections::BTreeMap;

use fonex_core::Clip;
use fonex_core::material::Condition;
use fonex_engines::{Delivery, EngineConfig, Settings, Task, Transport, VOICE_FIELDS, Voice};
use fonex_formats::{Place, Problem};
use serde::{Deserialize, Serialize};

use super::sweep::Sweep;
use super::{listeners, unknown};

/// A plan as written.
#[derive(Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct PlanConfig {
    /// Its corpus, relative to the bench file; that of the bench file without it.
    corpus: Option<String>,
    /// Only clips with these values, by tag, speaker or lang.
    #[serde(default)]
    select: BTreeMap<String, OneOrMore>,
    /// The engines, by name.
    pub(super) engines: Vec<String>,
    /// Only these of their models; all without it.
    #[serde(default)]
    models: Vec<String>,
    /// Only these of their voices; all without it.
    #[serde(default)]
    voices: Vec<String>,
    /// Only voices of which this condition holds.
    #[serde(default)]
    voices_where: Option<String>,
    /// How audio reaches recognisers: one way or several.
    #[serde(default)]
    delivery: Option<OneOrMoreDeliveries>,
    /// What it may use and cost.
    #[serde(default)]
    budget: Budget,
    /// Values that the settings of its engines take, each tried.
    #[serde(default)]
    settings: BTreeMap<String, Sweep>,
    /// How often each clip is given to each variant.
    #[serde(default = "one")]
    repeats: u32,
    /// Trials of each variant before those that count.
    #[serde(default)]
    warm_up: u32,
    /// Trials at once.
    #[serde(default = "one")]
    concurrency: u32,
    /// Failed trials up to which the exit code is 0.
    #[serde(default)]
    allow_failed: u64,
    /// Failures in a row for the same reason after which a variant is stopped: refused by the engine, or unreachable. 0: never.
    #[serde(default = "five")]
    stop_after_refusals: u32,
    /// The steps of fonex load.
    #[serde(default)]
    load: Option<LoadPlan>,
    /// Recognisers that hear what its voices speak: ENGINE or ENGINE/MODEL.
    #[serde(default)]
    heard_by: Vec<String>,
}

/// The steps of load a plan puts on, for `fonex load`.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct LoadPlan {
    /// Requests a second of each open step.
    pub rates: Vec<f64>,
    /// Requests under way in each closed step.
    pub concurrency: Vec<u32>,
    /// Seconds of each step.
    pub seconds: f64,
}

impl Default for LoadPlan {
    fn default() -> Self {
        Self { rates: Vec::new(), concurrency: Vec::new(), seconds: 10.0 }
    }
}

impl LoadPlan {
    fn check(&self, at: &dyn Fn(&str) -> Place) -> Result<(), Problem> {
        if let Some(rate) = self.rates.iter().find(|rate| !(0.01..=100_000.0).contains(*rate)) {
            return Err(
                Problem::new(format!("a rate is {rate}"), at("load.rates")).expected("0.01 to 100000 a second")
            );
        }
        if let Some(count) = self.concurrency.iter().find(|count| !(1..=2_000).contains(*count)) {
            return Err(Problem::new(format!("concurrency of {count}"), at("load.concurrency")).expected("1 to 2000"));
        }
        if !(0.1..=86_400.0).contains(&self.seconds) {
            return Err(
                Problem::new(format!("seconds is {}", self.seconds), at("load.seconds")).expected("0.1 to 86400")
            );
        }
        Ok(())
    }
}

const fn one() -> u32 {
    1
}

const fn five() -> u32 {
    5
}

/// A way of delivery or several to compare.
#[derive(Deserialize, schemars::JsonSchema)]
#[serde(untagged)]
enum OneOrMoreDeliveries {
    One(Delivery),
    More(Vec<Delivery>),
}

/// What a run may use up at most; it stops before the trial that would pass one of them.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct Budget {
    /// Cost, in the currency of the engines' prices.
    pub cost: Option<f64>,
    /// Requests; each attempt counts.
    pub requests: Option<u64>,
    /// Characters of text sent.
    pub characters: Option<u64>,
    /// Minutes of audio sent.
    pub audio_minutes: Option<f64>,
}

/// A value or a list of values.
#[derive(Deserialize, schemars::JsonSchema)]
#[serde(untagged)]
enum OneOrMore {
    One(String),
    More(Vec<String>),
}

/// A plan, checked and resolved.
#[derive(Debug, Clone, Serialize, schemars::JsonSchema)]
pub struct Plan {
    /// Its name.
    pub name: String,
    /// Its corpus; none for the bench file's own.
    pub corpus: Option<String>,
    /// Which clips: each key is a tag, `speaker`, `lang` or `id`, and its values are alternatives.
    pub select: BTreeMap<String, Vec<String>>,
    /// The variants, in the order of the plan.
    pub variants: Vec<PlannedVariant>,
    /// How often each clip goes through each variant.
    pub repeats: u32,
    /// Trials before the timed ones, for each variant.
    pub warm_up: u32,
    /// Trials running at the same time.
    pub concurrency: u32,
    /// Failed trials that still give exit code 0.
    pub allow_failed: u64,
    /// What a run of it may use up.
    pub budget: Budget,
    /// Failures in a row for the same reason after which a variant is stopped; 0 for never.
    pub stop_after_refusals: u32,
    /// Steps of load; no part of a run.
    #[serde(skip)]
    pub load: Option<LoadPlan>,
}

/// One column of a comparison.
#[derive(Debug, Clone, PartialEq, Serialize, schemars::JsonSchema)]
pub struct PlannedVariant {
    /// All of it in one name.
    pub name: String,
    /// The engine's name.
    pub engine: String,
    /// What the engine does.
    pub task: Task,
    /// Model, empty where there is none.
    pub model: String,
    /// Voice, empty where there is none.
    pub voice: String,
    /// Settings.
    pub settings: Settings,
    /// How audio reaches it.
    pub delivery: Delivery,
    /// Of a recogniser that hears what a voice of the plan speaks: the place of that voice's variant.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub hears: Option<usize>,
}

impl Plan {
    /// Whether the plan takes a clip.
    pub fn selects(&self, clip: &Clip) -> bool {
        self.select.iter().all(|(key, values)| {
            let value = match key.as_str() {
                "id" => Some(&clip.id),
                "speaker" => clip.speaker.as_ref(),
                "lang" => clip.lang.as_ref(),
                tag => clip.tags.get(tag.strip_prefix("tags.").unwrap_or(tag)),
            };
            value.is_some_and(|value| values.contains(value))
        })
    }
}

pub(super) fn resolve(
    name: &str,
    config: PlanConfig,
    engines: &BTreeMap<String, EngineConfig>,
    place: &Place,
    field: &str,
) -> Result<Plan, Problem> {
    let at = |key: &str| place.clone().field(format!("{field}.{key}"));
    for (key, number) in [("repeats", config.repeats), ("concurrency", config.concurrency)] {
        if number == 0 {
            return Err(Problem::new(format!("the plan \"{name}\" has {key} = 0"), at(key)).expected("1 or more"));
        }
    }
    let mut chosen = Vec::new();
    for (i, engine) in config.engines.iter().enumerate() {
        chosen.push(engines.get(engine).ok_or_else(|| {
            let what = format!("the plan \"{name}\" names an engine \"{engine}\" that is not in the bench file");
            unknown(what, engine, engines.keys(), at(&format!("engines[{i}]")))
        })?);
    }
    let choice = |key: &str, wanted: &[String], offered: fn(&EngineConfig) -> Vec<String>| {
        let known: Vec<String> = chosen.iter().flat_map(|engine| offered(engine)).collect();
        wanted.iter().find(|value| !known.contains(value)).map_or(Ok(()), |value| {
            let what = format!("no engine of the plan \"{name}\" has {value:?} among its {key}");
            Err(unknown(what, value, &known, at(key)))
        })
    };
    choice("models", &config.models, |engine| engine.models.clone())?;
    choice("voices", &config.voices, |engine| engine.voices.0.iter().map(|voice| voice.id.clone()).collect())?;
    let condition =
        config.voices_where.as_deref().map(|text| voice_condition(text, at("voices_where"))).transpose()?;
    let mut swept: BTreeMap<&str, Vec<String>> = BTreeMap::new();
    for (key, sweep) in &config.settings {
        swept.insert(key, sweep.values(&|| at(&format!("settings.{key}")))?);
    }
    let grid = settings_grid(&swept);
    if let Some((engine, key)) = chosen.iter().find_map(|engine| {
        let unknown = config.settings.keys().find(|key| !takes_setting(engine, key))?;
        Some((engine, unknown))
    }) {
        let what = format!("the engine \"{}\" has no setting \"{key}\"", engine.name);
        return Err(unknown(what, key, engine.settings.keys(), at("settings")));
    }
    let deliveries = match config.delivery {
        None => vec![Delivery::Whole],
        Some(OneOrMoreDeliveries::One(delivery)) => vec![delivery],
        Some(OneOrMoreDeliveries::More(several)) if several.is_empty() => vec![Delivery::Whole],
        Some(OneOrMoreDeliveries::More(several)) => several,
    };
    config.load.iter().try_for_each(|load| load.check(&at))?;
    for delivery in &deliveries {
        delivery
            .check()
            .map_err(|impossible| Problem::new(impossible.wrong, at("delivery")).expected(impossible.expected))?;
    }
    let wish = Wish { models: &config.models, voices: &config.voices, condition: condition.as_ref() };
    let mut variants: Vec<PlannedVariant> =
        chosen.iter().flat_map(|engine| variants(engine, &wish, &grid, &deliveries)).collect();
    let listeners = listeners::listeners(name, &config.heard_by, &variants, engines, &at)?;
    variants.extend(listeners);
    if variants.is_empty() {
        return Err(Problem::new(format!("the plan \"{name}\" has nothing to run"), at("engines"))
            .expected("at least one engine that has one of the models and voices asked for"));
    }
    let mut names: Vec<&str> = variants.iter().map(|variant| variant.name.as_str()).collect();
    names.sort_unstable();
    if let Some(pair) = names.windows(2).find(|pair| pair[0] == pair[1]) {
        let problem =
            Problem::new(format!("the plan \"{name}\" lists the variant \"{}\" twice", pair[0]), at("engines"));
        return Err(problem.remedy("list each engine, model, voice, setting and delivery once"));
    }
    let select = config.select.into_iter().map(|(key, values)| match values {
        OneOrMore::One(value) => (key, vec![value]),
        OneOrMore::More(values) => (key, values),
    });
    Ok(Plan {
        name: name.to_owned(),
        corpus: config.corpus,
        select: select.collect(),
        variants,
        repeats: config.repeats,
        warm_up: config.warm_up,
        concurrency: config.concurrency,
        allow_failed: config.allow_failed,
        budget: config.budget,
        stop_after_refusals: config.stop_after_refusals,
        load: config.load,
    })
}

/// Every combination of the settings' values.
fn settings_grid(settings: &BTreeMap<&str, Vec<String>>) -> Vec<Settings> {
    settings.iter().fold(vec![Settings::new()], |grid, (key, values)| {
        let with = |settings: &Settings, value: &String| {
            let mut settings = settings.clone();
            settings.insert((*key).to_owned(), value.clone());
            settings
        };
        grid.iter().flat_map(|settings| values.iter().map(|value| with(settings, value))).collect()
    })
}

/// A condition on voices, with its fields checked.
pub fn voice_condition(text: &str, place: Place) -> Result<Condition, Problem> {
    let condition = Condition::parse(text).map_err(|error| Problem::new(error.to_string(), place.clone()))?;
    match condition.fields().into_iter().find(|field| !VOICE_FIELDS.contains(field)) {
        None => Ok(condition),
        Some(field) => {
            let known = VOICE_FIELDS.map(str::to_owned);
            Err(unknown(format!("voices have no field \"{field}\""), field, &known, place))
        }
    }
}

/// Stand-ins take any setting, since they take no notice of them.
fn takes_setting(engine: &EngineConfig, key: &str) -> bool {
    engine.settings.contains_key(key) || matches!(engine.transport, Transport::StandIn(_))
}

/// What a plan asks for of its engines.
struct Wish<'w> {
    models: &'w [String],
    voices: &'w [String],
    condition: Option<&'w Condition>,
}

fn variants(
    engine: &EngineConfig,
    wish: &Wish<'_>,
    grid: &[Settings],
    deliveries: &[Delivery],
) -> Vec<PlannedVariant> {
    // Where the plan names some, an engine takes part with those it has; one that offers none has nothing to choose.
    let models: Vec<&str> = match engine.models.as_slice() {
        [] => vec![""],
        offered => {
            let wanted = offered.iter().filter(|model| wish.models.is_empty() || wish.models.contains(model));
            wanted.map(String::as_str).collect()
        }
    };
    let voices: Vec<&str> = match engine.voices.0.as_slice() {
        [] => vec![""],
        offered => {
            let named = |voice: &&Voice| wish.voices.is_empty() || wish.voices.contains(&voice.id);
            let fits = |voice: &&Voice| wish.condition.is_none_or(|condition| condition.holds(*voice));
            offered.iter().filter(named).filter(fits).map(|voice| voice.id.as_str()).collect()
        }
    };
    let deliveries = if engine.task == Task::Hear { deliveries } else { &[Delivery::Whole][..] };
    let mut variants = Vec::new();
    for model in models {
        for voice in &voices {
            for changed in grid {
                for delivery in deliveries {
                    let mut settings = engine.settings.clone();
                    settings.extend(changed.clone());
                    variants.push(PlannedVariant {
                        name: variant_name(&engine.name, model, voice, changed, *delivery),
                        engine: engine.name.clone(),
                        task: engine.task,
                        model: model.to_owned(),
                        voice: (*voice).to_owned(),
                        settings,
                        delivery: *delivery,
                        hears: None,
                    });
                }
            }
        }
    }
    variants
}

/// `engine/model/voice speed=1.2 pieces=10s`, leaving out what there is no choice of.
fn variant_name(engine: &str, model: &str, voice: &str, changed: &Settings, delivery: Delivery) -> String {
    let parts: Vec<&str> = [engine, model, voice].into_iter().filter(|part| !part.is_empty()).collect();
    let settings: String = changed.iter().map(|(key, value)| format!(" {key}={value}")).collect();
    let delivery = if delivery == Delivery::Whole { String::new() } else { format!(" {delivery}") };
    parts.join("/") + &settings + &delivery
}
