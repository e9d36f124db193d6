use std::collections::BTreeSet;

use crate::accuracy::score_clip;
use crate::text::{Label, NumberLanguage, TextProfile};

/// Pairs that are one and pairs that are not, by profile; how many there are at least of each; how many different things the pairs
/// that are one speak of.
const PAIRS: [(&str, &str, &str, usize, usize); 4] = [
    ("en", include_str!("pairs/en-one.txt"), include_str!("pairs/en-apart.txt"), 370, 348),
    ("de", include_str!("pairs/de-one.txt"), include_str!("pairs/de-apart.txt"), 180, 172),
    ("fr", include_str!("pairs/fr-one.txt"), include_str!("pairs/fr-apart.txt"), 180, 171),
    ("es", include_str!("pairs/es-one.txt"), include_str!("pairs/es-apart.txt"), 170, 160),
];

fn pairs(table: &str) -> impl Iterator<Item = (&str, &str)> {
    let lines = table.lines().filter(|line| !line.is_empty() && !line.starts_with("# "));
    lines.map(|line| line.split_once(" | ").unwrap_or_else(|| panic!("{line}")))
}

#[test]
fn what_a_person_calls_one_is_one_and_nothing_else() {
    let mut wrong = Vec::new();
    for (name, one, apart, least, _) in PAIRS {
        let profile = TextProfile::shipped(name).expect("it ships");
        let of = |text: &str| profile.tokens(text).join(" ");
        for (table, same) in [(one, true), (apart, false)] {
            let mut count = 0;
            for (a, b) in pairs(table) {
                count += 1;
                let scored = |label: &str, heard: &str| {
                    score_clip(&profile, &Label::parse(label).expect("it is a label"), heard).words.errors() == 0
                };
                // A label may have a second reading.
                let is_one = of(a) == of(b) || same && scored(a, b) && scored(b, a);
                if is_one != same {
                    wrong.push(format!("{name}: {a} | {b}: {} | {}", of(a), of(b)));
                }
            }
            assert!(count >= least, "{name}: {count} pairs");
        }
    }
    assert!(wrong.is_empty(), "{} wrong:\n{}", wrong.len(), wrong.join("\n"));
}

/// Every text of a table against every other: when two things become one, there are fewer of them.
#[test]
fn what_the_pairs_speak_of_stays_apart() {
    for (name, one, _, _, things) in PAIRS {
        let profile = TextProfile::shipped(name).expect("it ships");
        let forms: BTreeSet<String> =
            pairs(one).flat_map(|(a, b)| [a, b]).map(|text| profile.tokens(text).join(" ")).collect();
        assert_eq!(forms.len(), things, "{name}: {forms:#?}");
    }
}

proptest::proptest! {
    /// Whatever is written, the forms come to an end, and forms of forms are the same once numbers are digits.
    #[test]
    fn any_text_is_read(text in "[ 0-9a-zA-Z.,:/'#%$°½&+-]{0,40}") {
        let profile = TextProfile::shipped("en").expect("it ships");
        let once = profile.tokens(&text).join(" ");
        proptest::prop_assert!(!once.contains('\u{e000}'), "{once:?}");
    }

    #[test]
    fn plain_words_are_left_alone(text in "[b-hj-z]{4,8}( [b-hj-z]{4,8}){0,6}") {
        proptest::prop_assert_eq!(NumberLanguage::English.forms(&text), text);
    }
}

/// What may be heard of a label that can be read in two ways, and what is wrong nevertheless: label, heard, words wrong.
#[test]
fn a_label_that_can_be_read_in_two_ways_is_right_in_both() {
    const CASES: [(&str, &str, &str, u64); 41] = [
        ("en", "Come at five to ten.", "come at 9:55", 0),
        ("en", "Come at five to ten.", "come at five to ten", 0),
        ("en", "Come at five to ten.", "come at 9:50", 1),
        ("en", "Five to ten people came", "five to ten people came", 0),
        ("en", "Five to ten people came", "5-10 people came", 0),
        ("en", "at 9:55 sharp", "at five to ten sharp", 0),
        ("en", "at 9:55 sharp", "at nine fifty-five sharp", 0),
        ("en", "at 12:40", "at twenty to one", 0),
        ("en", "He'd gone by then", "he had gone by then", 0),
        ("en", "He'd cut it", "he had cut it", 0),
        ("en", "He'd cut it", "he would cut it", 0),
        ("en", "He'd cut it", "he will cut it", 1),
        ("en", "It's finished and he's left", "it has finished and he is left", 0),
        ("en", "It's finished and he's left", "it is finished and he has left", 0),
        ("en", "I said it's five to ten, I'd say", "i said it is 9:55 i would say", 0),
        ("de", "Es kamen 2. Mann und Frau", "es kamen zwei mann und frau", 0),
        ("de", "Er war 2. Sieger", "er war zweiter sieger", 0),
        ("de", "Er war 2. Sieger", "er war dritter sieger", 1),
        ("fr", "à midi", "à 12 heures", 0),
        ("fr", "à 12 h", "à midi", 0),
        ("fr", "à 12 h 30", "à midi", 2),
        ("fr", "à minuit", "à midi", 1),
        ("es", "el 1 de mayo", "el primero de mayo", 0),
        ("es", "el primero de mayo", "el uno de mayo", 0),
        ("es", "el primero de mayo", "el dos de mayo", 1),
        ("en", "Rocky IV is on", "rocky four is on", 0),
        ("en", "Rocky IV is on", "rocky iv is on", 0),
        ("en", "Rocky IV is on", "rocky five is on", 1),
        ("en", "a 4K screen", "a four k screen", 0),
        ("en", "it is 0.5 here", "it is point five here", 0),
        ("en", "help point two", "help 0.2", 2),
        ("en", "It weighs 3 lb.", "it weighs three pounds", 0),
        ("en", "It weighs three pounds.", "it weighs 3 lb", 0),
        ("en", "It costs three pounds.", "it costs £3", 0),
        ("en", "in St. Ives", "in Saint Ives", 0),
        ("en", "in St. Ives", "in Mount Ives", 1),
        ("en", "at twenty to nine", "at 8:40", 0),
        ("en", "at twenty to nine", "at 9:20", 1),
        ("de", "nach St. Pölten", "nach Sankt Pölten", 0),
        ("de", "nach Sankt Pölten", "nach St. Pölten", 0),
        ("neutral", "five to ten", "9:55", 3),
    ];
    for (name, label, heard, wrong) in CASES {
        let profile = TextProfile::shipped(name).expect("it ships");
        let counts = score_clip(&profile, &Label::parse(label).expect("it is a label"), heard).words;
        assert_eq!(counts.errors(), wrong, "{label} heard as {heard}");
    }
}

proptest::proptest! {
    /// Whatever readings a text has, the text as it stands is one of them.
    #[test]
    fn a_text_is_a_reading_of_itself(words in proptest::collection::vec(
        proptest::sample::select(vec!["five", "to", "ten", "he'd", "it's", "9:55", "gone", "at", "20", "one", "and", "half"]),
        0..14,
    )) {
        let profile = TextProfile::shipped("en").expect("it ships");
        let text = words.join(" ");
        let label = Label::parse(&text).expect("it is a label").in_profile(&profile).into_owned();
        proptest::prop_assert_eq!(label.first_reading(), text);
    }
}
