//! The form of an engine's table in a bench file, as JSON Schema.

use schemars::JsonSchema;
use serde_json::{Map, Value};

use crate::command::CommandConfig;
use crate::config::CommonConfig;
use crate::http::HttpConfig;
use crate::recorded::RecordedConfig;
use crate::socket::SocketConfig;
use crate::worker::WorkerConfig;

/// The table of an engine in a bench file, for its JSON Schema: what all engines share, and what the transport adds.
#[derive(Debug, Clone, Copy)]
pub struct EngineTable;

impl JsonSchema for EngineTable {
    fn schema_name() -> std::borrow::Cow<'static, str> {
        "EngineTable".into()
    }

    fn json_schema(generator: &mut schemars::SchemaGenerator) -> schemars::Schema {
        let common = CommonConfig::json_schema(generator);
        let kinds = [
            ("command", CommandConfig::json_schema(generator)),
            ("worker", WorkerConfig::json_schema(generator)),
            ("http", HttpConfig::json_schema(generator)),
            ("socket", SocketConfig::json_schema(generator)),
            ("recorded", RecordedConfig::json_schema(generator)),
            ("standin", crate::standin::table_schema(generator)),
        ];
        let one_of: Vec<Value> = kinds.iter().map(|(name, own)| table(name, &common, own)).collect();
        schemars::json_schema!({ "description": "An engine, by its transport.", "oneOf": one_of })
    }
}

/// The fields of both, with the word that tells the transport.
fn table(transport: &str, common: &schemars::Schema, own: &schemars::Schema) -> Value {
    let mut properties = Map::new();
    let mut required = vec![Value::from("transport")];
    for part in [common, own] {
        if let Some(Value::Object(fields)) = part.get("properties") {
            properties.extend(fields.clone());
        }
        required.extend(part.get("required").and_then(Value::as_array).into_iter().flatten().cloned());
    }
    properties.insert("transport".to_owned(), serde_json::json!({ "const": transport }));
    serde_json::json!({
        "title": transport,
        "type": "object",
        "properties": properties,
        "required": required,
        "additionalProperties": false,
    })
}
