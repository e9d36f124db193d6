//! English: times of day, units, fractions, signs of numbers, ranges, dates, Roman numerals, letters and digits, short forms
//! of "is", "has", "would" and "had".
//!
//! Words are read from left to right, once, and each rule sees the words before and behind. What is left alone is as
//! important: 24/7 is no fraction, 555-1234 no range, "its" no "it is".

mod amounts;

use super::BOUNDARY;
use super::fractions::fraction;
use super::read::{Word, is_dotted, rising_range, words};
use super::words::{
    day, is_after_had, is_after_has, is_month, is_number, is_numbered, is_regnal, roman, several, small_number,
    two_word_unit, unit,
};
use amounts::{amount, digits_and_letters, sign};

/// The text in the forms that are said.
pub(super) fn spoken(text: &str) -> String {
    let words = words(text);
    let mut out: Vec<String> = Vec::with_capacity(words.len() + 4);
    let mut at = 0;
    while at < words.len() {
        let before = out.last().cloned().unwrap_or_default();
        let taken = rules(&words[at..], &before, &mut out);
        let (last, next) = (&words[at + taken - 1], words.get(at + taken));
        if last.ends && is_number(&last.low) && next.is_some_and(|next| is_number(&next.low)) {
            out.push(BOUNDARY.to_owned());
        }
        at += taken;
    }
    out.join(" ")
}

/// Says the words at the beginning of `rest`; gives how many that were.
fn rules(rest: &[Word<'_>], before: &str, out: &mut Vec<String>) -> usize {
    let word = &rest[0];
    if word.minus && !is_number(before) {
        out.push("minus".to_owned());
    }
    if let Some(taken) = time_of_day(rest, out).or_else(|| date(rest, out)).or_else(|| fraction(rest, before, out)) {
        return taken;
    }
    if let Some(taken) = sign(rest, before, out).or_else(|| amount(rest, before, out)) {
        return taken;
    }
    if word.low == "negative" && rest.get(1).is_some_and(|next| is_number(&next.low)) {
        out.push("minus".to_owned());
        return 1;
    }
    if let Some(times) =
        [("double", 2), ("triple", 3)].iter().find(|(name, _)| word.low == *name).map(|found| found.1)
        && let Some(digit) = rest.get(1).filter(|next| small_number(&next.low).is_some_and(|n| n < 10))
        && (is_number(before) || rest.get(2).is_some_and(|next| is_number(&next.low) || next.low == "double"))
    {
        out.extend(std::iter::repeat_n(digit.low.clone(), times));
        return 2;
    }
    if let Some(name) = numeral(word, before) {
        out.push(name);
        return 1;
    }
    if is_number(before) {
        let next = rest.get(1).filter(|_| !word.ends || word.raw == "sq.").map_or("", |next| next.low.as_str());
        if let Some(both) = two_word_unit(&word.low, next) {
            out.push(both.to_owned());
            return 2;
        }
        if let Some(several) = several(&word.low) {
            out.push(several);
            return 1;
        }
    }
    // "a 20-minute ride".
    if let Some((number, several)) =
        word.low.split_once('-').and_then(|(n, name)| Some((n, several(name).filter(|_| is_number(n))?)))
    {
        out.extend([number.to_owned(), several]);
        return 1;
    }
    if let Some(name) = unit(word.core).filter(|_| before.starts_with(|c: char| c.is_ascii_digit())) {
        out.push(name.to_owned());
        return 1;
    }
    if matches!(word.low.as_str(), "no." | "nos." | "no" | "nr" | "nr.")
        && rest.get(1).is_some_and(|next| next.low.starts_with(|c: char| c.is_ascii_digit()))
        && word.raw.starts_with(['N', 'n'])
        && (word.raw.ends_with('.') || word.core.starts_with('N'))
    {
        out.push("number".to_owned());
        return 1;
    }
    if let Some(said) = short_verb(&word.low, rest.get(1).map_or("", |next| next.low.as_str())) {
        out.push(said);
        return 1;
    }
    token(word, out);
    1
}

/// "half past seven", "a quarter to six", "7am", "7:30 p.m.", "seven a m".
fn time_of_day(rest: &[Word<'_>], out: &mut Vec<String>) -> Option<usize> {
    let low = |at: usize| rest.get(at).map_or("", |word| word.low.as_str());
    let skip = usize::from(low(0) == "a");
    let part = low(skip);
    let minutes = match part {
        "half" => 30,
        "quarter" => 15,
        _ => small_number(part).filter(|minutes| *minutes > 0 && minutes.is_multiple_of(5))?,
    };
    let hour = small_number(low(skip + 2)).filter(|hour| (1..=12).contains(hour))?;
    // "five to ten" may well be a range.
    let (hour, minutes) = match low(skip + 1) {
        "past" => (hour, minutes),
        "after" if part == "quarter" => (hour, minutes),
        "to" if part == "quarter" => (if hour == 1 { 12 } else { hour - 1 }, 60 - minutes),
        _ => return None,
    };
    out.push(format!("{hour}:{minutes:02}"));
    Some(skip + 3)
}

/// "May 5th", "May the fifth", "the fifth of May": the day as a plain number beside its month.
fn date(rest: &[Word<'_>], out: &mut Vec<String>) -> Option<usize> {
    let low = |at: usize| rest.get(at).map_or("", |word| word.low.as_str());
    // A day of two words: "twenty first".
    let day_at = |at: usize| {
        let two = format!("{}-{}", low(at), low(at + 1));
        day(&two).filter(|day| *day > 20).map(|day| (day, 2)).or_else(|| Some((day(low(at))?, 1)))
    };
    if is_month(low(0)) {
        let skip = usize::from(low(1) == "the");
        let (day, taken) = day_at(1 + skip)?;
        out.extend([low(0).to_owned(), day.to_string()]);
        return Some(1 + skip + taken);
    }
    let skip = usize::from(low(0) == "the");
    let (day, taken) = day_at(skip)?;
    let of = usize::from(low(skip + taken) == "of");
    if !is_month(low(skip + taken + of)) {
        return None;
    }
    out.extend([day.to_string(), low(skip + taken + of).to_owned()]);
    Some(skip + taken + of + 1)
}

/// A Roman numeral behind a name or a noun that is numbered. One letter may be a word of its own, "the part I like".
fn numeral(word: &Word<'_>, before: &str) -> Option<String> {
    let named = before.starts_with(|c: char| c.is_uppercase());
    let before = before.to_lowercase();
    if word.core.len() == 1 && !(before == "war" || named && word.core.starts_with(|c: char| c.is_uppercase())) {
        return None;
    }
    let number = roman(&word.core.to_uppercase())?;
    if is_numbered(&before) {
        return Some(number.to_string());
    }
    let ending = match number % 10 {
        1 if number != 11 => "st",
        2 if number != 12 => "nd",
        3 if number != 13 => "rd",
        _ => "th",
    };
    (is_regnal(&before) && word.core.len() > 1).then(|| format!("the {number}{ending}"))
}

/// "it's", "who'd", "should've": what follows decides between "is" and "has", "would" and "had".
fn short_verb(word: &str, next: &str) -> Option<String> {
    const PRONOUNS: [&str; 14] = [
        "it",
        "he",
        "she",
        "that",
        "what",
        "who",
        "where",
        "there",
        "here",
        "how",
        "when",
        "why",
        "this",
        "everything",
    ];
    const PEOPLE: [&str; 9] = ["i", "you", "he", "she", "it", "we", "they", "who", "there"];
    const MODALS: [&str; 6] = ["should", "could", "would", "might", "must", "who"];
    let word = word.replace('’', "'");
    let (stem, ending) = word.split_once('\'')?;
    let verb = match ending {
        "s" if PRONOUNS.contains(&stem) => {
            if is_after_has(next) {
                "has"
            } else {
                "is"
            }
        }
        "d" if PEOPLE.contains(&stem) => {
            if is_after_had(next) {
                "had"
            } else {
                "would"
            }
        }
        "ve" if MODALS.contains(&stem) => "have",
        _ => return None,
    };
    Some(format!("{stem} {verb}"))
}

/// One word by itself.
fn token(word: &Word<'_>, out: &mut Vec<String>) {
    let core = word.core;
    // "a m" behind a number.
    if matches!(word.low.as_str(), "m" | "m.")
        && out.last().is_some_and(|last| matches!(last.as_str(), "a" | "p"))
        && out.len() > 1
        && is_number(&out[out.len() - 2])
    {
        out.last_mut().expect("there is one").push('m');
        return;
    }
    if is_dotted(core) || core.strip_suffix('.').is_some_and(is_dotted) {
        out.push(core.replace('.', ""));
        return;
    }
    if core == "#" {
        out.push("number".to_owned());
        return;
    }
    if let Some(digits) = core.strip_prefix('#').filter(|rest| rest.starts_with(|c: char| c.is_ascii_digit())) {
        out.extend(["number".to_owned(), digits.to_owned()]);
        return;
    }
    if let Some(digits) = core.strip_prefix('+').filter(|rest| rest.starts_with(|c: char| c.is_ascii_digit())) {
        out.extend(["plus".to_owned(), digits.to_owned()]);
        return;
    }
    if let Some(digits) =
        core.strip_prefix('.').filter(|rest| rest.bytes().all(|b| b.is_ascii_digit()) && !rest.is_empty())
    {
        // Said digit by digit.
        out.push("point".to_owned());
        out.extend(digits.chars().map(String::from));
        return;
    }
    if core.contains('&')
        && core.split('&').all(|part| !part.is_empty() && part.bytes().all(|b| b.is_ascii_alphabetic()))
    {
        out.push(core.replace('&', " and "));
        return;
    }
    if digits_and_letters(core, out) {
        return;
    }
    // "the 1980's".
    if let Some(decade) = core.strip_suffix("'s").or_else(|| core.strip_suffix("’s"))
        && decade.ends_with('0')
        && decade.bytes().all(|b| b.is_ascii_digit())
    {
        out.push(format!("{decade}s"));
        return;
    }
    if let Some((low, high)) = rising_range(core) {
        out.extend([low.to_owned(), "to".to_owned(), high.to_owned()]);
        return;
    }
    out.push(if word.minus { core.to_owned() } else { word.raw.to_owned() });
}
