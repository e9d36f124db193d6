//! Texts to be spoken: from plain writing to clips, with their kind and a ladder of lengths.

use crate::text::split_at_sentences;

/// A text with what it is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SpokenText {
    /// The text.
    pub text: String,
    /// What makes it hard: the heading it stands under, or else what is in it.
    pub kind: String,
    /// How long it is, where a ladder of lengths was asked for.
    pub rung: Option<Rung>,
}

/// The rungs of the ladder of lengths, from a word to a page.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Rung {
    /// One word.
    Word,
    /// Three or four words.
    Phrase,
    /// A sentence.
    Sentence,
    /// Some sentences, about 60 words.
    Paragraph,
    /// About 300 words: two minutes.
    Page,
}

impl Rung {
    /// All of them, shortest first.
    pub const ALL: [Self; 5] = [Self::Word, Self::Phrase, Self::Sentence, Self::Paragraph, Self::Page];

    /// As it stands in a tag. Its number keeps the rungs in order.
    #[must_use]
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::Word => "1 word",
            Self::Phrase => "2 phrase",
            Self::Sentence => "3 sentence",
            Self::Paragraph => "4 paragraph",
            Self::Page => "5 page",
        }
    }

    /// About how many words the texts of a rung have.
    const fn words(self) -> usize {
        match self {
            Self::Word => 1,
            Self::Phrase => 4,
            Self::Sentence => 12,
            Self::Paragraph => 60,
            Self::Page => 300,
        }
    }
}

/// Reads texts from plain writing: a text a line. A line that begins with `# ` is a heading and names the kind of the texts below it;
/// without one, and below a `#` alone, the kind is what is seen in a text: `numbers`, `abbreviations` or `plain`.
#[must_use]
pub fn read_texts(written: &str) -> Vec<SpokenText> {
    let mut heading: Option<&str> = None;
    let mut texts = Vec::new();
    for line in written.lines().map(str::trim).filter(|line| !line.is_empty()) {
        if line == "#" {
            heading = None;
        } else if let Some(name) = line.strip_prefix("# ") {
            heading = Some(name.trim());
        } else {
            let kind = heading.map_or_else(|| kind_of(line).to_owned(), str::to_owned);
            texts.push(SpokenText { text: line.to_owned(), kind, rung: None });
        }
    }
    texts
}

/// What is seen in a text.
fn kind_of(text: &str) -> &'static str {
    let shortened = |word: &str| {
        let letters: String = word.chars().filter(|c| c.is_alphabetic()).collect();
        let dots = word.trim_end_matches(['.', ',', '!', '?', ';', ':']).contains('.');
        (letters.chars().count() >= 2 && letters.chars().all(char::is_uppercase)) || (dots && !letters.is_empty())
    };
    if text.contains(|c: char| c.is_numeric()) {
        "numbers"
    } else if text.split_whitespace().any(shortened) {
        "abbreviations"
    } else {
        "plain"
    }
}

/// A ladder of lengths out of some texts, up to `each` texts a rung: words and phrases are taken out of different sentences, paragraphs and
/// pages are sentences that follow each other. A rung that the texts are too short for is left out.
#[must_use]
pub fn ladder(texts: &[SpokenText], each: usize) -> Vec<SpokenText> {
    let sentences: Vec<(String, &str)> = texts
        .iter()
        .flat_map(|text| sentences(&text.text).into_iter().map(|part| (part, text.kind.as_str())))
        .collect();
    let mut all = Vec::new();
    for rung in Rung::ALL {
        let taken = match rung {
            Rung::Word | Rung::Phrase => begun(&sentences, rung.words()),
            Rung::Sentence => sentences.iter().map(|(text, kind)| (text.clone(), (*kind).to_owned())).collect(),
            Rung::Paragraph | Rung::Page => joined(&sentences, rung.words()),
        };
        // Spread over the texts, not only their beginning.
        let step = taken.len().div_ceil(each.max(1)).max(1);
        let taken = taken.into_iter().step_by(step);
        all.extend(taken.map(|(text, kind)| SpokenText { text, kind, rung: Some(rung) }));
    }
    all
}

/// The sentences of a text.
fn sentences(text: &str) -> Vec<String> {
    let mut sentences: Vec<String> = Vec::new();
    for word in text.split_whitespace() {
        match sentences.last_mut().filter(|sentence| !ends(sentence)) {
            Some(sentence) => {
                sentence.push(' ');
                sentence.push_str(word);
            }
            None => sentences.push(word.to_owned()),
        }
    }
    sentences
}

/// Whether a text ends as a sentence does, quotes and brackets aside. A single letter with a full stop is an initial.
fn ends(text: &str) -> bool {
    let bare = text.trim_end_matches(['"', '\'', '”', '’', '»', ')']);
    let last = bare.rsplit(' ').next().unwrap_or_default();
    let initial = last.ends_with('.') && last.chars().filter(|c| c.is_alphanumeric()).count() < 2;
    bare.ends_with(['.', '!', '?', '…', '。', '！', '？']) && !initial
}

/// The longest word, or the first words, of each sentence that has more.
fn begun(sentences: &[(String, &str)], words: usize) -> Vec<(String, String)> {
    let bare = |text: &str| text.trim_matches(|c: char| !c.is_alphanumeric()).to_owned();
    let mut seen = std::collections::HashSet::new();
    let mut taken = Vec::new();
    for (text, kind) in sentences {
        let all: Vec<&str> = text.split_whitespace().collect();
        if all.len() <= words {
            continue;
        }
        let part = match words {
            1 => all.iter().map(|word| bare(word)).max_by_key(|word| word.chars().count()).unwrap_or_default(),
            _ => bare(&all[..words].join(" ")),
        };
        if !part.is_empty() && seen.insert(part.clone()) {
            taken.push((part, (*kind).to_owned()));
        }
    }
    taken
}

/// Sentences that follow each other, until there are this many words; what is left at the end is too short.
fn joined(sentences: &[(String, &str)], words: usize) -> Vec<(String, String)> {
    let mut taken = Vec::new();
    let (mut text, mut count) = (String::new(), 0);
    for (sentence, _) in sentences {
        if !text.is_empty() {
            text.push(' ');
        }
        text += sentence;
        count += sentence.split_whitespace().count();
        if count >= words {
            taken.push((std::mem::take(&mut text), "running text".to_owned()));
            count = 0;
        }
    }
    taken
}

/// Cuts texts that are longer than an engine may take, at the ends of sentences where that can be.
#[must_use]
pub fn no_longer_than(texts: Vec<SpokenText>, characters: usize) -> Vec<SpokenText> {
    let cut = |text: SpokenText| match split_at_sentences(&text.text, characters) {
        Ok(parts) => parts.into_iter().map(|part| SpokenText { text: part, ..text.clone() }).collect(),
        // A word that alone is too long stays for the engine to refuse.
        Err(_) => vec![text],
    };
    texts.into_iter().flat_map(cut).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    const WRITTEN: &str = "The lower station is closed. Wait for the next cabin!\n\n# names\nMs. J. Halloway of Skarnfell\n# \nCabin 14 stops.\nThe H.Q. called the N.A.S. office.\n";

    #[test]
    fn lines_are_texts_under_their_headings() {
        let texts = read_texts(WRITTEN);
        let kinds: Vec<&str> = texts.iter().map(|text| text.kind.as_str()).collect();
        assert_eq!(kinds, ["plain", "names", "numbers", "abbreviations"]);
        assert_eq!(texts[1].text, "Ms. J. Halloway of Skarnfell");
        assert!(read_texts("\n # \n").is_empty());
        assert_eq!(kind_of("Do you see it? I do."), "plain");
    }

    #[test]
    fn sentences_end_at_their_signs_and_not_at_initials() {
        assert_eq!(sentences("Go now! \"Stop,\" said J. Bell. Why?"), ["Go now!", "\"Stop,\" said J. Bell.", "Why?"]);
        assert_eq!(sentences("  "), Vec::<String>::new());
    }

    #[test]
    fn a_ladder_has_texts_of_every_length_it_can() {
        let line = "The cabin holds at the upper pylon while the wind is rising over the ridge.";
        let texts: Vec<SpokenText> =
            (0..60).flat_map(|at| read_texts(&format!("Number {at} says this. {line}"))).collect();
        let rungs = ladder(&texts, 5);
        for rung in Rung::ALL {
            let own: Vec<&SpokenText> = rungs.iter().filter(|text| text.rung == Some(rung)).collect();
            assert!((1..=5).contains(&own.len()), "{rung:?} {}", own.len());
            let words = own.iter().map(|text| text.text.split_whitespace().count());
            match rung {
                Rung::Word => assert!(words.clone().all(|n| n == 1)),
                Rung::Phrase => assert!(words.clone().all(|n| n == 4)),
                Rung::Sentence => assert!(words.clone().all(|n| n < 20)),
                Rung::Paragraph => assert!(words.clone().all(|n| (60..80).contains(&n))),
                Rung::Page => assert!(words.clone().all(|n| (300..320).contains(&n))),
            }
        }
        // Too little writing for a page.
        assert!(ladder(&texts[..3], 5).iter().all(|text| text.rung < Some(Rung::Page)));
        assert!(ladder(&[], 5).is_empty());
    }
}
