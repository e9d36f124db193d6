//! German: times of day, ordinals with a point, decades, Roman numerals.

use super::continental::{Forms, number_at, roman_behind};
use super::read::Word;
use super::words::roman;
use crate::text::numbers::{NumberLanguage, below_thousand};

const LANGUAGE: NumberLanguage = NumberLanguage::German;

pub(super) const FORMS: Forms = Forms {
    language: LANGUAGE,
    minus: "minus",
    plus: "plus",
    range: "bis",
    number: "nummer",
    number_signs: &["nr.", "nr", "#"],
    and: "und",
    signs: &[("x", "mal"), ("×", "mal"), ("+", "plus"), ("=", "gleich"), ("÷", "durch")],
    before_number: &[("s.", "seite"), ("tel.", "telefon"), ("kap.", "kapitel"), ("abb.", "abbildung")],
    months: &[
        ("jan", "januar"),
        ("feb", "februar"),
        ("apr", "april"),
        ("jun", "juni"),
        ("jul", "juli"),
        ("aug", "august"),
        ("sep", "september"),
        ("sept", "september"),
        ("okt", "oktober"),
        ("nov", "november"),
        ("dez", "dezember"),
    ],
    units: &[
        (&["km"], "kilometer", "kilometer"),
        (&["m"], "meter", "meter"),
        (&["cm"], "zentimeter", "zentimeter"),
        (&["mm"], "millimeter", "millimeter"),
        (&["m²", "qm"], "quadratmeter", "quadratmeter"),
        (&["m³"], "kubikmeter", "kubikmeter"),
        (&["km²"], "quadratkilometer", "quadratkilometer"),
        (&["ha"], "hektar", "hektar"),
        (&["kg"], "kilogramm", "kilogramm"),
        (&["g"], "gramm", "gramm"),
        (&["mg"], "milligramm", "milligramm"),
        (&["t"], "tonne", "tonnen"),
        (&["l", "L"], "liter", "liter"),
        (&["ml"], "milliliter", "milliliter"),
        (&["km/h"], "stundenkilometer", "kilometer pro stunde"),
        (&["m/s"], "meter pro sekunde", "meter pro sekunde"),
        (&["h", "std", "std."], "stunde", "stunden"),
        (&["min", "min."], "minute", "minuten"),
        (&["s", "sek", "sek."], "sekunde", "sekunden"),
        (&["ms"], "millisekunde", "millisekunden"),
        (&["kb"], "kilobyte", "kilobyte"),
        (&["mb"], "megabyte", "megabyte"),
        (&["gb"], "gigabyte", "gigabyte"),
        (&["tb"], "terabyte", "terabyte"),
        (&["hz"], "hertz", "hertz"),
        (&["khz"], "kilohertz", "kilohertz"),
        (&["mhz"], "megahertz", "megahertz"),
        (&["ghz"], "gigahertz", "gigahertz"),
        (&["kw"], "kilowatt", "kilowatt"),
        (&["kwh"], "kilowattstunde", "kilowattstunden"),
        (&["V"], "volt", "volt"),
        (&["W"], "watt", "watt"),
        (&["db"], "dezibel", "dezibel"),
        (&["ps"], "pferdestärke", "ps"),
        (&["°c", "ºc"], "grad celsius", "grad celsius"),
        (&["°f", "ºf"], "grad fahrenheit", "grad fahrenheit"),
        (&["°", "º"], "grad", "grad"),
    ],
    named: &[
        ("kilo", "kilogramm"),
        ("kilometern", "kilometer"),
        ("metern", "meter"),
        ("zentimetern", "zentimeter"),
        ("millimetern", "millimeter"),
        ("litern", "liter"),
        ("tonne", "tonnen"),
    ],
    scales: &[(&["tsd", "tsd."], "tausend"), (&["mio", "mio."], "millionen"), (&["mrd", "mrd."], "milliarden")],
    scale_names: &["million", "milliarde"],
    parts: &[
        (&["halb", "halbe", "halber", "halbes", "halben", "halbem", "zweitel"], 2, "halb"),
        (&["drittel", "dritteln"], 3, "drittel"),
        (&["viertel", "vierteln"], 4, "viertel"),
        (&["fünftel"], 5, "fünftel"),
        (&["sechstel"], 6, "sechstel"),
        (&["achtel"], 8, "achtel"),
        (&["zehntel"], 10, "zehntel"),
    ],
    ones: &["ein", "eine", "einen", "einem", "einer", "eines"],
    own,
};

fn own(rest: &[Word<'_>], before: &str, out: &mut Vec<String>) -> Option<usize> {
    time_of_day(rest, out)
        .or_else(|| and_a_half(&rest[0], out))
        .or_else(|| numeral(rest, before, out))
        .or_else(|| ordinal(rest, before, out))
        .or_else(|| decade(&rest[0], out))
        .or_else(|| date_in_digits(&rest[0], out))
        .or_else(|| times(&rest[0], out))
}

/// `3.10.`: "dritter Zehnter", whatever their endings.
fn date_in_digits(word: &Word<'_>, out: &mut Vec<String>) -> Option<usize> {
    let (day, month) = word.raw.strip_suffix('.')?.split_once('.')?;
    let (day, month): (u32, u32) = (day.parse().ok()?, month.parse().ok()?);
    if !(1..=31).contains(&day) || !(1..=12).contains(&month) {
        return None;
    }
    out.extend([format!("{day}te"), format!("{month}te")]);
    Some(1)
}

/// `3x`, "dreimal", "drei Mal".
fn times(word: &Word<'_>, out: &mut Vec<String>) -> Option<usize> {
    let number = word.low.strip_suffix('x').filter(|number| number.parse::<u32>().is_ok());
    let said = || word.low.strip_suffix("mal").and_then(|stem| below_thousand(LANGUAGE, &[stem]));
    let number = number.map(str::to_owned).or_else(|| said().map(|(number, _)| number.to_string()))?;
    out.extend([number, "mal".to_owned()]);
    Some(1)
}

/// The time that many minutes after an hour, or before it; twelve stands before one.
fn clock(hour: u64, minutes: i64) -> String {
    let (hour, minutes) =
        if minutes < 0 { (if hour <= 1 { hour + 11 } else { hour - 1 }, 60 + minutes) } else { (hour, minutes) };
    format!("{hour}:{minutes:02}")
}

/// "halb acht", "Viertel vor acht", "zehn nach acht", "fünf vor halb acht", "dreiviertel acht", `7.30 Uhr`.
fn time_of_day(rest: &[Word<'_>], out: &mut Vec<String>) -> Option<usize> {
    let low = |at: usize| rest.get(at).map_or("", |word| word.low.as_str());
    // What stands apart by a comma is no time.
    let hour = |at: usize| {
        let (hour, taken) = number_at(LANGUAGE, rest.get(at..)?)?;
        (rest[..at].iter().all(|word| !word.ends) && (1..=12).contains(&hour)).then_some((hour, taken))
    };
    let mut say = |hour: u64, minutes: i64, taken: usize| {
        out.push(clock(hour, minutes));
        Some(taken)
    };
    if low(1) == "uhr"
        && let Some((h, m)) = low(0).split_once('.')
        && m.len() == 2
        && let (Ok(h), Ok(m)) = (h.parse::<u64>(), m.parse::<i64>())
        && h < 25
        && m < 60
    {
        return say(h, m, 1);
    }
    match low(0) {
        "halb" => {
            let (hour, taken) = hour(1)?;
            return say(hour, -30, 1 + taken);
        }
        "dreiviertel" => {
            let Some((hour, taken)) = hour(1) else {
                out.push("3 viertel".to_owned());
                return Some(1);
            };
            return say(hour, -15, 1 + taken);
        }
        _ => {}
    }
    let (minutes, taken) = match low(0) {
        "viertel" => (15, 1),
        _ => {
            let (minutes, taken) = number_at(LANGUAGE, rest)?;
            let named = usize::from(matches!(low(taken), "minuten" | "minute"));
            if minutes == 0 || minutes >= 30 || named == 0 && !minutes.is_multiple_of(5) {
                return None;
            }
            (i64::try_from(minutes).ok()?, taken + named)
        }
    };
    let sign = match low(taken) {
        "vor" => -1,
        "nach" => 1,
        _ => return None,
    };
    if low(taken + 1) == "halb" {
        let (hour, more) = hour(taken + 2)?;
        return say(hour, sign * minutes - 30, taken + 2 + more);
    }
    let (hour, more) = hour(taken + 1)?;
    say(hour, sign * minutes, taken + 1 + more)
}

/// "zweieinhalb", "anderthalb".
fn and_a_half(word: &Word<'_>, out: &mut Vec<String>) -> Option<usize> {
    let stem = word.low.trim_end_matches(['e', 'n', 's', 'r']);
    let number = match stem {
        "anderthalb" => 1,
        _ => below_thousand(LANGUAGE, &[stem.strip_suffix("einhalb")?])?.0,
    };
    out.push(format!("{number},5"));
    Some(1)
}

/// `Ludwig XIV.`, `Kapitel IV`, `der II. Weltkrieg`.
fn numeral(rest: &[Word<'_>], before: &str, out: &mut Vec<String>) -> Option<usize> {
    const MEN: [&str; 18] = [
        "ludwig",
        "wilhelm",
        "friedrich",
        "heinrich",
        "karl",
        "otto",
        "johannes",
        "paul",
        "benedikt",
        "pius",
        "leo",
        "franz",
        "georg",
        "richard",
        "philipp",
        "peter",
        "nikolaus",
        "napoleon",
    ];
    const WOMEN: [&str; 3] = ["elisabeth", "katharina", "margarethe"];
    const NOUNS: [&str; 12] = [
        "kapitel",
        "teil",
        "band",
        "akt",
        "phase",
        "stufe",
        "typ",
        "klasse",
        "artikel",
        "buch",
        "anhang",
        "weltkrieg",
    ];
    let word = &rest[0];
    let said = if let Some(number) = roman_behind(word, before, &MEN) {
        format!("der {number}te")
    } else if let Some(number) = roman_behind(word, before, &WOMEN) {
        format!("die {number}te")
    } else if let Some(number) = roman_behind(word, before, &NOUNS) {
        number.to_string()
    } else {
        let numeral = word.raw.strip_suffix('.')?;
        let number = roman(numeral).filter(|_| is_before_ordinal(before) || is_counted(rest.get(1)))?;
        rest.get(1)?;
        format!("{number}te")
    };
    out.push(said);
    Some(1)
}

fn is_before_ordinal(word: &str) -> bool {
    const WORDS: [&str; 24] = [
        "der", "die", "das", "dem", "den", "des", "am", "im", "vom", "zum", "zur", "beim", "bis", "ab", "ins", "ein",
        "eine", "einen", "einem", "einer", "seit", "jeder", "jedes", "jede",
    ];
    WORDS.contains(&word)
}

/// Months, and nouns that are counted by place.
fn is_counted(word: Option<&Word<'_>>) -> bool {
    const NOUNS: [&str; 32] = [
        "januar",
        "jänner",
        "februar",
        "märz",
        "april",
        "mai",
        "juni",
        "juli",
        "august",
        "september",
        "oktober",
        "november",
        "dezember",
        "jahrhundert",
        "stock",
        "etage",
        "klasse",
        "weltkrieg",
        "platz",
        "tag",
        "woche",
        "monat",
        "runde",
        "liga",
        "geburtstag",
        "bezirk",
        "gang",
        "stelle",
        "auflage",
        "folge",
        "spieltag",
        "reihe",
    ];
    word.is_some_and(|word| NOUNS.contains(&word.low.as_str()))
}

/// `5. Mai`, `im 3. Stock`: a point that ends no sentence.
fn ordinal(rest: &[Word<'_>], before: &str, out: &mut Vec<String>) -> Option<usize> {
    let digits = rest[0].raw.strip_suffix('.').filter(|digits| digits.bytes().all(|b| b.is_ascii_digit()))?;
    let number: u32 = digits.parse().ok()?;
    rest.get(1)?;
    if !is_before_ordinal(before) && !is_counted(rest.get(1)) {
        return None;
    }
    out.push(format!("{number}te"));
    Some(1)
}

/// `90er`, "neunziger".
fn decade(word: &Word<'_>, out: &mut Vec<String>) -> Option<usize> {
    let stem = word.low.strip_suffix("er")?.trim_end_matches('-');
    let number = match stem.parse::<u64>() {
        Ok(number) => number,
        Err(_) if stem.ends_with("zig") || stem.ends_with("ßig") => below_thousand(LANGUAGE, &[stem])?.0,
        Err(_) => return None,
    };
    if !number.is_multiple_of(10) {
        return None;
    }
    out.push(format!("{number}er"));
    Some(1)
}
