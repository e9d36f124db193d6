//! Watches the quotation marks of a table (RFC 4180): the reader takes one that is never closed for the rest of the file.

use std::path::Path;

use crate::{Place, Problem};

/// Where a quotation mark is wrong.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum QuoteFault {
    /// The quotation mark that opens a cell on this line is never closed.
    Unclosed(u64),
    /// Text follows the mark that closes the cell which begins on the first of these lines; it stands on the second.
    TextBehind(u64, u64),
}

impl QuoteFault {
    pub(crate) fn problem(self, path: &Path) -> Problem {
        let problem = match self {
            Self::Unclosed(line) => Problem::new("the quotation mark is never closed", Place::line(path, line)),
            Self::TextBehind(line, behind) => {
                let what = format!("text follows the closing quotation mark on line {behind}");
                Problem::new(format!("the cell opens with a quotation mark, and {what}"), Place::line(path, line))
            }
        };
        problem
            .expected("a quoted cell ends with a quotation mark before the separator or the end of the line")
            .remedy(
                "write a quotation mark inside a quoted cell twice, or quote the whole cell: \"say \"\"hold\"\"\"",
            )
    }
}

#[derive(Debug, Clone, Copy)]
enum State {
    CellStart,
    Plain,
    /// Inside a quoted cell that began on this line.
    Quoted(u64),
    /// Behind a quotation mark in a quoted cell: it closes the cell or stands for itself.
    AfterMark(u64),
}

/// The state of quoting after the bytes read so far.
#[derive(Debug)]
pub(crate) struct Quotes {
    delimiter: u8,
    state: State,
    line: u64,
    last: u8,
    /// Bytes of a byte-order mark still to skip.
    mark: &'static [u8],
    fault: Option<QuoteFault>,
}

impl Quotes {
    pub(crate) const fn new(delimiter: u8) -> Self {
        Self { delimiter, state: State::CellStart, line: 1, last: 0, mark: b"\xef\xbb\xbf", fault: None }
    }

    /// Takes the next bytes of the file; none at its end.
    pub(crate) fn feed(&mut self, bytes: &[u8]) {
        if bytes.is_empty() {
            if let State::Quoted(line) = self.state {
                self.fault.get_or_insert(QuoteFault::Unclosed(line));
            }
            return;
        }
        for byte in bytes {
            self.take(*byte);
        }
    }

    /// The first fault so far.
    pub(crate) const fn fault(&self) -> Option<QuoteFault> {
        self.fault
    }

    fn take(&mut self, byte: u8) {
        match self.mark.split_first() {
            Some((first, rest)) if *first == byte => {
                self.mark = rest;
                return;
            }
            _ => self.mark = &[],
        }
        let ends = byte == self.delimiter || matches!(byte, b'\r' | b'\n');
        self.state = match (self.state, byte) {
            (State::CellStart, b'"') => State::Quoted(self.line),
            (State::CellStart | State::Plain, _) if ends => State::CellStart,
            (State::CellStart | State::Plain, _) => State::Plain,
            (State::Quoted(from), b'"') => State::AfterMark(from),
            (State::AfterMark(from), b'"') | (State::Quoted(from), _) => State::Quoted(from),
            (State::AfterMark(_), _) if ends => State::CellStart,
            (State::AfterMark(from), _) => {
                self.fault.get_or_insert(QuoteFault::TextBehind(from, self.line));
                State::Plain
            }
        };
        // CRLF is one line break, and so is a lone CR.
        if byte == b'\r' || byte == b'\n' && self.last != b'\r' {
            self.line += 1;
        }
        self.last = byte;
    }
}

/// Whether the header of a table has quoted names, which says that its cells are quoted.
pub(crate) fn says_quoted(start: &[u8]) -> bool {
    let start = start.strip_prefix(b"\xef\xbb\xbf").unwrap_or(start);
    let header = start.split(|byte| matches!(byte, b'\r' | b'\n')).next().unwrap_or(start);
    header.split(|byte| *byte == b'\t').any(|name| name.len() > 1 && name.starts_with(b"\"") && name.ends_with(b"\""))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn fault(text: &str) -> Option<QuoteFault> {
        let mut whole = Quotes::new(b',');
        whole.feed(text.as_bytes());
        whole.feed(b"");
        // The result does not depend on how the bytes are split.
        let mut single = Quotes::new(b',');
        text.as_bytes().iter().for_each(|byte| single.feed(&[*byte]));
        single.feed(b"");
        assert_eq!(whole.fault(), single.fault());
        whole.fault()
    }

    #[test]
    fn only_marks_that_break_a_table_are_faults() {
        for fine in [
            "",
            "a,b\n1,2\n",
            "a\n\"x, \"\"y\"\"\n z\"\n",
            "a\n5\" pipe, \"q\n",
            "\u{feff}\"a\"\r\n\"\"\r\n",
            "a\n\"b\"",
        ] {
            assert_eq!(fault(fine), None, "{fine:?}");
        }
        assert_eq!(fault("a\n\"b\nc\nd\n"), Some(QuoteFault::Unclosed(2)));
        assert_eq!(fault("a\r\nx\r\n\"b\r\n"), Some(QuoteFault::Unclosed(3)));
        assert_eq!(fault("a\n\"Hold\nx\n\"Stop\n"), Some(QuoteFault::TextBehind(2, 4)));
        assert_eq!(fault("\u{feff}\"a\n"), Some(QuoteFault::Unclosed(1)));
    }

    #[test]
    fn a_quoted_header_says_that_cells_are_quoted() {
        assert!(says_quoted(b"\xef\xbb\xbf\"id\"\t\"text\"\r\nx"));
        assert!(!says_quoted(b"id\ttext\n\"a\"\t\"b\"") && !says_quoted(b"") && !says_quoted(b"\""));
    }
}
