//! Faults of the audio planted in speech, and nothing found where nothing is. `benches/speech.rs` is the long form.
#![allow(clippy::unwrap_used, reason = "a test that fails here says where")]

mod world;

use std::f64::consts::TAU;

use fonex_core::speech::Faults;
use fonex_core::stats::stream;
use rand::RngExt;

use world::{RATE, level_db, loud_place, measured, spoken};

fn speech(seed: u64) -> Vec<f32> {
    spoken(&mut stream(seed, &["faults"]), 12).0
}

fn faults(samples: Vec<f32>) -> Faults {
    measured(samples).faults
}

#[test]
fn clean_speech_has_no_fault() {
    for seed in 0..6 {
        assert_eq!(faults(speech(seed)), Faults::default(), "{seed}");
    }
}

#[test]
fn planted_clicks_are_counted_where_they_are() {
    for seed in 0..3 {
        let mut samples = speech(seed);
        let places = [RATE / 10, loud_place(&samples, 2 * RATE), samples.len() - RATE / 8];
        for (at, height) in places.iter().zip([0.05, 0.9, 0.1]) {
            samples[*at] += height;
        }
        let clicks = faults(samples).clicks.unwrap_or_else(|| panic!("{seed}"));
        assert_eq!(clicks.count, 3, "{seed}");
        assert!((clicks.at_s - 0.1).abs() < 0.003, "{clicks:?}");
    }
}

#[test]
fn planted_dropouts_are_counted_where_they_are() {
    for seed in 0..3 {
        let mut samples = speech(seed);
        let first = loud_place(&samples, RATE);
        let second = loud_place(&samples, first + RATE);
        for (at, length_s) in [(first, 0.01), (second, 0.02)] {
            let length = (length_s * RATE as f64) as usize;
            samples[at - length / 2..at + length / 2].fill(0.0);
        }
        let Faults { dropouts, .. } = faults(samples);
        let dropouts = dropouts.unwrap_or_else(|| panic!("{seed}"));
        assert!(
            dropouts.count >= 1 && (dropouts.at_s - first as f64 / RATE as f64).abs() < 0.02,
            "{seed}: {dropouts:?}"
        );
    }
}

#[test]
fn planted_hum_is_found_at_its_level_and_none_where_a_voice_is_as_low() {
    for (mains, seed) in [(50.0, 1), (60.0, 2)] {
        let mut samples = speech(seed);
        for (i, sample) in samples.iter_mut().enumerate() {
            let t = i as f64 / RATE as f64;
            let hum: f64 =
                [(1.0, 0.004), (2.0, 0.002), (3.0, 0.001)].iter().map(|(n, a)| a * (TAU * mains * n * t).sin()).sum();
            *sample += hum as f32;
        }
        let level = faults(samples).hum_dbfs.unwrap_or_else(|| panic!("{mains}"));
        // An amplitude of 0.004 is -51 dBFS.
        assert!((level + 51.0).abs() < 1.5, "{level}");
    }
}

#[test]
fn cut_ends_long_pauses_and_what_is_no_speech() {
    let samples = speech(5);
    let middle = loud_place(&samples, RATE);
    let cut = faults(samples[middle..].to_vec());
    assert!(cut.cut_beginning && !cut.cut_end, "{cut:?}");
    let cut = faults(samples[..loud_place(&samples, 3 * RATE)].to_vec());
    assert!(cut.cut_end && !cut.cut_beginning, "{cut:?}");

    let mut random = stream(1, &["pause"]);
    let mut paused = samples.clone();
    let quiet = samples[RATE..].windows(600).position(|window| level_db(window) < -60.0).unwrap() + RATE + 300;
    let silence: Vec<f32> = (0..RATE * 5 / 2).map(|_| 4e-4 * (random.random::<f32>() - 0.5)).collect();
    paused.splice(quiet..quiet, silence);
    let long = faults(paused).long_pauses.unwrap();
    assert!((long.at_s - quiet as f64 / RATE as f64).abs() < 0.2, "{long:?}");

    let hiss = fonex_core::audio::noise(fonex_core::audio::NoiseColour::White, 3 * RATE, RATE as u32, 3);
    assert!(faults(hiss).not_speech);
    for nothing in [vec![0.0; RATE], Vec::new()] {
        assert_eq!(faults(nothing), Faults::default());
    }
}
