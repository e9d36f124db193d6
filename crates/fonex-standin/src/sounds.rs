//! Letters as sounds, much simplified.

/// One sound of a stand-in voice, or a pause.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct Sound {
    /// How long it is beside the others; of a pause, beside a comma's.
    pub weight: f64,
    /// The first three resonances in hertz; zero for a pause.
    pub formants_hz: [f64; 3],
    /// How strong the voice is in it.
    pub voiced: f64,
    /// How strong noise is that passes the resonances.
    pub noise: f64,
    /// And noise that does not.
    pub hiss: f64,
    /// Silence and a burst.
    pub is_stop: bool,
    /// The first of a word.
    pub begins_word: bool,
}

impl Sound {
    const fn pause(weight: f64) -> Self {
        Self { weight, formants_hz: [0.0; 3], voiced: 0.0, noise: 0.0, hiss: 0.0, is_stop: false, begins_word: false }
    }

    const fn vowel(first: f64, second: f64, third: f64) -> Self {
        Self { weight: 1.3, formants_hz: [first, second, third], voiced: 1.0, ..Self::pause(0.0) }
    }

    /// Whether nothing is heard.
    pub fn is_pause(&self) -> bool {
        self.formants_hz[0] == 0.0
    }
}

/// Vowels of English letters, in hertz, after Peterson and Barney (1952), rounded.
const ENGLISH: [(char, [f64; 3]); 5] = [
    ('a', [660.0, 1720.0, 2410.0]),
    ('e', [530.0, 1840.0, 2480.0]),
    ('i', [390.0, 1990.0, 2550.0]),
    ('o', [570.0, 840.0, 2410.0]),
    ('u', [440.0, 1020.0, 2240.0]),
];
/// The same letters as they are read in German, and its own.
const GERMAN: [(char, [f64; 3]); 8] = [
    ('a', [780.0, 1150.0, 2550.0]),
    ('e', [370.0, 2250.0, 2800.0]),
    ('i', [280.0, 2350.0, 3100.0]),
    ('o', [380.0, 700.0, 2550.0]),
    ('u', [300.0, 680.0, 2400.0]),
    ('ä', [530.0, 1840.0, 2480.0]),
    ('ö', [380.0, 1450.0, 2200.0]),
    ('ü', [290.0, 1750.0, 2200.0]),
];

/// The sounds of a text, with pauses at its punctuation.
pub(crate) fn sounds_of(text: &str, reads: &str) -> Vec<Sound> {
    let german = reads.to_lowercase().starts_with("de");
    let mut sounds: Vec<Sound> = Vec::new();
    let mut begins_word = true;
    for letter in text.chars().flat_map(char::to_lowercase) {
        let sound = match letter {
            '.' | '!' | '?' | '…' => Some(Sound::pause(1.6)),
            ',' | ';' | ':' | '–' | '—' => Some(Sound::pause(1.0)),
            // Words run into each other: a short weak vowel between them.
            letter if letter.is_whitespace() => {
                begins_word = true;
                let after_pause = sounds.last().is_none_or(Sound::is_pause);
                let glide = Sound { weight: 0.35, voiced: 0.15, ..Sound::vowel(450.0, 1400.0, 2400.0) };
                (!after_pause).then_some(glide)
            }
            letter if letter.is_alphanumeric() => {
                let sound = Sound { begins_word, ..of_letter(letter, german) };
                begins_word = false;
                Some(sound)
            }
            _ => None,
        };
        sounds.extend(sound);
    }
    // Silence at the end is none that anybody asked for.
    while sounds.last().is_some_and(Sound::is_pause) {
        sounds.pop();
    }
    sounds
}

fn of_letter(letter: char, german: bool) -> Sound {
    let base = match letter {
        'à' | 'á' | 'â' => 'a',
        'é' | 'è' | 'ê' => 'e',
        'y' => 'i',
        'ä' if !german => 'e',
        'ö' if !german => 'o',
        'ü' if !german => 'u',
        'ó' | 'ò' => 'o',
        'ú' | 'ù' => 'u',
        other => other,
    };
    let vowels: &[(char, [f64; 3])] = if german { &GERMAN } else { &ENGLISH };
    if let Some((_, [first, second, third])) = vowels.iter().find(|(vowel, _)| *vowel == base) {
        return Sound::vowel(*first, *second, *third);
    }
    let voiced = |formants_hz: [f64; 3], voiced: f64| Sound {
        weight: 0.9,
        voiced,
        ..Sound::vowel(formants_hz[0], formants_hz[1], formants_hz[2])
    };
    let murmur = [280.0, 1300.0, 2300.0];
    match base {
        'm' | 'n' => voiced(murmur, 0.35),
        'l' | 'r' | 'j' => voiced([360.0, if base == 'r' { 1100.0 } else { 1300.0 }, 2400.0], 0.4),
        'w' if !german => voiced([300.0, 700.0, 2200.0], 0.4),
        'v' | 'w' | 'z' => Sound { hiss: 0.03, ..voiced([300.0, 1200.0, 2400.0], 0.25) },
        's' | 'x' | 'ß' | 'c' => Sound { weight: 1.0, hiss: 0.10, ..voiced(murmur, 0.0) },
        'f' | 'h' => Sound { weight: 0.9, noise: 0.25, hiss: 0.02, ..voiced([500.0, 1500.0, 2500.0], 0.0) },
        'b' | 'd' | 'g' => Sound { weight: 0.7, noise: 0.15, is_stop: true, ..voiced([400.0, 1500.0, 2500.0], 0.3) },
        'p' | 't' | 'k' | 'q' => {
            Sound { weight: 0.8, noise: 0.8, hiss: 0.05, is_stop: true, ..voiced([500.0, 1700.0, 2700.0], 0.0) }
        }
        // Digits and letters of other scripts: something that can be counted.
        _ => Sound::vowel(500.0, 1500.0, 2500.0),
    }
}
