//! A text as words with what stands around them, and what stretches of letters and digits are in every language.

/// A word as written: what stands around it, and itself in small letters.
pub(super) struct Word<'t> {
    pub(super) raw: &'t str,
    /// Without the signs around it, those that belong to a number kept.
    pub(super) core: &'t str,
    pub(super) low: String,
    /// A sign behind it ends a sentence or a part of one.
    pub(super) ends: bool,
    /// A minus stands before it.
    pub(super) minus: bool,
}

pub(super) fn words(text: &str) -> Vec<Word<'_>> {
    let word = |raw| {
        let opening = |c: char| matches!(c, '(' | '"' | '\'' | '“' | '‘' | '¿' | '¡' | '[');
        let closing = |c: char| matches!(c, ')' | '"' | '\'' | '”' | '’' | ',' | ';' | ':' | '!' | '?' | '…' | ']');
        let start = str::trim_start_matches(raw, opening);
        let mut core = start.trim_end_matches(closing);
        // A point ends a sentence, but for that of an abbreviation.
        while let Some(less) = core.strip_suffix('.').filter(|less| !is_dotted(less)) {
            core = less.trim_end_matches(closing);
        }
        let minus =
            core.starts_with(['-', '−', '–']) && core.chars().nth(1).is_some_and(|c| c.is_ascii_digit() || c == '.');
        let core = if minus { core.trim_start_matches(['-', '−', '–']) } else { core };
        let behind = &raw[raw.len() - (raw.len() - (core.as_ptr() as usize - raw.as_ptr() as usize) - core.len())..];
        Word { raw, core, low: core.to_lowercase(), ends: behind.contains(['.', ',', ';', '!', '?']), minus }
    };
    text.split_whitespace().map(word).collect()
}

/// `U.S`, `a.m`, `Ph.D`: letters parted by points.
pub(super) fn is_dotted(word: &str) -> bool {
    word.contains('.')
        && word.split('.').all(|part| (1..=2).contains(&part.len()) && part.bytes().all(|b| b.is_ascii_alphabetic()))
}

/// `F-16`, `A4`: up to three letters and a number.
pub(super) fn letters_and_digits(core: &str) -> Option<(&str, &str)> {
    let letters = core.bytes().take_while(u8::is_ascii_alphabetic).count();
    let digits = core[letters..].trim_start_matches('-');
    let is_number = (1..=4).contains(&digits.len()) && digits.bytes().all(|b| b.is_ascii_digit());
    ((1..=3).contains(&letters) && is_number).then_some((&core[..letters], digits))
}

/// `5-10`, `10–15%`: two numbers that rise. A telephone number is none, nor is a date.
pub(super) fn rising_range(core: &str) -> Option<(&str, &str)> {
    let (low, high) = core.split_once(['-', '–', '—'])?;
    let digits = |text: &str| (1..=4).contains(&text.len()) && text.bytes().all(|b| b.is_ascii_digit());
    let bare = high.trim_end_matches('%');
    if !digits(low) || !digits(bare) || (low.len() == 3 && bare.len() == 4) || low.starts_with('0') {
        return None;
    }
    (low.parse::<u32>().ok() < bare.parse::<u32>().ok()).then_some((low, high))
}

/// Capitals that are spelled one by one, as one word: "C O", "U S A". "I" and "A" may be words of their own.
pub(super) fn spelled(rest: &[Word<'_>]) -> Option<(String, usize)> {
    let is_letter = |word: &&Word<'_>| word.raw.len() == 1 && word.raw.bytes().all(|b| b.is_ascii_uppercase());
    let letters = rest.iter().take_while(is_letter).count();
    let doubtful =
        letters == 2 && (rest[0].raw == "A" || rest[0].raw == "I" || rest[1].raw == "I" || rest[1].raw == "A");
    (letters >= 2 && !doubtful).then(|| (rest[..letters].iter().map(|word| word.raw).collect(), letters))
}

/// `H2O`, `B2B`: letters and digits by turns, in pieces.
pub(super) fn pieces_of_mixed(core: &str) -> Option<Vec<String>> {
    const LONGEST: usize = 6;
    let alternating = core.len() <= LONGEST
        && core.starts_with(|c: char| c.is_ascii_uppercase())
        && core.bytes().all(|b| b.is_ascii_alphanumeric())
        && core.bytes().any(|b| b.is_ascii_digit());
    if !alternating {
        return None;
    }
    let mut pieces: Vec<String> = Vec::new();
    for c in core.chars() {
        match pieces.last_mut().filter(|last| last.ends_with(|l: char| l.is_ascii_digit() == c.is_ascii_digit())) {
            Some(last) => last.push(c),
            None => pieces.push(c.to_string()),
        }
    }
    (pieces.len() > 2).then_some(pieces)
}
