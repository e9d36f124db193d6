//! Estimators other than rates, and offsets that wander.

use fonex_core::measures::{self, Sample, estimate};
use fonex_core::stats::{Stream, UnitKind, stream};
use fonex_core::timing::{ClipOffsets, WordOffset, jumps};
use rand::RngExt;

use super::{share, wrong};

/// How often the intervals of other estimators hold, by the id of a measure that uses each.
pub fn other_intervals(sims: u64) -> Vec<(&'static str, f64)> {
    const CLIPS: u32 = 40;
    let held = |id: &str, width: usize, truth: f64, draw: &dyn Fn(&mut Stream) -> Vec<f64>| {
        let estimator = measures::find(id).unwrap().estimator;
        share(sims, |sim| {
            let mut random = stream(sim, &[id]);
            let mut sample = Sample::new(width, UnitKind::Clip);
            for clip in 0..CLIPS {
                let rows = draw(&mut random);
                sample.add(clip, [rows.as_slice()].into_iter());
            }
            estimate(estimator, &sample).and_then(|figure| figure.interval).is_some_and(|i| i.holds(truth))
        })
    };
    // Confidences from 0.5 to 1, right as often as they say less `lies`.
    let words = |lies: f64| {
        move |random: &mut Stream| -> Vec<f64> {
            (0..10)
                .flat_map(|_| {
                    let confidence = 0.5 + random.random::<f64>() / 2.0;
                    let right = random.random::<f64>() < confidence - lies;
                    [confidence, f64::from(u8::from(right))]
                })
                .collect()
        }
    };
    let area = area_of_honest_words();
    vec![
        ("calibration_error", held("calibration_error", 2, 0.1, &words(0.1))),
        ("roc_area", held("roc_area", 2, area, &words(0.0))),
        (
            "term_recall",
            held("term_recall", 3, 0.8, &|random| {
                let found = wrong(random, 0.8, 3);
                vec![found, 3.0 - found, 0.0]
            }),
        ),
        (
            "punctuation_f1",
            held("punctuation_f1", 3, 1.6 / (1.6 + 0.2 + 0.2), &|random| {
                let found = wrong(random, 0.8, 4);
                vec![found, 4.0 - found, wrong(random, 0.2, 4)]
            }),
        ),
        (
            "wil",
            held("wil", 4, 1.0 - 0.9 * 0.9, &|random| {
                let errors = wrong(random, 0.1, 10);
                vec![10.0 - errors, errors, 0.0, 0.0]
            }),
        ),
        ("latency_p50", held("latency_p50", 1, 100.0, &|random| vec![100.0 * (random.random::<f64>() + 0.5)])),
    ]
}

/// The area for confidences evenly from 0.5 to 1 that are right as often as they say: by integration.
fn area_of_honest_words() -> f64 {
    const STEPS: usize = 2_000;
    let at = |i: usize| 0.5 + (i as f64 + 0.5) / STEPS as f64 / 2.0;
    let (right, wrong): (f64, f64) = (0..STEPS).fold((0.0, 0.0), |(r, w), i| (r + at(i), w + 1.0 - at(i)));
    let (mut below, mut sum) = (0.0, 0.0);
    for i in 0..STEPS {
        sum += at(i) * (below + (1.0 - at(i)) / 2.0);
        below += 1.0 - at(i);
    }
    sum / (right * wrong)
}

/// How often the interval of no drift holds along recordings whose offset wanders, and how often a jump is told in them.
pub fn wander(sims: u64) -> [f64; 2] {
    let estimator = measures::find("drift").unwrap().estimator;
    let recording = |sim: u64| -> ClipOffsets {
        let mut random = stream(sim, &["wander"]);
        let (mut wander, keep) = (0.0, (-1.0_f64 / 100.0).exp());
        let words = (0..1_000).map(|i| {
            let step = (0..6).map(|_| random.random::<f64>() - 0.5).sum::<f64>() * std::f64::consts::SQRT_2;
            wander = wander * keep + 60.0 * (1.0 - keep * keep).sqrt() * step;
            let start_ms = wander + (random.random::<f64>() - 0.5) * 40.0;
            WordOffset { at_s: f64::from(i) * 0.4, start_ms, end_ms: None }
        });
        ClipOffsets { words: words.collect(), ..ClipOffsets::default() }
    };
    let held = share(sims, |sim| {
        let rows: Vec<f64> = recording(sim).words.iter().flat_map(|word| [word.at_s, word.start_ms]).collect();
        let mut sample = Sample::new(2, UnitKind::Clip);
        sample.add(0, [rows.as_slice()].into_iter());
        estimate(estimator, &sample).unwrap().interval.unwrap().holds(0.0)
    });
    [held, share(sims, |sim| !jumps(&recording(sim).words).is_empty())]
}
