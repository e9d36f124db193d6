//! The `recorded` transport: results that already exist, run and compared like any others.

use std::collections::{BTreeMap, HashMap};
use std::path::Path;

use fonex_core::audio::Audio;
use fonex_core::{Heard, Outcome};
use fonex_formats::{Problem, Problems, read_heard};
use serde::{Deserialize, Serialize};

use crate::{Answer, Engine, HearRequest, Measured, SpeakRequest, heard_answer};

/// Where the results are.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct RecordedConfig {
    /// A results file or folder, in any form Fonex reads; `{model}` in it is filled in.
    pub results: String,
}

/// An engine that reads out what was recorded.
pub(crate) struct RecordedEngine {
    by_model: BTreeMap<String, HashMap<String, Heard>>,
}

impl RecordedEngine {
    pub(crate) fn read(config: &RecordedConfig, models: &[String], folder: &Path) -> Result<Self, Problem> {
        let unnamed = [String::new()];
        let models = if models.is_empty() { &unnamed[..] } else { models };
        let by_model = models.iter().map(|model| {
            let path = folder.join(config.results.replace("{model}", model));
            let file = read_heard(&path).map_err(|Problems(mut problems)| problems.swap_remove(0))?;
            Ok((model.clone(), file.by_id))
        });
        Ok(Self { by_model: by_model.collect::<Result<_, Problem>>()? })
    }
}

impl Engine for RecordedEngine {
    fn version(&self) -> Option<String> {
        None
    }

    fn given(&self) -> String {
        "recorded results".to_owned()
    }

    fn hear(&self, request: &HearRequest<'_>) -> Answer<Heard> {
        let results = self.by_model.get(request.form.model).or_else(|| self.by_model.values().next());
        match results.and_then(|results| results.get(request.clip_id)) {
            Some(heard) => {
                let measured = Measured { took_ms: heard.took_ms, ..Measured::default() };
                heard_answer(heard.clone(), measured)
            }
            None => Answer::failed(Outcome::Broken, "the recorded results have no line for this clip"),
        }
    }

    fn speak(&self, _: &SpeakRequest<'_>) -> Answer<Audio> {
        Answer::failed(Outcome::Refused, "recorded results are heard, not spoken")
    }
}
