//! The words that the forms of English are made of.

use crate::text::numbers::{one_word, one_word_ordinal};

/// Units: short forms, one of them, several of them.
const UNITS: [(&[&str], &str, &str); 51] = [
    (&["km"], "kilometer", "kilometers"),
    (&["m"], "meter", "meters"),
    (&["cm"], "centimeter", "centimeters"),
    (&["mm"], "millimeter", "millimeters"),
    (&["kg", "kgs"], "kilogram", "kilograms"),
    (&["g"], "gram", "grams"),
    (&["mg"], "milligram", "milligrams"),
    (&["l"], "liter", "liters"),
    (&["ml"], "milliliter", "milliliters"),
    (&["km/h", "kph", "kmh"], "kilometer per hour", "kilometers per hour"),
    (&["m/s"], "meter per second", "meters per second"),
    (&["mph"], "mile per hour", "miles per hour"),
    (&["ft"], "foot", "feet"),
    (&["mi"], "mile", "miles"),
    (&["yd", "yds"], "yard", "yards"),
    (&["lb", "lbs"], "lb", "lbs"),
    (&["gal"], "gallon", "gallons"),
    (&["oz"], "ounce", "ounces"),
    (&["h", "hr", "hrs"], "hour", "hours"),
    (&["min", "mins"], "minute", "minutes"),
    (&["s", "sec", "secs"], "second", "seconds"),
    (&["ms"], "millisecond", "milliseconds"),
    (&["kb"], "kilobyte", "kilobytes"),
    (&["mb"], "megabyte", "megabytes"),
    (&["gb"], "gigabyte", "gigabytes"),
    (&["tb"], "terabyte", "terabytes"),
    (&["mbps"], "megabit per second", "megabits per second"),
    (&["hz"], "hertz", "hertz"),
    (&["khz"], "kilohertz", "kilohertz"),
    (&["mhz"], "megahertz", "megahertz"),
    (&["ghz"], "gigahertz", "gigahertz"),
    (&["kw"], "kilowatt", "kilowatts"),
    (&["kwh"], "kilowatt hour", "kilowatt hours"),
    (&["mw"], "megawatt", "megawatts"),
    (&["V"], "volt", "volts"),
    (&["W"], "watt", "watts"),
    (&["ma"], "milliamp", "milliamps"),
    (&["dpi"], "dot per inch", "dots per inch"),
    (&["m²", "m2", "sqm"], "square meter", "square meters"),
    (&["km²", "km2"], "square kilometer", "square kilometers"),
    (&["ft²", "sqft"], "square foot", "square feet"),
    (&["m³", "m3"], "cubic meter", "cubic meters"),
    (&["cm³", "cm3"], "cubic centimeter", "cubic centimeters"),
    (&["in"], "inch", "inches"),
    (&["%"], "percent", "percent"),
    (&["db"], "decibel", "decibels"),
    (&["°c", "ºc"], "degree celsius", "degrees celsius"),
    (&["°f", "ºf"], "degree fahrenheit", "degrees fahrenheit"),
    (&["°", "º"], "degree", "degrees"),
    (&["¢"], "cent", "cents"),
    (&["hp"], "horsepower", "horsepower"),
];

/// Other names of units.
const SPELLED: [(&str, &str); 6] = [
    ("metre", "meter"),
    ("metres", "meters"),
    ("litre", "liter"),
    ("litres", "liters"),
    ("centigrade", "celsius"),
    ("kilos", "kilograms"),
];

/// The unit that a short form stands for, several of them.
pub(super) fn unit(short: &str) -> Option<&'static str> {
    let lower = short.to_lowercase();
    // "5 M" are no metres, and "in" is a word.
    let short = if short.len() == 1 { short } else { lower.as_str() };
    if short == "in" {
        return None;
    }
    UNITS.iter().find(|(forms, ..)| forms.contains(&short)).map(|(.., several)| *several)
}

/// Several of the unit that a word names one of; none for other words.
pub(super) fn several(word: &str) -> Option<String> {
    // "thirty second" may be an ordinal.
    if word == "second" {
        return None;
    }
    let plain = SPELLED.iter().fold(word.to_owned(), |word, (from, to)| {
        word.strip_suffix(from).map_or(word.clone(), |stem| format!("{stem}{to}"))
    });
    let one = |(_, one, several): &(&[&str], &str, &str)| {
        (plain == *one && !one.contains(' ') || plain == *several && !several.contains(' '))
            .then(|| (*several).to_owned())
    };
    UNITS.iter().find_map(one)
}

/// Several of a unit of two words, one or several of which are named: "kilowatt hours", "sq m", "square foot".
pub(super) fn two_word_unit(first: &str, second: &str) -> Option<&'static str> {
    let first = if matches!(first, "sq" | "sq.") { "square" } else { first };
    let spelled = SPELLED.iter().find(|(from, _)| *from == second).map_or(second, |(_, to)| *to);
    let second = unit(spelled).filter(|_| first == "square").unwrap_or(spelled);
    let named = format!("{first} {second}");
    UNITS.iter().find(|(_, one, several)| named == *one || named == *several).map(|(.., several)| *several)
}

/// Whether a word is a number in words, or in digits.
pub(super) fn is_number(word: &str) -> bool {
    const LARGE_AND_ODD: [&str; 8] = ["hundred", "thousand", "million", "billion", "trillion", "dozen", "half", "oh"];
    let in_words = |word: &str| one_word(word).is_some() || LARGE_AND_ODD.contains(&word);
    word.starts_with(|c: char| c.is_ascii_digit())
        || in_words(word)
        || word.split_once('-').is_some_and(|(tens, unit)| in_words(tens) && in_words(unit))
}

/// A number from 1 to 59 in digits or words.
pub(super) fn small_number(word: &str) -> Option<u32> {
    if let Ok(number) = word.parse::<u32>() {
        return (word.len() <= 2 && number < 60).then_some(number);
    }
    let value = match word.split_once('-') {
        Some((tens, unit)) => joined(one_word(tens)?, one_word(unit)?),
        None => one_word(word),
    };
    value.filter(|number| *number < 60)
}

/// Tens and a unit.
fn joined(tens: u32, unit: u32) -> Option<u32> {
    (tens >= 20 && (1..10).contains(&unit)).then_some(tens + unit)
}

/// The cardinal of an ordinal in words or digits, up to 31.
pub(super) fn day(word: &str) -> Option<u32> {
    let digits = ["st", "nd", "rd", "th"].iter().find_map(|ending| word.strip_suffix(ending));
    let in_words = || match word.split_once('-') {
        Some((tens, unit)) => joined(one_word(tens)?, one_word_ordinal(unit)?),
        None => one_word_ordinal(word),
    };
    let number = digits.and_then(|digits| digits.parse::<u32>().ok()).or_else(in_words);
    number.filter(|number| (1..=31).contains(number))
}

pub(super) fn is_month(word: &str) -> bool {
    const MONTHS: [&str; 12] = [
        "january",
        "february",
        "march",
        "april",
        "may",
        "june",
        "july",
        "august",
        "september",
        "october",
        "november",
        "december",
    ];
    MONTHS.contains(&word)
}

/// A month that is written short, in full.
pub(super) fn short_month(word: &str) -> Option<&'static str> {
    const SHORT: [(&str, &str); 12] = [
        ("jan", "january"),
        ("feb", "february"),
        ("mar", "march"),
        ("apr", "april"),
        ("jun", "june"),
        ("jul", "july"),
        ("aug", "august"),
        ("sep", "september"),
        ("sept", "september"),
        ("oct", "october"),
        ("nov", "november"),
        ("dec", "december"),
    ];
    SHORT.iter().find(|(short, _)| *short == word).map(|(_, month)| *month)
}

/// A number below ninety as a Roman numeral.
pub(super) fn in_roman(number: u32) -> Option<String> {
    const UNITS: [&str; 10] = ["", "I", "II", "III", "IV", "V", "VI", "VII", "VIII", "IX"];
    const TENS: [&str; 9] = ["", "X", "XX", "XXX", "XL", "L", "LX", "LXX", "LXXX"];
    let (tens, unit) = ((number / 10) as usize, (number % 10) as usize);
    Some(format!("{}{}", TENS.get(tens)?, UNITS[unit])).filter(|numeral| !numeral.is_empty())
}

/// The number of a Roman numeral up to 89.
pub(super) fn roman(numeral: &str) -> Option<u32> {
    let is_numeral = !numeral.is_empty() && numeral.bytes().all(|b| matches!(b, b'I' | b'V' | b'X' | b'L'));
    (1..90).filter(|_| is_numeral).find(|number| in_roman(*number).as_deref() == Some(numeral))
}

/// Words after which a Roman numeral is said as a cardinal.
pub(super) fn is_numbered(word: &str) -> bool {
    const NOUNS: [&str; 16] = [
        "war", "chapter", "part", "act", "phase", "type", "volume", "section", "stage", "level", "class", "title",
        "bowl", "article", "book", "appendix",
    ];
    NOUNS.contains(&word)
}

/// Names of kings, queens and popes, after which it is said as an ordinal.
pub(super) fn is_regnal(word: &str) -> bool {
    const NAMES: [&str; 22] = [
        "henry",
        "elizabeth",
        "louis",
        "george",
        "edward",
        "charles",
        "james",
        "william",
        "richard",
        "philip",
        "paul",
        "john",
        "pius",
        "benedict",
        "leo",
        "gregory",
        "napoleon",
        "frederick",
        "catherine",
        "peter",
        "nicholas",
        "ramses",
    ];
    NAMES.contains(&word)
}

/// Whether "'s" before this word is "has". "He's tired" and "it's called" are what they are.
pub(super) fn is_after_has(word: &str) -> bool {
    const PARTICIPLES: [&str; 8] = ["been", "had", "got", "gotten", "become", "begun", "come", "grown"];
    PARTICIPLES.contains(&word)
}

/// Whether "'d" before this word is "had": a participle that is not the word's plain form as well.
pub(super) fn is_after_had(word: &str) -> bool {
    const PARTICIPLES: [&str; 24] = [
        "better", "been", "had", "got", "gotten", "gone", "done", "seen", "made", "taken", "given", "known", "said",
        "told", "left", "lost", "found", "heard", "kept", "begun", "broken", "chosen", "written", "thought",
    ];
    PARTICIPLES.contains(&word) || (word.len() > 4 && word.ends_with("ed") && !word.ends_with("eed"))
}

/// Whether a word is a month in Spanish.
pub(super) fn is_spanish_month(word: &str) -> bool {
    const MONTHS: [&str; 13] = [
        "enero",
        "febrero",
        "marzo",
        "abril",
        "mayo",
        "junio",
        "julio",
        "agosto",
        "septiembre",
        "setiembre",
        "octubre",
        "noviembre",
        "diciembre",
    ];
    MONTHS.contains(&word)
}
