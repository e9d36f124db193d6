//! The forms that German, French and Spanish share: units, fractions, ranges, signs of numbers, scales, letters and digits.
//!
//! What differs is a table a language; times of day, ordinals and Roman numerals are its own functions.

use super::BOUNDARY;
use super::fractions::{in_signs, whole};
use super::read::{Word, is_dotted, letters_and_digits, pieces_of_mixed, rising_range, spelled, words};
use crate::text::numbers::NumberLanguage;
use crate::text::numbers::below_thousand;

/// How a language writes short what it says long.
pub(super) struct Forms {
    pub(super) language: NumberLanguage,
    pub(super) minus: &'static str,
    pub(super) plus: &'static str,
    /// Between the ends of a range.
    pub(super) range: &'static str,
    pub(super) number: &'static str,
    /// What is written for "number", in small letters, with its point.
    pub(super) number_signs: &'static [&'static str],
    pub(super) and: &'static str,
    /// Between two numbers: a sign, and what is said for it.
    pub(super) signs: &'static [(&'static str, &'static str)],
    /// What is written short before a number, with its point and in small letters.
    pub(super) before_number: &'static [(&'static str, &'static str)],
    /// Months that are written short, without a point.
    pub(super) months: &'static [(&'static str, &'static str)],
    /// Short forms, one, several.
    pub(super) units: &'static [(&'static [&'static str], &'static str, &'static str)],
    /// Other names of units behind a number, and those above that they are.
    pub(super) named: &'static [(&'static str, &'static str)],
    /// Short forms behind a number that stand for a thousand and more, with what is said.
    pub(super) scales: &'static [(&'static [&'static str], &'static str)],
    /// One of what stands for a thousand and more.
    pub(super) scale_names: &'static [&'static str],
    /// Words of a fraction: those that stand for it, its denominator, the form of both.
    pub(super) parts: &'static [(&'static [&'static str], u32, &'static str)],
    /// Words for a one before a fraction.
    pub(super) ones: &'static [&'static str],
    /// The language's own rules, which come first: they say the words at the beginning and give how many that were.
    pub(super) own: fn(&[Word<'_>], &str, &mut Vec<String>) -> Option<usize>,
}

/// The text in the forms that are said.
pub(super) fn spoken(forms: &Forms, text: &str) -> String {
    let words = words(text);
    let mut out: Vec<String> = Vec::with_capacity(words.len() + 4);
    let mut at = 0;
    while at < words.len() {
        let before = out.last().map(|word| word.to_lowercase()).unwrap_or_default();
        let taken = forms.rules(&words[at..], &before, &mut out);
        let (last, next) = (&words[at + taken - 1], words.get(at + taken));
        let is_number = |word: &Word<'_>| forms.number_at(std::slice::from_ref(word)).is_some();
        if last.ends && is_number(last) && next.is_some_and(is_number) {
            out.push(BOUNDARY.to_owned());
        }
        at += taken;
    }
    out.join(" ")
}

/// A number below a thousand at the beginning, in digits or words, and how many words it takes.
pub(super) fn number_at(language: NumberLanguage, rest: &[Word<'_>]) -> Option<(u64, usize)> {
    const MOST: usize = 4;
    let first = rest.first()?;
    if let Some(value) = whole(&first.low) {
        return Some((u64::from(value), 1));
    }
    (1..=MOST.min(rest.len())).rev().find_map(|count| {
        if rest[..count - 1].iter().any(|word| word.ends) {
            return None;
        }
        let tokens: Vec<&str> = rest[..count].iter().flat_map(|word| word.low.split('-')).collect();
        below_thousand(language, &tokens).filter(|(_, taken)| *taken == tokens.len()).map(|(value, _)| (value, count))
    })
}

impl Forms {
    fn number_at(&self, rest: &[Word<'_>]) -> Option<(u64, usize)> {
        number_at(self.language, rest)
    }

    fn is_number(&self, before: &str) -> bool {
        before.starts_with(|c: char| c.is_ascii_digit())
            || self.scales.iter().any(|(_, said)| *said == before)
            || below_thousand(self.language, &before.split('-').collect::<Vec<_>>()).is_some()
    }

    fn rules(&self, rest: &[Word<'_>], before: &str, out: &mut Vec<String>) -> usize {
        let word = &rest[0];
        if word.minus && !self.is_number(before) {
            out.push(self.minus.to_owned());
        }
        if let Some(taken) = (self.own)(rest, before, out).or_else(|| self.fraction(rest, before, out)) {
            return taken;
        }
        if let Some(said) = self.between_numbers(rest, before) {
            out.push(said.to_owned());
            return 1;
        }
        if let Some((letters, taken)) = spelled(rest) {
            out.push(letters);
            return taken;
        }
        let next_is_number = rest.get(1).is_some_and(|next| next.low.starts_with(|c: char| c.is_ascii_digit()));
        if next_is_number && self.number_signs.iter().any(|sign| word.raw.to_lowercase() == *sign) {
            out.push(self.number.to_owned());
            return 1;
        }
        // "eine Stunde"; elsewhere it is an article.
        let named = rest.get(1).filter(|_| !word.ends).map_or("", |next| &next.low);
        if self.ones.contains(&word.low.as_str())
            && (self.scale_names.contains(&named) || self.units.iter().any(|(_, one, _)| *one == named))
        {
            out.push("1".to_owned());
            return 1;
        }
        if self.is_number(before) {
            if let Some(said) = self.scale(&word.low) {
                out.push(said.to_owned());
                return 1;
            }
            if let Some(unit) = self.unit(word.core) {
                out.push(unit.to_owned());
                return 1;
            }
        }
        self.token(word, out);
        1
    }

    /// `3 + 4`, `2 x 3`, `S. 12`, `3. Okt.`: signs, and what is written short beside a number.
    fn between_numbers(&self, rest: &[Word<'_>], before: &str) -> Option<&'static str> {
        let find = |table: &[(&'static str, &'static str)], short: &str| {
            table.iter().find(|(known, _)| *known == short).map(|(_, said)| *said)
        };
        let next_is_number = rest.get(1).is_some_and(|next| self.number_at(std::slice::from_ref(next)).is_some());
        let word = rest[0].raw.to_lowercase();
        let behind_number = self.is_number(before);
        // "sept" is seven in French.
        let month = word.ends_with('.') || self.number_at(&rest[..1]).is_none();
        let sign = find(self.signs, &word).filter(|_| next_is_number && behind_number);
        sign.or_else(|| find(self.before_number, &word).filter(|_| next_is_number))
            .or_else(|| find(self.months, &rest[0].low).filter(|_| month && (behind_number || before == "de")))
    }

    fn scale(&self, short: &str) -> Option<&'static str> {
        self.scales.iter().find(|(shorts, _)| shorts.contains(&short)).map(|(_, said)| *said)
    }

    /// Several of the unit that a short form stands for, or that a word names one or several of.
    fn unit(&self, word: &str) -> Option<&'static str> {
        let lower = word.to_lowercase();
        // "5 M" are no metres.
        let short = if word.len() == 1 { word } else { &lower };
        if let Some((_, several)) = self.named.iter().find(|(name, _)| *name == lower) {
            return Some(several);
        }
        let fits = |(shorts, one, several): &(&[&str], &str, &str)| {
            shorts.contains(&short) || lower == *one || lower == *several
        };
        self.units.iter().find(|unit| fits(unit)).map(|(.., several)| *several)
    }

    fn part(&self, word: &str) -> Option<(u32, &'static str)> {
        self.parts.iter().find(|(names, ..)| names.contains(&word)).map(|(_, d, form)| (*d, *form))
    }

    /// `1/2`, `2½`, "ein Drittel", "trois quarts".
    fn fraction(&self, rest: &[Word<'_>], before: &str, out: &mut Vec<String>) -> Option<usize> {
        let word = &rest[0];
        let says = |n: u32, d: u32| {
            let form = self.parts.iter().find(|(_, known, _)| *known == d).map(|(_, _, form)| *form)?;
            Some(format!("{n} {form}"))
        };
        let mixed = |n: u32, (part, d): (u32, u32)| match d {
            2 | 4 | 5 | 8 | 10 => {
                Some(format!("{}", f64::from(n) + f64::from(part) / f64::from(d)).replace('.', ","))
            }
            _ => Some(format!("{n} {} {}", self.and, says(part, d)?)),
        };
        if let Some((at, sign)) = word.core.char_indices().last().filter(|(at, _)| *at > 0)
            && let (Some(n), Some(part)) = (whole(&word.core[..at]), in_signs(sign.encode_utf8(&mut [0; 4])))
        {
            out.push(mixed(n, part)?);
            return Some(1);
        }
        let behind = rest.get(1).filter(|_| !word.ends);
        if let (Some(n), Some(part)) = (whole(word.core), behind.and_then(|next| in_signs(next.core))) {
            out.push(mixed(n, part)?);
            return Some(2);
        }
        if let Some((n, d)) = in_signs(word.core) {
            out.push(says(n, d)?);
            return Some(1);
        }
        if self.is_number(before) {
            return None;
        }
        let (n, taken) = if self.ones.contains(&word.low.as_str()) { (1, 1) } else { self.number_at(rest)? };
        let (d, _) = self.part(&rest.get(taken).filter(|_| !word.ends)?.low)?;
        let n = u32::try_from(n).ok().filter(|n| (1..d).contains(n))?;
        out.push(says(n, d)?);
        Some(taken + 1)
    }

    /// One word by itself.
    fn token(&self, word: &Word<'_>, out: &mut Vec<String>) {
        let core = word.core;
        let digit = |text: &str| text.starts_with(|c: char| c.is_ascii_digit());
        if is_dotted(core) || core.strip_suffix('.').is_some_and(is_dotted) {
            out.push(core.replace('.', ""));
        } else if let Some(digits) = core.strip_prefix('#').filter(|rest| digit(rest)) {
            out.extend([self.number.to_owned(), digits.to_owned()]);
        } else if let Some(digits) = core.strip_prefix('+').filter(|rest| digit(rest)) {
            out.extend([self.plus.to_owned(), digits.to_owned()]);
        } else if core.contains('&') && core.split('&').all(|part| part.bytes().all(|b| b.is_ascii_alphabetic())) {
            out.push(core.replace('&', &format!(" {} ", self.and)));
        } else if let Some((amount, unit)) = self.amount_and_unit(core) {
            out.extend([amount.to_owned(), unit.to_owned()]);
        } else if let Some((letters, digits)) = letters_and_digits(core) {
            out.extend([letters.to_owned(), digits.to_owned()]);
        } else if let Some(pieces) = pieces_of_mixed(core) {
            out.extend(pieces);
        } else if let Some((elided, rest)) = core.split_once(['\'', '’'])
            && let Some((letters, digits)) = letters_and_digits(rest)
        {
            out.extend([format!("{elided}'{letters}"), digits.to_owned()]);
        } else if let Some((low, high)) = rising_range(core) {
            out.extend([low.to_owned(), self.range.to_owned(), high.to_owned()]);
        } else {
            out.push(if word.minus { core.to_owned() } else { word.raw.to_owned() });
        }
    }

    /// `5km`, `20°C`.
    fn amount_and_unit<'t>(&self, core: &'t str) -> Option<(&'t str, &'static str)> {
        let at = core.find(|c: char| !(c.is_ascii_digit() || matches!(c, '.' | ',' | '\'')))?;
        let (amount, letters) = core.split_at(at);
        if !amount.starts_with(|c: char| c.is_ascii_digit()) {
            return None;
        }
        let unit = self.unit(letters).or_else(|| self.scale(&letters.to_lowercase()))?;
        Some((amount, unit))
    }
}

/// The number of a Roman numeral behind one of these names or nouns, which are in small letters.
pub(super) fn roman_behind(word: &Word<'_>, before: &str, names: &[&str]) -> Option<u32> {
    let fits = names.contains(&before);
    let numeral = word.core.trim_end_matches('.');
    fits.then(|| super::words::roman(numeral)).flatten()
}
