//! Where a reader sees one character, and where words end in scripts that write no spaces (UAX 29).

use std::borrow::Cow;

use icu_properties::CodePointMapData;
use icu_properties::props::Script;
use icu_segmenter::{
    GraphemeClusterSegmenter, WordSegmenter, WordSegmenterBorrowed, options::WordBreakInvariantOptions,
};

/// The characters of a text as a reader counts them: extended grapheme clusters.
pub fn graphemes(text: &str) -> impl Iterator<Item = &str> {
    let mut start = 0;
    GraphemeClusterSegmenter::new().segment_str(text).skip(1).map(move |end| {
        let cluster = &text[start..end];
        start = end;
        cluster
    })
}

thread_local! {
    static WORDS: WordSegmenterBorrowed<'static> = WordSegmenter::new_dictionary(WordBreakInvariantOptions::default());
}

/// Puts spaces between the words of scripts that write none (Chinese, Japanese, Thai, Lao, Khmer, Burmese), by the
/// dictionaries of the Unicode project. Other text is left as it is.
pub(super) fn part_words(text: &str) -> Cow<'_, str> {
    if text.is_ascii() || !text.chars().any(writes_no_spaces) {
        return Cow::Borrowed(text);
    }
    let mut parted = String::with_capacity(text.len() * 3 / 2);
    let mut start = 0;
    WORDS.with(|words| {
        for end in words.segment_str(text).skip(1) {
            let word = &text[start..end];
            let before = text[..start].chars().next_back();
            let touches = [before, word.chars().next()].into_iter().flatten().any(writes_no_spaces);
            if touches && !parted.is_empty() {
                parted.push(' ');
            }
            parted.push_str(word);
            start = end;
        }
    });
    Cow::Owned(parted)
}

fn writes_no_spaces(c: char) -> bool {
    use Script as S;
    !c.is_ascii()
        && matches!(
            CodePointMapData::<S>::new().get(c),
            S::Han | S::Hiragana | S::Katakana | S::Thai | S::Lao | S::Khmer | S::Myanmar | S::Tibetan
        )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn scripts_without_spaces_are_parted_and_others_left() {
        let parted = |text: &str| part_words(text).split_whitespace().collect::<Vec<_>>().join("|");
        assert_eq!(parted("今日は良い天気です"), "今日|は|良い|天気|です");
        assert_eq!(parted("我们在车站等"), "我们|在|车站|等");
        assert_eq!(parted("สวัสดีครับ"), "สวัสดี|ครับ");
        assert_eq!(parted("gate 14 ворота don't"), "gate|14|ворота|don't");
        assert_eq!(parted("駅のgate 14番"), "駅|の|gate|14|番");
    }

    #[test]
    fn a_cluster_is_one_character() {
        assert_eq!(graphemes("e\u{301}👩\u{200D}🚒नि").count(), 3);
        assert_eq!(graphemes("").count(), 0);
    }
}
