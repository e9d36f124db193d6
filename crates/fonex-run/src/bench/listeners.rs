//! Recognisers that hear what the voices of a plan speak, so that it can be said how well each is understood.

use std::collections::BTreeMap;

use fonex_engines::{Delivery, EngineConfig, Task, Transport};
use fonex_formats::{Place, Problem};

use super::plan::PlannedVariant;
use super::unknown;

/// A variant for every voice and every model of the recognisers named, `engine` or `engine/model`.
pub(super) fn listeners(
    plan: &str,
    named: &[String],
    variants: &[PlannedVariant],
    engines: &BTreeMap<String, EngineConfig>,
    at: &dyn Fn(&str) -> Place,
) -> Result<Vec<PlannedVariant>, Problem> {
    let voices = || variants.iter().enumerate().filter(|(_, variant)| variant.task == Task::Speak);
    let mut listeners = Vec::new();
    for (i, wish) in named.iter().enumerate() {
        let place = || at(&format!("heard_by[{i}]"));
        let (name, model) = wish.split_once('/').map_or((wish.as_str(), None), |(name, model)| (name, Some(model)));
        let engine = engines.get(name).ok_or_else(|| {
            let what = format!("the plan \"{plan}\" is heard by an engine \"{name}\" that is not in the bench file");
            unknown(what, name, engines.keys(), place())
        })?;
        if engine.task != Task::Hear {
            let problem = Problem::new(format!("\"{name}\" is not a recogniser"), place());
            return Err(problem.expected("an engine with task = \"hear\""));
        }
        if matches!(engine.transport, Transport::Recorded(_)) {
            let problem = Problem::new(format!("\"{name}\" has results of other audio only"), place());
            return Err(problem.expected("a recogniser that can be sent new audio"));
        }
        if voices().next().is_none() {
            let problem = Problem::new(format!("the plan \"{plan}\" has no voice to be heard"), place());
            return Err(problem.remedy("add a synthesiser to its engines, or remove heard_by"));
        }
        let models: Vec<&str> = match (model, engine.models.as_slice()) {
            (Some(model), offered) if !offered.iter().any(|other| other == model) => {
                return Err(unknown(format!("\"{name}\" has no model \"{model}\""), model, offered, place()));
            }
            (Some(model), _) => vec![model],
            (None, []) => vec![""],
            (None, offered) => offered.iter().map(String::as_str).collect(),
        };
        for model in models {
            let own = if model.is_empty() { name.to_owned() } else { format!("{name}/{model}") };
            listeners.extend(voices().map(|(voice, variant)| PlannedVariant {
                name: format!("{} by {own}", variant.name),
                engine: name.to_owned(),
                task: Task::Hear,
                model: model.to_owned(),
                voice: String::new(),
                settings: engine.settings.clone(),
                delivery: Delivery::Whole,
                hears: Some(voice),
            }));
        }
    }
    Ok(listeners)
}
