//! English: cardinals, ordinals, decimals, years, times of day, money, percent, runs of single digits.

use super::digits::{is_decimal, is_digits, join_groups, times};

const UNITS: [&str; 10] = ["zero", "one", "two", "three", "four", "five", "six", "seven", "eight", "nine"];
const TEENS: [&str; 10] =
    ["ten", "eleven", "twelve", "thirteen", "fourteen", "fifteen", "sixteen", "seventeen", "eighteen", "nineteen"];
const TENS: [&str; 8] = ["twenty", "thirty", "forty", "fifty", "sixty", "seventy", "eighty", "ninety"];
const UNIT_ORDINALS: [&str; 10] =
    ["zeroth", "first", "second", "third", "fourth", "fifth", "sixth", "seventh", "eighth", "ninth"];
const TEEN_ORDINALS: [&str; 10] = [
    "tenth",
    "eleventh",
    "twelfth",
    "thirteenth",
    "fourteenth",
    "fifteenth",
    "sixteenth",
    "seventeenth",
    "eighteenth",
    "nineteenth",
];
const TENS_ORDINALS: [&str; 8] =
    ["twentieth", "thirtieth", "fortieth", "fiftieth", "sixtieth", "seventieth", "eightieth", "ninetieth"];
const DECADES: [&str; 8] =
    ["twenties", "thirties", "forties", "fifties", "sixties", "seventies", "eighties", "nineties"];
const SCALES: [(&str, u64); 4] =
    [("thousand", 1_000), ("million", 1_000_000), ("billion", 1_000_000_000), ("trillion", 1_000_000_000_000)];
const CURRENCIES: [(char, &str, &[&str]); 4] = [
    ('$', "dollars", &["dollar", "dollars"]),
    ('€', "euros", &["euro", "euros"]),
    ('£', "pounds", &["pound", "pounds"]),
    ('¥', "yen", &["yen"]),
];
const SMALL_MONEY: [&str; 5] = ["cent", "cents", "penny", "pence", "pennies"];

/// A number from 0 to 19, or tens to 90, in one word.
pub(in crate::text) fn one_word(word: &str) -> Option<u32> {
    let place = |names: &[&str]| names.iter().position(|known| *known == word).map(|at| at as u32);
    place(&UNITS).or_else(|| Some(place(&TEENS)? + 10)).or_else(|| Some((place(&TENS)? + 2) * 10))
}

/// The cardinal of an ordinal from 0 to 19, or of tens to 90, in one word.
pub(in crate::text) fn one_word_ordinal(word: &str) -> Option<u32> {
    let place = |names: &[&str]| names.iter().position(|known| *known == word).map(|at| at as u32);
    place(&UNIT_ORDINALS)
        .or_else(|| Some(place(&TEEN_ORDINALS)? + 10))
        .or_else(|| Some((place(&TENS_ORDINALS)? + 2) * 10))
}

/// A number at the beginning of a stretch of tokens.
struct Found {
    digits: String,
    /// Tokens it takes up.
    taken: usize,
    kind: Kind,
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum Kind {
    /// May continue with a fraction, a scale, money or percent.
    Cardinal,
    /// An ordinal or a decade: complete as it is.
    Closed,
}

/// The tokens with every number in digits.
pub(super) fn in_digits(tokens: &[&str]) -> Vec<String> {
    let tokens: Vec<String> = tokens.iter().flat_map(|token| parted(token)).collect();
    let tokens: Vec<&str> = tokens.iter().map(String::as_str).collect();
    let mut out: Vec<String> = Vec::with_capacity(tokens.len());
    let mut at = 0;
    while at < tokens.len() {
        let rest = &tokens[at..];
        let Some(found) = number(rest) else {
            at += sign_or_word(rest, &mut out);
            continue;
        };
        let (digits, taken) =
            if found.kind == Kind::Cardinal { extended(found, rest) } else { (found.digits, found.taken) };
        at += taken;
        at += money(&digits, &tokens[at..], &mut out);
    }
    join_groups(out)
}

/// Signs that cling to a number become tokens: `$5.50`, `50%`, `7:20`, `7:00`.
fn parted(token: &str) -> Vec<String> {
    let own = |text: &str| vec![text.to_owned()];
    if token == "&" {
        return own("and");
    }
    if token == "%" {
        return own("percent");
    }
    let is_number = |text: &str| text.starts_with(|c: char| c.is_ascii_digit());
    let signed = CURRENCIES.iter().find_map(|(sign, name, _)| Some((name, token.strip_prefix(*sign)?)));
    match signed {
        Some((name, "")) => return own(name),
        Some((name, rest)) if is_number(rest) => return vec![rest.to_owned(), (*name).to_owned()],
        _ => {}
    }
    if !is_number(token) {
        return own(token);
    }
    if let Some(rest) = token.strip_suffix('%') {
        return vec![rest.to_owned(), "percent".to_owned()];
    }
    for (sign, name, _) in CURRENCIES {
        if let Some(rest) = token.strip_suffix(sign) {
            return vec![rest.to_owned(), name.to_owned()];
        }
    }
    if let Some((hours, minutes)) = token.split_once(':')
        && let (Ok(hours), Ok(number)) = (hours.parse::<u32>(), minutes.parse::<u32>())
        && minutes.len() == 2
        && hours < 24
        && number < 60
    {
        return own(&if number == 0 { hours.to_string() } else { format!("{hours}{minutes}") });
    }
    own(token)
}

/// What is no number: two tokens that are one word, or a word as it stands. Gives the tokens taken.
fn sign_or_word(rest: &[&str], out: &mut Vec<String>) -> usize {
    match rest {
        ["per", "cent", ..] => {
            out.push("percent".to_owned());
            2
        }
        ["o'clock", ..] if out.last().is_some_and(|last| is_digits(last)) => 1,
        [word, ..] => {
            out.push((*word).to_owned());
            1
        }
        [] => 0,
    }
}

fn number(rest: &[&str]) -> Option<Found> {
    digit_run(rest).or_else(|| year_or_time(rest)).or_else(|| written(rest)).or_else(|| spoken(rest))
}

fn closed(digits: String, taken: usize) -> Found {
    Found { digits, taken, kind: Kind::Closed }
}

fn cardinal(digits: String, taken: usize) -> Found {
    Found { digits, taken, kind: Kind::Cardinal }
}

/// Three single digits or more, said or written one by one: a number plate, a telephone.
fn digit_run(rest: &[&str]) -> Option<Found> {
    let single = |token: &&&str| single_digit(token).is_some();
    let length = rest.iter().take_while(single).count();
    // The last one may begin a number of its own: "one two three hundred".
    let ends_before =
        rest.get(length).is_some_and(|next| *next == "hundred" || scale(next).is_some() || *next == "point");
    let length = if ends_before { length.saturating_sub(1) } else { length };
    (length >= 3).then(|| closed(rest[..length].iter().filter_map(|token| single_digit(token)).collect(), length))
}

fn single_digit(token: &str) -> Option<char> {
    if let [digit @ b'0'..=b'9'] = token.as_bytes() {
        return Some(char::from(*digit));
    }
    if token == "oh" {
        return Some('0');
    }
    let at = UNITS.iter().position(|unit| *unit == token)?;
    char::from_digit(at as u32, 10)
}

/// Two numbers below a hundred said one after the other: "nineteen eighty four", "seven twenty", "nineteen oh five",
/// "twenty twenties". Years and times of day are said alike.
fn year_or_time(rest: &[&str]) -> Option<Found> {
    let (first, taken) = below_hundred(rest)?;
    if !(1..=20).contains(&first) {
        return None;
    }
    let after = &rest[taken..];
    if let [decade, ..] = after
        && let Some(tens) = DECADES.iter().position(|known| known == decade)
        && first >= 11
    {
        return Some(closed(format!("{first}{}s", (tens + 2) * 10), taken + 1));
    }
    if let ["oh", unit, ..] = after
        && let Some(unit) = UNITS.iter().skip(1).position(|known| known == unit)
    {
        return Some(closed(format!("{first}0{}", unit + 1), taken + 2));
    }
    let (second, more) = below_hundred(after)?;
    let end = rest.get(taken + more).copied();
    let goes_on = end.is_some_and(|next| next == "hundred" || scale(next).is_some());
    (second >= 10 && !goes_on).then(|| closed(format!("{first}{second}"), taken + more))
}

/// A number below a hundred in words, and the tokens it takes.
fn below_hundred(rest: &[&str]) -> Option<(u64, usize)> {
    let value = u64::from(one_word(rest.first()?)?);
    let unit =
        rest.get(1).filter(|_| value >= 20).and_then(|next| one_word(next)).filter(|unit| (1..10).contains(unit));
    Some(unit.map_or((value, 1), |unit| (value + u64::from(unit), 2)))
}

/// A number in digits: `1,200`, `3.5`, `21st`, `1980s`, `5k`.
fn written(rest: &[&str]) -> Option<Found> {
    let token = *rest.first()?;
    if !token.starts_with(|c: char| c.is_ascii_digit()) {
        return None;
    }
    let bare = if has_thousands(token) { token.replace(',', "") } else { token.to_owned() };
    if is_digits(&bare) || is_decimal(&bare) {
        return Some(cardinal(bare, 1));
    }
    if let Some(thousands) = bare.strip_suffix('k')
        && (is_digits(thousands) || is_decimal(thousands))
    {
        return Some(cardinal(times(thousands, 1_000)?, 1));
    }
    for suffix in ["st", "nd", "rd", "th"] {
        if let Some(digits) = bare.strip_suffix(suffix).filter(|digits| is_digits(digits)) {
            return Some(closed(with_suffix(digits.parse().ok()?), 1));
        }
    }
    let decade = bare.strip_suffix('s').filter(|digits| is_digits(digits) && digits.ends_with('0'))?;
    Some(closed(format!("{decade}s"), 1))
}

fn has_thousands(token: &str) -> bool {
    let whole = token.split('.').next().unwrap_or_default();
    let mut groups = whole.split(',');
    let first = groups.next().unwrap_or_default();
    let mut rest = groups.peekable();
    rest.peek().is_some()
        && (1..=3).contains(&first.len())
        && is_digits(first)
        && rest.all(|g| g.len() == 3 && is_digits(g))
}

/// A number in words: cardinal or ordinal, or a decade.
fn spoken(rest: &[&str]) -> Option<Found> {
    let first = *rest.first()?;
    if let Some(decade) = DECADES.iter().position(|known| *known == first) {
        return Some(closed(format!("{}s", (decade + 2) * 10), 1));
    }
    let (mut total, mut taken, mut limit) = (0_u64, 0, u64::MAX);
    let mut found = false;
    while let Some((value, tokens, ordinal)) = below_thousand(&rest[taken..], found) {
        let after = taken + tokens;
        let next = rest.get(after).copied().unwrap_or_default();
        let (factor, scale_ordinal) = match (ordinal, scale(next), next.strip_suffix("th").and_then(scale)) {
            (false, Some(factor), _) => (factor, false),
            (false, None, Some(factor)) => (factor, true),
            _ => (1, false),
        };
        if factor >= limit {
            break;
        }
        total += value * factor;
        found = true;
        taken = after + usize::from(factor > 1);
        if ordinal || scale_ordinal {
            return Some(closed(with_suffix(total), taken));
        }
        if factor == 1 {
            break;
        }
        limit = factor;
    }
    found.then(|| cardinal(total.to_string(), taken))
}

/// A number below a thousand, or "a" before a hundred or a scale: its value, tokens and whether it is an ordinal.
/// `inside` says that something larger came before, where "and" may join.
fn below_thousand(rest: &[&str], inside: bool) -> Option<(u64, usize, bool)> {
    let skip = usize::from(inside && rest.first() == Some(&"and"));
    let rest = &rest[skip..];
    let one =
        rest.first() == Some(&"a") && rest.get(1).is_some_and(|next| *next == "hundred" || scale(next).is_some());
    let (value, taken, ordinal) = if one {
        (1, 1, false)
    } else if matches!(rest.first(), Some(&"hundred")) {
        (1, 0, false)
    } else {
        below_hundred_or_ordinal(rest)?
    };
    if ordinal {
        return Some((value, skip + taken, true));
    }
    match rest.get(taken) {
        Some(&"hundredth") => return Some((value * 100, skip + taken + 1, true)),
        Some(&"hundred") if value > 0 => {}
        _ => return Some((value, skip + taken, false)),
    }
    let after = &rest[taken + 1..];
    let joined = usize::from(after.first() == Some(&"and"));
    match below_hundred_or_ordinal(&after[joined..]).filter(|(small, _, _)| *small > 0) {
        Some((small, more, ordinal)) => Some((value * 100 + small, skip + taken + 1 + joined + more, ordinal)),
        None => Some((value * 100, skip + taken + 1, false)),
    }
}

fn below_hundred_or_ordinal(rest: &[&str]) -> Option<(u64, usize, bool)> {
    let first = *rest.first()?;
    if first == "hundredth" {
        return Some((100, 1, true));
    }
    if let Some(value) = one_word_ordinal(first) {
        return Some((u64::from(value), 1, true));
    }
    if let Some(tens) = one_word(first).filter(|value| *value >= 20)
        && let Some(unit) = rest.get(1).and_then(|next| one_word_ordinal(next)).filter(|unit| (1..10).contains(unit))
    {
        return Some((u64::from(tens + unit), 2, true));
    }
    below_hundred(rest).map(|(value, taken)| (value, taken, false))
}

fn scale(token: &str) -> Option<u64> {
    SCALES.iter().find(|(name, _)| *name == token).map(|(_, factor)| *factor)
}

fn with_suffix(number: u64) -> String {
    let suffix = match (number % 100, number % 10) {
        (11..=13, _) => "th",
        (_, 1) => "st",
        (_, 2) => "nd",
        (_, 3) => "rd",
        _ => "th",
    };
    format!("{number}{suffix}")
}

/// A cardinal continues: "point five", "and a half", "million" after digits.
fn extended(found: Found, rest: &[&str]) -> (String, usize) {
    let (mut digits, mut taken) = (found.digits, found.taken);
    if rest.get(taken) == Some(&"point") && is_digits(&digits) {
        let part: String = rest[taken + 1..].iter().map_while(|token| single_digit(token)).collect();
        if !part.is_empty() {
            taken += 1 + part.len();
            digits = format!("{digits}.{part}");
        }
    } else if let ["and", "a", "half", ..] = &rest[taken..]
        && is_digits(&digits)
    {
        taken += 3;
        digits += ".5";
    }
    let hundred = |next: &str| (next == "hundred").then_some(100);
    if let Some(factor) = rest.get(taken).and_then(|next| scale(next).or_else(|| hundred(next)))
        && let Some(larger) = times(&digits, factor)
    {
        return (larger, taken + 1);
    }
    (digits, taken)
}

/// What follows a number where it is money: the currency in one form, and cents as a fraction. Pushes the number itself.
fn money(digits: &str, rest: &[&str], out: &mut Vec<String>) -> usize {
    let currency = rest.first().and_then(|next| CURRENCIES.iter().find(|(_, _, names)| names.contains(next)));
    let Some((_, name, _)) = currency else {
        out.push(digits.to_owned());
        return 0;
    };
    if let Some(larger) = rest.get(1).and_then(|next| times(digits, scale(next)?)) {
        out.push(larger);
        out.push((*name).to_owned());
        return 2;
    }
    let joined = usize::from(rest.get(1) == Some(&"and"));
    let cents = number(&rest[1 + joined..]).filter(|found| found.kind == Kind::Cardinal && found.digits.len() <= 2);
    if is_digits(digits)
        && let Some(cents) = cents
    {
        let named = rest.get(1 + joined + cents.taken).is_some_and(|next| SMALL_MONEY.contains(next));
        let amount: u32 = cents.digits.parse().unwrap_or_default();
        if named || (joined == 0 && amount >= 10) {
            out.push(format!("{digits}.{amount:02}"));
            out.push((*name).to_owned());
            return 1 + joined + cents.taken + usize::from(named);
        }
    }
    let plain = digits.strip_suffix(".00").unwrap_or(digits);
    out.push(plain.to_owned());
    out.push((*name).to_owned());
    1
}
