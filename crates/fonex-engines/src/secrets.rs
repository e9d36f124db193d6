//! Keys and passwords: read from the environment or a `.env` file, filled in at the last moment, and redacted out of
//! everything an engine says before it is kept.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt;
use std::path::{Path, PathBuf};

use aho_corasick::AhoCorasick;
use base64::Engine as _;
use base64::engine::general_purpose::{STANDARD, URL_SAFE};
use fonex_formats::{Place, Problem};
use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::Value;

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
        let text = match fonex_formats::regular::read_text(&path) {
            Ok(text) => text,
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(Self::default()),
            Err(error) => return Err(Problem::io("read", &path, &error)),
        };
        Ok(Self { from_file: lines(&text, &path)?, file: Some(path) })
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

/// The variables that a `.env` file sets.
pub(crate) fn lines(text: &str, path: &Path) -> Result<BTreeMap<String, String>, Problem> {
    let mut from_file = BTreeMap::new();
    for (line, at) in text.trim_start_matches('\u{feff}').lines().zip(1_u64..) {
        let line = line.trim();
        if line.is_empty() || line.starts_with('#') {
            continue;
        }
        let assigned = line.strip_prefix("export ").unwrap_or(line).split_once('=');
        let Some((name, value)) = assigned.filter(|(name, _)| is_variable(name.trim())) else {
            return Err(Problem::new("this line sets no variable", Place::line(path, at))
                .expected("NAME=value, with a name of letters, digits and underscores"));
        };
        from_file.insert(name.trim().to_owned(), unquoted(value.trim()).to_owned());
    }
    Ok(from_file)
}

fn is_variable(name: &str) -> bool {
    let plain = |c: char| c.is_ascii_alphanumeric() || c == '_';
    name.starts_with(|c: char| c.is_ascii_alphabetic() || c == '_') && name.chars().all(plain)
}

fn unquoted(value: &str) -> &str {
    ['"', '\''].into_iter().find_map(|quote| value.strip_prefix(quote)?.strip_suffix(quote)).unwrap_or(value)
}

/// Redacts the values of the variables an engine uses out of everything it says.
#[derive(Clone, Default)]
pub struct Redaction {
    /// What to look for, longest first, and the variable it belongs to.
    needles: Vec<(String, String)>,
    /// Their beginnings, as they are and as JSON writes them: what has none of them holds none of what is looked for.
    heads: Option<AhoCorasick>,
}

/// Why an answer is not kept.
const UNSEARCHABLE: &str = "its answer cannot be searched for the values of secrets, and is not kept";

/// Values shorter than this would redact parts of plain words.
const SHORTEST: usize = 4;
/// The same for what is left of a value inside Base64, where every text looks alike.
const SHORTEST_INSIDE: usize = 7;

impl Redaction {
    /// Redacts these variables: plain, percent-encoded, in Base64 of either alphabet wherever they stand in what was encoded,
    /// in hexadecimal digits, and escaped as JSON and HTML do.
    #[must_use]
    pub fn new(variables: impl IntoIterator<Item = (String, String)>) -> Self {
        let mut needles: Vec<(String, String)> = variables
            .into_iter()
            .filter(|(_, value)| value.len() >= SHORTEST)
            .flat_map(|(name, value)| {
                let forms = forms_of(&value).into_iter().filter(|form| form.len() >= SHORTEST);
                forms.map(move |form| (form, name.clone()))
            })
            .collect();
        needles.sort_by(|(a, _), (b, _)| b.len().cmp(&a.len()).then_with(|| a.cmp(b)));
        needles.dedup();
        let head = |form: &str| form.as_bytes()[..SHORTEST].to_vec();
        let heads = needles.iter().flat_map(|(form, _)| [head(form), head(&json_escaped(form))]);
        let heads = AhoCorasick::new(heads.collect::<BTreeSet<_>>()).ok();
        Self { needles, heads }
    }

    /// False where a text or JSON holds nothing to redact, not even one that was cut off.
    fn may_concern(&self, text: &[u8]) -> bool {
        !self.needles.is_empty() && self.heads.as_ref().is_none_or(|heads| heads.is_match(text))
    }

    /// The text with every value replaced by the name of its variable; also where it was cut off at the end of the text.
    #[must_use]
    pub fn redact(&self, text: &str) -> String {
        let text = text.to_owned();
        if self.may_concern(text.as_bytes()) { self.replaced(text) } else { text }
    }

    fn replaced(&self, mut text: String) -> String {
        for (form, name) in &self.needles {
            if text.contains(form.as_str()) {
                text = text.replace(form.as_str(), &format!("[{name}]"));
            }
        }
        let end = text.trim_end_matches('…').len();
        for (form, name) in &self.needles {
            let cut = (SHORTEST..form.len()).rev().filter(|at| form.is_char_boundary(*at));
            if let Some(at) = cut.into_iter().find(|at| text[..end].ends_with(&form[..*at])) {
                text.replace_range(end - at..end, &format!("[{name}]"));
                break;
            }
        }
        text
    }

    /// The same for every text in a value, whatever its shape. A value that holds none is returned as it is.
    ///
    /// # Errors
    /// When the value cannot be searched, or not be rebuilt without what was found: then it must not be written.
    pub(crate) fn redact_all<T: Serialize + DeserializeOwned>(&self, value: T) -> Result<T, &'static str> {
        if self.needles.is_empty() {
            return Ok(value);
        }
        let bytes = serde_json::to_vec(&value).map_err(|_| UNSEARCHABLE)?;
        if !self.may_concern(&bytes) {
            return Ok(value);
        }
        let mut json = serde_json::to_value(&value).map_err(|_| UNSEARCHABLE)?;
        if !self.redact_json(&mut json) {
            return Ok(value);
        }
        serde_json::from_value(json).map_err(|_| UNSEARCHABLE)
    }

    /// Whether a text was changed.
    fn redact_json(&self, json: &mut Value) -> bool {
        match json {
            Value::String(text) => {
                let redacted = self.redact(text);
                let changed = redacted != *text;
                *text = redacted;
                changed
            }
            Value::Array(items) => items.iter_mut().fold(false, |any, item| self.redact_json(item) | any),
            Value::Object(fields) => {
                let mut changed = false;
                let all = std::mem::take(fields);
                for (key, mut value) in all {
                    changed |= self.redact_json(&mut value);
                    let redacted = self.redact(&key);
                    changed |= redacted != key;
                    fields.insert(redacted, value);
                }
                changed
            }
            Value::Null | Value::Bool(_) | Value::Number(_) => false,
        }
    }

    /// The names of the variables.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        let mut names: Vec<&str> = self.needles.iter().map(|(_, name)| name.as_str()).collect();
        names.sort_unstable();
        names.dedup();
        names.into_iter()
    }
}

/// A text as it stands between the quotes of JSON.
fn json_escaped(text: &str) -> String {
    serde_json::to_string(text).map(|json| json[1..json.len() - 1].to_owned()).unwrap_or_default()
}

/// The ways in which a service may write a value.
fn forms_of(value: &str) -> Vec<String> {
    let percent = crate::http::percent_encoded(value);
    let json = json_escaped(value);
    let signs_as = |of: &dyn Fn(char) -> String| -> String {
        value.chars().map(|c| if c.is_ascii_alphanumeric() { c.to_string() } else { of(c) }).collect()
    };
    let html = |c: char| match c {
        '&' => "&amp;".to_owned(),
        '<' => "&lt;".to_owned(),
        '>' => "&gt;".to_owned(),
        '"' => "&quot;".to_owned(),
        '\'' => "&#39;".to_owned(),
        other => other.to_string(),
    };
    let hex: String = value.bytes().map(|byte| format!("{byte:02x}")).collect();
    let mut forms = vec![
        value.to_owned(),
        lower_percent(&percent),
        percent.replace("%20", "+"),
        percent,
        json.replace('/', "\\/"),
        json,
        signs_as(&|c| format!("\\u{:04x}", u32::from(c))),
        signs_as(&|c| format!("\\u{:04X}", u32::from(c))),
        signs_as(&html),
        hex.to_uppercase(),
        hex,
        STANDARD.encode(value),
        URL_SAFE.encode(value),
    ];
    // Behind one or two bytes of something else, as in `user:key`, other digits come out; those that the value alone
    // decides are looked for.
    for before in 0..3 {
        let bytes = [&[0; 2][..before], value.as_bytes()].concat();
        let (from, to) = ((before * 8).div_ceil(6), bytes.len() * 8 / 6);
        for encoded in [STANDARD.encode(&bytes), URL_SAFE.encode(&bytes)] {
            forms.extend(encoded.get(from..to).filter(|inside| inside.len() >= SHORTEST_INSIDE).map(str::to_owned));
        }
    }
    forms
}

/// `%2F` as `%2f`.
fn lower_percent(percent: &str) -> String {
    let mut left = 0;
    let lower = |c: char| {
        left = if c == '%' { 2 } else { left };
        let digit = c != '%' && left > 0;
        left -= usize::from(digit);
        if digit { c.to_ascii_lowercase() } else { c }
    };
    percent.chars().map(lower).collect()
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

    const KEY: &str = "sk-4f/9a+QZ~77 xy\"&Q01";

    fn redaction() -> Redaction {
        Redaction::new([("KEY".to_owned(), KEY.to_owned())])
    }

    #[test]
    fn a_value_is_found_in_every_encoding_and_at_every_offset() {
        let redaction = redaction();
        let percent = crate::http::percent_encoded(KEY);
        let mut said = vec![
            KEY.to_owned(),
            percent.to_lowercase().replace("qz", "QZ").replace("q01", "Q01"),
            percent.replace("%20", "+"),
        ];
        for user in ["", "u", "us", "user:", "user-7:"] {
            for behind in ["", "x", "xy", ":xyz"] {
                let text = format!("{user}{KEY}{behind}");
                for encoded in [STANDARD.encode(&text), URL_SAFE.encode(&text)] {
                    said.push(encoded.trim_end_matches('=').to_owned());
                    said.push(encoded);
                }
            }
        }
        said.push(serde_json::to_string(KEY).unwrap());
        said.push(serde_json::to_string(KEY).unwrap().replace('/', "\\/"));
        said.push(KEY.bytes().map(|byte| format!("{byte:02x}")).collect());
        for text in said {
            let redacted = redaction.redact(&format!("before {text} behind"));
            assert!(redacted.contains("[KEY]"), "{text} stayed: {redacted}");
            let bare: String = redacted.chars().filter(char::is_ascii_alphanumeric).collect();
            assert!(!bare.contains("4f9aQZ77"), "{redacted}");
        }
    }

    #[test]
    fn a_value_that_was_cut_off_is_redacted_too() {
        let redaction = redaction();
        for length in SHORTEST..KEY.len() {
            for end in ["", "…"] {
                let redacted = redaction.redact(&format!("status 401: {}{end}", &KEY[..length]));
                assert_eq!(redacted, format!("status 401: [KEY]{end}"), "{length}");
            }
        }
        assert_eq!(redaction.redact("a sk"), "a sk", "three letters tell nothing");
    }

    proptest::proptest! {
        /// Looking for beginnings first finds what looking for everything finds, in texts made of pieces of what is looked for.
        #[test]
        fn what_looks_clean_is(
            key in "[a-c\\\\\"/&é☃ \u{1}]{4,9}",
            pieces in proptest::collection::vec((0..40_usize, 0..12_usize, 0..30_usize), 0..4),
        ) {
            let redaction = Redaction::new([("KEY".to_owned(), key)]);
            let text: String = pieces.iter().flat_map(|(form, from, length)| {
                let form = redaction.needles.iter().cycle().nth(*form).map_or("", |(form, _)| form.as_str());
                form.chars().skip(from / 4).take(*length).chain("x ".chars().take(from % 3))
            }).collect();
            proptest::prop_assert_eq!(redaction.redact(&text), redaction.replaced(text.clone()));
            let value = vec![BTreeMap::from([(text.clone(), Some(text))])];
            let mut json = serde_json::to_value(&value).unwrap();
            redaction.redact_json(&mut json);
            proptest::prop_assert_eq!(serde_json::to_value(redaction.redact_all(value).unwrap()).unwrap(), json);
        }
    }

    /// A value that JSON cannot hold hides what is in it: it must not be written.
    #[test]
    fn what_cannot_be_searched_is_not_kept() {
        /// Its text cannot be written as JSON, or not be read back once it was changed.
        #[derive(Debug, PartialEq, Serialize)]
        #[serde(untagged)]
        enum Odd {
            Pairs(BTreeMap<(u8, u8), String>),
            Fixed(String),
        }
        impl<'de> serde::Deserialize<'de> for Odd {
            fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
                let text = String::deserialize(deserializer)?;
                if text.contains(KEY) { Ok(Self::Fixed(text)) } else { Err(serde::de::Error::custom("fixed")) }
            }
        }
        let key = || KEY.to_owned();
        assert_eq!(redaction().redact_all(Odd::Pairs(BTreeMap::from([((1, 2), key())]))), Err(UNSEARCHABLE));
        assert_eq!(redaction().redact_all(Odd::Fixed(key())), Err(UNSEARCHABLE));
        assert_eq!(redaction().redact_all(Odd::Fixed("plain".into())), Ok(Odd::Fixed("plain".into())));
    }

    #[test]
    fn every_text_of_a_value_is_redacted() {
        use fonex_core::{Alternative, Heard, HeardWord, TimedWord};
        let key = || format!("the {KEY} is");
        let heard = Heard {
            text: key(),
            words: vec![HeardWord { text: key(), start: Some(0.25), end: None, confidence: Some(0.5) }],
            alternatives: vec![Alternative { text: key(), confidence: None }],
            segments: vec![TimedWord { text: key(), start: 0.0, end: 1.5 }],
            lang: Some(key()),
            confidence: Some(0.125),
            took_ms: None,
        };
        let redacted = redaction().redact_all(heard.clone()).unwrap();
        assert!(!serde_json::to_string(&redacted).unwrap().contains("4f"), "{redacted:?}");
        assert_eq!(
            (redacted.words[0].start, redacted.confidence, redacted.segments[0].end),
            (Some(0.25), Some(0.125), 1.5)
        );
        let plain = Heard { text: "hold".into(), ..Heard::default() };
        assert_eq!(redaction().redact_all(plain.clone()), Ok(plain));
    }
}
