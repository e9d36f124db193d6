//! What a word is taken for when it is not heard right.

/// Words that sound alike in the demo's world, either way round.
const ALIKE: [(&str, &str); 32] = [
    ("fourteen", "forty"),
    ("fifteen", "fifty"),
    ("nineteen", "ninety"),
    ("nine", "mine"),
    ("six", "sixth"),
    ("seven", "eleven"),
    ("eight", "gate"),
    ("two", "to"),
    ("cabin", "cabins"),
    ("pylon", "pile"),
    ("hold", "old"),
    ("wind", "win"),
    ("ridge", "bridge"),
    ("rope", "road"),
    ("gust", "just"),
    ("line", "lion"),
    ("red", "read"),
    ("drive", "dive"),
    ("brake", "break"),
    ("lower", "lore"),
    ("upper", "supper"),
    ("station", "stations"),
    ("the", "a"),
    ("is", "as"),
    ("at", "add"),
    ("ticket", "thicket"),
    ("doors", "door"),
    ("stütze", "stütz"),
    ("kabine", "kabinen"),
    ("sechs", "sechzig"),
    ("der", "er"),
    ("karte", "karten"),
];

/// The word heard in place of `word`; `draw` in 0..1 chooses where there is a choice. Never the word itself.
pub(crate) fn mistaken(word: &str, draw: f64) -> String {
    let bare: String = word.chars().filter(|c| c.is_alphanumeric()).flat_map(char::to_lowercase).collect();
    for (one, other) in ALIKE {
        if bare == one {
            return other.to_owned();
        }
        if bare == other {
            return one.to_owned();
        }
    }
    let letters: Vec<char> = bare.chars().collect();
    if letters.len() > 4 && draw < 0.5 {
        return letters[..letters.len() - 1].iter().collect();
    }
    const VOWELS: [char; 5] = ['a', 'e', 'i', 'o', 'u'];
    match letters.iter().position(|c| VOWELS.contains(c)) {
        Some(at) => {
            let was = VOWELS.iter().position(|v| *v == letters[at]).unwrap_or(0);
            let shift = 1 + (draw * 3.99) as usize;
            let mut changed = letters;
            changed[at] = VOWELS[(was + shift) % VOWELS.len()];
            changed.into_iter().collect()
        }
        None => format!("{bare}e"),
    }
}

/// A word that nobody said; `draw` in 0..1 chooses it.
pub(crate) fn invented(draw: f64) -> &'static str {
    const FILLERS: [&str; 6] = ["the", "uh", "and", "in", "now", "so"];
    FILLERS[(draw * FILLERS.len() as f64) as usize % FILLERS.len()]
}
