//! Several voices in a row: which, where their audio goes, who hears it, and playing it.

use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::process::Command;

use fonex_core::align::EditCounts;
use fonex_core::audio::Audio;
use fonex_core::text::plain_label;
use fonex_core::{Clip, Outcome};
use fonex_engines::{EngineConfig, Form, HearRequest, StopFlag, Task};
use fonex_formats::{Place, Problem, file_name_of};
use fonex_run::{Bench, unknown, with_engine};
use serde::Serialize;

use super::{TryOptions, scored};
use crate::failure::Failure;

/// What a recogniser heard of a voice.
#[derive(Debug, Serialize, schemars::JsonSchema)]
pub(super) struct HeardBy {
    /// The recogniser, with its model where it has several.
    pub(super) by: String,
    pub(super) outcome: Outcome,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(super) detail: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(super) text: Option<String>,
    /// Its words against the text that was to be spoken.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(super) words: Option<EditCounts>,
}

/// The voices asked for; the engine's first where none is, all of them for `*`.
pub(super) fn chosen(typed: &[String], config: &EngineConfig) -> Result<Vec<String>, Problem> {
    let offered: Vec<String> = config.voices.0.iter().map(|voice| voice.id.clone()).collect();
    if typed.is_empty() {
        return Ok(vec![offered.first().cloned().unwrap_or_default()]);
    }
    let mut chosen: Vec<String> = Vec::new();
    for typed in typed {
        let found: Vec<&String> = offered.iter().filter(|id| typed == "*" || *id == typed).collect();
        if found.is_empty() {
            let what = format!("the engine \"{}\" has no voice \"{typed}\"", config.name);
            return Err(unknown(what, typed, &offered, Place::default().field("--voice")));
        }
        for id in found {
            if !chosen.contains(id) {
                chosen.push(id.clone());
            }
        }
    }
    Ok(chosen)
}

/// Where the audio of one of several voices goes: `try-Ilka.wav` beside `try.wav`.
pub(super) fn output_of(output: &Path, voice: &str, several: bool) -> PathBuf {
    if !several {
        return output.to_owned();
    }
    let stem = output.file_stem().unwrap_or_default().to_string_lossy();
    let ending = output.extension().map_or_else(String::new, |ending| format!(".{}", ending.to_string_lossy()));
    output.with_file_name(format!("{stem}-{}{ending}", file_name_of(voice)))
}

/// Has the recognisers asked for hear what was spoken.
pub(super) fn heard_by(
    options: &TryOptions,
    text: &str,
    bench: &Bench,
    audio: &Audio,
    stop: &StopFlag,
) -> Result<Vec<HeardBy>, Failure> {
    let mut all = Vec::new();
    for wish in &options.heard_by {
        let (name, model) = wish.split_once('/').map_or((wish.as_str(), None), |(name, model)| (name, Some(model)));
        let config = bench.engine(name)?;
        if config.task != Task::Hear {
            let place = Place::default().field("--heard-by");
            return Err(Problem::new(format!("\"{name}\" is not a recogniser"), place).into());
        }
        let model = super::choose("model", model, &config.models, name)?;
        let label = plain_label(text);
        let clip = Clip { id: "try".to_owned(), text: label.clone(), lang: options.lang.clone(), ..Clip::default() };
        let request = HearRequest {
            clip_id: "try",
            lang: options.lang.as_deref(),
            audio,
            form: Form { voice: "", model: &model, settings: &config.settings },
            stop,
            live: None,
        };
        let labels = HashMap::from([(clip.id.clone(), clip)]);
        let answer = with_engine(config, bench, labels, |engine| engine.hear(&request))?;
        let words = answer.value.as_ref().map(|heard| scored(&bench.text_profile, &label, heard).words);
        all.push(HeardBy {
            by: if model.is_empty() { name.to_owned() } else { format!("{name}/{model}") },
            outcome: answer.outcome,
            detail: answer.detail,
            text: answer.value.map(|heard| heard.text),
            words,
        });
    }
    Ok(all)
}

/// Plays a file with the bench file's player, and waits until it has ended.
pub(super) fn play(bench: &Bench, path: &Path) -> Result<(), Problem> {
    let place = || Place::file(&bench.path).field("player");
    let Some((program, arguments)) = bench.player.split_first() else {
        let problem = Problem::new("the bench file names no player", place());
        return Err(problem.remedy("add player = [\"PROGRAM\", \"{audio}\"] at its top"));
    };
    let file = path.to_string_lossy();
    let mut arguments: Vec<String> = arguments.iter().map(|part| part.replace("{audio}", &file)).collect();
    if !bench.player.iter().any(|part| part.contains("{audio}")) {
        arguments.push(file.into_owned());
    }
    let ended = Command::new(program).args(&arguments).status();
    let failed = |why: String| Problem::new(format!("the player \"{program}\" failed: {why}"), place());
    match ended {
        Ok(status) if status.success() => Ok(()),
        Ok(status) => Err(failed(status.to_string())),
        Err(error) => Err(failed(error.to_string())),
    }
}
