//! How something is spoken, put together: pauses, syllables and pitch of sounds made for it, and what they are called.
#![allow(clippy::unwrap_used, reason = "a test that fails here says where")]

use std::f64::consts::TAU;

use fonex_core::Task;
use fonex_core::audio::{Audio, measure};
use fonex_core::measures::{ALL, Trials, find};
use fonex_core::speech::{Fault, Faults, Pauses, Pitch, SpeechMeasures, measure_speech};

const RATE: usize = 16_000;

/// Phrases of so many swells, four a second, at a pitch that falls by a tenth in each; the pauses between them in seconds.
fn phrases(counts: &[usize], pause_s: f64, pitch_hz: f64) -> Audio {
    let mut samples = vec![0.0_f32; RATE / 5];
    for (at, count) in counts.iter().enumerate() {
        if at > 0 {
            samples.extend(std::iter::repeat_n(0.0, (pause_s * RATE as f64) as usize));
        }
        let length = count * RATE / 4;
        let mut phase = 0.0;
        for i in 0..length {
            let t = i as f64 / RATE as f64;
            phase += pitch_hz * (1.0 - 0.1 * i as f64 / length as f64) / RATE as f64;
            let swell = 0.5 - 0.5 * (TAU * 4.0 * t).cos();
            let buzz: f64 = (1..14).map(|h| (TAU * phase * f64::from(h)).sin() / f64::from(h)).sum();
            samples.push((0.15 * swell * buzz) as f32);
        }
    }
    samples.extend(std::iter::repeat_n(0.0, RATE / 5));
    Audio { rate_hz: RATE as u32, samples }
}

fn spoken(audio: &Audio) -> SpeechMeasures {
    measure_speech(audio, &measure(audio))
}

#[test]
fn pauses_syllables_and_pitch_of_phrases_by_hand() {
    for (counts, pause_s) in [(vec![4, 6, 3], 0.4), (vec![8], 0.0), (vec![5, 5], 0.8)] {
        let found = spoken(&phrases(&counts, pause_s, 150.0));
        let swells: usize = counts.iter().sum();
        assert!((f64::from(found.syllables) - swells as f64).abs() <= 1.0, "{counts:?}: {}", found.syllables);
        assert_eq!(found.pauses.count as usize, counts.len() - 1, "{found:?}");
        let silent = pause_s * (counts.len() - 1) as f64;
        // A swell begins and ends in silence: some of it counts as pause.
        assert!((found.pauses.total_s - silent).abs() < 0.1 * counts.len() as f64, "{found:?}");
        assert!((found.speaking_s - swells as f64 / 4.0).abs() < 0.1 * counts.len() as f64, "{found:?}");
        assert!((found.syllables_per_s().unwrap() - 4.0).abs() < 0.6);
        let pitch = found.pitch.unwrap();
        assert!((pitch.median_hz / 142.5 - 1.0).abs() < 0.02, "{pitch:?}");
        // From 150 to 135 Hz are 1.8 semitones.
        assert!((1.2..2.0).contains(&pitch.range_st), "{pitch:?}");
        assert_eq!(found.faults, Faults::default(), "{counts:?}");
    }
}

#[test]
fn a_shorter_break_is_no_pause() {
    let found = spoken(&phrases(&[4, 4, 4], 0.08, 150.0));
    assert_eq!(found.pauses, Pauses::default());
}

#[test]
fn figures_do_not_depend_on_the_level_nor_on_the_rate() {
    let audio = phrases(&[6, 6], 0.5, 180.0);
    let usual = spoken(&audio);
    let quiet = Audio { samples: audio.samples.iter().map(|s| s * 0.1).collect(), ..audio.clone() };
    for other in [spoken(&quiet), spoken(&fonex_core::audio::resample(&audio, 24_000).unwrap())] {
        assert_eq!(other.pauses.count, usual.pauses.count);
        assert!(other.syllables.abs_diff(usual.syllables) <= 1);
        let (own, others) = (usual.pitch.unwrap().median_hz, other.pitch.unwrap().median_hz);
        assert!((others / own - 1.0).abs() < 0.005, "{others} {own}");
    }
    assert!((usual.loudness_lufs.unwrap() - spoken(&quiet).loudness_lufs.unwrap() - 20.0).abs() < 0.2);
}

#[test]
fn what_a_listener_would_remark() {
    let voice = |syllables, speaking_s, range_st, pauses_s| SpeechMeasures {
        pitch: Some(Pitch { median_hz: 150.0, range_st, movement_st_per_s: 10.0, voiced: 0.5 }),
        syllables,
        speaking_s,
        pauses: Pauses { count: 1, total_s: pauses_s, longest_s: pauses_s },
        ..SpeechMeasures::default()
    };
    for (voice, words) in [
        (voice(20, 4.0, 9.0, 0.5), vec![]),
        (voice(10, 4.0, 9.0, 0.5), vec!["slow"]),
        (voice(30, 4.0, 9.0, 0.5), vec!["fast"]),
        (voice(50, 10.0, 9.0, 0.1), vec!["breathless"]),
        (voice(20, 4.0, 3.0, 0.5), vec!["flat"]),
        (voice(70, 10.0, 16.0, 0.0), vec!["fast", "breathless", "lively"]),
        (SpeechMeasures::default(), vec![]),
    ] {
        assert_eq!(voice.in_words(), words, "{voice:?}");
    }
}

#[test]
fn what_is_stored_comes_back_and_what_is_not_there_is_left_out() {
    let full = SpeechMeasures {
        faults: Faults { clicks: Some(Fault { at_s: 0.5, count: 2 }), cut_end: true, ..Faults::default() },
        ..spoken(&phrases(&[4, 4], 0.5, 120.0))
    };
    for speech in [full, SpeechMeasures::default()] {
        let json = serde_json::to_string(&speech).unwrap();
        assert_eq!(serde_json::from_str::<SpeechMeasures>(&json).unwrap(), speech);
    }
    let bare = serde_json::to_value(SpeechMeasures::default()).unwrap();
    assert!(bare.get("pitch").is_none() && bare["faults"].as_object().unwrap().is_empty(), "{bare}");
    assert_eq!(serde_json::from_str::<SpeechMeasures>("{}").unwrap(), SpeechMeasures::default());
}

#[test]
fn every_fault_has_a_name_and_a_measure() {
    let all = Faults {
        clicks: Some(Fault { at_s: 0.1, count: 1 }),
        dropouts: Some(Fault { at_s: 0.1, count: 1 }),
        hum_dbfs: Some(-50.0),
        cut_beginning: true,
        cut_end: true,
        repeated: Some(Fault { at_s: 0.1, count: 1 }),
        long_pauses: Some(Fault { at_s: 0.1, count: 1 }),
        not_speech: true,
        other_rate_hz: Some(8_000),
        other_container: true,
        silent: true,
    };
    assert_eq!(all.names().len(), 11);
    assert!(Faults::default().names().is_empty());
    let faults = find("faulty_clips").unwrap().fact;
    let of_faults = ALL.iter().filter(|measure| measure.fact.id == faults.id);
    // One for each kind, both cuts together, and one for any.
    assert_eq!(of_faults.count(), faults.width + 1);
    assert!(
        ALL.iter()
            .filter(|m| m.id.starts_with("pitch_"))
            .all(|m| m.tasks == [Task::Speak] && m.fact.of == Trials::Answered)
    );
}
