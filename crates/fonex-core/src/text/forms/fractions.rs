//! Fractions: as written and as signs, and the words of English for them.

use super::read::Word;
use super::words::{is_number, small_number};

/// Numerator and denominator of `½`, `1/2`, `1⁄2`.
pub(super) fn in_signs(text: &str) -> Option<(u32, u32)> {
    const SIGNS: [(char, u32, u32); 11] = [
        ('½', 1, 2),
        ('¼', 1, 4),
        ('¾', 3, 4),
        ('⅓', 1, 3),
        ('⅔', 2, 3),
        ('⅕', 1, 5),
        ('⅛', 1, 8),
        ('⅜', 3, 8),
        ('⅝', 5, 8),
        ('⅞', 7, 8),
        ('⅖', 2, 5),
    ];
    if let Some((_, n, d)) = SIGNS.iter().find(|(sign, ..)| text.chars().eq([*sign])) {
        return Some((*n, *d));
    }
    let (n, d) = text.split_once(['/', '⁄'])?;
    let (n, d): (u32, u32) = (n.parse().ok()?, d.parse().ok()?);
    (n < d && matches!(d, 2 | 3 | 4 | 5 | 6 | 8 | 10)).then_some((n, d))
}

/// A number of digits alone.
pub(super) fn whole(text: &str) -> Option<u32> {
    text.parse().ok().filter(|_| text.bytes().all(|b| b.is_ascii_digit()))
}

/// `1/2`, `½`, `2 1/2`, `2½`, "a half", "three fourths".
pub(super) fn fraction(rest: &[Word<'_>], before: &str, out: &mut Vec<String>) -> Option<usize> {
    let word = &rest[0];
    // Whole and part in one word.
    if let Some((at, sign)) = word.core.char_indices().last().filter(|(at, _)| *at > 0)
        && let (Some(n), Some(part)) = (whole(&word.core[..at]), in_signs(sign.encode_utf8(&mut [0; 4])))
    {
        out.push(mixed(n, part));
        return Some(1);
    }
    if let (Some(n), Some(part)) =
        (whole(word.core), rest.get(1).filter(|_| !word.ends).and_then(|w| in_signs(w.core)))
    {
        out.push(mixed(n, part));
        return Some(2);
    }
    if let Some((n, d)) = in_signs(word.core) {
        out.push(part_in_words(n, d));
        return Some(1);
    }
    // "three and three quarters".
    let low = |at: usize| rest.get(at).map_or("", |word| word.low.as_str());
    if let (Some(n), "and", Some(part), Some(d)) =
        (small_number(&word.low), low(1), small_number(low(2)).or((low(2) == "a").then_some(1)), denominator(low(3)))
        && part < d
        && !rest[..3].iter().any(|word| word.ends)
    {
        out.push(mixed(n, (part, d)));
        return Some(4);
    }
    let numerator =
        if matches!(word.low.as_str(), "a" | "an") { 1 } else { small_number(&word.low).filter(|n| *n > 0)? };
    let d = denominator(&rest.get(1).filter(|_| !word.ends)?.low)?;
    // "two and a half" is said by the numbers; "a second" is no fraction, nor is "one third" behind another number.
    let counts = match (word.low.as_str(), d) {
        // "a third time" is none either.
        ("a" | "an", 3 | 4) if rest[1].low != "quarter" => rest.get(2).is_some_and(|next| next.low == "of"),
        _ => numerator < d,
    };
    if !counts || before == "and" || (numerator == 1 && is_number(before)) {
        return None;
    }
    out.push(part_in_words(numerator, d));
    Some(2)
}

fn denominator(word: &str) -> Option<u32> {
    Some(match word {
        "half" | "halves" => 2,
        "third" | "thirds" => 3,
        "quarter" | "quarters" | "fourth" | "fourths" => 4,
        "fifths" => 5,
        "sixths" => 6,
        "eighths" => 8,
        "tenths" => 10,
        _ => return None,
    })
}

fn part_in_words(n: u32, d: u32) -> String {
    const NAMES: [(u32, &str, &str); 7] = [
        (2, "half", "halves"),
        (3, "third", "thirds"),
        (4, "quarter", "quarters"),
        (5, "fifth", "fifths"),
        (6, "sixth", "sixths"),
        (8, "eighth", "eighths"),
        (10, "tenth", "tenths"),
    ];
    let (_, one, several) = NAMES.iter().find(|(known, ..)| *known == d).expect("only these are read");
    format!("{n} {}", if n == 1 { one } else { several })
}

/// `2 1/2` as `2.5`, which "two and a half" becomes as well; thirds in words.
fn mixed(whole: u32, (n, d): (u32, u32)) -> String {
    match d {
        2 | 4 | 5 | 8 | 10 => format!("{}", f64::from(whole) + f64::from(n) / f64::from(d)),
        _ => format!("{whole} and {}", part_in_words(n, d)),
    }
}
