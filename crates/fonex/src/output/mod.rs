//! Printing: tables, numbers, comparisons, complaints. Results go to standard output, all else to standard error.

mod file;
mod notes;
mod progress;
mod screen;
mod speech;
mod words;

use std::io::{IsTerminal, Write};
use std::path::Path;
use std::sync::OnceLock;

use fonex_formats::{Place, Problem};
use fonex_report::png_from_svg;
use fonex_report::readable::{escaped, page};
use serde::Serialize;
use unicode_width::UnicodeWidthStr;

pub use file::write_whole;
pub use fonex_report::figures::{milliseconds, money, plural, seconds, signed};
use fonex_report::folded_under;
pub use fonex_report::{Cell, Table, shortened};
pub use notes::{in_pieces, percent, rate_with_interval, these_speakers, timing_notes};
pub use progress::{RunBar, clip_bar, count_bar};
pub use screen::Screen;
pub use speech::{sound_picture, speech_lines};
pub use words::{thread_key, thread_lines};

use crate::cli::{Color, Format};
use crate::failure::Failure;

/// How the person who started the program wants to be spoken to.
#[derive(Debug, Clone, Copy)]
struct Manner {
    quiet: bool,
    color: Color,
}

static MANNER: OnceLock<Manner> = OnceLock::new();

/// Told once, before anything is printed.
pub fn set_manner(quiet: bool, color: Color) {
    // It is told once only.
    let _ = MANNER.set(Manner { quiet, color });
}

/// Whether nothing but cautions and errors is to be said beside the results.
fn is_quiet() -> bool {
    MANNER.get().is_some_and(|manner| manner.quiet)
}

/// Prints a failure the one way all failures are printed.
pub fn print_failure(failure: &Failure) {
    if let Failure::Input(problems) = failure {
        say(&format!("error: {problems}"));
    }
}

/// Prints a caution that does not stop the work.
pub fn caution(message: &str) {
    say(&format!("caution: {message}"));
}

/// Prints a line beside the results, to standard error. Nothing but this and [`print`] writes to the terminal, and
/// neither lets through
/// what could steer one.
pub fn note(line: &str) {
    if !is_quiet() {
        say(line);
    }
}

fn say(line: &str) {
    // Where nobody listens there is nobody to tell.
    drop(writeln!(std::io::stderr().lock(), "{}", page(line)));
}

/// Prints text to standard output; a reader that goes away ends the command quietly.
pub fn print(text: &str) -> Result<(), Failure> {
    print_safe(&page(text))
}

/// Prints lines for people. On a terminal, or where `COLUMNS` is set, longer lines are broken between words; a program that
/// reads them gets whole lines.
pub fn print_lines(text: &str) -> Result<(), Failure> {
    let is_read_by_people = std::io::stdout().is_terminal() || std::env::var_os("COLUMNS").is_some();
    print(&if is_read_by_people { within(text, width()) } else { text.to_owned() })
}

/// Breaks lines longer than `width` between words; what follows a break is moved in.
fn within(text: &str, width: usize) -> String {
    let fits = |line: &str| line.contains('\u{1b}') || line.width() <= width;
    let lines = text.lines().map(|line| {
        if fits(line) {
            return format!("{line}\n");
        }
        let words = line.trim_start_matches(' ');
        let indent = line.len() - words.len();
        let folded = folded_under(words, width.saturating_sub(indent).max(20), 2);
        folded.lines().map(|part| format!("{}{part}\n", " ".repeat(indent))).collect()
    });
    let folded: String = lines.collect();
    if text.ends_with('\n') { folded } else { folded.trim_end_matches('\n').to_owned() }
}

/// Prints what nothing can steer a terminal by.
fn print_safe(text: &str) -> Result<(), Failure> {
    let mut out = std::io::stdout().lock();
    out.write_all(text.as_bytes())?;
    out.flush()?;
    Ok(())
}

/// Prints a value as JSON.
pub fn print_json(value: &impl Serialize) -> Result<(), Failure> {
    let mut text = serde_json::to_string_pretty(value).map_err(|error| std::io::Error::other(error.to_string()))?;
    text.push('\n');
    print_safe(&escaped(&text))
}

/// Prints one table in the form asked for; JSON is the caller's.
pub fn print_table(table: &Table, format: Format) -> Result<(), Failure> {
    print(&match format {
        Format::Csv => table.csv(),
        Format::Markdown => table.markdown(),
        Format::Table | Format::Json => table.terminal(width()),
    })
}

/// A table as text for the terminal there is.
pub fn text(table: &Table) -> String {
    table.terminal(width())
}

/// Writes a chart as SVG or PNG, as the file's ending says.
pub fn write_chart(path: &Path, svg: &str) -> Result<(), Failure> {
    let bytes = match path.extension().and_then(|ending| ending.to_str()) {
        Some("svg") => svg.as_bytes().to_vec(),
        Some("png") => png_from_svg(svg).map_err(|error| Problem::new(error.to_string(), Place::file(path)))?,
        _ => {
            let problem = Problem::new("the file extension decides the format of the chart", Place::file(path));
            return Err(problem.expected(".svg or .png").into());
        }
    };
    write_whole(path, |out| Ok(out.write_all(&bytes)?))?;
    note(&format!("Wrote {}.", path.display()));
    Ok(())
}

/// Words that begin with a capital.
pub fn capital(words: &str) -> String {
    let mut letters = words.chars();
    letters.next().map_or_else(String::new, |first| first.to_uppercase().chain(letters).collect())
}

/// What a chart had no room for, as the end of its caption.
pub fn not_drawn(names: &[impl std::borrow::Borrow<str>]) -> String {
    if names.is_empty() { String::new() } else { format!(" Not drawn: {}.", names.join(", ")) }
}

/// Whether standard output takes colour: a terminal that is not a dumb one. `NO_COLOR` means never, whatever is asked for.
pub fn colour() -> bool {
    let is_set = |name: &str| std::env::var_os(name).is_some_and(|value| !value.is_empty());
    if is_set("NO_COLOR") {
        return false;
    }
    match MANNER.get().map_or(Color::Auto, |manner| manner.color) {
        Color::Always => true,
        Color::Never => false,
        Color::Auto => {
            std::io::stdout().is_terminal() && std::env::var_os("TERM").is_none_or(|terminal| terminal != "dumb")
        }
    }
}

/// Columns of the terminal, or those the environment names in `COLUMNS`; 100 where neither is known.
pub fn width() -> usize {
    let named = || std::env::var("COLUMNS").ok()?.parse().ok();
    let terminal = terminal_size::terminal_size().map(|(width, _)| usize::from(width.0));
    terminal.or_else(named).unwrap_or(100).clamp(40, 200)
}

#[cfg(test)]
mod tests {
    use super::within;

    #[test]
    fn long_lines_are_broken_between_words_and_short_ones_stay() {
        let text = "short\n  a line of two columns and more\n\nunbreakable-word-of-many-letters-in-a-row\n";
        let narrow = within(text, 24);
        assert_eq!(
            narrow,
            "short\n  a line of two columns\n    and more\n\nunbreakable-word-of-many-letters-in-a-row\n"
        );
        assert_eq!(within(text, 80), text);
        assert_eq!(within("no end", 80), "no end");
    }
}
