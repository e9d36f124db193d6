//! What one listener sends back.

use std::fmt::Write as _;

use fonex_core::panel::PanelKind;
use fonex_formats::{Place, Problem, checksum, parse_strict};
use serde::{Deserialize, Serialize};

use super::PanelKey;

/// A listener's ratings, as the page writes them.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Ratings {
    /// The panel.
    pub panel: String,
    /// What was asked.
    pub kind: PanelKind,
    /// The number the listener was given, from 1.
    pub listener: u32,
    /// Tells one sitting from another.
    pub session: String,
    /// When it began, RFC 3339 in UTC, by the listener's clock.
    pub began: String,
    /// Whether all pages are answered.
    pub complete: bool,
    /// The answers, in the order in which they were given.
    pub answers: Vec<Answer>,
    /// A checksum over all of it.
    pub seal: String,
}

/// The answer to one page.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Answer {
    /// The page, from 0.
    pub page: u32,
    /// The sounds that were offered.
    pub sounds: Vec<u32>,
    /// A value for each sound; of a pair one, 1 where the first is better.
    pub values: Vec<f64>,
    /// How often each sound was played.
    pub plays: Vec<u32>,
    /// Milliseconds from the page's appearance to its answer.
    pub took_ms: u64,
}

impl Ratings {
    /// The seal that these ratings should bear. It shows a file that was edited or cut; it does not keep out somebody who reads the page's
    /// program and forges a whole file.
    #[must_use]
    pub fn sealed(&self, secret: &str) -> String {
        let mut text = format!(
            "{secret}\n{}\n{}\n{}\n{}\n{}\n{}\n",
            self.panel,
            self.kind.as_str(),
            self.listener,
            self.session,
            self.began,
            u8::from(self.complete)
        );
        for answer in &self.answers {
            let list = |values: &mut dyn Iterator<Item = String>| values.collect::<Vec<_>>().join(",");
            let sounds = list(&mut answer.sounds.iter().map(ToString::to_string));
            let values = list(&mut answer.values.iter().map(ToString::to_string));
            let plays = list(&mut answer.plays.iter().map(ToString::to_string));
            let Answer { page, took_ms, .. } = answer;
            writeln!(text, "{page}|{sounds}|{values}|{plays}|{took_ms}").expect("writing to a string");
        }
        checksum::of_bytes(text.as_bytes())
    }
}

/// Reads a ratings file and holds it against the key.
///
/// # Errors
/// A [`Problem`] at `place` when it is no ratings file, of another panel, or not as the page wrote it.
pub fn read_ratings(text: &str, place: &Place, key: &PanelKey) -> Result<Ratings, Problem> {
    let ratings: Ratings = parse_strict(text, place.clone())?;
    let wrong = |what: String| Problem::new(what, place.clone());
    if ratings.panel != key.panel {
        return Err(wrong(format!("it belongs to the panel {}", ratings.panel.escape_debug()))
            .expected(format!("ratings of the panel {}", key.panel)));
    }
    if ratings.kind != key.kind || ratings.seal != ratings.sealed(&key.seal) {
        let problem = wrong("the file is not as the page wrote it: its seal does not fit".to_owned());
        return Err(problem.remedy("ask the listener to send the file again, unchanged"));
    }
    let sheet = (ratings.listener as usize).checked_sub(1).and_then(|at| key.sheets.get(at));
    let Some(sheet) = sheet else {
        return Err(wrong(format!("there is no listener {}", ratings.listener))
            .expected(format!("a number from 1 to {}, as was given to the listener", key.sheets.len())));
    };
    let mut answered = vec![false; sheet.len()];
    for (at, answer) in ratings.answers.iter().enumerate() {
        let place = place.clone().field(format!("answers[{at}]"));
        let wrong = |what: &str| Problem::new(what, place.clone());
        let page = sheet.get(answer.page as usize).filter(|page| **page == answer.sounds);
        let Some(page) = page else {
            return Err(wrong("the listener's sheet has no such page"));
        };
        if std::mem::replace(&mut answered[answer.page as usize], true) {
            return Err(wrong("the page is answered twice"));
        }
        let values = match key.kind {
            PanelKind::Opinion | PanelKind::Pairs => 1,
            // The open reference is not rated.
            PanelKind::Anchored => page.len() - 1,
        };
        if answer.values.len() != values || !answer.values.iter().all(|value| key.kind.allows(*value)) {
            return Err(wrong("the answer is none that the page can give"));
        }
    }
    Ok(ratings)
}
