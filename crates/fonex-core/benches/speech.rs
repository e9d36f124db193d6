//! How often the detectors of audio faults find what was planted, how often they find what is not there, how near pitch and syllables come,
//! and how fast it all is. `cargo bench -p fonex-core --bench speech`; `-- N` sets the recordings of each case (40 by default).
#![allow(clippy::print_stdout, reason = "a program of its own, which tells what it measured")]

#[path = "../tests/faults/world.rs"]
mod world;

use std::f64::consts::TAU;
use std::hint::black_box;
use std::time::Instant;

use fonex_core::audio::{Audio, NoiseColour, add_noise, measure, noise};
use fonex_core::speech::{Faults, measure_speech};
use fonex_core::stats::{Stream, stream};
use rand::RngExt;

use world::{RATE, level_db, loud_place, measured, spoken};

/// Whether it was found.
type Found = fn(&Faults) -> bool;
/// Plants a fault.
type Plant = fn(&mut Vec<f32>, &mut Stream);

fn main() {
    let count = std::env::args().filter_map(|word| word.parse().ok()).next().unwrap_or(40_u64);
    let faults: [(&str, Plant, Found); 8] = [
        ("a click of -26 dBFS in silence", |s, _| s[RATE / 10] += 0.05, |f| f.clicks.is_some()),
        (
            "a click of -1 dBFS in a vowel",
            |s, _| {
                let at = loud_place(s, RATE);
                s[at] += 0.9;
            },
            |f| f.clicks.is_some(),
        ),
        (
            "a gap of 8 to 60 ms in a vowel",
            |s, random| {
                let at = loud_place(s, RATE);
                let length = random.random_range(RATE / 125..RATE / 16);
                s[at..at + length].fill(0.0);
            },
            |f| f.dropouts.is_some(),
        ),
        (
            "a hum of -57 to -51 dBFS",
            |s, random| {
                let mains = if random.random() { 50.0 } else { 60.0 };
                let loud = random.random_range(0.002..0.004);
                for (i, sample) in s.iter_mut().enumerate() {
                    let t = TAU * mains * i as f64 / RATE as f64;
                    *sample += (loud * (t.sin() + 0.5 * (2.0 * t).sin() + 0.3 * (3.0 * t).sin())) as f32;
                }
            },
            |f| f.hum_dbfs.is_some(),
        ),
        (
            "cut in a vowel at its beginning",
            |s, _| {
                let at = loud_place(s, RATE);
                s.drain(..at);
            },
            |f| f.cut_beginning,
        ),
        (
            "cut in a vowel at its end",
            |s, _| {
                let at = loud_place(s, 2 * RATE);
                s.truncate(at);
            },
            |f| f.cut_end,
        ),
        (
            "a stretch of 0.5 to 1 s played again",
            |s, random| {
                let (from, length) = (RATE + random.random_range(0..RATE), random.random_range(RATE / 2..RATE));
                let again = s[from..from + length].to_vec();
                s.splice(from + length..from + length, again);
            },
            |f| f.repeated.is_some(),
        ),
        (
            "a pause of 2.5 s inside",
            |s, random| {
                let quiet =
                    s[RATE..].windows(600).position(|window| level_db(window) < -60.0).unwrap_or(0) + RATE + 300;
                let silence: Vec<f32> = (0..RATE * 5 / 2).map(|_| 4e-4 * (random.random::<f32>() - 0.5)).collect();
                s.splice(quiet..quiet, silence);
            },
            |f| f.long_pauses.is_some(),
        ),
    ];
    println!("{count} recordings of each\n\n| planted | found | found with others beside it |\n|---|---|---|");
    for (name, plant, is_found) in faults {
        let (mut found, mut others) = (0, 0);
        for seed in 0..count {
            let mut random = stream(seed, &[name]);
            let (mut samples, _) = spoken(&mut random, 12);
            plant(&mut samples, &mut random);
            let faults = measured(samples).faults;
            found += u64::from(is_found(&faults));
            others += u64::from(faults.names().len() > usize::from(is_found(&faults)));
        }
        println!("| {name} | {found} | {others} |");
    }
    let (mut alarms, mut off) = (0, Vec::new());
    for seed in 0..count * 5 {
        let mut random = stream(seed, &["clean"]);
        let (mut samples, syllables) = spoken(&mut random, 12);
        if seed % 2 == 1 {
            let mut audio = Audio { rate_hz: RATE as u32, samples };
            let hiss = noise(NoiseColour::Pink, audio.samples.len(), RATE as u32, seed);
            add_noise(&mut audio, &hiss, 25.0);
            samples = audio.samples;
        }
        let speech = measured(samples);
        alarms += u64::from(!speech.faults.names().is_empty());
        off.push(f64::from(speech.syllables) / f64::from(syllables) - 1.0);
    }
    println!("| nothing, half of them in noise of 25 dB | – | {alarms} of {} |", count * 5);
    let mean = off.iter().map(|off| off.abs()).sum::<f64>() / off.len() as f64;
    println!("\nSyllables: off by {:.1} % of those there are, on average.", mean * 100.0);

    let (samples, _) = spoken(&mut stream(1, &["speed"]), 150);
    let audio = Audio { rate_hz: RATE as u32, samples };
    let measures = measure(&audio);
    let mut times: Vec<f64> = (0..7)
        .map(|_| {
            let began = Instant::now();
            black_box(measure_speech(black_box(&audio), &measures));
            audio.duration_s() / began.elapsed().as_secs_f64()
        })
        .collect();
    times.sort_by(f64::total_cmp);
    println!(
        "Speed: {:.0} times real time on one core, {:.0} to {:.0}, over {:.0} s of sound.",
        times[3],
        times[0],
        times[6],
        audio.duration_s()
    );
}
