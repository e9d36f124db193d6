//! A service with one labelled clip and a tone of every engine, and engines from JSON as the bench file would give them.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use fonex_core::audio::Audio;
use fonex_core::{Clip, Heard};
use fonex_engines::{
    Answer, Engine, EngineConfig, Form, HearRequest, Secrets, Settings, SpeakRequest, StopFlag, Surroundings,
    build_engine,
};
use fonex_formats::{Place, Problem};
use fonex_standin::service::{Service, ServiceConfig};
use fonex_standin::{Behaviours, HearProfile, ReplyProfile, SpeakProfile};
use serde_json::{Value, json};

pub const LABEL: &str = "Hold at pylon six.";
pub const KEY: &str = "sesame/4711+open=";

/// Two seconds that no other clip has, exact at 16 bits.
pub fn audio() -> Audio {
    let mut state = 12_345_u32;
    let sample = |_| {
        state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
        f32::from((state >> 16) as i16 / 8) / 32_768.0
    };
    Audio { rate_hz: 16_000, samples: (0..32_000).map(sample).collect() }
}

pub fn clip() -> Clip {
    serde_json::from_value(json!({"id": "c", "text": LABEL, "lang": "en"})).unwrap()
}

/// Never wrong and at once.
pub fn service(change: impl FnOnce(&mut ServiceConfig)) -> Service {
    let hear =
        HearProfile { base_errors: 0.0, errors_per_db: 0.0, start_ms: 0.0, rtf: 0.0, ..HearProfile::default() };
    let speak = SpeakProfile { start_ms: 0.0, rtf: 0.0, ..SpeakProfile::default() };
    let reply = ReplyProfile { start_ms: 0.0, word_ms: 0.0, ..ReplyProfile::default() };
    let of = |name: &str, behaviours| (name.to_owned(), behaviours);
    let engines = BTreeMap::from([
        of("ears", Behaviours::Hear([("default".to_owned(), hear)].into())),
        of("mouth", Behaviours::Speak([("Ilka".to_owned(), speak)].into())),
        of("head", Behaviours::Reply([("default".to_owned(), reply)].into())),
    ]);
    let mut config = ServiceConfig { engines, clips: vec![(clip(), audio())], ..ServiceConfig::default() };
    change(&mut config);
    Service::start(config, 0).unwrap()
}

/// Reads an engine's table and makes it ready, in a folder whose `.env` holds the key.
pub fn try_engine(folder: &std::path::Path, table: Value) -> Result<Box<dyn Engine>, Problem> {
    std::fs::write(folder.join(".env"), format!("STANDIN_KEY={KEY}\n")).unwrap();
    let Value::Object(table) = table else { panic!("an engine is a table") };
    let config = EngineConfig::read("e", table, &Place::file(&folder.join("fonex.toml")), "engine.e", folder)?;
    let around = Surroundings {
        bench: folder.join("fonex.toml"),
        folder: folder.to_owned(),
        scratch: folder.join("scratch"),
        labels: Arc::new(HashMap::new()),
        seed: 1,
        secrets: Secrets::read(folder)?,
        pace: None,
    };
    build_engine(&config, &around)
}

pub fn engine(table: Value) -> Box<dyn Engine> {
    let folder = tempfile::tempdir().unwrap().keep();
    try_engine(&folder, table).unwrap_or_else(|problem| panic!("{problem}"))
}

/// The table with further keys at its top.
pub fn with(mut table: Value, more: Value) -> Value {
    let (Value::Object(all), Value::Object(more)) = (&mut table, more) else { panic!("tables") };
    all.extend(more);
    table
}

pub fn hear(engine: &dyn Engine) -> Answer<Heard> {
    let (settings, stop, audio) = (Settings::new(), StopFlag::default(), audio());
    let form = Form { voice: "", model: "river", settings: &settings };
    engine.hear(&HearRequest { clip_id: "c", lang: Some("en"), audio: &audio, form, stop: &stop, live: None })
}

/// Speaks or replies.
pub fn say<T>(text: &str, call: impl FnOnce(&SpeakRequest<'_>) -> Answer<T>) -> Answer<T> {
    let (settings, stop) = (Settings::new(), StopFlag::default());
    let form = Form { voice: "Ilka", model: "", settings: &settings };
    call(&SpeakRequest::new("c", Some("en"), text, form, &stop))
}
