//! Reading a text file line by line in bounded memory.

use std::fs::File;
use std::io::{BufRead, BufReader};
use std::path::Path;
use std::sync::Arc;

use crate::Problem;
use crate::pieces::{Holds, Pieces};

/// A line longer than this is refused rather than read into memory.
pub(crate) const LONGEST_LINE: u64 = 32 << 20;
/// A block ends early once it holds this many bytes.
const LONGEST_BLOCK: usize = 32 << 20;

/// Bytes of a line that room is made for.
const USUAL_LINE: usize = 256;

/// Lines of UTF-8 files with their numbers, counted through all of them. Skips blank lines and a byte-order mark; takes LF and CRLF.
pub(crate) struct Lines {
    pieces: Arc<Pieces>,
    /// Which of them is read.
    piece: usize,
    reader: BufReader<File>,
    number: u64,
    /// The number of the line before the first of this file.
    before: u64,
    /// Bytes read so far, of all files.
    offset: u64,
    buffer: Vec<u8>,
}

/// Some consecutive lines.
#[derive(Default)]
pub(crate) struct Block {
    bytes: Vec<u8>,
    pub(crate) lines: Vec<LineAt>,
}

/// Where a line stands: its number, its place in the files and in its block.
#[derive(Clone, Copy)]
pub(crate) struct LineAt {
    pub(crate) number: u64,
    pub(crate) offset: u64,
    start: usize,
    end: usize,
}

impl LineAt {
    /// Bytes of the line, without its end.
    pub(crate) const fn length(&self) -> usize {
        self.end - self.start
    }
}

impl Block {
    /// The texts of lines that follow each other, none for one that is not UTF-8; none at all where bytes of other kinds are between them.
    pub(crate) fn texts(&self, lines: &[LineAt]) -> Option<impl Iterator<Item = Option<&str>>> {
        let start = lines.first().map_or(0, |line| line.start);
        let end = lines.last().map_or(0, |line| line.end);
        // Looked through once: looking at each line by itself takes three times as long.
        let all = std::str::from_utf8(&self.bytes[start..end]).ok()?;
        Some(lines.iter().map(move |line| all.get(line.start - start..line.end - start)))
    }

    /// The text of a line.
    pub(crate) fn text(&self, line: &LineAt, pieces: &Pieces) -> Result<&str, Problem> {
        as_text(&self.bytes[line.start..line.end], pieces, line.number)
    }
}

pub(crate) fn as_text<'b>(bytes: &'b [u8], pieces: &Pieces, number: u64) -> Result<&'b str, Problem> {
    std::str::from_utf8(bytes).map_err(|error| {
        let byte = error.valid_up_to() + 1;
        Problem::new(format!("byte {byte} of the line is not UTF-8"), pieces.place(number))
            .remedy("save the file as UTF-8")
    })
}

/// How long a line is without its end.
fn without_end(line: &[u8]) -> usize {
    line.iter().rposition(|byte| !matches!(byte, b'\n' | b'\r')).map_or(0, |last| last + 1)
}

fn is_blank(line: &[u8]) -> bool {
    line.iter().all(u8::is_ascii_whitespace)
}

impl Lines {
    pub(crate) fn open(path: &Path, holds: Holds) -> Result<Self, Problem> {
        Self::of(Arc::new(Pieces::of(path, holds)?))
    }

    /// The lines of these files, and of the records of their share alone.
    pub(crate) fn of(pieces: Arc<Pieces>) -> Result<Self, Problem> {
        let file = pieces.begin(0, 0, 0)?.expect("there is a file");
        let reader = BufReader::with_capacity(1 << 18, file);
        Ok(Self { pieces, piece: 0, reader, number: 0, before: 0, offset: 0, buffer: Vec::new() })
    }

    /// Of what they are the lines.
    pub(crate) fn pieces(&self) -> Arc<Pieces> {
        Arc::clone(&self.pieces)
    }

    /// Goes on with the next file; false where there is none.
    fn next_piece(&mut self) -> Result<bool, Problem> {
        let Some(file) = self.pieces.begin(self.piece + 1, self.number, self.offset)? else { return Ok(false) };
        self.reader = BufReader::with_capacity(1 << 18, file);
        self.piece += 1;
        self.before = self.number;
        Ok(true)
    }

    /// The next line that is not blank. After an error the file is not read on.
    pub(crate) fn next(&mut self) -> Result<Option<(u64, &str)>, Problem> {
        let mut buffer = std::mem::take(&mut self.buffer);
        buffer.clear();
        let found = self.append(&mut buffer);
        self.buffer = buffer;
        match found? {
            Some(_) => Ok(Some((self.number, as_text(&self.buffer, &self.pieces, self.number)?))),
            None => Ok(None),
        }
    }

    /// Puts up to `most` lines into a block, in the place of those in it; none of them at the end of the file.
    pub(crate) fn next_block(&mut self, most: usize, block: &mut Block) -> Result<(), Problem> {
        block.bytes.clear();
        block.lines.clear();
        // Room that grows is copied and touched twice; what is not used of it is never touched.
        let length = self.reader.get_ref().metadata().map_or(0, |file| file.len());
        let left = usize::try_from(length).unwrap_or(usize::MAX);
        block.bytes.reserve(left.min(most * USUAL_LINE));
        block.lines.reserve(left.min(most));
        while block.lines.len() < most && block.bytes.len() < LONGEST_BLOCK {
            // The first line of a file may begin with a byte-order mark.
            if self.number > self.before && self.pieces.share().is_none() {
                self.take_whole(most - block.lines.len(), block);
                if block.lines.len() == most {
                    break;
                }
            }
            let start = block.bytes.len();
            let Some(offset) = self.append(&mut block.bytes)? else { break };
            block.lines.push(LineAt { number: self.number, offset, start, end: block.bytes.len() });
        }
        Ok(())
    }

    /// Puts up to `most` lines into a block, as far as they are whole in what was read ahead: most are, and so are copied together.
    fn take_whole(&mut self, most: usize, block: &mut Block) {
        let (here, start) = (self.reader.buffer(), block.bytes.len());
        let mut taken = 0;
        for end in memchr::memchr_iter(b'\n', here).take(most) {
            self.number += 1;
            let line = &here[taken..end];
            if !is_blank(line) {
                let (start, offset) = (start + taken, self.offset + taken as u64);
                block.lines.push(LineAt { number: self.number, offset, start, end: start + without_end(line) });
            }
            taken = end + 1;
        }
        block.bytes.extend_from_slice(&here[..taken]);
        self.offset += taken as u64;
        self.reader.consume(taken);
    }

    /// Appends what comes up to the next line feed, and with it; of a line that is too long not much more than is allowed.
    fn read_line(&mut self, buffer: &mut Vec<u8>) -> std::io::Result<usize> {
        let mut read = 0;
        while read as u64 <= LONGEST_LINE {
            let here = self.reader.fill_buf()?;
            if here.is_empty() {
                break;
            }
            let end = memchr::memchr(b'\n', here).map(|at| at + 1);
            let used = end.unwrap_or(here.len());
            buffer.extend_from_slice(&here[..used]);
            self.reader.consume(used);
            read += used;
            if end.is_some() {
                break;
            }
        }
        Ok(read)
    }

    /// Appends the next line that is not blank, without its end, and says where in the file it stands.
    fn append(&mut self, buffer: &mut Vec<u8>) -> Result<Option<u64>, Problem> {
        let (start, share) = (buffer.len(), self.pieces.share());
        loop {
            let read = self.read_line(buffer).map_err(|error| self.pieces.problem(self.piece, &error))? as u64;
            if read == 0 {
                if self.next_piece()? {
                    continue;
                }
                return Ok(None);
            }
            self.number += 1;
            let mut offset = self.offset;
            self.offset += read;
            if read > LONGEST_LINE {
                let limit = LONGEST_LINE >> 20;
                let place = self.pieces.place(self.number);
                return Err(Problem::new(format!("the line is longer than {limit} MiB"), place)
                    .expected("one JSON object a line")
                    .remedy("check that the file has line breaks between its records"));
            }
            if self.number == self.before + 1 && buffer[start..].starts_with(b"\xef\xbb\xbf") {
                buffer.drain(start..start + 3);
                offset += 3;
            }
            buffer.truncate(start + without_end(&buffer[start..]));
            let line = &buffer[start..];
            if !is_blank(line) && share.is_none_or(|share| share.has_line(line)) {
                return Ok(Some(offset));
            }
            buffer.truncate(start);
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #![proptest_config(ProptestConfig { cases: 48, ..ProptestConfig::default() })]

        /// The slow twin reads one line after the other.
        #[test]
        fn lines_taken_together_are_those_taken_one_by_one(
            lines in prop::collection::vec((prop::sample::select(vec!["", " \t", "{}", "\r", "é", "a b", "\u{feff}"]), 1..4_usize, any::<bool>()), 1..40),
            width in prop::sample::select(vec![1_usize, 900, 20_000]),
            most in 1..40_usize,
            ends in any::<bool>(),
        ) {
            let mut text: String =
                lines.iter().map(|(line, times, feed)| line.repeat(times * width) + if *feed { "\r\n" } else { "\n" }).collect();
            if !ends {
                text.pop();
            }
            let folder = tempfile::tempdir().unwrap();
            let path = folder.path().join("lines.jsonl");
            std::fs::write(&path, &text).unwrap();
            let mut one_by_one = Lines::open(&path, Holds::Labels).unwrap();
            let mut slow = Vec::new();
            while let Some((number, line)) = one_by_one.next().unwrap() {
                slow.push((number, line.to_owned()));
            }
            let (mut together, mut block, mut found) = (Lines::open(&path, Holds::Labels).unwrap(), Block::default(), Vec::new());
            loop {
                together.next_block(most, &mut block).unwrap();
                prop_assert!(block.lines.len() <= most);
                if block.lines.is_empty() {
                    break;
                }
                let texts = block.texts(&block.lines).unwrap();
                for (at, line) in block.lines.iter().zip(texts) {
                    prop_assert_eq!(&text[at.offset as usize..][..at.length()], line.unwrap());
                    found.push((at.number, line.unwrap().to_owned()));
                }
            }
            prop_assert_eq!(found, slow);
        }
    }
}
