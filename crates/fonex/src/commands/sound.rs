//! How alike voices sound, in words.

use fonex_analysis::Comparison;
use fonex_core::speech::{ALIKE_DB, SoundChange, SoundVerdict};
use fonex_report::folded_under;

use crate::output::{self, plural, signed};

/// Texts that are named as showing a difference.
const NAMED: usize = 3;

/// What is said of the sound of two variants; nothing where that was not asked.
pub fn sound(comparison: &Comparison) -> String {
    comparison.sound.as_ref().map_or_else(String::new, |sound| {
        // The names of two runs of one voice differ in the run alone.
        let voice = |name: &str| name.split_once(':').map_or_else(String::new, |(_, voice)| voice.to_owned());
        let same = voice(&comparison.first) == voice(&comparison.second);
        folded_under(&sentence(sound, same), output::width(), 2)
    })
}

/// `sound: changed, ...`; `same` says whether it is one voice in two runs.
fn sentence(sound: &SoundChange, same: bool) -> String {
    let apart = format!("{:.1} dB apart over {}", sound.between_db, plural(sound.texts.len() as u64, "text"));
    let Some(own) = sound.own_db else {
        if !same {
            return format!("sound: {apart}");
        }
        let why =
            "without repeats of a text (repeats = 2 in the plan) it is not known how much the voice varies by itself";
        return format!("sound: {apart}; {why}");
    };
    let beyond = match (sound.excess_db, sound.interval) {
        (Some(excess), Some(interval)) => {
            format!(
                ", {} dB [{}, {}] beyond that",
                signed(excess, 1),
                signed(interval.low, 1),
                signed(interval.high, 1)
            )
        }
        _ => String::new(),
    };
    let verdict = match (sound.verdict, same) {
        (SoundVerdict::Changed, true) => "changed",
        (SoundVerdict::Changed, false) => "different",
        (SoundVerdict::Unchanged, true) => "unchanged",
        (SoundVerdict::Unchanged, false) => "the same",
        (SoundVerdict::CannotTell, _) => "cannot tell",
    };
    let mut text = format!("sound: {verdict}, {apart}, its own repeats {own:.1} dB{beyond}");
    if sound.verdict == SoundVerdict::Changed {
        let named = sound.texts.iter().take(NAMED).map(|text| format!("{} ({:.1} dB)", text.clip, text.between_db));
        text += &format!("; most in {}", named.collect::<Vec<_>>().join(", "));
    } else if sound.verdict == SoundVerdict::CannotTell {
        text += &format!("; more texts would tell whether it is more than {ALIKE_DB} dB");
    }
    text
}
