//! One text, plain or with markup, spoken now.

use std::collections::HashMap;
use std::fs;
use std::path::Path;

use fonex_core::audio::{Audio, measure};
use fonex_core::speech::{Markup, measure_speech, read_markup};
use fonex_engines::{EngineConfig, Form, SpeakRequest, StopFlag};
use fonex_formats::audio::{encode_flac, encode_wav};
use fonex_formats::{Place, Problem};
use fonex_run::{Bench, with_engine};

use super::voices::heard_by;
use super::{Tried, TryOptions, tried};
use crate::failure::Failure;
use crate::output;

pub(super) fn speak(
    options: &TryOptions,
    bench: &Bench,
    config: &EngineConfig,
    form: Form<'_>,
    output: &Path,
    stop: &StopFlag,
) -> Result<Tried, Failure> {
    if options.input.trim().is_empty() {
        return Err(Problem::new("there is no text to speak", Place::default()).into());
    }
    let lang = options.lang.as_deref();
    let markup = options.input.trim_start().starts_with("<speak").then(|| read_markup(&options.input));
    let markup = markup.transpose().map_err(|error| Problem::new(error.to_string(), Place::default()))?;
    let text = markup.as_ref().map_or_else(|| options.input.clone(), Markup::text);
    let request = SpeakRequest {
        ssml: markup.is_some().then_some(options.input.trim()),
        ..SpeakRequest::new("try", lang, &text, form, stop)
    };
    let answer = with_engine(config, bench, HashMap::new(), |engine| engine.speak(&request))?;
    let mut tried = tried(options, form, &answer);
    if let Some(audio) = &answer.value {
        tried.audio_s = Some(audio.duration_s());
        tried.rtf = tried.took_ms.map(|ms| ms / 1e3 / audio.duration_s());
        let measures = measure(audio);
        let mut speech = measure_speech(audio, &measures);
        speech.faults = speech.faults.of_answer(audio, config.asked_sound, answer.measured.came_as.as_deref());
        tried.speech = Some(speech);
        tried.picture = output::sound_picture(audio);
        tried.measures = Some(measures);
        write_audio(output, audio)?;
        tried.written = Some(output.to_owned());
        tried.heard_by = heard_by(options, &text, bench, audio, stop)?;
    }
    Ok(tried)
}

fn write_audio(path: &Path, audio: &Audio) -> Result<(), Problem> {
    let flac = path.extension().is_some_and(|ending| ending.eq_ignore_ascii_case("flac"));
    let encoded = if flac { encode_flac(audio) } else { encode_wav(audio) };
    let bytes = encoded.map_err(|error| Problem::new(error.to_string(), Place::file(path)))?;
    fs::write(path, bytes).map_err(|error| Problem::io("write", path, &error))
}
