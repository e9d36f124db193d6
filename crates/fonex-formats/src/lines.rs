//! Reading a text file line by line in bounded memory.

use std::fs::File;
use std::io::{BufRead, BufReader};
use std::path::{Path, PathBuf};

use crate::{Place, Problem, Share, regular};

/// A line longer than this is refused rather than read into memory.
pub(crate) const LONGEST_LINE: u64 = 32 << 20;
/// A block ends early once it holds this many bytes.
const LONGEST_BLOCK: usize = 32 << 20;

/// Lines of a UTF-8 file with their numbers. Skips blank lines and a byte-order mark; takes LF and CRLF.
pub(crate) struct Lines {
    path: PathBuf,
    reader: BufReader<File>,
    number: u64,
    /// Bytes of the file read so far.
    offset: u64,
    buffer: Vec<u8>,
    /// Only lines of these records, where it is not all.
    share: Option<Share>,
}

/// Some consecutive lines.
#[derive(Default)]
pub(crate) struct Block {
    bytes: Vec<u8>,
    pub(crate) lines: Vec<LineAt>,
}

/// Where a line stands: its number, its place in the file and in its block.
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
    /// The text of a line; none where it is not UTF-8.
    pub(crate) fn plain_text(&self, line: &LineAt) -> Option<&str> {
        std::str::from_utf8(&self.bytes[line.start..line.end]).ok()
    }

    /// The text of a line.
    pub(crate) fn text(&self, line: &LineAt, path: &Path) -> Result<&str, Problem> {
        as_text(&self.bytes[line.start..line.end], path, line.number)
    }
}

pub(crate) fn as_text<'b>(bytes: &'b [u8], path: &Path, number: u64) -> Result<&'b str, Problem> {
    std::str::from_utf8(bytes).map_err(|error| {
        let byte = error.valid_up_to() + 1;
        Problem::new(format!("byte {byte} of the line is not UTF-8"), Place::line(path, number))
            .remedy("save the file as UTF-8")
    })
}

impl Lines {
    pub(crate) fn open(path: &Path) -> Result<Self, Problem> {
        let file = regular::open(path).map_err(|error| Problem::io("read", path, &error))?;
        Ok(Self {
            path: path.to_owned(),
            reader: BufReader::with_capacity(1 << 18, file),
            number: 0,
            offset: 0,
            buffer: Vec::new(),
            share: None,
        })
    }

    /// The same, but only of the records of a share.
    pub(crate) const fn of(mut self, share: Option<Share>) -> Self {
        self.share = share;
        self
    }

    /// The next line that is not blank. After an error the file is not read on.
    pub(crate) fn next(&mut self) -> Result<Option<(u64, &str)>, Problem> {
        let mut buffer = std::mem::take(&mut self.buffer);
        buffer.clear();
        let found = self.append(&mut buffer);
        self.buffer = buffer;
        match found? {
            Some(_) => Ok(Some((self.number, as_text(&self.buffer, &self.path, self.number)?))),
            None => Ok(None),
        }
    }

    /// Up to `most` lines; none of them at the end of the file.
    pub(crate) fn next_block(&mut self, most: usize) -> Result<Block, Problem> {
        let mut block = Block { bytes: Vec::with_capacity(most * 128), lines: Vec::with_capacity(most) };
        while block.lines.len() < most && block.bytes.len() < LONGEST_BLOCK {
            let start = block.bytes.len();
            let Some(offset) = self.append(&mut block.bytes)? else { break };
            block.lines.push(LineAt { number: self.number, offset, start, end: block.bytes.len() });
        }
        Ok(block)
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
        let start = buffer.len();
        loop {
            let read = self.read_line(buffer).map_err(|error| Problem::io("read", &self.path, &error))? as u64;
            if read == 0 {
                return Ok(None);
            }
            self.number += 1;
            let mut offset = self.offset;
            self.offset += read;
            if read > LONGEST_LINE {
                let limit = LONGEST_LINE >> 20;
                let place = Place::line(&self.path, self.number);
                return Err(Problem::new(format!("the line is longer than {limit} MiB"), place)
                    .expected("one JSON object a line")
                    .remedy("check that the file has line breaks between its records"));
            }
            if self.number == 1 && buffer[start..].starts_with(b"\xef\xbb\xbf") {
                buffer.drain(start..start + 3);
                offset += 3;
            }
            while buffer.len() > start && matches!(buffer.last(), Some(b'\n' | b'\r')) {
                buffer.pop();
            }
            let line = &buffer[start..];
            if line.iter().any(|byte| !byte.is_ascii_whitespace())
                && self.share.is_none_or(|share| share.has_line(line))
            {
                return Ok(Some(offset));
            }
            buffer.truncate(start);
        }
    }
}
