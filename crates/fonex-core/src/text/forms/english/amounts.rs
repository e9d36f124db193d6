//! Amounts of English: signs between numbers, money, lengths, units run together with their numbers, and letters with digits.

use super::super::read::{Word, letters_and_digits, pieces_of_mixed, spelled};
use super::super::words::{day, is_number, several, short_month, small_number, unit};

/// Signs between numbers and words before them: `3 + 4`, `5 × 5`, `pp. 5`, "nought point five", "oh nine hundred".
pub(super) fn sign(rest: &[Word<'_>], before: &str, out: &mut Vec<String>) -> Option<usize> {
    const SIGNS: [(&str, &str); 6] =
        [("+", "plus"), ("=", "equals"), ("×", "times"), ("÷", "divided by"), ("x", "by"), ("−", "minus")];
    const PAGES: [(&str, &str); 4] =
        [("p.", "page"), ("pp.", "pages"), ("approx.", "approximately"), ("fig.", "figure")];
    let word = &rest[0];
    if matches!(before, "degree" | "degrees") && matches!(word.core, "C" | "F") {
        out.push(if word.core == "C" { "celsius" } else { "fahrenheit" }.to_owned());
        return Some(1);
    }
    if word.core == "p" && small_number(before).is_some() && rest.get(1).is_none_or(|next| next.core != "m") {
        out.push("pence".to_owned());
        return Some(1);
    }
    let next = rest.get(1)?;
    if is_number(&next.low) {
        let sign = SIGNS.iter().find(|(sign, _)| word.raw == *sign).filter(|_| is_number(before));
        let short = || PAGES.iter().find(|(short, _)| word.raw.eq_ignore_ascii_case(short));
        if let Some((_, said)) = sign.or_else(short) {
            out.push((*said).to_owned());
            return Some(1);
        }
    }
    if matches!(word.low.as_str(), "nought" | "oh") && next.low == "point" {
        out.push("zero".to_owned());
        return Some(1);
    }
    if matches!(word.low.as_str(), "oh" | "zero" | "o") && rest.get(2).is_some_and(|word| word.low == "hundred") {
        let hour = small_number(&next.low).filter(|hour| (1..10).contains(hour))?;
        out.push(format!("0{hour}00"));
        return Some(3);
    }
    if next.low == "hundreds" {
        let century = small_number(&word.low).filter(|century| (10..=20).contains(century))?;
        out.push(format!("{century}00s"));
        return Some(2);
    }
    if word.low == "half" && matches!(next.low.as_str(), "a" | "an") {
        let unit = several(&rest.get(2)?.low)?;
        out.extend(["1 half".to_owned(), unit]);
        return Some(3);
    }
    None
}

/// `US$5`, `$0.99`, `5' 11"`, `4:30-5:30`, `9am-5pm`, and letters that are spelled.
pub(super) fn amount(rest: &[Word<'_>], before: &str, out: &mut Vec<String>) -> Option<usize> {
    const MONEY: [(&str, &str); 3] = [("US", "us dollars"), ("A", "australian dollars"), ("C", "canadian dollars")];
    let word = &rest[0];
    let digits = |text: &str| !text.is_empty() && text.bytes().all(|b| b.is_ascii_digit());
    if let Some((state, bare)) = word.core.split_once('$')
        && let Some((_, money)) = MONEY.iter().find(|(known, _)| *known == state)
        && is_number(bare)
    {
        let scale = rest.get(1).filter(|next| matches!(next.low.as_str(), "thousand" | "million" | "billion"));
        out.push(bare.to_owned());
        out.extend(scale.map(|scale| scale.low.clone()));
        out.push((*money).to_owned());
        return Some(1 + usize::from(scale.is_some()));
    }
    let small = word.core.strip_prefix(['$', '€', '£']).and_then(|bare| bare.strip_prefix("0."));
    if let Some(cents) = small.filter(|cents| cents.len() == 2 && digits(cents)) {
        let name = if word.core.starts_with('£') { "pence" } else { "cents" };
        out.extend([cents.trim_start_matches('0').to_owned(), name.to_owned()]);
        return Some(1);
    }
    if let Some(feet) = word.raw.strip_suffix(['\'', '′']).filter(|feet| digits(feet))
        && let Some(inches) =
            rest.get(1).and_then(|next| next.raw.trim_end_matches(['.', ',']).strip_suffix(['"', '″']))
        && digits(inches)
    {
        out.extend([feet.to_owned(), "feet".to_owned()]);
        out.extend((inches != "0").then(|| inches.to_owned()));
        return Some(2);
    }
    if let Some((from, to)) = word.core.split_once(['-', '–']).filter(|(from, to)| is_clock(from) && is_clock(to)) {
        for (at, clock) in [from, "to", to].into_iter().enumerate() {
            if at == 1 || !digits_and_letters(clock, out) {
                out.push(clock.to_owned());
            }
        }
        return Some(1);
    }
    if let Some((month, taken)) = month_in_short(rest, before) {
        out.push(month);
        return Some(taken);
    }
    let (word, taken) = spelled(rest)?;
    out.push(word);
    Some(taken)
}

/// `4:30`, `9am`.
fn is_clock(text: &str) -> bool {
    let bare = text.trim_end_matches(['a', 'p', 'm', 'A', 'P', 'M', '.']);
    let hour = bare.split(':').next().and_then(|hour| hour.parse::<u32>().ok());
    (bare.contains(':') || bare.len() < text.len())
        && hour.is_some_and(|hour| hour < 25)
        && bare.bytes().all(|b| b.is_ascii_digit() || b == b':')
}

/// `Jan. 5`, `Feb 3rd`, `5 Dec`: the month in full, with the day behind it where there is one.
fn month_in_short(rest: &[Word<'_>], before: &str) -> Option<(String, usize)> {
    let month = short_month(&rest[0].low)?;
    let next = rest.get(1).map(|next| next.low.as_str());
    if let Some(day) = next.and_then(day) {
        return Some((format!("{month} {day}"), 2));
    }
    let number = |text: &str| text.parse::<u32>().is_ok_and(|number| (1..=31).contains(&number));
    (next.is_some_and(number) || number(before)).then(|| (month.to_owned(), 1))
}

/// `5km`, `7am`, `$1.2M`, `F16`, `3D`, `4x4`, `5'10"`.
pub(super) fn digits_and_letters(core: &str, out: &mut Vec<String>) -> bool {
    let low = core.to_lowercase();
    let is_amount = |text: &str| {
        text.starts_with(|c: char| c.is_ascii_digit())
            && text.bytes().all(|b| b.is_ascii_digit() || matches!(b, b'.' | b',' | b':'))
    };
    let split = core.find(|c: char| !(c.is_ascii_digit() || matches!(c, '.' | ',' | ':' | '$' | '€' | '£')));
    if let Some(at) = split.filter(|at| *at > 0) {
        let (amount, letters) = (&core[..at], &low[at..]);
        let currency = amount.starts_with(['$', '€', '£']);
        let bare = amount.trim_start_matches(['$', '€', '£']);
        if !is_amount(bare) {
            return false;
        }
        let scale = match (letters, &core[at..]) {
            ("k", _) => Some("thousand"),
            ("m" | "mn" | "mio", _) if currency => Some("million"),
            (_, "M") => Some("million"),
            ("bn", _) => Some("billion"),
            ("b", _) if currency => Some("billion"),
            ("tn", _) => Some("trillion"),
            _ => None,
        };
        if let Some(scale) = scale {
            // Money is said behind the number; the numbers step finds it there.
            let money = match amount.chars().next() {
                Some('$') => "dollars",
                Some('€') => "euros",
                Some('£') => "pounds",
                _ => "",
            };
            out.extend([bare, scale, money].iter().filter(|part| !part.is_empty()).map(|part| (*part).to_owned()));
            return true;
        }
        if currency {
            return false;
        }
        if letters == "p" && small_number(bare).is_some() {
            out.extend([bare.to_owned(), "pence".to_owned()]);
            return true;
        }
        if matches!(letters, "am" | "pm") {
            out.extend([bare.to_owned(), letters.to_owned()]);
            return true;
        }
        if let Some(unit) = unit(&core[at..]).filter(|_| letters != "s") {
            out.extend([bare.to_owned(), unit.to_owned()]);
            return true;
        }
        if let Some((feet, inches)) = core.split_once('\'').filter(|(f, i)| is_amount(f) && is_amount(i)) {
            out.extend([feet.to_owned(), "feet".to_owned()]);
            out.extend((inches != "0").then(|| inches.to_owned()));
            return true;
        }
        if let Some((one, other)) = low.split_once('x').filter(|(one, other)| is_amount(one) && is_amount(other)) {
            out.extend([one.to_owned(), "by".to_owned(), other.to_owned()]);
            return true;
        }
        let single = letters.len() == 1 && letters.bytes().all(|b| b.is_ascii_alphabetic()) && letters != "s";
        if single {
            out.extend([bare.to_owned(), letters.to_owned()]);
            return true;
        }
        return false;
    }
    if let Some((letters, digits)) = letters_and_digits(core) {
        out.extend([letters.to_owned(), digits.to_owned()]);
        return true;
    }
    pieces_of_mixed(core).is_some_and(|pieces| {
        out.extend(pieces);
        true
    })
}
