//! French, with its seventies and nineties, and those of Belgium and Switzerland.

use super::digits::is_digits;
use super::grammar::Grammar;

const SMALL: [&str; 17] = [
    "zéro", "un", "deux", "trois", "quatre", "cinq", "six", "sept", "huit", "neuf", "dix", "onze", "douze", "treize",
    "quatorze", "quinze", "seize",
];
const TENS: [(&str, u64); 10] = [
    ("vingt", 20),
    ("trente", 30),
    ("quarante", 40),
    ("cinquante", 50),
    ("soixante", 60),
    ("septante", 70),
    ("huitante", 80),
    ("octante", 80),
    ("nonante", 90),
    ("vingts", 20),
];

pub(super) const GRAMMAR: Grammar = Grammar {
    below_thousand,
    ordinal,
    ordinal_mark: "e",
    thousand: &["mille"],
    scales: &[(&["milliard", "milliards"], 1_000_000_000), (&["million", "millions"], 1_000_000)],
    decimal: &["virgule"],
    hour: &["heures", "heure", "h"],
    says_hour: true,
    hour_parts: &[],
    before_hour: &[],
    currencies: &[
        ('€', "euro", &["euro", "euros"]),
        ('$', "dollar", &["dollar", "dollars"]),
        ('£', "livre", &["livre", "livres"]),
        ('¥', "yen", &["yen", "yens"]),
    ],
    money_and: &["et"],
    cents: &["centime", "centimes", "cent", "cents"],
    percent: &[&["pour", "cent"], &["pourcent"], &["percent"]],
    and: "et",
};

fn below_thousand(rest: &[&str]) -> Option<(u64, usize)> {
    let is_hundred = |at: usize| matches!(rest.get(at), Some(&"cent" | &"cents"));
    let (hundreds, taken) = match below_hundred(rest) {
        // "dix-neuf cent" begins a year.
        Some((value, taken)) if (2..20).contains(&value) && value != 10 && is_hundred(taken) => (value, taken + 1),
        None if is_hundred(0) => (1, 1),
        other => return other,
    };
    match below_hundred(&rest[taken..]).filter(|(small, _)| *small > 0) {
        Some((small, more)) => Some((hundreds * 100 + small, taken + more)),
        None => Some((hundreds * 100, taken)),
    }
}

fn small(word: &str) -> Option<u64> {
    match word {
        "une" => Some(1),
        "zero" => Some(0),
        _ => SMALL.iter().position(|known| *known == word).map(|at| at as u64),
    }
}

/// 1 to 19 behind a ten.
fn teens(rest: &[&str]) -> Option<(u64, usize)> {
    let value = small(rest.first()?)?;
    match rest.get(1).and_then(|next| small(next)) {
        Some(unit @ 7..=9) if value == 10 => Some((10 + unit, 2)),
        _ => Some((value, 1)),
    }
}

fn below_hundred(rest: &[&str]) -> Option<(u64, usize)> {
    let first = *rest.first()?;
    let (tens, taken) = match (first, rest.get(1)) {
        ("quatre", Some(&("vingt" | "vingts"))) => (80, 2),
        _ => match TENS.iter().find(|(name, _)| *name == first) {
            Some((_, value)) => (*value, 1),
            None => return teens(rest),
        },
    };
    let joined = usize::from(rest.get(taken) == Some(&"et"));
    // Only sixty and eighty continue with ten to nineteen; only one and eleven are joined by "et".
    let most = if tens == 60 || tens == 80 { 19 } else { 9 };
    match teens(&rest[taken + joined..]) {
        Some((unit, more)) if (1..=most).contains(&unit) && (joined == 0 || unit % 10 == 1) => {
            Some((tens + unit, taken + joined + more))
        }
        _ => Some((tens, taken)),
    }
}

fn ordinal(rest: &[&str]) -> Option<(u64, usize)> {
    let first = *rest.first()?;
    if matches!(first, "premier" | "première" | "premiers" | "premières" | "1er" | "1re" | "1ère") {
        return Some((1, 1));
    }
    for ending in ["ème", "èmes", "eme", "es", "e"] {
        if let Some(digits) = first.strip_suffix(ending).filter(|digits| is_digits(digits)) {
            return Some((digits.parse().ok()?, 1));
        }
    }
    // The last word carries the ending: "vingt et unième".
    let last = rest.iter().take(6).position(|word| word.ends_with("ième") || word.ends_with("ièmes"))?;
    let stem = rest[last].trim_end_matches('s').strip_suffix("ième")?;
    let stem = match stem {
        "cinqu" => "cinq".to_owned(),
        "neuv" => "neuf".to_owned(),
        "mill" => "mille".to_owned(),
        "un" | "deux" | "trois" | "six" | "sept" | "huit" | "dix" | "vingt" | "cent" => stem.to_owned(),
        _ => format!("{stem}e"),
    };
    let mut words: Vec<&str> = rest[..last].to_vec();
    words.push(&stem);
    if stem == "mille" && last == 0 {
        return Some((1000, 1));
    }
    below_thousand(&words).filter(|(_, taken)| *taken == words.len()).map(|(value, _)| (value, last + 1))
}
