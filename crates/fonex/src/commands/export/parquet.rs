//! Rows as Apache Parquet, which general data tools read.

use std::path::Path;
use std::sync::Arc;

use fonex_formats::{Place, Problem};
use parquet::data_type::{ByteArray, ByteArrayType, DoubleType, Int64Type};
use parquet::errors::ParquetError;
use parquet::file::properties::WriterProperties;
use parquet::file::writer::SerializedFileWriter;
use parquet::schema::parser::parse_message_type;
use serde::Serialize;
use serde_json::Value;

use super::rows::{Rows, Sink};
use crate::failure::Failure;

/// Rows that are gathered before they are written.
const GROUP: usize = 1 << 16;

/// A Parquet file is written from its end: it needs a place where it can be whole.
pub fn check(output: Option<&Path>) -> Result<(), Problem> {
    if output.is_some() {
        return Ok(());
    }
    Err(Problem::new("a Parquet file is not for a terminal or a pipe", Place::default().field("--form"))
        .remedy("name it with -o"))
}

/// A table in the making; every column may be empty in a row.
pub struct Table {
    /// Whether a row holds lists of numbers, which are written a number a row.
    numbers_apart: bool,
    writer: SerializedFileWriter<Vec<u8>>,
    columns: Vec<Gathered>,
    rows: usize,
}

/// What a column holds of the rows that are not written yet.
struct Gathered {
    name: &'static str,
    values: Values,
    /// For each row whether it has a value.
    there: Vec<i16>,
}

enum Values {
    Count(Vec<i64>),
    Number(Vec<f64>),
    Text(Vec<ByteArray>),
}

impl Values {
    /// Nothing yet, of the kind that a column holds.
    fn of(column: &str) -> Self {
        match column {
            "run" | "repeat" | "words" | "substituted" | "deleted" | "inserted" | "terms_missed" | "at" | "trial"
            | "row" | "clips" | "units" => Self::Count(Vec::new()),
            "took_ms" | "first_ms" | "audio_s" | "number" | "value" | "low" | "high" => Self::Number(Vec::new()),
            _ => Self::Text(Vec::new()),
        }
    }
}

impl Table {
    pub fn new(rows: Rows) -> Result<Self, Failure> {
        let numbers_apart = rows == Rows::Facts;
        let names: Vec<&'static str> = if numbers_apart {
            vec!["clip", "variant", "trial", "fact", "row", "at", "number"]
        } else {
            rows.columns().to_vec()
        };
        let columns = names.into_iter().map(|name| Gathered { name, values: Values::of(name), there: Vec::new() });
        let columns: Vec<Gathered> = columns.collect();
        let fields: Vec<String> = columns
            .iter()
            .map(|column| match column.values {
                Values::Count(_) => format!("optional int64 {};", column.name),
                Values::Number(_) => format!("optional double {};", column.name),
                Values::Text(_) => format!("optional binary {} (STRING);", column.name),
            })
            .collect();
        let schema = parse_message_type(&format!("message fonex {{ {} }}", fields.join(" "))).map_err(failed)?;
        let properties = WriterProperties::builder().set_created_by(format!("fonex {}", env!("CARGO_PKG_VERSION")));
        let writer =
            SerializedFileWriter::new(Vec::new(), Arc::new(schema), Arc::new(properties.build())).map_err(failed)?;
        Ok(Self { numbers_apart, writer, columns, rows: 0 })
    }

    /// The whole file.
    pub fn finish(mut self) -> Result<Vec<u8>, Failure> {
        self.write_group()?;
        Ok(self.writer.into_inner().map_err(failed)?)
    }

    fn row(&mut self, value: impl Fn(&str) -> Option<Value>) -> Result<(), Failure> {
        for column in &mut self.columns {
            let value = value(column.name).filter(|value| !value.is_null());
            column.there.push(i16::from(value.is_some()));
            let Some(value) = value else { continue };
            match &mut column.values {
                Values::Count(counts) => counts.push(value.as_i64().unwrap_or_default()),
                Values::Number(numbers) => numbers.push(value.as_f64().unwrap_or(f64::NAN)),
                Values::Text(texts) => texts.push(match value {
                    Value::String(text) => ByteArray::from(text.into_bytes()),
                    other => ByteArray::from(other.to_string().into_bytes()),
                }),
            }
        }
        self.rows += 1;
        if self.rows == GROUP { self.write_group() } else { Ok(()) }
    }

    fn write_group(&mut self) -> Result<(), Failure> {
        if self.rows == 0 {
            return Ok(());
        }
        let mut group = self.writer.next_row_group().map_err(failed)?;
        for column in &mut self.columns {
            let Some(mut writer) = group.next_column().map_err(failed)? else { break };
            let there = Some(column.there.as_slice());
            let written = match &column.values {
                Values::Count(counts) => writer.typed::<Int64Type>().write_batch(counts, there, None),
                Values::Number(numbers) => writer.typed::<DoubleType>().write_batch(numbers, there, None),
                Values::Text(texts) => writer.typed::<ByteArrayType>().write_batch(texts, there, None),
            };
            written.map_err(failed)?;
            writer.close().map_err(failed)?;
            column.there.clear();
            match &mut column.values {
                Values::Count(counts) => counts.clear(),
                Values::Number(numbers) => numbers.clear(),
                Values::Text(texts) => texts.clear(),
            }
        }
        group.close().map_err(failed)?;
        self.rows = 0;
        Ok(())
    }
}

impl Sink for Table {
    fn line(&mut self, line: &impl Serialize) -> Result<(), Failure> {
        let line = serde_json::to_value(line).map_err(std::io::Error::from)?;
        let Value::Object(fields) = line else { return Ok(()) };
        let rows = fields.get("rows").and_then(Value::as_array).filter(|_| self.numbers_apart).cloned();
        let Some(rows) = rows else { return self.row(|name| fields.get(name).cloned()) };
        // A number a line, so that they can be added up.
        for (row, numbers) in rows.iter().enumerate() {
            for (at, number) in numbers.as_array().into_iter().flatten().enumerate() {
                self.row(|name| match name {
                    "row" => Some(row.into()),
                    "at" => Some(at.into()),
                    "number" => Some(number.clone()),
                    other => fields.get(other).cloned(),
                })?;
            }
        }
        Ok(())
    }
}

fn failed(error: ParquetError) -> std::io::Error {
    std::io::Error::other(error.to_string())
}
