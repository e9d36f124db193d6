//! The rules that one clip is enough for.

use icu_properties::CodePointMapData;
use icu_properties::props::{GeneralCategory, GeneralCategoryGroup};

use super::check::{AudioFacts, Check, Complaint, TakenAudio};
use super::language::{Script, guess_language, primary, scripts_of_language, scripts_of_text};
use crate::Clip;
use crate::audio::LEAST_VOICED_S;
use crate::speech::read_markup;
use crate::text::{Label, TextProfile};

/// More words a second than people speak: fast speech reaches 6 to 7 (Tauroza and Allison, "Speech rates in British
/// English", 1990, give 260 words a minute for the fastest tenth of conversation).
const MOST_WORDS_PER_S: f64 = 7.5;
/// More letters a second than people speak, for languages with long words.
const MOST_LETTERS_PER_S: f64 = 32.0;
/// Fewer words a second than anyone speaks through a whole clip.
const LEAST_WORDS_PER_S: f64 = 0.4;
/// Clips shorter than this are too short to judge their rate.
const SHORTEST_RATED_S: f64 = 1.0;
/// Below it there is no sound: a 16-bit step is -90 dBFS.
const SILENT_DBFS: f64 = -80.0;
/// A label may end this much behind the audio by rounding.
const PAST_END_S: f64 = 0.05;
const CLIPPED_SHARE: f64 = 0.001;
const DC_OFFSET: f64 = 0.01;
const LOW_LEVEL_DBFS: f64 = -45.0;

/// Less sound than this may be a word without a vowel that is found.
const SHORTEST_HEARD_S: f64 = 0.5;

pub(super) fn check_clip(
    clip: &Clip,
    audio: Option<&AudioFacts>,
    profile: &TextProfile,
    rates: &[TakenAudio],
    complaints: &mut Vec<Complaint>,
) {
    let mut complain = |check, what: String| complaints.push(Complaint::new(check, Some(&clip.id), what));
    let text = Label::parse(&clip.text).map(|label| label.first_reading()).unwrap_or_default();
    check_text(clip, &text, profile, &mut complain);
    check_markup(clip, &text, profile, &mut complain);
    check_order(clip, &mut complain);
    check_segments(clip, &mut complain);
    if let Some(facts) = audio {
        check_sound(facts, rates, &mut complain);
        check_fit(clip, &text, facts, &mut complain);
    }
}

fn check_markup(clip: &Clip, text: &str, profile: &TextProfile, complain: &mut impl FnMut(Check, String)) {
    match clip.ssml.as_deref().map(read_markup) {
        None => {}
        Some(Err(error)) => complain(Check::BrokenMarkup, error.to_string()),
        Some(Ok(markup)) if profile.tokens(&markup.text()) != profile.tokens(text) => {
            complain(Check::MarkupText, format!("the markup says \"{}\"", markup.text()));
        }
        Some(Ok(_)) => {}
    }
}

fn check_text(clip: &Clip, text: &str, profile: &TextProfile, complain: &mut impl FnMut(Check, String)) {
    let tokens = profile.tokens(text);
    if tokens.is_empty() {
        complain(Check::EmptyLabel, "the label holds no word".to_owned());
    }
    for term in &clip.terms {
        let wanted = profile.tokens(term);
        let found = wanted.is_empty() || tokens.windows(wanted.len()).any(|window| window == wanted.as_slice());
        if !found {
            complain(Check::TermAbsent, format!("the term \"{term}\" does not occur in the text"));
        }
    }
    let strange: Vec<String> = strange_characters(text).map(|c| format!("U+{:04X}", u32::from(c))).collect();
    if !strange.is_empty() {
        complain(Check::StrangeCharacters, format!("the text holds {}", strange.join(", ")));
    }
    let Some(lang) = &clip.lang else { return };
    let expected = scripts_of_language(lang);
    let other: Vec<Script> = scripts_of_text(text).into_iter().filter(|script| !expected.contains(script)).collect();
    if let (false, Some(script)) = (expected.is_empty(), other.first()) {
        complain(Check::OtherScript, format!("the text contains {script:?} letters, but lang is {lang}"));
    } else if let Some(guess) = guess_language(&tokens).filter(|guess| *guess != primary(lang)) {
        complain(Check::OtherLanguage, format!("the text looks like {guess}, but lang is {lang}"));
    }
}

/// Control characters, unassigned and private ones, the replacement character and pictographs, each once.
fn strange_characters(text: &str) -> impl Iterator<Item = char> + '_ {
    let categories = CodePointMapData::<GeneralCategory>::new();
    let mut seen = Vec::new();
    text.chars().filter(move |c| {
        let category = categories.get(*c);
        let strange = *c == '\u{FFFD}'
            || category == GeneralCategory::OtherSymbol && !matches!(c, '°' | '№' | '©' | '®')
            || GeneralCategoryGroup::Other.contains(category)
                && !c.is_whitespace()
                && category != GeneralCategory::Format;
        strange && !seen.contains(c) && {
            seen.push(*c);
            true
        }
    })
}

fn check_order(clip: &Clip, complain: &mut impl FnMut(Check, String)) {
    for pair in clip.words.windows(2) {
        let (first, second) = (&pair[0], &pair[1]);
        if second.start < first.start {
            let what = format!(
                "\"{}\" at {} s stands behind \"{}\" at {} s",
                second.text, second.start, first.text, first.start
            );
            return complain(Check::LabelOrder, what);
        }
        if second.start < first.end - 0.001 {
            let what = format!(
                "\"{}\" starts at {} s, before \"{}\" ends at {} s",
                second.text, second.start, first.text, first.end
            );
            return complain(Check::LabelOrder, what);
        }
    }
}

/// Words, dots and dashes that stand alone left out.
fn words_in(text: &str) -> usize {
    text.split_whitespace().filter(|word| word.contains(char::is_alphanumeric)).count()
}

/// Labelled segments: in order, apart, and no fuller than people speak.
fn check_segments(clip: &Clip, complain: &mut impl FnMut(Check, String)) {
    for pair in clip.segments.windows(2) {
        let (first, second) = (&pair[0], &pair[1]);
        if second.start < first.end - 0.001 {
            let what = format!("the segment at {} s starts before the one at {} s ends", second.start, first.start);
            complain(Check::SegmentOrder, what);
            break;
        }
    }
    let spaced = |text: &str| scripts_of_text(text).iter().all(|script| script.parts_words());
    let too_full = clip.segments.iter().find(|segment| {
        let words = words_in(&segment.text);
        words > 2 && spaced(&segment.text) && words as f64 > MOST_WORDS_PER_S * (segment.end - segment.start)
    });
    if let Some(segment) = too_full {
        let (words, lasts) = (words_in(&segment.text), segment.end - segment.start);
        complain(
            Check::SegmentRate,
            format!("{words} words in the {lasts:.2} s of the segment at {} s", segment.start),
        );
    }
}

fn check_sound(facts: &AudioFacts, rates: &[TakenAudio], complain: &mut impl FnMut(Check, String)) {
    if let Some(defect) = &facts.defect {
        complain(Check::AudioTruncated, defect.clone());
    }
    if !ending_fits(&facts.container, &facts.ending) {
        complain(
            Check::AudioMislabelled,
            format!("the file is named .{}, but its content is {}", facts.ending, facts.container),
        );
    }
    if facts.channels > 1 {
        complain(Check::SeveralChannels, format!("the file has {} channels", facts.channels));
    }
    for taken in rates.iter().filter(|taken| facts.rate_hz < taken.rate_hz) {
        complain(
            Check::RateTooLow,
            format!("the file has {} Hz, but {} takes {} Hz", facts.rate_hz, taken.engine, taken.rate_hz),
        );
    }
    let needed = rates.iter().map(|taken| u32::from(taken.bits)).min().unwrap_or(16);
    if let Some(bits) = facts.bits.filter(|bits| *bits < needed) {
        complain(Check::FewBits, format!("the file has {bits} bits a sample, and engines take {needed}"));
    }
    if let Some(lost) = facts.cancelled_db {
        return complain(
            Check::ChannelsOpposite,
            format!("its channels cancel: their mix is {lost:.0} dB below their mean level"),
        );
    }
    let Some(level) = facts.active_level_dbfs else {
        return complain(Check::AudioSilent, "the recording is silent".to_owned());
    };
    if level < SILENT_DBFS {
        // More gain would raise noise of the converter alone.
        return complain(Check::AudioSilent, format!("the recording is silent: its level is −{:.0} dBFS", -level));
    }
    if level < LOW_LEVEL_DBFS {
        complain(
            Check::LowLevel,
            format!("the speech level is {level:.0} dB below full scale").replace("at -", "at "),
        );
    }
    let measures = &facts.measures;
    if measures.clipped_share > CLIPPED_SHARE {
        complain(Check::Clipping, format!("{:.1} % of the samples are clipped", measures.clipped_share * 100.0));
    }
    if measures.dc_offset.abs() > DC_OFFSET {
        complain(Check::DcOffset, format!("DC offset of {:.3} of full scale", measures.dc_offset));
    }
}

/// Whether a container may have this ending. Several endings are used for some containers.
fn ending_fits(container: &str, ending: &str) -> bool {
    let endings: &[&str] = match container {
        "wave" => &["wav", "wave"],
        "flac" => &["flac"],
        "ogg" => &["ogg", "oga", "opus"],
        "mp3" | "mp2" | "mp1" | "mpa" => &["mp3", "mp2", "mpga"],
        "isomp4" => &["m4a", "mp4", "m4b", "mov"],
        "aiff" => &["aif", "aiff", "aifc"],
        "aac" | "adts" => &["aac", "adts"],
        "caf" => &["caf"],
        "matroska" | "mkv" => &["mka", "mkv", "webm"],
        _ => return true,
    };
    endings.contains(&ending)
}

/// Whether text and sound can belong together: label times inside the audio, and a rate that people speak.
fn check_fit(clip: &Clip, text: &str, facts: &AudioFacts, complain: &mut impl FnMut(Check, String)) {
    let length = facts.measures.duration_s;
    // Without times nothing is late.
    if let Some(priming_s) = facts.priming_s.filter(|_| !clip.words.is_empty()) {
        complain(
            Check::UnknownPriming,
            format!("about {:.0} ms of the encoder's priming may stand before the sound", priming_s * 1e3),
        );
    }
    if let Some(word) = clip.words.iter().find(|word| word.end > length + PAST_END_S) {
        let what = format!("\"{}\" ends at {} s, after the end of the audio at {length:.3} s", word.text, word.end);
        complain(Check::LabelTimes, what);
    }
    let silence = facts.measures.silence;
    let speaking_s = length - silence.leading_s - silence.trailing_s;
    if speaking_s <= 0.0 || facts.active_level_dbfs.is_none() {
        return;
    }
    let words = words_in(text);
    if words > 0 && speaking_s >= SHORTEST_HEARD_S && facts.voiced_s < LEAST_VOICED_S {
        complain(
            Check::NoSpeech,
            format!("{words} words in the label, and {speaking_s:.1} s of sound without a vowel"),
        );
    }
    let letters = text.chars().filter(|c| c.is_alphanumeric()).count();
    let spaced = scripts_of_text(text).iter().all(|script| script.parts_words());
    let fastest = (words as f64 / speaking_s, letters as f64 / speaking_s);
    if words > 2 && (spaced && fastest.0 > MOST_WORDS_PER_S || fastest.1 > MOST_LETTERS_PER_S) {
        let what = format!(
            "{words} words in {speaking_s:.1} s of sound, {:.1} a second, is faster than people speak",
            fastest.0
        );
        complain(Check::SpeakingRate, what);
    } else if spaced && words > 0 && speaking_s > SHORTEST_RATED_S * 4.0 && fastest.0 < LEAST_WORDS_PER_S {
        complain(Check::SlowRate, format!("{words} words in {speaking_s:.1} s of sound"));
    }
}
