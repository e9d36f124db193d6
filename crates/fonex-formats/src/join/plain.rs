//! Lines as most programs write them: an object of texts without escapes, read byte by byte and not by a parser of all JSON.

use fonex_core::Tags;

use super::refill::{Refill, sorted_tags};

/// Bytes looked at together.
const WIDTH: usize = size_of::<u64>();
const EACH: u64 = u64::MAX / 255;

/// Reads a line into a record; gives which fields it names, as bits, and leaves the others as they were. None, and the record of no
/// use, where the line holds anything but known fields with plain texts, or tags of such texts.
pub(super) fn refill_plain<R: Refill>(record: &mut R, line: &str) -> Option<u32> {
    let mut reader = Reader { line, at: 0 };
    let (mut seen, mut next) = (0_u32, 0);
    reader.sign(b'{')?;
    loop {
        // Most lines name their fields in the order of the list.
        let field = (next..R::FIELDS.len()).chain(0..next).find(|field| reader.is_name(R::FIELDS[*field]))?;
        reader.at += R::FIELDS[field].len() + 2;
        next = field + 1;
        if seen >> field & 1 == 1 {
            return None;
        }
        seen |= 1 << field;
        reader.sign(b':')?;
        if let Some(room) = record.text(field) {
            let text = reader.text()?;
            room.clear();
            room.push_str(text);
        } else {
            reader.tags(record.tags(field)?)?;
        }
        if !reader.goes_on()? {
            break;
        }
    }
    let all_there = seen & R::NEEDED == R::NEEDED && reader.at == line.len();
    all_there.then_some(seen)
}

struct Reader<'l> {
    line: &'l str,
    at: usize,
}

impl<'l> Reader<'l> {
    fn peek(&self) -> Option<u8> {
        self.line.as_bytes().get(self.at).copied()
    }

    /// Whether a name in quotes comes.
    fn is_name(&self, name: &str) -> bool {
        let rest = &self.line.as_bytes()[self.at..];
        let end = name.len() + 1;
        rest.get(end) == Some(&b'"') && rest[0] == b'"' && rest[1..end] == *name.as_bytes()
    }

    /// Takes a sign, and a space behind it.
    fn sign(&mut self, sign: u8) -> Option<()> {
        if self.peek()? != sign {
            return None;
        }
        self.at += 1;
        self.at += usize::from(self.peek() == Some(b' '));
        Some(())
    }

    /// Whether a comma comes, and not the end of the object.
    fn goes_on(&mut self) -> Option<bool> {
        if self.peek()? == b'}' {
            self.at += 1;
            return Some(false);
        }
        self.sign(b',').map(|()| true)
    }

    /// A text in quotes without any escape.
    fn text(&mut self) -> Option<&'l str> {
        if self.peek()? != b'"' {
            return None;
        }
        let start = self.at + 1;
        let mut at = start;
        let bytes = self.line.as_bytes();
        loop {
            if let Some(eight) = bytes.get(at..).and_then(|rest| rest.first_chunk::<WIDTH>()) {
                let plain = before_special(u64::from_le_bytes(*eight));
                at += plain;
                if plain == WIDTH {
                    continue;
                }
            }
            match *bytes.get(at)? {
                b'"' => break,
                b'\\' | ..b' ' => return None,
                _ => at += 1,
            }
        }
        self.at = at + 1;
        self.line.get(start..at)
    }

    fn tags(&mut self, tags: &mut Tags) -> Option<()> {
        let mut known = std::mem::take(tags).into_tuple_vec();
        let mut count = 0;
        self.sign(b'{')?;
        let mut more = self.peek()? != b'}';
        self.at += usize::from(!more);
        while more {
            if count == known.len() {
                known.push(Default::default());
            }
            let (name, value) = &mut known[count];
            for (room, behind) in [(name, Some(b':')), (value, None)] {
                let text = self.text()?;
                if room != text {
                    room.clear();
                    room.push_str(text);
                }
                behind.map_or(Some(()), |sign| self.sign(sign))?;
            }
            count += 1;
            more = self.goes_on()?;
        }
        known.truncate(count);
        *tags = sorted_tags(known);
        Some(())
    }
}

/// How many of eight bytes stand before the first that is a quote, a backslash or a control character.
const fn before_special(bytes: u64) -> usize {
    const TOP: u64 = EACH << 7;
    // The lowest bit that is set is that of the first such byte: a borrow reaches only those behind it.
    const fn zeros(bytes: u64) -> u64 {
        bytes.wrapping_sub(EACH) & !bytes
    }
    let control = bytes.wrapping_sub(EACH * b' ' as u64) & !bytes;
    let special = zeros(bytes ^ (EACH * b'"' as u64)) | zeros(bytes ^ (EACH * b'\\' as u64)) | control;
    (special & TOP).trailing_zeros() as usize / 8
}

#[cfg(test)]
mod tests {
    use fonex_core::Clip;
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn lines_as_programs_write_them_are_read_and_others_left() {
        for (line, read) in [
            (r#"{"id":"a","text":"Türen schließen.","lang":"de","tags":{"wind":"strong"},"audio":"a.wav"}"#, true),
            (r#"{"id": "a", "text": "", "tags": {}, "speaker": "op-1"}"#, true),
            (r#"{"text":"doors close","id":"a"}"#, true),
            (r#"{"id":"a","text":"doors\u0020close"}"#, false),
            ("{\"id\":\"a\",\"text\":\"doors\tclose\"}", false),
            (r#"{"id":"a","text":"doors"#, false),
            (r#"{"id":"a","text":"doors","terms":[]}"#, false),
            (r#"{"id":"a","text":null}"#, false),
            (r#"{"id":"a"}"#, false),
            ("{}", false),
            (r#"{"id":"a","text":"b""#, false),
            (r#"{"id":"a","text":"b"}}"#, false),
        ] {
            let mut clip = Clip::default();
            assert_eq!(refill_plain(&mut clip, line).is_some(), read, "{line}");
            if read {
                assert_eq!(clip, serde_json::from_str(line).unwrap());
            }
        }
    }

    proptest! {
        #[test]
        fn the_first_special_byte_of_eight_is_found(bytes in any::<[u8; 8]>(), plain in 0..9_usize) {
            let mut bytes = bytes;
            bytes[..plain].iter_mut().for_each(|byte| if matches!(*byte, b'"' | b'\\' | ..b' ') { *byte = 0x80; });
            let slow = bytes.iter().position(|byte| matches!(*byte, b'"' | b'\\' | ..b' ')).unwrap_or(8);
            prop_assert_eq!(before_special(u64::from_le_bytes(bytes)), slow);
        }
    }
}
