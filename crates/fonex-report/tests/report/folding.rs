//! Words folded into lines: none is lost, none is too long that could be shorter, and what goes on is moved in.

use fonex_report::folded_under;
use proptest::prelude::*;
use unicode_width::UnicodeWidthStr;

proptest! {
    #[test]
    fn every_word_stays_and_lines_are_no_wider_than_they_must_be(
        words in prop::collection::vec("[a-zäß日]{1,12}", 1..40), width in 20_usize..90, indent in 0_usize..8,
    ) {
        let folded = folded_under(&words.join(" "), width, indent);
        let again: Vec<&str> = folded.split_whitespace().collect();
        prop_assert_eq!(&again, &words.iter().map(String::as_str).collect::<Vec<_>>());
        prop_assert!(folded.ends_with('\n'));
        let lines: Vec<&str> = folded.lines().collect();
        for (at, line) in lines.iter().enumerate() {
            // A single word that is wider has a line of its own.
            let alone = line.split_whitespace().count() == 1;
            prop_assert!(line.width() <= width || alone, "{line:?} in {width}");
            let moved = line.len() - line.trim_start().len();
            prop_assert_eq!(moved, if at > 0 { indent } else { 0 });
            // The next word would not have fitted.
            if let Some(next) = lines.get(at + 1) {
                let word = next.split_whitespace().next().unwrap_or_default();
                prop_assert!(line.width() + 1 + word.width() > width, "{word:?} fits behind {line:?}");
            }
        }
    }

    #[test]
    fn one_line_that_fits_is_left_as_it_is(words in prop::collection::vec("[a-z]{1,5}", 1..6), indent in 0_usize..8) {
        let text = words.join(" ");
        prop_assert_eq!(folded_under(&text, 80, indent), text + "\n");
    }
}
