//! The page of a listening panel: one self-contained file that plays sounds and keeps answers. Nothing in it tells whose sound is whose.

use fonex_core::panel::PanelKind;
use minijinja::value::Serde;
use minijinja::{AutoEscape, Environment};
use serde::Serialize;

use crate::RenderError;
use crate::script::{data_block, sum};

/// What a page is made of.
#[derive(Debug, Clone)]
pub struct PanelPage {
    /// Names the panel.
    pub panel: String,
    /// What listeners are asked.
    pub kind: PanelKind,
    /// Seals the ratings.
    pub seal: String,
    /// Pages at the beginning that do not count.
    pub practice: u32,
    /// Each sound as a data URI, by its number.
    pub sounds: Vec<String>,
    /// The text of each sound, where listeners are to see it.
    pub texts: Option<Vec<String>>,
    /// The sound to set the volume by.
    pub volume: u32,
    /// For each listener the pages, each with its sounds.
    pub sheets: Vec<Vec<Vec<u32>>>,
    /// Minutes that a session takes, roughly.
    pub minutes: u32,
}

/// Pages between two breaks.
const REST_EVERY: u32 = 20;

/// What the script reads.
#[derive(Serialize)]
struct Data<'p> {
    panel: &'p str,
    kind: PanelKind,
    seal: &'p str,
    practice: u32,
    rest_every: u32,
    volume: u32,
    question: &'static str,
    legend: &'static str,
    first_step: &'static str,
    second_step: &'static str,
    choices: &'static [Choice],
    texts: &'p [String],
    sheets: &'p [Vec<Vec<u32>>],
    sounds: &'p [String],
}

#[derive(Serialize)]
struct Choice {
    value: f64,
    label: &'static str,
    key: &'static str,
}

/// The scale of absolute category rating, ITU-T P.800, annex B.
const OPINIONS: [Choice; 5] = [
    Choice { value: 5.0, label: "Excellent", key: "5" },
    Choice { value: 4.0, label: "Good", key: "4" },
    Choice { value: 3.0, label: "Fair", key: "3" },
    Choice { value: 2.0, label: "Poor", key: "2" },
    Choice { value: 1.0, label: "Bad", key: "1" },
];
const PREFERENCES: [Choice; 3] = [
    Choice { value: 1.0, label: "A is better", key: "1" },
    Choice { value: 0.5, label: "No difference", key: "2" },
    Choice { value: 0.0, label: "B is better", key: "3" },
];

/// What listeners read, by kind.
struct Words {
    intro: &'static str,
    question: &'static str,
    legend: &'static str,
    first_step: &'static str,
    second_step: &'static str,
    keys: &'static str,
    choices: &'static [Choice],
}

const fn words(kind: PanelKind) -> Words {
    match kind {
        PanelKind::Opinion => Words {
            intro: "You will hear short recordings of speech, one at a time. Say how good each one sounds to you.",
            question: "How good does this speech sound?",
            legend: "The quality of the speech is",
            first_step: "Play the sound to its end; then choose.",
            second_step: "Choose an answer. You may play the sound again.",
            keys: "Keys: space or P plays, 5 (excellent) to 1 (bad) choose, Enter goes on.",
            choices: &OPINIONS,
        },
        PanelKind::Pairs => Words {
            intro: "You will hear the same sentence twice, spoken in two ways. Say which one sounds better to you.",
            question: "Which of the two sounds better?",
            legend: "Your choice",
            first_step: "Play both sounds to their end; then choose.",
            second_step: "Choose an answer. You may play both again.",
            keys: "Keys: A and B play, 1 to 3 choose, Enter goes on.",
            choices: &PREFERENCES,
        },
        PanelKind::Anchored => Words {
            intro: "On each page you hear a reference, and several sounds of the same sentence. Rate how good each one is beside the reference, from 0 (bad) to 100 (excellent). One of them is the reference itself: find it and give it 100.",
            question: "How good is each sound beside the reference?",
            legend: "",
            first_step: "Play the reference and every sound to its end, and set every slider.",
            second_step: "Set every slider. You may play any sound again.",
            keys: "Keys: R plays the reference, 1 to 9 play the sounds, Tab moves to a slider, arrows move it, Enter goes on.",
            choices: &[],
        },
    }
}

const ADVICE: [&str; 4] = [
    "Sit in a quiet room and wear headphones if you can.",
    "Set the volume once, then leave it.",
    "Listen to every sound to its end. There is no right answer; your first impression counts.",
    "Some sounds check that you are listening.",
];

/// What the template reads.
#[derive(Serialize)]
struct Shown<'p> {
    panel: &'p str,
    listeners: usize,
    show_text: bool,
    intro: &'static str,
    advice: [&'static str; 4],
    length: String,
    keys: &'static str,
    style: &'static str,
    style_sum: String,
    script: &'static str,
    script_sum: String,
    data: String,
}

const TEMPLATE: &str = include_str!("../templates/panel.html");
const STYLE: &str = include_str!("../templates/panel.css");
const SCRIPT: &str = include_str!("../templates/panel.js");

/// Writes the page.
///
/// # Errors
/// When the template and the data do not fit, which the tests rule out.
pub fn render_panel(page: &PanelPage) -> Result<String, RenderError> {
    let words = words(page.kind);
    let data = Data {
        panel: &page.panel,
        kind: page.kind,
        seal: &page.seal,
        practice: page.practice,
        rest_every: REST_EVERY,
        volume: page.volume,
        question: words.question,
        legend: words.legend,
        first_step: words.first_step,
        second_step: words.second_step,
        choices: words.choices,
        texts: page.texts.as_deref().unwrap_or_default(),
        sheets: &page.sheets,
        sounds: &page.sounds,
    };
    let pages = page.sheets.first().map_or(0, Vec::len);
    let shown = Shown {
        panel: &page.panel,
        listeners: page.sheets.len(),
        show_text: page.texts.is_some(),
        intro: words.intro,
        advice: ADVICE,
        length: match page.minutes {
            0 | 1 => format!("There are {pages} pages; they take a minute or two."),
            minutes => format!("There are {pages} pages; they take about {minutes} minutes."),
        },
        keys: words.keys,
        style: STYLE,
        style_sum: sum(STYLE),
        script: SCRIPT,
        script_sum: sum(SCRIPT),
        data: data_block(&data),
    };
    let mut environment = Environment::new();
    environment.set_auto_escape_callback(|_| AutoEscape::Html);
    environment.add_template("panel.html", TEMPLATE)?;
    Ok(environment.get_template("panel.html")?.render(Serde(&shown))?)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_of_a_panel_never_become_markup() {
        let attack = "</script><script>alert(1)</script><!-- & \u{2028} \"'";
        let page = PanelPage {
            panel: attack.to_owned(),
            kind: PanelKind::Opinion,
            seal: attack.to_owned(),
            practice: 1,
            sounds: vec!["data:audio/flac;base64,".to_owned()],
            texts: Some(vec![attack.to_owned()]),
            volume: 0,
            sheets: vec![vec![vec![0]]],
            minutes: 3,
        };
        for kind in PanelKind::ALL {
            let page = render_panel(&PanelPage { kind, ..page.clone() }).unwrap();
            assert_eq!(page.matches("<script").count(), 2, "the data and the program");
            assert_eq!(page.matches("</script>").count(), 2);
            assert!(!page.contains("<!--") && page.contains("\\u003c/script\\u003e"));
            let policy = page.replace("&#x2f;", "/");
            // The program and the style are those that the policy lets through.
            for (text, element) in [(SCRIPT, "script-src"), (STYLE, "style-src")] {
                assert!(page.contains(text) && policy.contains(&format!("{element} 'sha256-{}'", sum(text))));
            }
            for outside in ["http:", "https:", "src=\"/", "url("] {
                assert!(!page.contains(outside), "{outside}");
            }
        }
    }
}
