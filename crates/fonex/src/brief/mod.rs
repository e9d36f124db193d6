//! The form of every result on a screen: the answer, one table, what stands out, where to go on.

mod rank;

pub use rank::{MEDIAN, names_in_words, ranking};

use std::sync::atomic::{AtomicBool, Ordering};

use fonex_report::folded_under;

use crate::cli::Format;
use crate::failure::Failure;
use crate::output::{self, Table};

/// Lines of what stands out.
const MOST_LINES: usize = 5;

/// A result on one screen.
#[derive(Debug, Default)]
pub struct Brief {
    /// What was asked, in one line.
    pub heading: String,
    /// One to three sentences.
    pub answer: Vec<String>,
    /// A chart in text.
    pub drawing: String,
    /// One table; of a run with several tasks, one for each.
    pub tables: Vec<Table>,
    /// Explains signs and terms of the tables.
    pub notes: Vec<String>,
    /// The most important line first.
    pub stands_out: Vec<String>,
    /// Commands that show more.
    pub more: Vec<String>,
}

/// Whether only headings, sentences and tables are printed: the demo shows many results in a row.
static SHORT: AtomicBool = AtomicBool::new(false);

/// From now on leaves out charts, notes, what stands out and further commands.
pub fn print_short() {
    SHORT.store(true, Ordering::Relaxed);
}

impl Brief {
    /// Prints for a terminal or as Markdown.
    ///
    /// # Errors
    /// When standard output cannot be written.
    pub fn print(&self, form: Format) -> Result<(), Failure> {
        if SHORT.load(Ordering::Relaxed) {
            let tables = self.tables.iter().map(|table| table.clone().noted("")).collect();
            let (heading, answer) = (self.heading.clone(), self.answer.clone());
            return output::print(&Self { heading, answer, tables, ..Self::default() }.terminal(output::width()));
        }
        match form {
            Format::Markdown => output::print(&self.markdown()),
            _ => output::print(&self.terminal(output::width())),
        }
    }

    /// For a terminal of this many columns.
    #[must_use]
    pub fn terminal(&self, width: usize) -> String {
        let mut blocks: Vec<String> = Vec::new();
        if !self.heading.is_empty() {
            blocks.push(folded_under(&self.heading, width, 2));
        }
        if !self.answer.is_empty() {
            blocks.push(folded_under(&self.answer.join(" "), width, 0));
        }
        if !self.drawing.is_empty() {
            blocks.push(format!("{}\n", self.drawing.trim_end()));
        }
        blocks.extend(self.tables.iter().filter(|table| !table.is_empty()).map(|table| table.terminal(width)));
        if !self.notes.is_empty() {
            let notes: String = self.notes.iter().map(|note| folded_under(note, width, 0)).collect();
            match blocks.last_mut().filter(|_| !self.tables.is_empty()) {
                Some(table) => *table += &notes,
                None => blocks.push(notes),
            }
        }
        let (shown, hidden) = self.shown();
        if !shown.is_empty() {
            let mut text = "Stands out\n".to_owned();
            shown.iter().for_each(|line| text += &format!("  {}", folded_under(line, width.saturating_sub(2), 4)));
            if hidden > 0 {
                text += &format!("  and {hidden} more: --all\n");
            }
            blocks.push(text);
        }
        if !self.more.is_empty() {
            blocks.push(commands(&self.more, width));
        }
        blocks.join("\n")
    }

    /// For a pull request or a wiki.
    #[must_use]
    pub fn markdown(&self) -> String {
        let mut blocks: Vec<String> = Vec::new();
        if !self.heading.is_empty() {
            blocks.push(format!("**{}**\n", self.heading));
        }
        if !self.answer.is_empty() {
            blocks.push(format!("{}\n", self.answer.join(" ")));
        }
        if !self.drawing.is_empty() {
            blocks.push(format!("```\n{}\n```\n", self.drawing.trim_end()));
        }
        blocks.extend(self.tables.iter().filter(|table| !table.is_empty()).map(Table::markdown));
        if !self.notes.is_empty() {
            blocks.push(format!("{}\n", self.notes.join(" ")));
        }
        let (shown, _) = self.shown();
        if !shown.is_empty() {
            blocks.push(shown.iter().map(|line| format!("- {line}\n")).collect());
        }
        if !self.more.is_empty() {
            let named: Vec<String> = self.more.iter().map(|command| format!("`{command}`")).collect();
            blocks.push(format!("More: {}\n", named.join(", ")));
        }
        blocks.join("\n")
    }

    /// The lines that have room, and how many have none.
    fn shown(&self) -> (&[String], usize) {
        match self.stands_out.len() {
            ..=MOST_LINES => (&self.stands_out, 0),
            all => (&self.stands_out[..MOST_LINES - 1], all - (MOST_LINES - 1)),
        }
    }
}

/// `More: a · b · c`, with line breaks between commands only.
fn commands(commands: &[String], width: usize) -> String {
    const BREAK: char = '\u{1}';
    let kept: Vec<String> = commands.iter().map(|command| command.replace(' ', &BREAK.to_string())).collect();
    let line = format!("More: {}", kept.join(" · "));
    folded_under(&line, width.saturating_sub(2), 6).replace(BREAK, " ").replace("\n      · ", " ·\n      ")
}

/// The lines once each; of several that say how few clips there are, the one with the fewest.
#[must_use]
pub fn each_once(lines: impl IntoIterator<Item = String>) -> Vec<String> {
    let few = |line: &str| -> Option<u64> {
        let (count, rest) = line.strip_prefix("only ")?.split_once(' ')?;
        (rest.starts_with("clip") && rest.ends_with("are rough")).then(|| count.parse().ok())?
    };
    let mut kept: Vec<String> = Vec::new();
    for line in lines {
        match (few(&line), kept.iter().position(|known| few(known).is_some())) {
            (Some(count), Some(at)) => {
                if few(&kept[at]).is_some_and(|known| count < known) {
                    kept[at] = line;
                }
            }
            _ if kept.contains(&line) => {}
            _ => kept.push(line),
        }
    }
    kept
}

/// An argument as a shell takes it.
#[must_use]
pub fn quoted(argument: &str) -> String {
    let plain = |c: char| c.is_alphanumeric() || "_-./:=,@%+#".contains(c);
    if !argument.is_empty() && argument.chars().all(plain) {
        argument.to_owned()
    } else {
        format!("'{}'", argument.replace('\'', "'\\''"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn brief(lines: usize) -> Brief {
        Brief {
            heading: "Run 1".to_owned(),
            answer: vec!["marl hears best.".to_owned(), "tern is faster.".to_owned()],
            stands_out: (1..=lines).map(|line| format!("line {line}")).collect(),
            more: vec!["fonex show 1 --all".to_owned(), "fonex compare 1 --by channel".to_owned()],
            ..Brief::default()
        }
    }

    #[test]
    fn the_answer_comes_first_and_nothing_empty_is_printed() {
        let text = brief(0).terminal(80);
        assert_eq!(
            text,
            "Run 1\n\nmarl hears best. tern is faster.\n\nMore: fonex show 1 --all · fonex compare 1 --by channel\n"
        );
        assert_eq!(Brief::default().terminal(80), "");
    }

    #[test]
    fn at_most_five_lines_stand_out_and_the_others_are_counted() {
        let lines = |count: usize| {
            let text = brief(count).terminal(80);
            text.lines().skip_while(|line| *line != "Stands out").skip(1).take_while(|line| !line.is_empty()).count()
        };
        assert_eq!([1, 5, 6, 9].map(lines), [1, 5, 5, 5]);
        assert!(brief(9).terminal(80).contains("  line 4\n  and 5 more: --all\n"));
    }

    #[test]
    fn how_few_clips_there_are_is_said_once() {
        let lines = [
            "only 18 clips: with fewer than 20, intervals are rough",
            "busy",
            "only 4 clips: with fewer than 20, intervals are rough",
            "busy",
        ];
        assert_eq!(
            each_once(lines.map(str::to_owned)),
            ["only 4 clips: with fewer than 20, intervals are rough", "busy"]
        );
    }

    #[test]
    fn arguments_are_quoted_where_a_shell_would_split_or_expand_them() {
        assert_eq!(
            ["w45", "1:osier/Ilka", "channel*wind", "it's"].map(quoted),
            ["w45", "1:osier/Ilka", "'channel*wind'", "'it'\\''s'"]
        );
    }

    #[test]
    fn commands_are_broken_between_each_other_only() {
        let text = brief(0).terminal(40);
        assert!(text.ends_with("More: fonex show 1 --all ·\n      fonex compare 1 --by channel\n"), "{text}");
    }
}
