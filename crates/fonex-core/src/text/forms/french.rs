//! French: times of day, Roman numerals of rulers and centuries.

use super::continental::{Forms, number_at, roman_behind};
use super::read::Word;
use super::words::roman;
use crate::text::numbers::NumberLanguage;

const LANGUAGE: NumberLanguage = NumberLanguage::French;

pub(super) const FORMS: Forms = Forms {
    language: LANGUAGE,
    minus: "moins",
    plus: "plus",
    range: "à",
    number: "numéro",
    number_signs: &["n°", "nº", "no.", "n.", "#"],
    and: "et",
    signs: &[("x", "fois"), ("×", "fois"), ("+", "plus"), ("=", "égale"), ("÷", "divisé par")],
    before_number: &[
        ("p.", "page"),
        ("pp.", "pages"),
        ("tél.", "téléphone"),
        ("chap.", "chapitre"),
        ("art.", "article"),
    ],
    months: &[
        ("janv", "janvier"),
        ("févr", "février"),
        ("fév", "février"),
        ("avr", "avril"),
        ("juil", "juillet"),
        ("sept", "septembre"),
        ("oct", "octobre"),
        ("nov", "novembre"),
        ("déc", "décembre"),
    ],
    units: &[
        (&["km"], "kilomètre", "kilomètres"),
        (&["m"], "mètre", "mètres"),
        (&["cm"], "centimètre", "centimètres"),
        (&["mm"], "millimètre", "millimètres"),
        (&["m²"], "mètre carré", "mètres carrés"),
        (&["km²"], "kilomètre carré", "kilomètres carrés"),
        (&["m³"], "mètre cube", "mètres cubes"),
        (&["ha"], "hectare", "hectares"),
        (&["kg"], "kilogramme", "kilogrammes"),
        (&["g"], "gramme", "grammes"),
        (&["mg"], "milligramme", "milligrammes"),
        (&["t"], "tonne", "tonnes"),
        (&["l", "L"], "litre", "litres"),
        (&["ml"], "millilitre", "millilitres"),
        (&["km/h"], "kilomètre à l'heure", "kilomètres à l'heure"),
        (&["m/s"], "mètre par seconde", "mètres par seconde"),
        (&["min", "mn"], "minute", "minutes"),
        (&["s", "sec"], "seconde", "secondes"),
        (&["ms"], "milliseconde", "millisecondes"),
        (&["ko"], "kilooctet", "kilooctets"),
        (&["mo"], "mégaoctet", "mégaoctets"),
        (&["go"], "gigaoctet", "gigaoctets"),
        (&["hz"], "hertz", "hertz"),
        (&["khz"], "kilohertz", "kilohertz"),
        (&["mhz"], "mégahertz", "mégahertz"),
        (&["kw"], "kilowatt", "kilowatts"),
        (&["kwh"], "kilowattheure", "kilowattheures"),
        (&["W"], "watt", "watts"),
        (&["V"], "volt", "volts"),
        (&["db"], "décibel", "décibels"),
        (&["°c", "ºc"], "degré celsius", "degrés celsius"),
        (&["°f", "ºf"], "degré fahrenheit", "degrés fahrenheit"),
        (&["°", "º"], "degré", "degrés"),
        (&["m€"], "million d'euros", "millions d'euros"),
        (&["md€", "mds€"], "milliard d'euros", "milliards d'euros"),
        (&["ans"], "an", "ans"),
    ],
    named: &[("kilo", "kilogrammes"), ("kilos", "kilogrammes")],
    scales: &[(&["mio"], "millions"), (&["md", "mds", "mrd"], "milliards")],
    scale_names: &[],
    parts: &[
        (&["demi", "demie", "demis"], 2, "demi"),
        (&["tiers"], 3, "tiers"),
        (&["quart", "quarts"], 4, "quarts"),
        (&["cinquièmes"], 5, "cinquièmes"),
        (&["sixièmes"], 6, "sixièmes"),
        (&["huitièmes"], 8, "huitièmes"),
        (&["dixièmes"], 10, "dixièmes"),
    ],
    ones: &["un", "une"],
    own,
};

fn own(rest: &[Word<'_>], before: &str, out: &mut Vec<String>) -> Option<usize> {
    time_of_day(rest, out).or_else(|| half(rest, out)).or_else(|| numeral(rest, before, out))
}

/// "sept heures et demie", "huit heures moins le quart", "midi et quart".
fn time_of_day(rest: &[Word<'_>], out: &mut Vec<String>) -> Option<usize> {
    let low = |at: usize| rest.get(at).map_or("", |word| word.low.as_str());
    let (hour, at) = match low(0) {
        "midi" => (12, 1),
        "minuit" => (0, 1),
        written if written.ends_with('h') && written.len() <= 3 => (written.trim_end_matches('h').parse().ok()?, 1),
        _ => {
            let (hour, taken) = number_at(LANGUAGE, rest)?;
            if !matches!(low(taken), "heure" | "heures" | "h") || hour > 24 {
                return None;
            }
            (hour, taken + 1)
        }
    };
    if rest[..at].iter().any(|word| word.ends) {
        return None;
    }
    let (minutes, taken) = match (low(at), low(at + 1), low(at + 2)) {
        ("et", "demie" | "demi", _) => (30, 2),
        ("et", "quart", _) => (15, 2),
        ("moins", "le", "quart") => (-15, 3),
        ("moins", "quart", _) => (-15, 2),
        ("moins", ..) => {
            let (minutes, more) = number_at(LANGUAGE, &rest[at + 1..])?;
            (-i64::try_from(minutes).ok().filter(|minutes| (1..30).contains(minutes))?, 1 + more)
        }
        _ => return None,
    };
    let (hour, minutes) =
        if minutes < 0 { (if hour == 0 { 23 } else { hour - 1 }, 60 + minutes) } else { (hour, minutes) };
    out.push(format!("{hour}:{minutes:02}"));
    Some(at + taken)
}

/// "deux et demi", "une demi-heure".
fn half(rest: &[Word<'_>], out: &mut Vec<String>) -> Option<usize> {
    let low = |at: usize| rest.get(at).map_or("", |word| word.low.as_str());
    if matches!(low(0), "un" | "une" | "1")
        && let Some(unit) = low(1).strip_prefix("demi-")
    {
        out.push(format!("1 demi {unit}"));
        return Some(2);
    }
    let (number, taken) = number_at(LANGUAGE, rest)?;
    if low(taken) != "et" || !matches!(low(taken + 1), "demi" | "demie") {
        return None;
    }
    out.push(format!("{number},5"));
    Some(taken + 2)
}

/// `Louis XIV`, `François Ier`, `XXe siècle`, `chapitre IV`.
fn numeral(rest: &[Word<'_>], before: &str, out: &mut Vec<String>) -> Option<usize> {
    const NAMES: [&str; 18] = [
        "louis",
        "henri",
        "charles",
        "napoléon",
        "françois",
        "philippe",
        "jean-paul",
        "paul",
        "benoît",
        "pie",
        "léon",
        "élisabeth",
        "elizabeth",
        "catherine",
        "georges",
        "guillaume",
        "richard",
        "jean",
    ];
    const NOUNS: [&str; 12] = [
        "chapitre", "tome", "acte", "article", "partie", "niveau", "type", "volume", "livre", "phase", "annexe",
        "titre",
    ];
    let word = &rest[0];
    if let Some(number) = roman_behind(word, before, &NAMES) {
        out.push(if number == 1 { "premier".to_owned() } else { number.to_string() });
        return Some(1);
    }
    if let Some(number) = roman_behind(word, before, &NOUNS) {
        out.push(number.to_string());
        return Some(1);
    }
    let endings = ["ème", "er", "re", "e"];
    let stem = endings.iter().find_map(|ending| word.core.strip_suffix(ending))?;
    out.push(format!("{}e", roman(stem)?));
    Some(1)
}
