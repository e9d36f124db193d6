//! Spanish.

use super::digits::is_digits;
use super::grammar::Grammar;

const SMALL: [&str; 30] = [
    "cero",
    "uno",
    "dos",
    "tres",
    "cuatro",
    "cinco",
    "seis",
    "siete",
    "ocho",
    "nueve",
    "diez",
    "once",
    "doce",
    "trece",
    "catorce",
    "quince",
    "dieciséis",
    "diecisiete",
    "dieciocho",
    "diecinueve",
    "veinte",
    "veintiuno",
    "veintidós",
    "veintitrés",
    "veinticuatro",
    "veinticinco",
    "veintiséis",
    "veintisiete",
    "veintiocho",
    "veintinueve",
];
const TENS: [&str; 7] = ["treinta", "cuarenta", "cincuenta", "sesenta", "setenta", "ochenta", "noventa"];
const HUNDREDS: [&str; 9] = [
    "ciento",
    "doscientos",
    "trescientos",
    "cuatrocientos",
    "quinientos",
    "seiscientos",
    "setecientos",
    "ochocientos",
    "novecientos",
];
const ORDINALS: [&str; 12] = [
    "primero",
    "segundo",
    "tercero",
    "cuarto",
    "quinto",
    "sexto",
    "séptimo",
    "octavo",
    "noveno",
    "décimo",
    "undécimo",
    "duodécimo",
];

pub(super) const GRAMMAR: Grammar = Grammar {
    below_thousand,
    ordinal,
    ordinal_mark: "o",
    thousand: &["mil"],
    scales: &[(&["billón", "billones"], 1_000_000_000_000), (&["millón", "millones"], 1_000_000)],
    decimal: &["coma", "punto"],
    hour: &["horas", "hora", "h"],
    says_hour: false,
    hour_parts: &[("media", "30"), ("cuarto", "15")],
    before_hour: &["las", "la"],
    currencies: &[
        ('€', "euro", &["euro", "euros"]),
        ('$', "dólar", &["dólar", "dólares"]),
        ('£', "libra", &["libra", "libras"]),
        ('¥', "yen", &["yen", "yenes"]),
    ],
    money_and: &["con", "y"],
    cents: &["céntimo", "céntimos", "centavo", "centavos"],
    percent: &[&["por", "ciento"], &["por", "cien"], &["percent"]],
    and: "y",
};

fn below_thousand(rest: &[&str]) -> Option<(u64, usize)> {
    let first = *rest.first()?;
    if first == "cien" {
        return Some((100, 1));
    }
    let masculine = first.strip_suffix("as").map(|stem| format!("{stem}os"));
    let hundred = |word: &str| HUNDREDS.iter().position(|known| *known == word);
    let hundreds = hundred(first).or_else(|| masculine.and_then(|word| hundred(&word)));
    let Some(hundreds) = hundreds.map(|at| (at as u64 + 1) * 100) else { return below_hundred(rest) };
    match below_hundred(&rest[1..]).filter(|(small, _)| *small > 0) {
        Some((small, more)) => Some((hundreds + small, 1 + more)),
        None => Some((hundreds, 1)),
    }
}

fn small(word: &str) -> Option<u64> {
    let word = match word {
        "un" | "una" => "uno",
        "veintiún" | "veintiuna" | "veintiun" => "veintiuno",
        "dieciseis" => "dieciséis",
        "veintidos" => "veintidós",
        "veintitres" => "veintitrés",
        "veintiseis" => "veintiséis",
        other => other,
    };
    SMALL.iter().position(|known| *known == word).map(|at| at as u64)
}

fn below_hundred(rest: &[&str]) -> Option<(u64, usize)> {
    let first = *rest.first()?;
    if let Some(value) = small(first) {
        return Some((value, 1));
    }
    let tens = (TENS.iter().position(|known| *known == first)? as u64 + 3) * 10;
    let unit = rest.get(2).and_then(|word| small(word)).filter(|unit| (1..10).contains(unit));
    match (rest.get(1), unit) {
        (Some(&"y"), Some(unit)) => Some((tens + unit, 3)),
        _ => Some((tens, 1)),
    }
}

/// "segundo" and "cuarto" are also a second and a quarter; on both sides alike, so nothing is lost.
fn ordinal(rest: &[&str]) -> Option<(u64, usize)> {
    let first = *rest.first()?;
    for ending in ["o", "a", "er"] {
        if let Some(digits) = first.strip_suffix(ending).filter(|digits| is_digits(digits)) {
            return Some((digits.parse().ok()?, 1));
        }
    }
    let full = match first {
        "primer" => "primero".to_owned(),
        "tercer" => "tercero".to_owned(),
        _ => {
            match first.strip_suffix('a').or_else(|| first.strip_suffix("as")).or_else(|| first.strip_suffix("os")) {
                Some(stem) => format!("{stem}o"),
                None => first.to_owned(),
            }
        }
    };
    ORDINALS.iter().position(|known| *known == full).map(|at| (at as u64 + 1, 1))
}
