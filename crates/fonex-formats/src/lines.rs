//! Reading a text file line by line in bounded memory.

use std::fs::File;
use std::io::{BufRead, BufReader, Read};
use std::path::{Path, PathBuf};

use crate::{Place, Problem};

/// A line longer than this is refused rather than read into memory.
const LONGEST_LINE: u64 = 256 << 20;

/// Lines of a UTF-8 file with their numbers. Skips blank lines and a byte-order mark; takes LF and CRLF.
pub(crate) struct Lines {
    path: PathBuf,
    reader: BufReader<File>,
    number: u64,
    buffer: Vec<u8>,
}

impl Lines {
    pub(crate) fn open(path: &Path) -> Result<Self, Problem> {
        let file = File::open(path).map_err(|error| Problem::io("read", path, &error))?;
        Ok(Self {
            path: path.to_owned(),
            reader: BufReader::with_capacity(1 << 16, file),
            number: 0,
            buffer: Vec::new(),
        })
    }

    /// The next line that is not blank. After an error the file is not read on.
    pub(crate) fn next(&mut self) -> Result<Option<(u64, &str)>, Problem> {
        loop {
            self.buffer.clear();
            let read = self.reader.by_ref().take(LONGEST_LINE + 1).read_until(b'\n', &mut self.buffer);
            let read = read.map_err(|error| Problem::io("read", &self.path, &error))?;
            if read == 0 {
                return Ok(None);
            }
            self.number += 1;
            let place = || Place::line(&self.path, self.number);
            if read as u64 > LONGEST_LINE {
                let limit = LONGEST_LINE >> 20;
                return Err(Problem::new(format!("the line is longer than {limit} MiB"), place())
                    .expected("one JSON object a line")
                    .remedy("check that the file has line breaks between its records"));
            }
            if self.number == 1 && self.buffer.starts_with(b"\xef\xbb\xbf") {
                self.buffer.drain(..3);
            }
            if self.buffer.iter().all(u8::is_ascii_whitespace) {
                continue;
            }
            break;
        }
        match std::str::from_utf8(&self.buffer) {
            Ok(line) => Ok(Some((self.number, line.trim_end_matches(['\n', '\r'])))),
            Err(error) => {
                let byte = error.valid_up_to() + 1;
                Err(Problem::new(
                    format!("byte {byte} of the line is not UTF-8"),
                    Place::line(&self.path, self.number),
                )
                .remedy("save the file as UTF-8"))
            }
        }
    }
}
