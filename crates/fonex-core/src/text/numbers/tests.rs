use crate::text::TextProfile;

/// As people write it, as people say it, and the one form of both, by language; and how many pairs there are at least.
const PAIRS: [(&str, &str, usize); 4] = [
    ("en", include_str!("pairs/en.txt"), 150),
    ("de", include_str!("pairs/de.txt"), 60),
    ("fr", include_str!("pairs/fr.txt"), 60),
    ("es", include_str!("pairs/es.txt"), 60),
];

#[test]
fn written_and_spoken_numbers_become_one() {
    for (language, table, least) in PAIRS {
        let profile = TextProfile::shipped(language).unwrap();
        let mut pairs = 0;
        let mut wrong = Vec::new();
        for line in table.lines().filter(|line| !line.is_empty() && !line.starts_with('#')) {
            let [written, spoken, form] = line.split(" | ").collect::<Vec<_>>()[..] else { panic!("{line}") };
            pairs += 1;
            let of = |text: &str| profile.tokens(text).join(" ");
            if of(written) != form || of(spoken) != form || of(form) != form {
                wrong.push(format!("{line}: {} | {} | {}", of(written), of(spoken), of(form)));
            }
        }
        assert!(wrong.is_empty(), "{language}: {} of {pairs}:\n{}", wrong.len(), wrong.join("\n"));
        assert!(pairs >= least, "{language}: {pairs}");
    }
}

proptest::proptest! {
    #[test]
    fn any_cardinal_survives_being_said(number in 0_u64..1_000_000_000_000) {
        let profile = TextProfile::shipped("en").unwrap();
        let number = number >> (number % 40);
        proptest::prop_assert_eq!(profile.tokens(&said(number)).join(" "), number.to_string());
    }
}

/// A number in words, in the plainest way.
fn said(number: u64) -> String {
    const SMALL: [&str; 20] = [
        "zero",
        "one",
        "two",
        "three",
        "four",
        "five",
        "six",
        "seven",
        "eight",
        "nine",
        "ten",
        "eleven",
        "twelve",
        "thirteen",
        "fourteen",
        "fifteen",
        "sixteen",
        "seventeen",
        "eighteen",
        "nineteen",
    ];
    const TENS: [&str; 10] = ["", "", "twenty", "thirty", "forty", "fifty", "sixty", "seventy", "eighty", "ninety"];
    let rest = |number: u64, join: &str| if number == 0 { String::new() } else { format!("{join}{}", said(number)) };
    match number {
        0..20 => SMALL[number as usize].to_owned(),
        20..100 => format!("{}{}", TENS[number as usize / 10], rest(number % 10, "-")),
        100..1_000 => format!("{} hundred{}", said(number / 100), rest(number % 100, " and ")),
        1_000..1_000_000 => format!("{} thousand{}", said(number / 1_000), rest(number % 1_000, " ")),
        1_000_000..1_000_000_000 => format!("{} million{}", said(number / 1_000_000), rest(number % 1_000_000, " ")),
        _ => format!("{} billion{}", said(number / 1_000_000_000), rest(number % 1_000_000_000, " ")),
    }
}
