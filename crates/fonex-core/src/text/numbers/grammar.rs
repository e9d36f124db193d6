//! What German, French and Spanish numbers have in common: thousands and their powers, decimals, hours, money, percent,
//! ordinals, runs of digits. What is below a thousand differs, and each language tells it.

use super::digits::{is_decimal, is_digits, times};

/// How a language says numbers. Functions are given tokens and tell a value and how many tokens it takes.
pub(super) struct Grammar {
    /// A number from 0 to 999 in words.
    pub(super) below_thousand: fn(&[&str]) -> Option<(u64, usize)>,
    /// An ordinal in words, or in digits with its ending.
    pub(super) ordinal: fn(&[&str]) -> Option<(u64, usize)>,
    /// What ordinals in digits end with.
    pub(super) ordinal_mark: &'static str,
    /// Words for a thousand, which may stand without a one before them.
    pub(super) thousand: &'static [&'static str],
    /// Words for a million and above, the largest first.
    pub(super) scales: &'static [(&'static [&'static str], u64)],
    /// Words between the whole part and the fraction.
    pub(super) decimal: &'static [&'static str],
    /// Words between hours and minutes, the first of them the one form.
    pub(super) hour: &'static [&'static str],
    /// Whether the word for the hour is always said with a time of day.
    pub(super) says_hour: bool,
    /// Words for the hour's fractions.
    pub(super) hour_parts: &'static [(&'static str, &'static str)],
    /// Words before an hour that has fractions.
    pub(super) before_hour: &'static [&'static str],
    /// Currencies: sign, one form, names.
    pub(super) currencies: &'static [(char, &'static str, &'static [&'static str])],
    /// Words between whole money and its hundredths.
    pub(super) money_and: &'static [&'static str],
    /// Names of hundredths.
    pub(super) cents: &'static [&'static str],
    /// What is said for `%`.
    pub(super) percent: &'static [&'static [&'static str]],
    /// What is said for `&`.
    pub(super) and: &'static str,
}

/// The tokens with every number in digits.
pub(super) fn in_digits(grammar: &Grammar, tokens: &[&str]) -> Vec<String> {
    let tokens: Vec<String> = tokens.iter().flat_map(|token| grammar.parted(token)).collect();
    let tokens = grouped(tokens);
    let tokens: Vec<&str> = tokens.iter().map(String::as_str).collect();
    let mut out: Vec<String> = Vec::with_capacity(tokens.len());
    let mut at = 0;
    while at < tokens.len() {
        at += grammar.step(&tokens[at..], &mut out);
    }
    out
}

impl Grammar {
    /// Turns the beginning of `rest` into its form; gives the tokens taken.
    fn step(&self, rest: &[&str], out: &mut Vec<String>) -> usize {
        if let Some(words) = self.percent.iter().find(|words| rest.starts_with(words)) {
            out.push("percent".to_owned());
            return words.len();
        }
        if let Some((digits, taken)) = digit_run(self, rest) {
            out.push(digits);
            return taken;
        }
        // Three hundred is no third, so the longer reading of the two is taken.
        let ordinal = (self.ordinal)(rest)
            .filter(|(_, taken)| self.spoken(rest).is_none_or(|(_, cardinal)| cardinal <= *taken));
        if let Some((number, taken)) = ordinal {
            out.push(format!("{number}{}", self.ordinal_mark));
            return taken;
        }
        let Some((digits, taken)) = self.cardinal(rest) else {
            out.push(rest[0].to_owned());
            return 1;
        };
        taken + self.unit(&digits, &rest[taken..], out)
    }

    /// Signs that cling to a number become tokens: `5,50€`, `50%`, `7:20`, `8h30`.
    fn parted(&self, token: &str) -> Vec<String> {
        if token == "&" {
            return vec![self.and.to_owned()];
        }
        if token == "%" {
            return vec!["percent".to_owned()];
        }
        let is_number = |text: &str| text.starts_with(|c: char| c.is_ascii_digit());
        for (sign, name, _) in self.currencies {
            let number = token.strip_prefix(*sign).or_else(|| token.strip_suffix(*sign));
            match number {
                Some("") => return vec![(*name).to_owned()],
                Some(number) if is_number(number) => return vec![plain(number), (*name).to_owned()],
                _ => {}
            }
        }
        if !is_number(token) {
            return vec![token.to_owned()];
        }
        if let Some(number) = token.strip_suffix('%') {
            return vec![plain(number), "percent".to_owned()];
        }
        let hour_sign = if self.hour.contains(&"h") { token.split_once([':', 'h']) } else { token.split_once(':') };
        if let Some((hours, minutes)) = hour_sign
            && hours.parse::<u32>().is_ok_and(|hours| hours < 25)
            && (minutes.is_empty() || minutes.len() == 2 && minutes.parse::<u32>().is_ok_and(|m| m < 60))
        {
            let hours = hours.trim_start_matches('0');
            let hours = if hours.is_empty() { "0" } else { hours };
            let time = if matches!(minutes, "" | "00") { hours.to_owned() } else { format!("{hours}{minutes}") };
            let word = self.says_hour.then(|| self.hour[0].to_owned());
            return std::iter::once(time).chain(word).collect();
        }
        vec![plain(token)]
    }

    /// A cardinal in digits or words, with its fraction and scale.
    fn cardinal(&self, rest: &[&str]) -> Option<(String, usize)> {
        let (mut digits, mut taken) = match rest.first()? {
            token if is_digits(token) || is_decimal(token) => ((*token).to_owned(), 1),
            _ => self.spoken(rest).map(|(value, taken)| (value.to_string(), taken))?,
        };
        if is_digits(&digits)
            && rest.get(taken).is_some_and(|word| self.decimal.contains(word))
            && let Some((part, more)) = self.fraction(&rest[taken + 1..])
        {
            digits = format!("{digits}.{part}");
            taken += 1 + more;
        }
        if let Some(factor) = rest.get(taken).and_then(|word| self.scale(word))
            && let Some(larger) = times(&digits, factor)
        {
            return Some((larger, taken + 1));
        }
        Some((digits, taken))
    }

    fn scale(&self, word: &str) -> Option<u64> {
        let thousand = self.thousand.contains(&word).then_some(1_000);
        thousand.or_else(|| self.scales.iter().find(|(names, _)| names.contains(&word)).map(|(_, factor)| *factor))
    }

    /// The digits behind a decimal sign: one by one, or as a number.
    fn fraction(&self, rest: &[&str]) -> Option<(String, usize)> {
        let zeros = rest.iter().take_while(|word| self.single_digit(word) == Some('0')).count();
        let singles: String = rest.iter().map_while(|word| self.single_digit(word)).collect();
        if singles.len() > zeros + 1 || singles.len() == rest.len() && !singles.is_empty() {
            return Some((singles.clone(), singles.len()));
        }
        match self.without_scale(&rest[zeros..]) {
            Some((value, taken)) => Some(("0".repeat(zeros) + &value, zeros + taken)),
            None => (zeros > 0).then(|| ("0".repeat(zeros), zeros)),
        }
    }

    fn without_scale(&self, rest: &[&str]) -> Option<(String, usize)> {
        let first = *rest.first()?;
        if is_digits(first) {
            return Some((first.to_owned(), 1));
        }
        (self.below_thousand)(rest).map(|(value, taken)| (value.to_string(), taken))
    }

    fn single_digit(&self, word: &str) -> Option<char> {
        if let [digit @ b'0'..=b'9'] = word.as_bytes() {
            return Some(char::from(*digit));
        }
        (self.below_thousand)(&[word]).and_then(|(value, _)| char::from_digit(u32::try_from(value).ok()?, 10))
    }

    /// A whole number in words.
    fn spoken(&self, rest: &[&str]) -> Option<(u64, usize)> {
        let (mut total, mut taken, mut limit) = (0_u64, 0, u64::MAX);
        let mut found = false;
        while let Some((group, tokens)) = self.below_million(&rest[taken..]) {
            let word = rest.get(taken + tokens).copied().unwrap_or_default();
            let scale = self.scales.iter().find(|(names, _)| names.contains(&word)).map(|(_, factor)| *factor);
            let factor = scale.unwrap_or(1);
            if factor >= limit || found && group == 0 {
                break;
            }
            total = total.checked_add(group.checked_mul(factor)?)?;
            taken += tokens + usize::from(scale.is_some());
            found = true;
            limit = factor;
            if scale.is_none() {
                break;
            }
        }
        found.then_some((total, taken))
    }

    fn below_million(&self, rest: &[&str]) -> Option<(u64, usize)> {
        let is_thousand = |at: usize| rest.get(at).is_some_and(|word| self.thousand.contains(word));
        let (thousands, mut taken) = match (self.below_thousand)(rest) {
            Some((value, taken)) if value > 0 && is_thousand(taken) => (value, taken + 1),
            None if is_thousand(0) => (1, 1),
            other => return other,
        };
        let mut value = thousands * 1_000;
        if let Some((small, more)) = (self.below_thousand)(&rest[taken..]).filter(|(small, _)| *small > 0) {
            value += small;
            taken += more;
        }
        Some((value, taken))
    }

    /// What stands behind a number: hours and minutes, or money. Pushes the number; gives the tokens taken.
    fn unit(&self, digits: &str, rest: &[&str], out: &mut Vec<String>) -> usize {
        let small = |rest: &[&str]| self.without_scale(rest).filter(|(value, _)| value.len() <= 2);
        let is_hour = digits.len() <= 2 && digits.parse::<u32>().is_ok_and(|hour| hour < 25);
        if let Some(taken) = self.time_after_article(digits, rest, out) {
            return taken;
        }
        if let Some(word) = rest.first().filter(|word| self.hour.contains(word)) {
            let form = self.hour[0].to_owned();
            let minutes = small(&rest[1..]).filter(|_| is_hour);
            if let Some((minutes, more)) =
                minutes.filter(|(minutes, _)| minutes.parse::<u32>().is_ok_and(|m| m > 0 && m < 60))
            {
                out.extend([format!("{digits}{minutes:0>2}"), form]);
                return 1 + more;
            }
            // A bare letter is an hour only behind one.
            if is_hour || word.len() > 1 {
                out.extend([digits.to_owned(), form]);
                // The first may stem from the colon, the second from the text.
                return 1 + usize::from(rest.get(1).is_some_and(|word| self.hour.contains(word)));
            }
        }
        let currency =
            rest.first().and_then(|word| self.currencies.iter().find(|(_, _, names)| names.contains(word)));
        if let Some((_, form, _)) = currency {
            let joined = usize::from(rest.get(1).is_some_and(|word| self.money_and.contains(word)));
            let cents = small(&rest[1 + joined..]).filter(|_| is_digits(digits));
            if let Some((cents, more)) = cents {
                let named = rest.get(1 + joined + more).is_some_and(|word| self.cents.contains(word));
                if named || cents.len() == 2 {
                    out.extend([format!("{digits}.{cents:0>2}"), (*form).to_owned()]);
                    return 1 + joined + more + usize::from(named);
                }
            }
            out.extend([digits.strip_suffix(".00").unwrap_or(digits).to_owned(), (*form).to_owned()]);
            return 1;
        }
        out.push(digits.to_owned());
        0
    }
}

impl Grammar {
    /// A time of day behind its article, with or without the word for the hour: "las ocho y media", "las 8:30 horas".
    fn time_after_article(&self, digits: &str, rest: &[&str], out: &mut Vec<String>) -> Option<usize> {
        if !out.last().is_some_and(|word| self.before_hour.contains(&word.as_str())) {
            return None;
        }
        let hour_word = |at: usize| usize::from(rest.get(at).is_some_and(|word| self.hour.contains(word)));
        if (3..=4).contains(&digits.len()) && hour_word(0) > 0 {
            out.push(digits.to_owned());
            return Some(1);
        }
        if digits.len() > 2 {
            return None;
        }
        let joined = usize::from(rest.first() == Some(&self.and));
        let part =
            rest.get(joined).and_then(|word| self.hour_parts.iter().find(|(name, _)| joined > 0 && name == word));
        let (minutes, taken) = match part {
            Some((_, minutes)) => ((*minutes).to_owned(), joined + 1),
            None => {
                let behind = &rest[joined..];
                let zero_first = digit_run(self, behind).filter(|(digits, _)| digits.len() == 2);
                let (minutes, more) = zero_first.or_else(|| self.without_scale(behind))?;
                (minutes.len() == 2).then_some((minutes, joined + more))?
            }
        };
        out.push(format!("{digits}{minutes}"));
        Some(taken + hour_word(taken))
    }
}

/// Three single digits or more are a run; so is a zero with the digit behind it.
fn digit_run(grammar: &Grammar, rest: &[&str]) -> Option<(String, usize)> {
    let length = rest.iter().take_while(|word| grammar.single_digit(word).is_some()).count();
    // The last one may begin a number of its own, or a fraction.
    let goes_on = rest.get(length).is_some_and(|word| {
        grammar.scale(word).is_some()
            || grammar.decimal.contains(word)
            || length > 0 && (grammar.below_thousand)(&rest[length - 1..]).is_some_and(|(value, _)| value >= 100)
    });
    let length = if goes_on { length.saturating_sub(1) } else { length };
    let digits: String = rest[..length].iter().filter_map(|word| grammar.single_digit(word)).collect();
    (length >= 3 || length == 2 && digits.starts_with('0')).then_some((digits, length))
}

/// A number as written in these languages, with a full stop as its decimal sign and no other: `1.200`, `3,5`.
fn plain(token: &str) -> String {
    let groups = |text: &str| {
        let mut parts = text.split('.');
        let first = parts.next().unwrap_or_default();
        let rest: Vec<&str> = parts.collect();
        let whole =
            is_digits(first) && first.len() <= 3 && rest.iter().all(|group| group.len() == 3 && is_digits(group));
        (whole && !rest.is_empty()).then(|| first.to_owned() + &rest.concat())
    };
    let (whole, part) = token.split_once(',').map_or((token, None), |(whole, part)| (whole, Some(part)));
    let whole = groups(whole).unwrap_or_else(|| whole.to_owned());
    match part {
        Some(part) if is_digits(&whole) && is_digits(part) => format!("{whole}.{part}"),
        Some(part) => format!("{whole},{part}"),
        None => whole,
    }
}

/// Digits written in groups of three with spaces between them are one number.
fn grouped(tokens: Vec<String>) -> Vec<String> {
    let mut joined: Vec<String> = Vec::with_capacity(tokens.len());
    let mut open = false;
    for token in tokens {
        let three = token.len() == 3 && is_digits(&token);
        match joined.last_mut() {
            Some(last) if open && three => last.push_str(&token),
            _ => {
                open = (1..=3).contains(&token.len()) && is_digits(&token) && !token.starts_with('0');
                joined.push(token);
            }
        }
    }
    joined
}
