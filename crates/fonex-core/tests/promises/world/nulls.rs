//! Variants with equal rates and different error shapes, which provoke false claims; and power beside the paired t-test, which
//! makes false claims in many of these cases.

use fonex_core::measures::Sample;
use fonex_core::stats::{Stream, UnitKind, stream, student_tail};
use fonex_core::verdict::{ALPHA, DrawnUnit, Slices, answer};
use rand::RngExt;

use super::{Shape, add, claims, drawn, pair, question, question_about, sampled, share, wrong};

/// How often one call about two variants of the same rate claims a difference in this measure.
pub fn unequal_shapes(measure: &str, shapes: [Shape; 2], clips: u32, sims: u64) -> f64 {
    assert!((shapes[0].truth() - shapes[1].truth()).abs() < 1e-9, "the rates are the same");
    let named = format!("{shapes:?} {clips}");
    share(sims, |sim| {
        let mut random = stream(sim, &["nulls", &named]);
        claims(&answer(&[question_about(measure, &pair(&mut random, clips, shapes), DrawnUnit::Clip)], Slices::Half))
    })
}

/// The power of a verdict, and of a paired t-test of the clips' rates.
pub fn told_by_both(shapes: [Shape; 2], clips: u32, sims: u64) -> [f64; 2] {
    let named = format!("{shapes:?} {clips}");
    let mut told = [0.0; 2];
    for sim in 0..sims {
        let mut random = stream(sim, &["power", &named]);
        let drawn = drawn(&mut random, clips, shapes);
        told[0] += f64::from(u8::from(claims(&answer(&[question(&sampled(&drawn), DrawnUnit::Clip)], Slices::Half))));
        told[1] += f64::from(u8::from(paired_t(&drawn) < ALPHA));
    }
    told.map(|told| told / sims as f64)
}

/// The p value of Student's paired test of the difference of two ratios.
fn paired_t(drawn: &[[f64; 3]]) -> f64 {
    let clips = drawn.len() as f64;
    let [first, second, words] = [0, 1, 2].map(|at| drawn.iter().map(|clip| clip[at]).sum::<f64>());
    let difference = (second - first) / words;
    let off = |[a, b, w]: &[f64; 3]| (b - a - difference * w).powi(2);
    let error = (drawn.iter().map(off).sum::<f64>() * clips / (clips - 1.0)).sqrt() / words;
    if error > 0.0 { student_tail(difference / error, clips - 1.0) } else { 1.0 }
}

/// The clips that a verdict and a paired t-test need for 80 % power, interpolated linearly on a grid with steps of 8 %.
pub fn clips_for_80_percent(shapes: [Shape; 2], sims: u64) -> [f64; 2] {
    let mut needed = [None; 2];
    let (mut clips, mut before) = (20.0_f64, [0.0; 2]);
    while needed.iter().any(Option::is_none) && clips < 3_000.0 {
        let next = clips * 1.08;
        let told = told_by_both(shapes, next as u32, sims);
        for at in 0..2 {
            if needed[at].is_none() && told[at] >= 0.8 {
                let share = (0.8 - before[at]) / (told[at] - before[at]);
                needed[at] = Some(clips + (next - clips) * share.clamp(0.0, 1.0));
            }
        }
        (clips, before) = (next, told);
    }
    needed.map(|clips| clips.unwrap_or(f64::INFINITY))
}

/// Speakers of ten clips, of whom one in so many fails as a whole with one variant, while the other scatters its errors at the
/// same rate.
#[derive(Debug, Clone, Copy)]
pub struct FailingSpeakers {
    /// One in so many fails.
    pub one_in: f64,
    /// The rate with which it does.
    pub at: f64,
    /// How many speakers there are.
    pub speakers: u32,
}

impl FailingSpeakers {
    /// How often a call claims a difference.
    pub fn claimed(self, sims: u64) -> f64 {
        const ELSE: f64 = 0.05;
        let Self { one_in, at, speakers } = self;
        let same = ELSE + (at - ELSE) / one_in;
        share(sims, |sim| {
            let mut random: Stream = stream(sim, &["failing speakers", &format!("{self:?}")]);
            let mut samples = [0, 1].map(|_| Sample::new(4, UnitKind::Group));
            for speaker in 0..speakers {
                let fails = random.random::<f64>() < one_in.recip();
                for _ in 0..10 {
                    for (sample, rate) in samples.iter_mut().zip([same, if fails { at } else { ELSE }]) {
                        let errors = wrong(&mut random, rate, 10);
                        add(sample, speaker, [errors, 10.0]);
                    }
                }
            }
            claims(&answer(&[question(&samples, DrawnUnit::Speaker)], Slices::Half))
        })
    }
}
