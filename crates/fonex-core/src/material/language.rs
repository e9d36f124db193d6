//! Scripts and languages, as far as they show that a label is not what it says.

use icu_properties::CodePointMapData;
use icu_properties::props::Script as UnicodeScript;

/// Scripts that are distinguished. Letters of others are not judged.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
#[expect(missing_docs, reason = "the names are those of Unicode (UAX 24)")]
pub enum Script {
    Latin,
    Cyrillic,
    Greek,
    Arabic,
    Hebrew,
    Devanagari,
    Thai,
    Han,
    Kana,
    Hangul,
}

impl Script {
    /// Whether words are parted by spaces.
    #[must_use]
    pub const fn parts_words(self) -> bool {
        !matches!(self, Self::Thai | Self::Han | Self::Kana)
    }

    const fn of(script: UnicodeScript) -> Option<Self> {
        Some(match script {
            UnicodeScript::Latin => Self::Latin,
            UnicodeScript::Cyrillic => Self::Cyrillic,
            UnicodeScript::Greek => Self::Greek,
            UnicodeScript::Arabic => Self::Arabic,
            UnicodeScript::Hebrew => Self::Hebrew,
            UnicodeScript::Devanagari => Self::Devanagari,
            UnicodeScript::Thai => Self::Thai,
            UnicodeScript::Han => Self::Han,
            UnicodeScript::Hiragana | UnicodeScript::Katakana => Self::Kana,
            UnicodeScript::Hangul => Self::Hangul,
            _ => return None,
        })
    }
}

/// The scripts of a text's letters, each once.
#[must_use]
pub fn scripts_of_text(text: &str) -> Vec<Script> {
    let map = CodePointMapData::<UnicodeScript>::new();
    let mut scripts: Vec<Script> =
        text.chars().filter(|c| c.is_alphabetic()).filter_map(|c| Script::of(map.get(c))).collect();
    scripts.sort();
    scripts.dedup();
    scripts
}

/// The primary subtag of a BCP 47 tag.
#[must_use]
pub fn primary(lang: &str) -> &str {
    lang.split('-').next().unwrap_or(lang)
}

/// The scripts a language is written in; none for languages that are not known here.
#[must_use]
pub fn scripts_of_language(lang: &str) -> &'static [Script] {
    match primary(lang) {
        "en" | "de" | "fr" | "es" | "it" | "pt" | "nl" | "sv" | "da" | "nb" | "nn" | "no" | "fi" | "pl" | "cs"
        | "sk" | "hu" | "ro" | "tr" | "hr" | "sl" | "et" | "lv" | "lt" | "vi" | "id" | "ms" | "ca" | "eu" | "gl"
        | "ga" | "cy" | "is" | "sq" | "sw" | "af" => &[Script::Latin],
        "ru" | "uk" | "bg" | "be" | "mk" => &[Script::Cyrillic],
        "sr" => &[Script::Cyrillic, Script::Latin],
        "el" => &[Script::Greek],
        "ar" | "fa" | "ur" => &[Script::Arabic],
        "he" => &[Script::Hebrew],
        "hi" | "mr" | "ne" => &[Script::Devanagari],
        "th" => &[Script::Thai],
        "zh" | "yue" => &[Script::Han],
        "ja" => &[Script::Han, Script::Kana],
        "ko" => &[Script::Hangul, Script::Han],
        _ => &[],
    }
}

/// Words that are frequent in one of four languages and rare in the others.
const COMMON: [(&str, &[&str]); 4] = [
    ("en", &["the", "is", "and", "of", "to", "you", "that", "it", "for", "with", "are", "this", "have", "not", "we"]),
    (
        "de",
        &["der", "die", "das", "und", "ist", "nicht", "ein", "eine", "ich", "sie", "wir", "mit", "auf", "den", "von"],
    ),
    (
        "fr",
        &["le", "les", "et", "est", "une", "des", "vous", "nous", "je", "pas", "dans", "qui", "pour", "sur", "il"],
    ),
    (
        "es",
        &["el", "los", "las", "y", "es", "una", "que", "por", "para", "con", "está", "usted", "muy", "pero", "como"],
    ),
];

/// The language that a text reads like, of English, German, French and Spanish, by its commonest words. None when too few
/// of them occur, or of several languages: it must have three, and three times as many as the next language.
#[must_use]
pub fn guess_language<T: AsRef<str>>(tokens: &[T]) -> Option<&'static str> {
    let hits = |words: &[&str]| tokens.iter().filter(|token| words.contains(&token.as_ref())).count();
    let mut counts: Vec<(usize, &str)> = COMMON.iter().map(|(lang, words)| (hits(words), *lang)).collect();
    counts.sort_unstable_by(|a, b| b.cmp(a));
    let ((most, lang), (next, _)) = (counts[0], counts[1]);
    (most >= 3 && most >= 3 * next).then_some(lang)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn scripts_and_languages_show() {
        assert_eq!(
            scripts_of_text("Hold, 駅で Привет!"),
            [Script::Latin, Script::Cyrillic, Script::Han, Script::Kana]
        );
        let guess = |text: &str| guess_language(&text.split(' ').map(str::to_owned).collect::<Vec<_>>());
        assert_eq!(guess("der wind ist stark und die bahn steht"), Some("de"));
        assert_eq!(guess("the wind is strong and the line stops"), Some("en"));
        assert_eq!(guess("red line stop"), None);
    }
}
