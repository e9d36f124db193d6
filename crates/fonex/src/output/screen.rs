//! A full screen: the terminal's second page, drawn anew as a whole, and given back whatever happens.

use std::io::{self, Write};

use fonex_report::readable::page;

/// The screen as long as it is held.
pub struct Screen(());

impl Screen {
    /// Takes the screen (xterm's alternate screen), without a cursor.
    ///
    /// # Errors
    /// When nothing can be written.
    pub fn open() -> io::Result<Self> {
        let mut out = io::stdout().lock();
        out.write_all(b"\x1b[?1049h\x1b[?25l\x1b[2J")?;
        out.flush()?;
        Ok(Self(()))
    }

    /// Draws a text from the top; what does not fit below is cut off.
    pub fn draw(&self, text: &str) {
        let rows = terminal_size::terminal_size().map_or(24, |(_, height)| usize::from(height.0));
        let mut drawn = "\x1b[H".to_owned();
        for line in text.lines().take(rows.saturating_sub(1)) {
            // Erased before it is written: behind a line that fills the row, its last letter would go.
            drawn += "\x1b[2K";
            drawn += &page(line);
            drawn += "\r\n";
        }
        drawn += "\x1b[J";
        let mut out = io::stdout().lock();
        // Where nobody looks there is nobody to show.
        drop(out.write_all(drawn.as_bytes()).and_then(|()| out.flush()));
    }
}

impl Drop for Screen {
    fn drop(&mut self) {
        let mut out = io::stdout().lock();
        drop(out.write_all(b"\x1b[?25h\x1b[?1049l").and_then(|()| out.flush()));
    }
}
