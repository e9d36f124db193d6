//! The must-hear terms of a corpus, found without reading its clips closely.

use std::io::Read;
use std::path::Path;
use std::sync::Arc;

use crate::lines::Lines;
use crate::pieces::{Holds, Pieces, Wanted};
use crate::{Problem, columnar, regular};

/// Every must-hear term that a corpus file lists. Lines without any are not read closely.
///
/// # Errors
/// When the file cannot be read; broken lines are left to the reader of clips.
pub fn listed_terms(corpus: &Path) -> Result<Vec<String>, Problem> {
    #[derive(serde::Deserialize)]
    struct Terms {
        #[serde(default)]
        terms: Vec<String>,
    }
    let mut found = Vec::new();
    let pieces = pieces(corpus)?;
    if !name_terms(&pieces, u64::MAX)? {
        return Ok(found);
    }
    let mut lines = Lines::of(Arc::new(pieces))?;
    while let Some((_, line)) = lines.next()? {
        if memchr::memmem::find(line.as_bytes(), b"\"terms\"").is_some()
            && let Ok(Terms { terms }) = serde_json::from_str(line)
        {
            found.extend(terms);
        }
    }
    Ok(found)
}

/// Whether terms are named near the beginning of a corpus file, which they are in most that list any. Where they are not, terms may
/// come later.
///
/// # Errors
/// When the file cannot be read.
pub fn lists_terms_early(corpus: &Path) -> Result<bool, Problem> {
    name_terms(&pieces(corpus)?, CHUNK as u64)
}

fn pieces(corpus: &Path) -> Result<Pieces, Problem> {
    Pieces::of(corpus, Wanted { column: Some("terms"), ..Holds::Labels.into() })
}

/// Whether terms are named within the first bytes of any piece.
fn name_terms(pieces: &Pieces, within: u64) -> Result<bool, Problem> {
    pieces.any(|path| Ok(columnar::has_column(path, "terms") || holds(path, b"\"terms\"", within)?))
}

/// Bytes of a file looked through at once.
const CHUNK: usize = 1 << 20;

/// Whether some bytes stand anywhere within the first bytes of a file.
fn holds(path: &Path, wanted: &[u8], within: u64) -> std::io::Result<bool> {
    let mut file = regular::open(path)?.take(within);
    let (mut chunk, mut kept) = (vec![0; CHUNK], 0);
    loop {
        let read = file.read(&mut chunk[kept..])?;
        if read == 0 {
            return Ok(false);
        }
        let filled = kept + read;
        if memchr::memmem::find(&chunk[..filled], wanted).is_some() {
            return Ok(true);
        }
        // What is wanted may lie across the end.
        kept = filled.min(wanted.len() - 1);
        chunk.copy_within(filled - kept..filled, 0);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn terms_are_found_wherever_they_stand() {
        let folder = tempfile::tempdir().unwrap();
        let corpus = folder.path().join("corpus.jsonl");
        // Before, across and behind the end of what is looked through at once.
        for padding in [0, (1 << 20) - 30, (1 << 20) - 20, 1 << 20] {
            let first = format!("{{\"id\":\"a\",\"text\":\"{}\"}}\n", "x".repeat(padding));
            std::fs::write(&corpus, first + "{\"id\":\"b\",\"text\":\"t\",\"terms\":[\"pylon six\"]}\n").unwrap();
            assert_eq!(listed_terms(&corpus).unwrap(), ["pylon six"], "{padding}");
            assert_eq!(lists_terms_early(&corpus).unwrap(), padding == 0, "{padding}");
        }
        std::fs::write(&corpus, "{\"id\":\"a\",\"text\":\"terms\"}\n").unwrap();
        assert!(listed_terms(&corpus).unwrap().is_empty());
    }
}
