//! An engine from a table, as the benches need it.

use std::collections::HashMap;
use std::path::Path;
use std::sync::Arc;

use fonex_engines::{Engine, EngineConfig, Secrets, Surroundings, build_engine};
use fonex_formats::Place;
use serde_json::Value;

pub fn engine(table: Value) -> Box<dyn Engine> {
    let Value::Object(table) = table else { unreachable!("it is a table") };
    let here = Path::new(".");
    let config = EngineConfig::read("e", table, &Place::file(here), "engine.e", here).unwrap();
    let around = Surroundings {
        bench: here.to_owned(),
        folder: here.to_owned(),
        scratch: here.to_owned(),
        labels: Arc::new(HashMap::new()),
        seed: 1,
        secrets: Secrets::default(),
        pace: None,
    };
    build_engine(&config, &around).unwrap()
}
