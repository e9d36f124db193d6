//! What is wrong, where, what was expected, and what to do: the one shape of every complaint about input.

use std::fmt;
use std::path::{Path, PathBuf};

use thiserror::Error;

/// Where in a file something stands. Lines count from 1.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Place {
    /// The file.
    pub file: Option<PathBuf>,
    /// The line.
    pub line: Option<u64>,
    /// The field, as a path such as `words[3].start`.
    pub field: Option<String>,
}

impl Place {
    /// A whole file.
    #[must_use]
    pub fn file(path: &Path) -> Self {
        Self { file: Some(path.to_owned()), ..Self::default() }
    }

    /// A line of a file.
    #[must_use]
    pub fn line(path: &Path, line: u64) -> Self {
        Self { file: Some(path.to_owned()), line: Some(line), field: None }
    }

    /// The same place, narrowed to a field.
    #[must_use]
    pub fn field(mut self, field: impl Into<String>) -> Self {
        self.field = Some(field.into());
        self
    }
}

impl fmt::Display for Place {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let mut parts = Vec::new();
        if let Some(file) = &self.file {
            parts.push(match self.line {
                Some(line) => format!("{}:{line}", file.display()),
                None => file.display().to_string(),
            });
        }
        if let Some(field) = &self.field {
            parts.push(format!("field {field}"));
        }
        f.write_str(&parts.join(", "))
    }
}

/// One complaint about input.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub struct Problem {
    /// What is wrong.
    pub what: String,
    /// Where.
    pub place: Place,
    /// What was expected there.
    pub expected: Option<String>,
    /// What to do about it.
    pub remedy: Option<String>,
}

impl Problem {
    /// A complaint without expectation or remedy yet.
    #[must_use]
    pub fn new(what: impl Into<String>, place: Place) -> Self {
        Self { what: what.into(), place, expected: None, remedy: None }
    }

    /// Says what was expected.
    #[must_use]
    pub fn expected(mut self, expected: impl Into<String>) -> Self {
        self.expected = Some(expected.into());
        self
    }

    /// Says what to do.
    #[must_use]
    pub fn remedy(mut self, remedy: impl Into<String>) -> Self {
        self.remedy = Some(remedy.into());
        self
    }

    /// A file that could not be read or written.
    #[must_use]
    pub fn io(doing: &str, path: &Path, error: &std::io::Error) -> Self {
        let problem = Self::new(format!("cannot {doing} the file: {}", io_reason(error)), Place::file(path));
        match error.kind() {
            std::io::ErrorKind::NotFound => problem.remedy("check the path; it is taken from the current folder"),
            std::io::ErrorKind::PermissionDenied => problem.remedy("check who may read and write it"),
            std::io::ErrorKind::StorageFull | std::io::ErrorKind::QuotaExceeded => {
                problem.remedy("free some space and repeat the command")
            }
            _ => problem,
        }
    }
}

/// An operating system error without its number, in whichever language the system speaks.
#[must_use]
pub fn io_reason(error: &std::io::Error) -> String {
    reason_of(&error.to_string())
}

fn reason_of(message: &str) -> String {
    let plain = message.split(" (os error").next().unwrap_or(message).trim();
    let mut letters = plain.chars();
    match letters.next() {
        Some(first) => first.to_lowercase().chain(letters).collect(),
        None => "the system gives no reason".to_owned(),
    }
}

impl fmt::Display for Problem {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.what)?;
        let place = self.place.to_string();
        let lines = [("at", Some(&place)), ("expected", self.expected.as_ref()), ("do", self.remedy.as_ref())];
        for (name, text) in lines {
            if let Some(text) = text.filter(|text| !text.is_empty()) {
                write!(f, "\n  {name:>8}: {text}")?;
            }
        }
        Ok(())
    }
}

/// Every complaint found in one input, so that they can be mended in one go.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub struct Problems(pub Vec<Problem>);

impl Problems {
    /// How many are printed before the rest is only counted.
    const PRINTED: usize = 10;
}

impl From<Problem> for Problems {
    fn from(problem: Problem) -> Self {
        Self(vec![problem])
    }
}

impl fmt::Display for Problems {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (i, problem) in self.0.iter().take(Self::PRINTED).enumerate() {
            if i > 0 {
                f.write_str("\nerror: ")?;
            }
            problem.fmt(f)?;
        }
        match self.0.len().saturating_sub(Self::PRINTED) {
            0 => Ok(()),
            more => write!(f, "\nerror: {more} more like these; fix the first ones and run again"),
        }
    }
}

/// The known name nearest to a mistyped one, if any is near enough to be meant.
#[must_use]
pub fn nearest<'n>(typed: &str, known: impl IntoIterator<Item = &'n str>) -> Option<&'n str> {
    known
        .into_iter()
        .map(|name| (strsim::jaro_winkler(&typed.to_lowercase(), &name.to_lowercase()), name))
        .filter(|(likeness, _)| *likeness > 0.75)
        .max_by(|a, b| a.0.total_cmp(&b.0))
        .map(|(_, name)| name)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_system_error_keeps_its_language() {
        for (message, reason) in [
            ("No such file or directory (os error 2)", "no such file or directory"),
            ("Нет такого файла или каталога (os error 2)", "нет такого файла или каталога"),
            (
                "そのようなファイルやディレクトリはありません (os error 2)",
                "そのようなファイルやディレクトリはありません",
            ),
            (" (os error 5)", "the system gives no reason"),
            ("", "the system gives no reason"),
        ] {
            assert_eq!(reason_of(message), reason);
        }
    }
}
