//! Part of a score in a file: written by `fonex score --part`, put together by `fonex merge`.

use std::collections::{BTreeMap, BTreeSet};
use std::fs::File;
use std::io::{BufReader, Read};
use std::path::{Path, PathBuf};

use flate2::Compression;
use flate2::read::MultiGzDecoder;
use flate2::write::GzEncoder;
use fonex_core::Task;
use fonex_core::accuracy::{ScoreBuilder, ScorePart};
use fonex_core::measures::{FACTS_VERSION, facts_of, versions_of};
use fonex_formats::{Place, Problem, input_bytes, regular};
use serde::{Deserialize, Serialize};

use crate::failure::Failure;
use crate::output;

/// The version of the file's form.
const FORM: u32 = 1;
/// Bytes of a part when it is unpacked, at most.
const LARGEST: u64 = 16 << 30;
/// Digits of the largest count that is believed: a million of them can be added up.
const MOST_DIGITS: usize = 13;

/// Part of a score. The file is this as JSON, packed with gzip.
#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PartFile {
    /// The version of the file's form.
    fonex_score_part: u32,
    /// The version of what counts.
    facts_version: u32,
    /// The versions of the facts that are counted, by fact; those of the first version are left out.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    facts: BTreeMap<String, u32>,
    /// Which parts are in it, from 1.
    parts: BTreeSet<u32>,
    /// How many there are.
    of: u32,
    /// What was scored.
    pub of_what: Input,
    /// Clips whose label is empty.
    pub unlabelled: u64,
    /// What was counted.
    part: ScorePart,
}

/// What was scored: the names of both inputs and their sizes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Input {
    /// The corpus as it was named.
    pub corpus: PathBuf,
    /// The results as they were named.
    pub heard: PathBuf,
    /// Bytes of both.
    bytes: [u64; 2],
}

impl Input {
    pub fn new(corpus: &Path, heard: &Path) -> Self {
        Self { corpus: corpus.to_owned(), heard: heard.to_owned(), bytes: [corpus, heard].map(input_bytes) }
    }
}

impl PartFile {
    pub fn new(part: u32, of: u32, of_what: Input, unlabelled: u64, counted: ScorePart) -> Self {
        let parts = BTreeSet::from([part]);
        let facts = versions_of(&facts_of(Task::Hear));
        let (fonex_score_part, facts_version) = (FORM, FACTS_VERSION);
        Self { fonex_score_part, facts_version, facts, parts, of, of_what, unlabelled, part: counted }
    }

    pub fn write(&self, path: &Path) -> Result<(), Failure> {
        output::write_whole(path, |out| {
            let mut packed = GzEncoder::new(out, Compression::fast());
            serde_json::to_writer(&mut packed, self).map_err(std::io::Error::from)?;
            packed.finish()?.flush()?;
            Ok(())
        })
    }

    pub fn read(path: &Path) -> Result<Self, Problem> {
        let damaged = |why: &str| {
            Problem::new(format!("this is no part of a score: {why}"), Place::file(path))
                .expected("a file that fonex score --part wrote")
        };
        let file: File = regular::open(path).map_err(|error| Problem::io("read", path, &error))?;
        let mut text = String::new();
        let read = MultiGzDecoder::new(BufReader::new(file)).take(LARGEST).read_to_string(&mut text);
        read.map_err(|_| damaged("it cannot be unpacked"))?;
        #[derive(Deserialize)]
        struct Form {
            fonex_score_part: u32,
            facts_version: u32,
            #[serde(default)]
            facts: BTreeMap<String, u32>,
        }
        let form: Form = serde_json::from_str(&text).map_err(|error| damaged(&error.to_string()))?;
        if form.fonex_score_part > FORM || form.facts_version != FACTS_VERSION {
            let problem = Problem::new("this part was made by another version of Fonex", Place::file(path));
            return Err(problem.remedy("score it again with this one"));
        }
        // Parts are added up, fact by fact.
        let today = versions_of(&facts_of(Task::Hear));
        let version = |of: &BTreeMap<String, u32>, fact: &str| of.get(fact).copied().unwrap_or_default();
        let changed =
            today.keys().chain(form.facts.keys()).find(|fact| version(&today, fact) != version(&form.facts, fact));
        if let Some(fact) = changed {
            let what = format!("this part was made by a Fonex that counts {fact} otherwise");
            return Err(Problem::new(what, Place::file(path)).remedy("score it again with this one"));
        }
        if has_huge_count(&text) {
            return Err(damaged("it counts more than there can be"));
        }
        let file: Self = serde_json::from_str(&text).map_err(|error| damaged(&error.to_string()))?;
        if file.parts.is_empty() || file.parts.iter().any(|part| !(1..=file.of).contains(part)) {
            return Err(damaged("it does not say which part it is"));
        }
        Ok(file)
    }

    /// Puts parts together. They have to be of the same thing, each once.
    pub fn together(files: Vec<(PathBuf, Self)>) -> Result<(Self, ScoreBuilder), Problem> {
        let mut files = files.into_iter();
        let Some((first_path, mut all)) = files.next() else {
            return Err(Problem::new("there is no part", Place::default()));
        };
        let like = all.part.clone();
        let broken = |path: &Path, why: &str| {
            Problem::new(format!("this part is damaged: {why}"), Place::file(path)).remedy("score it again")
        };
        let mut builder = all.part.builder().map_err(|why| broken(&first_path, why))?;
        for (path, file) in files {
            let other = |why: String| {
                Problem::new(
                    format!("this part does not belong to {}: {why}", first_path.display()),
                    Place::file(&path),
                )
            };
            if file.of != all.of {
                return Err(other(format!("it is one of {}, not of {}", file.of, all.of)));
            }
            if file.of_what.bytes != all.of_what.bytes {
                return Err(other("its corpus or its results have another size".to_owned()));
            }
            if let Some(twice) = file.parts.iter().find(|part| all.parts.contains(part)) {
                return Err(other(format!("part {twice} is there already")));
            }
            file.part.check_same(&like).map_err(|why| other(why.to_owned()))?;
            builder.take_in(&mut file.part.builder().map_err(|why| broken(&path, why))?);
            all.parts.extend(file.parts);
            all.unlabelled += file.unlabelled;
        }
        all.part = like;
        Ok((all, builder))
    }

    /// The same with what was put together in it.
    pub fn with(mut self, builder: ScoreBuilder) -> Self {
        self.part = self.part.with(builder);
        self
    }

    /// Parts that are not there yet.
    pub fn missing(&self) -> Vec<u32> {
        (1..=self.of).filter(|part| !self.parts.contains(part)).collect()
    }
}

/// Whether a whole number outside of texts has more digits than any count. Numbers with a point or an exponent are no counts.
fn has_huge_count(text: &str) -> bool {
    let bytes = text.as_bytes();
    let mut at = 0;
    while at < bytes.len() {
        match bytes[at] {
            b'"' => {
                at += 1;
                while at < bytes.len() && bytes[at] != b'"' {
                    at += if bytes[at] == b'\\' { 2 } else { 1 };
                }
                at += 1;
            }
            b'0'..=b'9' | b'-' => {
                let length = bytes[at..]
                    .iter()
                    .take_while(|b| matches!(b, b'0'..=b'9' | b'-' | b'+' | b'.' | b'e' | b'E'))
                    .count();
                let number = &bytes[at..at + length];
                if length > MOST_DIGITS && number.iter().all(u8::is_ascii_digit) {
                    return true;
                }
                at += length;
            }
            _ => at += 1,
        }
    }
    false
}

#[cfg(test)]
mod tests {
    use super::has_huge_count;

    #[test]
    fn a_count_that_cannot_be_is_seen_and_a_text_or_a_fraction_is_none() {
        for fine in [
            r#"{"a":[1,9999999999999]}"#,
            r#"["12345678901234567890"]"#,
            r#"["\"", "\\"]"#,
            "[0.12345678901234567]",
            "[1.2345678901234e22]",
        ] {
            assert!(!has_huge_count(fine), "{fine}");
        }
        assert!(has_huge_count(r#"{"a\"":[1,99999999999999]}"#));
    }
}
