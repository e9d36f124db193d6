//! Parquet files as lines of JSON, one a row, so that everything that reads lines reads them.

#[cfg(feature = "parquet")]
pub(crate) use with::{AsLines, as_lines, has_column};
#[cfg(not(feature = "parquet"))]
pub(crate) use without::{AsLines, as_lines, has_column};

#[cfg(not(feature = "parquet"))]
mod without {
    use std::convert::Infallible;
    use std::fs::File;
    use std::path::Path;

    use crate::pieces::Wanted;
    use crate::{Place, Problem};

    /// Nothing ever is.
    pub(crate) struct AsLines(Infallible);

    impl AsLines {
        pub(crate) fn open(&self) -> std::io::Result<File> {
            match self.0 {}
        }
    }

    pub(crate) const fn has_column(_: &Path, _: &str) -> bool {
        false
    }

    pub(crate) fn as_lines(path: &Path, _: Wanted) -> Result<AsLines, Problem> {
        let problem = Problem::new("this Fonex was built without Parquet", Place::file(path));
        Err(problem.remedy("build it with --features parquet, or write the rows as JSON Lines"))
    }
}

#[cfg(feature = "parquet")]
mod with {
    use std::fs::File;
    use std::io::{BufWriter, Write};
    use std::panic::{AssertUnwindSafe, catch_unwind};
    use std::path::Path;

    use parquet::basic::{ConvertedType, LogicalType, Type as Physical};
    use parquet::errors::ParquetError;
    use parquet::file::reader::{ChunkReader, FileReader, Length, SerializedFileReader};
    use parquet::schema::types::{SchemaDescriptor, Type};
    use serde_json::{Map, Value};
    use tempfile::NamedTempFile;

    use crate::pieces::{Holds, Wanted};
    use crate::until_end::UntilEnd;
    use crate::{Place, Problem, regular};

    /// A file whose end is an end: a list that states more entries than there are is otherwise read on behind it, one by one.
    struct Ending(File);

    impl Length for Ending {
        fn len(&self) -> u64 {
            self.0.len()
        }
    }

    impl ChunkReader for Ending {
        type T = UntilEnd<<File as ChunkReader>::T>;

        fn get_read(&self, start: u64) -> Result<Self::T, ParquetError> {
            Ok(UntilEnd::of(self.0.get_read(start)?))
        }

        fn get_bytes(&self, start: u64, length: usize) -> Result<bytes::Bytes, ParquetError> {
            self.0.get_bytes(start, length)
        }
    }

    /// The lines of a file, kept beside it for as long as they are read.
    pub(crate) struct AsLines(NamedTempFile);

    impl AsLines {
        pub(crate) fn open(&self) -> std::io::Result<File> {
            self.0.reopen()
        }
    }

    /// Whether this is a Parquet file with such a column. What is wrong with it is told where it is read.
    pub(crate) fn has_column(path: &Path, name: &str) -> bool {
        let reader = regular::open(path).ok().and_then(|file| SerializedFileReader::new(Ending(file)).ok());
        reader.is_some_and(|reader| {
            reader.metadata().file_metadata().schema().get_fields().iter().any(|field| field.name() == name)
        })
    }

    /// Writes the rows of a Parquet file as lines, those of a share; a row of another share becomes an empty line, so that the number of a
    /// line is that of its row.
    pub(crate) fn as_lines(path: &Path, wanted: Wanted) -> Result<AsLines, Problem> {
        // A file that was made to be wrong may make the reader panic.
        let written = catch_unwind(AssertUnwindSafe(|| write_lines(path, wanted)));
        written.unwrap_or_else(|_| {
            Err(Problem::new("this Parquet file cannot be read: it is damaged", Place::file(path)))
        })
    }

    fn write_lines(path: &Path, wanted: Wanted) -> Result<AsLines, Problem> {
        let damaged = |error: &dyn std::fmt::Display| {
            Problem::new(format!("this Parquet file cannot be read: {error}"), Place::file(path))
                .expected("a whole file, compressed by Snappy or GZIP or not at all")
        };
        let file = regular::open(path).map_err(|error| Problem::io("read", path, &error))?;
        let reader = SerializedFileReader::new(Ending(file)).map_err(|error| damaged(&error))?;
        check(reader.metadata().file_metadata().schema_descr(), path)?;
        let of_folders = if wanted.holds == Holds::Labels { said_by_folders(path) } else { Vec::new() };
        let columns = wanted.column.map(|name| only(reader.metadata().file_metadata().schema(), name)).transpose();
        let columns = columns.map_err(|error| damaged(&error))?;
        let full = |error: std::io::Error| Problem::io("write the rows of", path, &error);
        let lines = NamedTempFile::new().map_err(full)?;
        let mut out = BufWriter::with_capacity(1 << 18, lines.as_file());
        for row in reader.get_row_iter(columns).map_err(|error| damaged(&error))? {
            let Value::Object(row) = row.map_err(|error| damaged(&error))?.to_json_value() else { continue };
            let row = record(row, &of_folders);
            // The id of a row that has none is complained of where lines are read.
            let id = row.get("id").and_then(Value::as_str);
            if wanted.share.is_none_or(|share| id.map_or(share.part == 1, |id| share.has(id))) {
                serde_json::to_writer(&mut out, &row).map_err(|error| full(error.into()))?;
            }
            out.write_all(b"\n").map_err(full)?;
        }
        out.flush().map_err(full)?;
        drop(out);
        Ok(AsLines(lines))
    }

    /// The schema with one of its columns, or with none where it has no such one.
    fn only(schema: &Type, column: &str) -> Result<Type, ParquetError> {
        let fields = schema.get_fields().iter().filter(|field| field.name() == column).cloned().collect();
        Type::group_type_builder(schema.name()).with_fields(fields).build()
    }

    /// Bytes that are no text would be read as something else than what they are.
    fn check(schema: &SchemaDescriptor, path: &Path) -> Result<(), Problem> {
        for column in schema.columns() {
            let bytes = matches!(column.physical_type(), Physical::BYTE_ARRAY | Physical::FIXED_LEN_BYTE_ARRAY);
            let text = matches!(column.logical_type_ref(), Some(LogicalType::String | LogicalType::Enum))
                || matches!(column.converted_type(), ConvertedType::UTF8 | ConvertedType::ENUM);
            if bytes && !text {
                let problem =
                    Problem::new("this column holds bytes, not text", Place::file(path).field(column.name()));
                return Err(problem.expected("a column of strings").remedy("write it as UTF-8 strings"));
            }
        }
        Ok(())
    }

    /// What folders such as `lang=en` say of the rows of a file in them.
    fn said_by_folders(path: &Path) -> Vec<(String, Value)> {
        let names = path.parent().into_iter().flat_map(Path::ancestors).map_while(|folder| {
            let (key, value) = folder.file_name()?.to_str()?.split_once('=')?;
            Some((key.to_owned(), Value::from(value)))
        });
        names.collect()
    }

    /// A row as a line holds it: without what is null, and with a column `tags.channel` as the tag `channel`.
    fn record(row: Map<String, Value>, of_folders: &[(String, Value)]) -> Map<String, Value> {
        let mut record = Map::new();
        let mut tags = Map::new();
        for (name, value) in row {
            match (name.strip_prefix("tags."), value) {
                (_, Value::Null) => {}
                (Some(tag), value) => drop(tags.insert(tag.to_owned(), value)),
                (None, Value::Object(map)) if name == "tags" => {
                    tags.extend(map.into_iter().filter(|(_, value)| !value.is_null()));
                }
                (None, value) => drop(record.insert(name, value)),
            }
        }
        for (key, value) in of_folders {
            let known = matches!(key.as_str(), "lang" | "speaker");
            let place = if known { &mut record } else { &mut tags };
            place.entry(key.trim_start_matches("tags.")).or_insert_with(|| value.clone());
        }
        if !tags.is_empty() {
            record.insert("tags".to_owned(), tags.into());
        }
        record
    }
}
