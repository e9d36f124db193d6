//! German, whose numbers are single words: `dreihundertfünfundvierzig`.

use super::digits::is_digits;
use super::grammar::Grammar;

const SMALL: [&str; 20] = [
    "null",
    "eins",
    "zwei",
    "drei",
    "vier",
    "fünf",
    "sechs",
    "sieben",
    "acht",
    "neun",
    "zehn",
    "elf",
    "zwölf",
    "dreizehn",
    "vierzehn",
    "fünfzehn",
    "sechzehn",
    "siebzehn",
    "achtzehn",
    "neunzehn",
];
const TENS: [&str; 8] = ["zwanzig", "dreißig", "vierzig", "fünfzig", "sechzig", "siebzig", "achtzig", "neunzig"];
/// Ordinals whose stem is not that of the cardinal.
const IRREGULAR: [(&str, u64); 5] = [("erst", 1), ("dritt", 3), ("siebt", 7), ("siebent", 7), ("acht", 8)];
/// The most tokens one number word is ever split into.
const MOST_SPLIT: usize = 7;

pub(super) const GRAMMAR: Grammar = Grammar {
    below_thousand,
    ordinal,
    // The full stop of an ordinal is said by the forms step, before punctuation takes it away.
    ordinal_mark: "te",
    thousand: &["tausend"],
    scales: &[
        (&["billion", "billionen"], 1_000_000_000_000),
        (&["milliarde", "milliarden"], 1_000_000_000),
        (&["million", "millionen"], 1_000_000),
    ],
    decimal: &["komma"],
    hour: &["uhr"],
    says_hour: true,
    hour_parts: &[],
    before_hour: &[],
    currencies: &[
        ('€', "euro", &["euro", "euros"]),
        ('$', "dollar", &["dollar", "dollars"]),
        ('£', "pfund", &["pfund"]),
        ('¥', "yen", &["yen"]),
    ],
    money_and: &["und"],
    cents: &["cent", "cents"],
    percent: &[&["prozent"], &["percent"]],
    and: "und",
};

/// Words of several tokens are tried as one word, the longest first: "ein und zwanzig". A number of a thousand and more is
/// one word as well, so this gives numbers up to 999,999.
fn below_thousand(rest: &[&str]) -> Option<(u64, usize)> {
    // "tausend" alone is the grammar's.
    if rest.first() == Some(&"tausend") {
        return None;
    }
    (1..=MOST_SPLIT.min(rest.len())).rev().find_map(|length| {
        // The grammar puts "zwei tausend" together; a number must not begin or end with "und".
        let tokens = &rest[..length];
        let open = tokens[0] == "und" || tokens[length - 1] == "und";
        let apart = length > 1 && tokens.contains(&"tausend");
        if open || apart { None } else { word(&fold(&tokens.concat())).map(|value| (value, length)) }
    })
}

fn ordinal(rest: &[&str]) -> Option<(u64, usize)> {
    let token = fold(rest.first()?);
    let digits = token.trim_end_matches(|c: char| c.is_ascii_lowercase());
    if is_digits(digits)
        && matches!(
            &token[digits.len()..],
            "te" | "ten" | "ter" | "tes" | "tem" | "ste" | "sten" | "ster" | "stes" | "stem"
        )
    {
        return Some((digits.parse().ok()?, 1));
    }
    let stem = ["e", "en", "er", "es", "em"]
        .iter()
        .filter_map(|ending| token.strip_suffix(ending))
        .min_by_key(|s| s.len())?;
    if let Some((_, value)) = IRREGULAR.iter().find(|(known, _)| *known == stem) {
        return Some((*value, 1));
    }
    let by_irregular = IRREGULAR.iter().find_map(|(known, value)| {
        let head = stem.strip_suffix(known)?;
        let head = head.strip_suffix("und").unwrap_or(head);
        word(head).filter(|head| head % 100 == 0 && *head > 0).map(|head| head + value)
    });
    if by_irregular.is_some() {
        return by_irregular.map(|value| (value, 1));
    }
    let high =
        stem.strip_suffix("st").and_then(word).filter(|value| value % 100 >= 20 || value % 100 == 0 && *value > 0);
    let low = stem.strip_suffix('t').and_then(word).filter(|value| (1..20).contains(&(value % 100)));
    high.or(low).map(|value| (value, 1))
}

/// Swiss writing, and the two that is said to be told from three.
fn fold(token: &str) -> String {
    token.replace("dreissig", "dreißig").replace("zwo", "zwei").replace("fuenf", "fünf").replace("zwoelf", "zwölf")
}

/// The value of one number word.
fn word(word: &str) -> Option<u64> {
    let without_and = |rest: &str| rest.strip_prefix("und").unwrap_or(rest).to_owned();
    if let Some((head, rest)) = word.split_once("tausend") {
        let thousands = if head.is_empty() { 1 } else { below_thousand_word(head)? };
        let rest = without_and(rest);
        let small = if rest.is_empty() { 0 } else { below_thousand_word(&rest)? };
        return Some(thousands * 1_000 + small);
    }
    below_thousand_word(word)
}

fn below_thousand_word(word: &str) -> Option<u64> {
    if let Some((head, rest)) = word.split_once("hundert") {
        // "neunzehnhundert" is a year's way of saying 1,900.
        let hundreds = if head.is_empty() { 1 } else { below_hundred(head).filter(|n| (1..=99).contains(n))? };
        let rest = rest.strip_prefix("und").unwrap_or(rest);
        let small = if rest.is_empty() { 0 } else { below_hundred(rest)? };
        return Some(hundreds * 100 + small);
    }
    below_hundred(word)
}

fn below_hundred(word: &str) -> Option<u64> {
    if word == "ein" {
        return Some(1);
    }
    let small = |word: &str| SMALL.iter().position(|known| *known == word).map(|at| at as u64);
    let tens = |word: &str| TENS.iter().position(|known| *known == word).map(|at| (at as u64 + 2) * 10);
    small(word).or_else(|| tens(word)).or_else(|| {
        // Not the first "und": there is one in "hundert".
        let (unit, ten) = word.rsplit_once("und")?;
        let unit = if unit == "ein" { 1 } else { small(unit).filter(|unit| (2..10).contains(unit))? };
        Some(tens(ten)? + unit)
    })
}
