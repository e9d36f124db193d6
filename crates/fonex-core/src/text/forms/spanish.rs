//! Spanish: times of day, Roman numerals of rulers and centuries.

use super::continental::{Forms, number_at, roman_behind};
use super::read::Word;
use super::words::roman;
use crate::text::numbers::NumberLanguage;

const LANGUAGE: NumberLanguage = NumberLanguage::Spanish;

pub(super) const FORMS: Forms = Forms {
    language: LANGUAGE,
    minus: "menos",
    plus: "más",
    range: "a",
    number: "número",
    number_signs: &["n.º", "nº", "n°", "núm.", "#"],
    and: "y",
    signs: &[("x", "por"), ("×", "por"), ("+", "más"), ("=", "igual a"), ("÷", "entre")],
    before_number: &[
        ("pág.", "página"),
        ("págs.", "páginas"),
        ("tel.", "teléfono"),
        ("cap.", "capítulo"),
        ("art.", "artículo"),
    ],
    months: &[
        ("ene", "enero"),
        ("feb", "febrero"),
        ("abr", "abril"),
        ("jun", "junio"),
        ("jul", "julio"),
        ("ago", "agosto"),
        ("sept", "septiembre"),
        ("oct", "octubre"),
        ("nov", "noviembre"),
        ("dic", "diciembre"),
    ],
    units: &[
        (&["km"], "kilómetro", "kilómetros"),
        (&["m"], "metro", "metros"),
        (&["cm"], "centímetro", "centímetros"),
        (&["mm"], "milímetro", "milímetros"),
        (&["m²"], "metro cuadrado", "metros cuadrados"),
        (&["km²"], "kilómetro cuadrado", "kilómetros cuadrados"),
        (&["m³"], "metro cúbico", "metros cúbicos"),
        (&["ha"], "hectárea", "hectáreas"),
        (&["kg"], "kilogramo", "kilogramos"),
        (&["g"], "gramo", "gramos"),
        (&["mg"], "miligramo", "miligramos"),
        (&["t"], "tonelada", "toneladas"),
        (&["l", "L"], "litro", "litros"),
        (&["ml"], "mililitro", "mililitros"),
        (&["km/h"], "kilómetro por hora", "kilómetros por hora"),
        (&["m/s"], "metro por segundo", "metros por segundo"),
        (&["min", "min."], "minuto", "minutos"),
        (&["s", "seg", "seg."], "segundo", "segundos"),
        (&["ms"], "milisegundo", "milisegundos"),
        (&["kb"], "kilobyte", "kilobytes"),
        (&["mb"], "megabyte", "megabytes"),
        (&["gb"], "gigabyte", "gigabytes"),
        (&["hz"], "hercio", "hercios"),
        (&["khz"], "kilohercio", "kilohercios"),
        (&["mhz"], "megahercio", "megahercios"),
        (&["kw"], "kilovatio", "kilovatios"),
        (&["kwh"], "kilovatio hora", "kilovatios hora"),
        (&["W"], "vatio", "vatios"),
        (&["V"], "voltio", "voltios"),
        (&["db"], "decibelio", "decibelios"),
        (&["°c", "ºc"], "grado celsius", "grados celsius"),
        (&["°f", "ºf"], "grado fahrenheit", "grados fahrenheit"),
        (&["°"], "grado", "grados"),
        (&["m€"], "millón de euros", "millones de euros"),
    ],
    named: &[("kilo", "kilogramos"), ("kilos", "kilogramos")],
    scales: &[(&["mill", "mill."], "millones")],
    scale_names: &[],
    parts: &[
        (&["medio", "media"], 2, "medio"),
        (&["tercio", "tercios"], 3, "tercios"),
        (&["cuarto", "cuartos"], 4, "cuartos"),
        (&["quintos"], 5, "quintos"),
        (&["sextos"], 6, "sextos"),
        (&["octavos"], 8, "octavos"),
        (&["décimas", "décimos"], 10, "décimas"),
    ],
    ones: &["un", "una"],
    own,
};

fn own(rest: &[Word<'_>], before: &str, out: &mut Vec<String>) -> Option<usize> {
    time_of_day(rest, before, out).or_else(|| half(rest, before, out)).or_else(|| numeral(rest, before, out))
}

/// "las ocho menos cuarto", "la una menos diez"; what comes after the hour is said by the numbers.
fn time_of_day(rest: &[Word<'_>], before: &str, out: &mut Vec<String>) -> Option<usize> {
    let (hour, at) = number_at(LANGUAGE, rest).filter(|(hour, _)| (1..=24).contains(hour))?;
    let low = |at: usize| rest.get(at).map_or("", |word| word.low.as_str());
    if !matches!(before, "las" | "la") || low(at) != "menos" || rest[..at].iter().any(|word| word.ends) {
        return None;
    }
    let (minutes, taken) = match low(at + 1) {
        "cuarto" => (15, 1),
        _ => number_at(LANGUAGE, &rest[at + 1..]).filter(|(minutes, _)| (1..30).contains(minutes))?,
    };
    let hour = if hour == 1 { 12 } else { hour - 1 };
    out.push(format!("{hour}:{:02}", 60 - minutes));
    Some(at + 1 + taken)
}

/// "dos y media", "media hora"; not behind an article, where it is a time.
fn half(rest: &[Word<'_>], before: &str, out: &mut Vec<String>) -> Option<usize> {
    const MEASURED: [&str; 8] = ["hora", "kilo", "litro", "metro", "kilómetro", "docena", "minuto", "siglo"];
    let low = |at: usize| rest.get(at).map_or("", |word| word.low.as_str());
    if matches!(low(0), "medio" | "media") && MEASURED.contains(&low(1)) {
        out.push("1 medio".to_owned());
        return Some(1);
    }
    let (number, taken) = number_at(LANGUAGE, rest).filter(|_| !matches!(before, "las" | "la"))?;
    if low(taken) != "y" || !matches!(low(taken + 1), "medio" | "media") {
        return None;
    }
    out.push(format!("{number},5"));
    Some(taken + 2)
}

/// `Felipe VI`, `Luis XIV`, `siglo XX`, `la II Guerra Mundial`.
fn numeral(rest: &[Word<'_>], before: &str, out: &mut Vec<String>) -> Option<usize> {
    const NAMES: [&str; 17] = [
        "felipe",
        "carlos",
        "fernando",
        "alfonso",
        "isabel",
        "enrique",
        "luis",
        "juan",
        "pablo",
        "benedicto",
        "pío",
        "león",
        "pedro",
        "jaime",
        "sancho",
        "napoleón",
        "jorge",
    ];
    const NOUNS: [&str; 11] =
        ["siglo", "capítulo", "tomo", "acto", "artículo", "parte", "fase", "tipo", "volumen", "libro", "nivel"];
    let word = &rest[0];
    if let Some(number) = roman_behind(word, before, &NAMES) {
        // Up to ten they are counted by place.
        out.push(if number <= 10 { format!("{number}o") } else { number.to_string() });
        return Some(1);
    }
    if let Some(number) = roman_behind(word, before, &NOUNS) {
        out.push(number.to_string());
        return Some(1);
    }
    let number = roman(word.core).filter(|_| rest.get(1).is_some_and(|next| next.low == "guerra"))?;
    out.push(format!("{number}o"));
    Some(1)
}
