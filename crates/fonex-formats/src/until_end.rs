//! A reader whose end is an end, for libraries that go on to read behind it.

use std::io::{ErrorKind, Read};

/// Reads up to the end, which is told a few times and is a mistake from then on.
pub(crate) struct UntilEnd<R> {
    reader: R,
    ends: u32,
}

impl<R> UntilEnd<R> {
    pub(crate) const fn of(reader: R) -> Self {
        Self { reader, ends: 0 }
    }
}

impl<R: Read> Read for UntilEnd<R> {
    fn read(&mut self, into: &mut [u8]) -> std::io::Result<usize> {
        const OFTEN: u32 = 16;
        let read = self.reader.read(into)?;
        if read == 0 && !into.is_empty() {
            self.ends += 1;
            if self.ends > OFTEN {
                return Err(ErrorKind::UnexpectedEof.into());
            }
        }
        Ok(read)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn behind_the_end_there_is_nothing_to_read_again_and_again() {
        let mut reader = UntilEnd::of(&b"ab"[..]);
        let mut bytes = [0; 8];
        let read: Vec<_> = (0..40).map(|_| reader.read(&mut bytes).map_err(|error| error.kind())).collect();
        assert_eq!(read[..2], [Ok(2), Ok(0)]);
        assert_eq!(read[39], Err(ErrorKind::UnexpectedEof));
    }
}
