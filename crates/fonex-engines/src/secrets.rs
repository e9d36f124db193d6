//! Keys and passwords: read from the environment or a `.env` file, filled in at the last moment, and redacted out of
//! everything an engine says before it is kept.

use std::collections::BTreeMap;
use std::fmt;
use std::path::{Path, PathBuf};

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use fonex_formats::{Place, Problem};

/// The values of the variables that engines name, and what to redact out.
#[derive(Clone, Default)]
pub struct Secrets {
    file: Option<PathBuf>,
    from_file: BTreeMap<String, String>,
}

impl fmt::Debug for Secrets {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Secrets").field("file", &self.file).finish_non_exhaustive()
    }
}

impl Secrets {
    /// Reads the `.env` file in a folder, if there is one: lines of `NAME=value`, `#` begins a remark, quotes around a
    /// value are taken off. The environment of the process comes before it.
    ///
    /// # Errors
    /// A [`Problem`] with the line that is not one of these; its value is not shown.
    pub fn read(folder: &Path) -> Result<Self, Problem> {
        let path = folder.join(".env");
        let text = match std::fs::read_to_string(&path) {
            Ok(text) => text,
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(Self::default()),
            Err(error) => return Err(Problem::io("read", &path, &error)),
        };
        let mut from_file = BTreeMap::new();
        for (line, at) in text.trim_start_matches('\u{feff}').lines().zip(1_u64..) {
            let line = line.trim();
            if line.is_empty() || line.starts_with('#') {
                continue;
            }
            let assigned = line.strip_prefix("export ").unwrap_or(line).split_once('=');
            let Some((name, value)) = assigned.filter(|(name, _)| is_variable(name.trim())) else {
                return Err(Problem::new("this line sets no variable", Place::line(&path, at))
                    .expected("NAME=value, with a name of letters, digits and underscores"));
            };
            from_file.insert(name.trim().to_owned(), unquoted(value.trim()).to_owned());
        }
        Ok(Self { file: Some(path), from_file })
    }

    /// The value of a variable; none where it is unset or empty.
    #[must_use]
    pub fn value(&self, name: &str) -> Option<String> {
        let own = std::env::var(name).ok().filter(|value| !value.is_empty());
        own.or_else(|| self.from_file.get(name).filter(|value| !value.is_empty()).cloned())
    }

    /// The complaint about a variable that is not set.
    #[must_use]
    pub fn missing(&self, name: &str, place: Place) -> Problem {
        let near = fonex_formats::nearest(name, self.from_file.keys().map(String::as_str));
        let problem = Problem::new(format!("the environment variable {name} is not set"), place);
        match near {
            Some(near) => problem.remedy(format!("write \"{{env.{near}}}\" if that variable of .env is meant")),
            None => problem
                .remedy(format!("set it: export {name}=..., or a line {name}=... in .env beside the bench file")),
        }
    }
}

fn is_variable(name: &str) -> bool {
    let plain = |c: char| c.is_ascii_alphanumeric() || c == '_';
    name.starts_with(|c: char| c.is_ascii_alphabetic() || c == '_') && name.chars().all(plain)
}

fn unquoted(value: &str) -> &str {
    ['"', '\''].into_iter().find_map(|quote| value.strip_prefix(quote)?.strip_suffix(quote)).unwrap_or(value)
}

/// Strikes the values of the variables an engine uses out of texts.
#[derive(Clone, Default)]
pub struct Redaction {
    /// What to look for, longest first, and the variable it belongs to.
    needles: Vec<(String, String)>,
}

/// Values shorter than this would redact out parts of plain words.
const SHORTEST: usize = 4;

impl Redaction {
    /// Strikes out these variables, plain, percent-encoded, and in Base64.
    #[must_use]
    pub fn new(variables: impl IntoIterator<Item = (String, String)>) -> Self {
        let mut needles: Vec<(String, String)> = variables
            .into_iter()
            .filter(|(_, value)| value.len() >= SHORTEST)
            .flat_map(|(name, value)| {
                let escaped = serde_json::to_string(&value).map(|json| json.trim_matches('"').to_owned());
                let forms = [
                    STANDARD.encode(&value),
                    crate::http::percent_encoded(&value),
                    escaped.unwrap_or_default(),
                    value,
                ];
                forms.into_iter().filter(|form| form.len() >= SHORTEST).map(move |form| (form, name.clone()))
            })
            .collect();
        needles.sort_by_key(|(form, _)| std::cmp::Reverse(form.len()));
        Self { needles }
    }

    /// The text with every value replaced by the name of its variable.
    #[must_use]
    pub fn redact(&self, text: &str) -> String {
        let mut text = text.to_owned();
        for (form, name) in &self.needles {
            if text.contains(form.as_str()) {
                text = text.replace(form.as_str(), &format!("[{name}]"));
            }
        }
        text
    }

    /// The names of the variables.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        let mut names: Vec<&str> = self.needles.iter().map(|(_, name)| name.as_str()).collect();
        names.sort_unstable();
        names.dedup();
        names.into_iter()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_is_read_and_a_broken_line_named() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join(".env");
        std::fs::write(&path, "\u{feff}# keys\nFONEX_T_A = 'a b' \nexport FONEX_T_B=\"x=y\"\n\nFONEX_T_C=\n")
            .unwrap();
        let secrets = Secrets::read(folder.path()).unwrap();
        let values = ["FONEX_T_A", "FONEX_T_B", "FONEX_T_C"].map(|name| secrets.value(name));
        assert_eq!(values, [Some("a b".to_owned()), Some("x=y".to_owned()), None]);
        assert!(!format!("{secrets:?}").contains("a b"));
        std::fs::write(&path, "A=1\nsecret-without-name\n").unwrap();
        let problem = Secrets::read(folder.path()).unwrap_err();
        assert_eq!(problem.place.line, Some(2));
        assert!(!problem.to_string().contains("secret-without"));
    }

    #[test]
    fn every_form_of_a_value_is_struck_out() {
        let redaction =
            Redaction::new([("KEY".to_owned(), "s3cr&t/\"1".to_owned()), ("N".to_owned(), "7".to_owned())]);
        for said in ["got s3cr&t/\"1!", "?k=s3cr%26t%2F%221", "czNjciZ0LyIx", "{\"k\":\"s3cr&t/\\\"1\"}"] {
            let redacted = redaction.redact(said);
            assert!(redacted.contains("[KEY]") && !redacted.contains("s3cr"), "{redacted}");
        }
        assert_eq!(redaction.redact("7 words"), "7 words");
    }
}
