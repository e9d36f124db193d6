//! The word-by-word comparison in a terminal: a thread that runs on where the words were heard right.

use fonex_core::accuracy::WordStep;
use fonex_report::readable::one_line;
use fonex_report::{Piece, is_right_to_left, pieces, shortened};
use unicode_width::UnicodeWidthStr;

const SAID: &str = " said   ";
const HEARD: &str = " heard  ";

/// What the signs mean, on one line.
pub fn thread_key() -> &'static str {
    " key    ─── right word heard instead ∅ missed +word inserted"
}

/// A column of the comparison: what stands in each of the two lines, and how the lower one is set.
struct Column {
    said: String,
    heard: String,
    tone: Tone,
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum Tone {
    Thread,
    Other,
    Dropped,
    Added,
}

impl Tone {
    /// 256-colour codes near Okabe and Ito's vermilion, blue and purple, with a weight that shows without colour.
    const fn escape(self) -> &'static str {
        match self {
            Self::Thread => "\u{1b}[2m",
            Self::Other => "\u{1b}[1;38;5;166m",
            Self::Dropped => "\u{1b}[1;38;5;32m",
            Self::Added => "\u{1b}[1;38;5;169m",
        }
    }
}

/// The comparison in lines of at most `width` columns; right-to-left text as a list, which no terminal can disorder.
pub fn thread_lines(steps: &[WordStep], width: usize, colour: bool) -> Vec<String> {
    let drawn = pieces(steps, true);
    if is_right_to_left(steps) {
        return list_lines(&drawn);
    }
    let columns: Vec<Column> = drawn.iter().map(column).collect();
    let room = width.saturating_sub(SAID.len()).max(20);
    let mut lines = Vec::new();
    let mut rest = columns.as_slice();
    while !rest.is_empty() {
        let mut used = 0;
        let fitting = rest.iter().take_while(|column| {
            used += column.width() + 1;
            used <= room + 1
        });
        let taken = fitting.count().max(1);
        lines.extend(two_lines(&rest[..taken], colour));
        rest = &rest[taken..];
    }
    lines
}

impl Column {
    fn width(&self) -> usize {
        self.said.width().max(self.heard.width())
    }
}

fn column(piece: &Piece) -> Column {
    // No word that is read is longer.
    const MOST_LETTERS: usize = 200;
    let clean = |word: &str| shortened(&one_line(word), MOST_LETTERS);
    let column = |said: String, heard: String, tone| Column { said, heard, tone };
    match piece {
        Piece::Right { said } => column(clean(said), String::new(), Tone::Thread),
        Piece::Folded { words } => column(format!("… {words} right …"), String::new(), Tone::Thread),
        Piece::Other { said, heard } => column(clean(said), clean(heard), Tone::Other),
        Piece::Dropped { said } => column(clean(said), "∅".to_owned(), Tone::Dropped),
        Piece::Added { heard } => column(String::new(), format!("+{}", clean(heard)), Tone::Added),
    }
}

fn two_lines(columns: &[Column], colour: bool) -> [String; 2] {
    let (mut said, mut heard) = (SAID.to_owned(), HEARD.to_owned());
    for (index, column) in columns.iter().enumerate() {
        let width = column.width();
        let joined = columns.get(index + 1).is_some_and(|next| next.tone == Tone::Thread);
        let pad = |text: &str| " ".repeat(width - text.width());
        said += &format!("{}{} ", column.said, pad(&column.said));
        let lower = match column.tone {
            Tone::Thread => "─".repeat(width),
            _ => column.heard.clone(),
        };
        let gap = if column.tone == Tone::Thread && joined { "─" } else { " " };
        let filled = if column.tone == Tone::Thread { String::new() } else { pad(&column.heard) };
        heard += &if colour && column.tone == Tone::Thread {
            format!("{}{lower}{gap}\u{1b}[0m", column.tone.escape())
        } else if colour {
            format!("{}{lower}\u{1b}[0m{filled}{gap}", column.tone.escape())
        } else {
            format!("{lower}{filled}{gap}")
        };
    }
    [said.trim_end().to_owned(), heard.trim_end().to_owned()]
}

/// One fault a line, each word isolated (UAX 9) so that directions do not mix.
fn list_lines(drawn: &[Piece]) -> Vec<String> {
    let isolated = |word: &str| {
        let clean = one_line(word);
        format!("\u{2068}{clean}\u{2069}")
    };
    let mut lines = Vec::new();
    let mut right = 0;
    let flush = |right: &mut usize, lines: &mut Vec<String>| {
        if *right > 0 {
            lines.push(format!("   ─── {right} heard right"));
        }
        *right = 0;
    };
    for piece in drawn {
        let line = match piece {
            Piece::Right { .. } => {
                right += 1;
                continue;
            }
            Piece::Folded { words } => {
                right += words;
                continue;
            }
            Piece::Other { said, heard } => format!("   said {}  heard {}", isolated(said), isolated(heard)),
            Piece::Dropped { said } => format!("   said {}  heard ∅", isolated(said)),
            Piece::Added { heard } => format!("   nobody said +{}", isolated(heard)),
        };
        flush(&mut right, &mut lines);
        lines.push(line);
    }
    flush(&mut right, &mut lines);
    lines
}

#[cfg(test)]
mod tests {
    use super::*;
    use fonex_core::accuracy::score_clip;
    use fonex_core::text::{Label, TextProfile};

    fn lines(said: &str, heard: &str, width: usize) -> Vec<String> {
        let profile = TextProfile::shipped("neutral").unwrap();
        thread_lines(&score_clip(&profile, &Label::parse(said).unwrap(), heard).steps, width, false)
    }

    #[test]
    fn the_thread_breaks_where_words_went_wrong() {
        let drawn = lines("Cabin fourteen, hold at pylon six.", "cabin forty hold the at pylon", 80);
        assert_eq!(
            drawn,
            [" said   cabin fourteen hold      at pylon six", " heard  ───── forty    ──── +the ──────── ∅",]
        );
    }

    #[test]
    fn wide_letters_keep_the_columns_and_lines_wrap() {
        let drawn = lines("東京 犬 で", "東京 いぬ で", 80);
        assert_eq!(drawn, [" said   東京 犬   で", " heard  ──── いぬ ──"]);
        let long = lines(&"word ".repeat(5), "other other", 30);
        assert_eq!(long.len(), 4, "{long:?}");
        assert!(long.iter().all(|line| line.width() <= 30));
    }

    #[test]
    fn right_to_left_text_is_a_list() {
        let drawn = lines("שלום לכל העולם", "שלום העולם", 80);
        assert_eq!(drawn, ["   ─── 1 heard right", "   said \u{2068}לכל\u{2069}  heard ∅", "   ─── 1 heard right"]);
    }
}
