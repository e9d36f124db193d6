//! What the stand-ins make of a request: words, sound, a reply.

use std::time::Duration;

use fonex_core::audio::{Audio, resample};
use fonex_core::speech::read_markup;
use serde_json::{Value, json};

use super::Shared;
use super::asked::{Asked, Refusal, asked};
use super::ear::RATE_HZ;
use super::wire::Request;
use crate::{Behaviours, Speaking, hear, profile_of, reply, speak, speak_stretches};

/// A result before it is put into a form.
pub(super) struct Made {
    pub(super) json: Value,
    pub(super) text: String,
    pub(super) sound: Option<Audio>,
    pub(super) takes: Duration,
}

pub(super) fn make(request: &Request, shared: &Shared) -> Result<Made, Refusal> {
    let asked = asked(request)?;
    let task = if request.path == "/jobs" { request.query("do").unwrap_or("hear") } else { &request.path[1..] };
    let made = match task {
        "hear" => make_heard(&asked, shared)?,
        "speak" => make_sound(&asked, shared)?,
        "reply" => make_reply(&asked, shared)?,
        other => return Err((400, format!("do={other}: hear, speak and reply are served here"))),
    };
    Ok(match request.number("wait_ms") {
        Some(ms) => Made { takes: fonex_core::latency::span(ms / 1e3), ..made },
        None => made,
    })
}

/// The engine asked for, or the first that fits.
fn engine<'s, T>(
    shared: &'s Shared,
    name: &str,
    fits: impl Fn(&'s Behaviours) -> Option<T>,
) -> Result<(&'s str, T), Refusal> {
    let mut engines = shared.config.engines.iter().filter(|(known, _)| name.is_empty() || *known == name);
    engines
        .find_map(|(known, behaviours)| Some((known.as_str(), fits(behaviours)?)))
        .ok_or_else(|| (404, format!("there is no engine {name:?} for this")))
}

fn make_heard(asked: &Asked, shared: &Shared) -> Result<Made, Refusal> {
    let Some(sound) = &asked.sound else { return Err((400, "there is no audio".to_owned())) };
    let found = heard(asked, sound, shared)?;
    let words: Vec<Value> = found.heard.words.iter().map(|word| json!(word)).collect();
    let lang = found.lang;
    Ok(Made {
        json: json!({
            "text": found.heard.text,
            "words": words,
            "language": lang,
            "usage": {"audio_s": (sound.duration_s() * 1e3).round() / 1e3},
        }),
        text: found.heard.text,
        sound: None,
        takes: fonex_core::latency::span(found.takes_s),
    })
}

/// What a stand-in hears in a sound.
pub(super) struct FoundWords {
    pub(super) heard: fonex_core::Heard,
    pub(super) takes_s: f64,
    pub(super) lang: Option<String>,
}

pub(super) fn heard(asked: &Asked, sound: &Audio, shared: &Shared) -> Result<FoundWords, Refusal> {
    let (name, profiles) = engine(shared, &asked.engine, |behaviours| match behaviours {
        Behaviours::Hear(profiles) => Some(profiles),
        _ => None,
    })?;
    let sound = resample(sound, RATE_HZ).map_err(|error| (415, error.to_string()))?;
    let found = shared.ear.recognise(&sound.samples).or_else(|| shared.ear.named(&asked.clip));
    let Some(found) = found else {
        // The end of a window may be too short to tell a clip by; nobody hears a word in it either.
        const TOO_SHORT_S: f64 = 0.15;
        let silent = sound.samples.iter().all(|s| s.abs() < 0.004);
        if silent || sound.duration_s() < TOO_SHORT_S {
            return Ok(FoundWords { heard: fonex_core::Heard::default(), takes_s: 0.0, lang: None });
        }
        return Err((422, "a stand-in hears only clips whose label it was given".to_owned()));
    };
    let clip = shared.ear.stretch(found, sound.duration_s());
    let hearing = hear(&profile_of(profiles, &asked.model), shared.config.seed, name, &asked.model, &clip, &sound);
    Ok(FoundWords { heard: hearing.heard, takes_s: hearing.takes_s, lang: clip.lang })
}

fn make_sound(asked: &Asked, shared: &Shared) -> Result<Made, Refusal> {
    let spoken = spoken(asked, shared)?;
    let takes = fonex_core::latency::span(spoken.takes_s);
    Ok(Made { json: Value::Null, text: String::new(), sound: Some(spoken.audio), takes })
}

/// What a stand-in says.
pub(super) fn spoken(asked: &Asked, shared: &Shared) -> Result<Speaking, Refusal> {
    let (_, profiles) = engine(shared, &asked.engine, |behaviours| match behaviours {
        Behaviours::Speak(profiles) => Some(profiles),
        _ => None,
    })?;
    if asked.text.trim().is_empty() {
        return Err((400, "there is no text".to_owned()));
    }
    let (profile, seed) = (profile_of(profiles, &asked.voice), shared.config.seed);
    if !asked.text.trim_start().starts_with("<speak") {
        return Ok(speak(&profile, seed, &asked.voice, &asked.text, None));
    }
    let markup = read_markup(&asked.text).map_err(|error| (400, error.to_string()))?;
    Ok(speak_stretches(&profile, seed, &asked.voice, &markup.stretches, None))
}

fn make_reply(asked: &Asked, shared: &Shared) -> Result<Made, Refusal> {
    let (_, profiles) = engine(shared, &asked.engine, |behaviours| match behaviours {
        Behaviours::Reply(profiles) => Some(profiles),
        _ => None,
    })?;
    let profile = profile_of(profiles, &asked.model);
    let earlier = asked.earlier.split_whitespace().count();
    let replying = reply(&profile, shared.config.seed, &asked.model, &asked.text, earlier);
    let takes = fonex_core::latency::span(replying.takes_s);
    Ok(Made { json: json!({"text": replying.text}), text: replying.text, sound: None, takes })
}
