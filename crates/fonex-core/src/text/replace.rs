//! A project's own replacements: words for words, and regular expressions.

use std::collections::{BTreeMap, HashMap};
use std::sync::OnceLock;

use regex::{Regex, RegexBuilder};
use serde::{Deserialize, Serialize};

/// Words and what stands in their place; the longest match at each place wins. Keys and values are words parted by
/// single spaces.
#[derive(Debug, Clone, Default, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(transparent)]
pub struct WordMap {
    pairs: BTreeMap<String, String>,
    /// Entries by their first word, the longest first.
    #[serde(skip)]
    by_first: OnceLock<HashMap<String, Vec<Entry>>>,
}

#[derive(Debug, Clone)]
struct Entry {
    words: Vec<String>,
    with: String,
}

impl Entry {
    fn begins(&self, tokens: &[&str]) -> bool {
        tokens.len() >= self.words.len() && tokens.iter().zip(&self.words).all(|(token, word)| token == word)
    }
}

impl PartialEq for WordMap {
    fn eq(&self, other: &Self) -> bool {
        self.pairs == other.pairs
    }
}

impl Eq for WordMap {}

impl WordMap {
    /// Replaces in one pass: what was put in is not looked at again.
    pub(super) fn apply(&self, text: &str) -> String {
        let by_first = self.by_first.get_or_init(|| {
            let mut by_first: HashMap<String, Vec<Entry>> = HashMap::new();
            for (from, with) in &self.pairs {
                let words: Vec<String> = from.split_whitespace().map(str::to_owned).collect();
                if let Some(first) = words.first().cloned() {
                    by_first.entry(first).or_default().push(Entry { words, with: with.clone() });
                }
            }
            by_first.values_mut().for_each(|found| found.sort_by_key(|entry| std::cmp::Reverse(entry.words.len())));
            by_first
        });
        let tokens: Vec<&str> = text.split_whitespace().collect();
        let mut out: Vec<&str> = Vec::with_capacity(tokens.len());
        let mut at = 0;
        while let Some(token) = tokens.get(at) {
            let entries = by_first.get(*token).map(Vec::as_slice).unwrap_or_default();
            match entries.iter().find(|entry| entry.begins(&tokens[at..])) {
                Some(entry) => {
                    out.push(&entry.with);
                    at += entry.words.len();
                }
                None => {
                    out.push(token);
                    at += 1;
                }
            }
        }
        out.join(" ")
    }
}

/// A regular expression and what stands in the place of its matches; `$1` is its first group. The search takes time
/// linear in the text, whatever the expression.
#[derive(Debug, Clone, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields, try_from = "PatternFields")]
pub struct Pattern {
    /// The expression.
    find: String,
    /// What is put in its place.
    with: String,
    #[serde(skip)]
    regex: Regex,
}

#[derive(Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
struct PatternFields {
    find: String,
    #[serde(default)]
    with: String,
}

impl TryFrom<PatternFields> for Pattern {
    type Error = String;

    fn try_from(fields: PatternFields) -> Result<Self, String> {
        let PatternFields { find, with } = fields;
        let built = RegexBuilder::new(&find).size_limit(1 << 20).build();
        match built {
            Ok(regex) => Ok(Self { find, with, regex }),
            Err(error) => {
                let last = error.to_string().lines().last().unwrap_or_default().trim().to_owned();
                Err(format!("{find:?} is not a regular expression: {last}"))
            }
        }
    }
}

impl PartialEq for Pattern {
    fn eq(&self, other: &Self) -> bool {
        (&self.find, &self.with) == (&other.find, &other.with)
    }
}

impl Eq for Pattern {}

impl Pattern {
    pub(super) fn apply(&self, text: &str) -> String {
        self.regex.replace_all(text, self.with.as_str()).into_owned()
    }
}
