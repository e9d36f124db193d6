//! A share of a set of clips: one of several parts into which ids fall, so that parts can be worked on apart.

use std::fmt;
use std::str::FromStr;

use serde::Deserialize;

/// One part of several. A clip and its results fall into the same part, whatever their places in their files.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Share {
    /// Which part, from 1.
    pub part: u32,
    /// How many there are.
    pub of: u32,
}

/// The most parts.
const MOST: u32 = 100_000;

impl FromStr for Share {
    type Err = String;

    fn from_str(typed: &str) -> Result<Self, String> {
        let numbers = typed.split_once('/').and_then(|(part, of)| Some((part.parse().ok()?, of.parse().ok()?)));
        match numbers {
            Some((part, of)) if (1..=of).contains(&part) && of <= MOST => Ok(Self { part, of }),
            _ => Err(format!("expected K/N, such as 3/16: part K of N, with K from 1 to N and N up to {MOST}")),
        }
    }
}

impl fmt::Display for Share {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}/{}", self.part, self.of)
    }
}

impl Share {
    /// Whether an id falls into it.
    #[must_use]
    pub fn has(self, id: &str) -> bool {
        fnv_1a(id.as_bytes()) % u64::from(self.of) == u64::from(self.part - 1)
    }

    /// Whether a line falls into it, by the id of its record. A line of which the id cannot be read falls into the first, where it is
    /// complained of.
    pub(crate) fn has_line(self, line: &[u8]) -> bool {
        #[derive(Deserialize)]
        struct Identified {
            id: String,
        }
        if let Some(id) = plain_id(line) {
            return self.has(id);
        }
        serde_json::from_slice::<Identified>(line).map_or(self.part == 1, |record| self.has(&record.id))
    }
}

/// The id of a line that begins with it, as nearly every line does.
fn plain_id(line: &[u8]) -> Option<&str> {
    let rest = line.trim_ascii_start().strip_prefix(b"{\"id\":")?.trim_ascii_start().strip_prefix(b"\"")?;
    let end = memchr::memchr2(b'"', b'\\', rest)?;
    (rest[end] == b'"').then_some(())?;
    std::str::from_utf8(&rest[..end]).ok()
}

/// The hash of Fowler, Noll and Vo, form 1a with 64 bits, with its bits mixed once more: parts are to be equally large. It is the
/// same in every version and on every machine.
fn fnv_1a(bytes: &[u8]) -> u64 {
    let hash = bytes
        .iter()
        .fold(0xcbf2_9ce4_8422_2325_u64, |hash, byte| (hash ^ u64::from(*byte)).wrapping_mul(0x0100_0000_01b3));
    (hash ^ (hash >> 32)).wrapping_mul(0x9e37_79b9_7f4a_7c15) >> 16
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_id_falls_into_one_part_and_parts_are_alike() {
        let share = |part| Share { part, of: 16 };
        let mut sizes = [0; 16];
        for number in 0..16_000 {
            let id = format!("clip-{number:06}");
            let parts: Vec<u32> = (1..=16).filter(|part| share(*part).has(&id)).collect();
            assert_eq!(parts.len(), 1);
            sizes[parts[0] as usize - 1] += 1;
        }
        assert!(sizes.iter().all(|size| (850..1_150).contains(size)), "{sizes:?}");
    }

    #[test]
    fn a_line_falls_where_its_id_does_however_it_is_written() {
        let share = |part| Share { part, of: 5 };
        for (line, id) in [
            (r#"{"id":"a","text":"x"}"#, "a"),
            (r#"  {"id": "a b","text":"x"}"#, "a b"),
            (r#"{"text":"\"id\":\"z\"","id":"a"}"#, "a"),
            (r#"{"id":"a\u0062","text":"x"}"#, "ab"),
            (r#"{"id":"ä\\","text":"x"}"#, "ä\\"),
        ] {
            for part in 1..=5 {
                assert_eq!(share(part).has_line(line.as_bytes()), share(part).has(id), "{line}");
            }
        }
        for broken in [&b"{\"id\":"[..], b"\xff", b"{\"id\":7}"] {
            assert_eq!((1..=5).filter(|part| share(*part).has_line(broken)).collect::<Vec<_>>(), [1]);
        }
        for wrong in ["0/4", "5/4", "1/0", "1", "a/b", "1/100001", "-1/3"] {
            assert!(wrong.parse::<Share>().is_err(), "{wrong}");
        }
    }
}
