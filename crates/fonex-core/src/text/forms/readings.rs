//! Labels that can be read in two ways: "five to ten" is a time or a range, "he'd" is "he had" or "he would".
//!
//! A label offers both readings, as if its author had written `{five to ten|9:55}`; what was heard is taken as it stands. One
//! form for both would take different things for the same.

use super::NumberLanguage;
use super::words::{in_roman, is_spanish_month, roman, small_number};
use crate::text::LabelPart;

/// Words on either side that belong to a choice, since forms look at their neighbours.
const AROUND: usize = 3;
/// The most texts one choice may offer.
const MOST: usize = 8;

/// A word with its place in the text.
struct Placed<'t> {
    start: usize,
    end: usize,
    /// In small letters, without the signs around it.
    low: String,
    raw: &'t str,
}

fn placed(text: &str) -> Vec<Placed<'_>> {
    let place = |raw: &str| raw.as_ptr() as usize - text.as_ptr() as usize;
    let word = |raw| {
        let core = str::trim_matches(raw, |c: char| !c.is_alphanumeric());
        Placed { start: place(raw), end: place(raw) + raw.len(), low: core.to_lowercase().replace('’', "'"), raw }
    };
    text.split_whitespace().map(word).collect()
}

/// What else the words from `at` on can be: how many they are, and their other readings.
fn others(language: NumberLanguage, words: &[Placed<'_>], at: usize) -> Option<(usize, Vec<String>)> {
    match language {
        NumberLanguage::English => english(&words[at..]),
        NumberLanguage::German => german(&words[at..]),
        NumberLanguage::French => french(&words[at..]),
        NumberLanguage::Spanish => spanish(&words[at..]),
    }
}

fn english(rest: &[Placed<'_>]) -> Option<(usize, Vec<String>)> {
    const PEOPLE: [&str; 9] = ["i", "you", "he", "she", "it", "we", "they", "who", "there"];
    const THINGS: [&str; 10] = ["he", "she", "it", "that", "what", "who", "where", "there", "here", "how"];
    let low = &rest[0].low;
    if let Some(person) = low.strip_suffix("'d").filter(|stem| PEOPLE.contains(stem)) {
        return Some((1, vec![format!("{person} had"), format!("{person} would")]));
    }
    if let Some(thing) = low.strip_suffix("'s").filter(|stem| THINGS.contains(stem)) {
        return Some((1, vec![format!("{thing} has"), format!("{thing} is")]));
    }
    if let Some(read) = english_amount(rest) {
        return Some(read);
    }
    if let Some((hour, minutes)) = low.split_once(':') {
        let (hour, minutes) =
            (small_number(hour).filter(|hour| (1..=12).contains(hour))?, minutes.parse::<u32>().ok()?);
        return matches!(minutes, 35 | 40 | 50 | 55)
            .then(|| (1, vec![format!("{} to {}", 60 - minutes, hour % 12 + 1)]));
    }
    let minutes = small_number(low).filter(|minutes| matches!(minutes, 5 | 10 | 20 | 25))?;
    let hour = rest.get(2).filter(|_| rest[1].low == "to" && rest[0].raw.ends_with(char::is_alphanumeric))?;
    let hour = small_number(&hour.low).filter(|hour| (1..=12).contains(hour))?;
    Some((3, vec![format!("{}:{}", if hour == 1 { 12 } else { hour - 1 }, 60 - minutes)]))
}

/// `0.5` and `.5`, `4K`, "three pounds" of either kind, `St.`, numerals that may be letters.
fn english_amount(rest: &[Placed<'_>]) -> Option<(usize, Vec<String>)> {
    let raw = rest[0].raw;
    let digit = |text: &str| text.starts_with(|c: char| c.is_ascii_digit());
    if let Some(part) = raw.strip_prefix("0.").or_else(|| raw.strip_prefix('.')).filter(|part| digit(part)) {
        let other = if raw.starts_with('0') { format!(".{part}") } else { format!("0.{part}") };
        return Some((1, vec![other]));
    }
    let core = raw.trim_end_matches([',', '.', ';', '?', '!']);
    if let Some(number) = core.strip_suffix(['K', 'k']).filter(|number| digit(number) && number.len() < 4) {
        return Some((1, vec![format!("{number} k")]));
    }
    if matches!(raw, "St." | "St" | "Saint")
        && rest.get(1).is_some_and(|next| next.raw.starts_with(char::is_uppercase))
    {
        return Some((1, ["saint", "street", "st"].map(str::to_owned).into()));
    }
    if let Some(number) = core.strip_prefix('£').filter(|number| digit(number)) {
        return Some((1, vec![format!("{number} pounds")]));
    }
    if let Some(number) = core.strip_suffix("lbs").or_else(|| core.strip_suffix("lb")).filter(|number| digit(number))
    {
        return Some((1, vec![format!("{number} pounds")]));
    }
    let next = rest.get(1)?;
    let bare = next.raw.trim_end_matches([',', '.', ';', '?', '!']);
    if let Some(number) = small_number(&rest[0].low) {
        return match next.low.as_str() {
            "lb" | "lbs" => Some((2, vec![format!("{raw} pounds")])),
            // What is weighed is named behind it.
            "pounds" if rest.get(2).is_some_and(|word| word.low == "of") => Some((2, vec![format!("{raw} lb")])),
            "pounds" | "pound" => Some((2, vec![format!("{raw} lb"), format!("£{number}")])),
            "k" => Some((2, vec![format!("{number}k")])),
            _ => None,
        };
    }
    // "Rocky IV", "Apollo Thirteen".
    let named = raw.starts_with(char::is_uppercase) && raw.ends_with(char::is_lowercase);
    let other = match roman(bare).filter(|_| bare.len() > 1) {
        Some(number) => number.to_string(),
        None => in_roman(small_number(&next.low)?).filter(|numeral| numeral.len() > 1)?,
    };
    named.then(|| (2, vec![format!("{raw} {other}")]))
}

/// A number with a point before a capital: an ordinal and its noun, or the end of a sentence; saints.
fn german(rest: &[Placed<'_>]) -> Option<(usize, Vec<String>)> {
    if matches!(rest[0].raw, "St." | "Sankt")
        && rest.get(1).is_some_and(|next| next.raw.starts_with(char::is_uppercase))
    {
        return Some((1, ["sankt", "st"].map(str::to_owned).into()));
    }
    let number: u32 = rest[0].raw.strip_suffix('.')?.parse().ok()?;
    let capital = rest.get(1)?.raw.starts_with(char::is_uppercase);
    (capital && number < 100).then(|| (1, vec![format!("{number}te")]))
}

/// Noon and midnight have names.
fn french(rest: &[Placed<'_>]) -> Option<(usize, Vec<String>)> {
    let hour = |at: usize| matches!(rest.get(at).map(|word| word.low.as_str()), Some("h" | "heures"));
    let exact = |taken: usize| rest.get(taken).is_none_or(|word| !word.low.starts_with(|c: char| c.is_ascii_digit()));
    let (name, taken) = match rest[0].low.as_str() {
        "midi" => return Some((1, vec!["12 h".to_owned()])),
        "minuit" => return Some((1, vec!["0 h".to_owned(), "24 h".to_owned()])),
        "12h" => ("midi", 1),
        "0h" | "24h" => ("minuit", 1),
        "12" | "douze" if hour(1) => ("midi", 2),
        "0" | "24" | "zéro" if hour(1) => ("minuit", 2),
        _ => return None,
    };
    exact(taken).then(|| (taken, vec![name.to_owned()]))
}

/// The first of a month is said as a number or by place.
fn spanish(rest: &[Placed<'_>]) -> Option<(usize, Vec<String>)> {
    let month = rest.get(2).filter(|_| rest[1].low == "de").is_some_and(|word| is_spanish_month(&word.low));
    match rest[0].low.as_str() {
        "1" | "uno" if month => Some((1, vec!["primero".to_owned()])),
        "primero" | "1º" | "1o" if month => Some((1, vec!["1".to_owned()])),
        _ => None,
    }
}

/// Whether there may be something to choose, at a glance.
fn may_be_ambiguous(language: NumberLanguage, text: &str) -> bool {
    match language {
        NumberLanguage::English => {
            text.bytes().any(|b| matches!(b, b'\'' | b':' | b'0'..=b'9'))
                || ["’", "£", " to ", "pound", "Saint ", "St. ", "St ", "II", "IV", "VI", "IX", "XI", "XV", "XX"]
                    .iter()
                    .any(|sign| text.contains(sign))
        }
        NumberLanguage::German => {
            text.bytes().any(|b| b.is_ascii_digit()) || text.contains("St. ") || text.contains("Sankt ")
        }
        NumberLanguage::French => text.contains(['h', 'H', 'm', 'M']),
        NumberLanguage::Spanish => text.contains(" de "),
    }
}

/// The text in parts, where some of it can be read in other ways too; none where there is one reading. Cost is linear.
pub(super) fn readings(language: NumberLanguage, text: &str) -> Option<Vec<LabelPart>> {
    if !may_be_ambiguous(language, text) {
        return None;
    }
    let words = placed(text);
    let mut found: Vec<(usize, usize, Vec<String>)> = Vec::new();
    let mut at = 0;
    while at < words.len() {
        match others(language, &words, at) {
            Some((taken, others)) => {
                found.push((at, at + taken, others));
                at += taken;
            }
            None => at += 1,
        }
    }
    if found.is_empty() {
        return None;
    }
    let mut parts = Vec::new();
    let mut done = 0;
    let mut rest = found.into_iter().peekable();
    while let Some((start, end, others)) = rest.next() {
        // Choices that look at each other are one.
        let mut choices = vec![(start, end, others)];
        while let Some(next) = rest.next_if(|(start, ..)| *start < choices[choices.len() - 1].1 + 2 * AROUND) {
            choices.push(next);
        }
        let last = choices[choices.len() - 1].1;
        let (from, to) = (start.saturating_sub(AROUND), (last + AROUND).min(words.len()));
        let (begin, finish) = (words[from].start, words[to - 1].end);
        if done < begin {
            parts.push(LabelPart::Fixed(text[done..begin].to_owned()));
        }
        let mut texts = vec![String::new()];
        let mut upto = begin;
        for (start, end, others) in &choices {
            let (span_begin, span_end) = (words[*start].start, words[*end - 1].end);
            texts.iter_mut().for_each(|so_far| so_far.push_str(&text[upto..span_begin]));
            let plain = texts.len();
            let more = others.iter().flat_map(|other| texts.iter().map(move |so_far| format!("{so_far}{other}")));
            let more: Vec<String> = more.take(MOST.saturating_sub(plain)).collect();
            texts.iter_mut().for_each(|so_far| so_far.push_str(&text[span_begin..span_end]));
            texts.extend(more);
            upto = span_end;
        }
        texts.iter_mut().for_each(|so_far| so_far.push_str(&text[upto..finish]));
        parts.push(LabelPart::Choice(texts));
        done = finish;
    }
    if done < text.len() {
        parts.push(LabelPart::Fixed(text[done..].to_owned()));
    }
    Some(parts)
}
