//! Gates: how often builds of known worth pass and fail.

use fonex_core::measures::Better;
use fonex_core::measures::{Sample, difference};
use fonex_core::stats::{UnitKind, stream};
use fonex_core::verdict::{Bound, GateLevels, Judgement, Kept, judge};

use rand::RngExt;

use super::{Shape, add, share, wer, wrong};

/// Shares of gates that passed and failed; the others were undecided.
#[derive(Debug, Clone, Copy, Default)]
pub struct Gated {
    pub passed: f64,
    pub failed: f64,
    /// Series of builds in which any failed.
    pub series_failed: f64,
    /// Series of builds in which any passed.
    pub series_passed: f64,
}

/// Builds held against one accepted baseline, by so many limits of the same margin on clips of their own. A gate passes when
/// all limits do and fails when one does.
pub fn gates(accepted: Shape, build: Shape, margin: f64, clips: u32, limits: usize, builds: u32, sims: u64) -> Gated {
    let mut all = Gated::default();
    for sim in 0..sims {
        let draw = |shape: Shape, name: String| {
            let mut random = stream(sim, &["gate", &name]);
            let mut sample = Sample::new(4, UnitKind::Clip);
            (0..clips).for_each(|clip| add(&mut sample, clip, shape.draw(&mut random)));
            sample
        };
        let baselines: Vec<Sample> = (0..limits).map(|limit| draw(accepted, format!("accepted {limit}"))).collect();
        let verdicts: Vec<Kept> = (0..builds)
            .map(|number| {
                let limits = baselines.iter().enumerate();
                let kept = limits.map(|(limit, baseline)| {
                    held(baseline, &draw(build, format!("build {number} {limit}")), margin, baselines.len()).kept
                });
                let kept: Vec<Kept> = kept.collect();
                match kept.iter().find(|kept| **kept == Kept::Fail) {
                    Some(fail) => *fail,
                    None => kept.iter().find(|kept| **kept == Kept::Undecided).copied().unwrap_or(Kept::Pass),
                }
            })
            .collect();
        let share = |wanted: Kept| verdicts.iter().filter(|kept| **kept == wanted).count() as f64 / f64::from(builds);
        all.passed += share(Kept::Pass) / sims as f64;
        all.failed += share(Kept::Fail) / sims as f64;
        all.series_passed += f64::from(u8::from(share(Kept::Pass) > 0.0)) / sims as f64;
        all.series_failed += f64::from(u8::from(share(Kept::Fail) > 0.0)) / sims as f64;
    }
    all
}

/// How often a build passes of which a share of the answers changed, each worse by so much of its words on average; the others
/// are those of the baseline.
pub fn little_changed(changed: f64, harm: f64, margin: f64, clips: u32, sims: u64) -> f64 {
    share(sims, |sim| {
        let mut random = stream(sim, &["little changed", &format!("{changed} {harm} {clips}")]);
        let mut samples = [0, 1].map(|_| Sample::new(4, UnitKind::Clip));
        for clip in 0..clips {
            let before = wrong(&mut random, 0.08, 10);
            let is_changed = random.random::<f64>() < changed;
            let after = if is_changed { wrong(&mut random, 0.08 + harm, 10) } else { before };
            add(&mut samples[0], clip, [before, 10.0]);
            add(&mut samples[1], clip, [after, 10.0]);
        }
        held(&samples[0], &samples[1], margin, 1).kept == Kept::Pass
    })
}

/// Of unchanged builds with a difference near 0 that `clips` clips do not decide: how often the gate passes with the number of
/// clips that it asks for. This share of the clips is answered anew, with the same chance of errors.
pub fn decided_with_more(changed: f64, clips: u32, sims: u64) -> (f64, usize) {
    const MARGIN: f64 = 0.01;
    let draw = |sim: u64, clips: u32, name: &str| {
        let mut random = stream(sim, &["gate more", name, &format!("{changed}")]);
        let mut samples = [0, 1].map(|_| Sample::new(4, UnitKind::Clip));
        for clip in 0..clips {
            let before = wrong(&mut random, 0.08, 10);
            let after = if random.random::<f64>() < changed { wrong(&mut random, 0.08, 10) } else { before };
            add(&mut samples[0], clip, [before, 10.0]);
            add(&mut samples[1], clip, [after, 10.0]);
        }
        samples
    };
    let asked: Vec<u32> = (0..sims)
        .filter_map(|sim| {
            let [baseline, build] = draw(sim, clips, "first");
            let near = difference(wer(), &baseline, &build)?.difference.abs() < 0.2 * MARGIN;
            let times = held(&baseline, &build, MARGIN, 1).more_times.filter(|_| near)?;
            Some((f64::from(clips) * times).ceil() as u32)
        })
        .collect();
    let passed = (0..).zip(&asked).filter(|(sim, clips)| {
        let [baseline, build] = draw(*sim, **clips, "again");
        held(&baseline, &build, MARGIN, 1).kept == Kept::Pass
    });
    (passed.count() as f64 / asked.len().max(1) as f64, asked.len())
}

fn held(baseline: &Sample, build: &Sample, margin: f64, limits: usize) -> Judgement {
    let off = difference(wer(), baseline, build).unwrap();
    let kept_by = Bound::WorseByAtMost(margin).kept_by(Better::Lower);
    judge(&off, kept_by, GateLevels { certainty: 0.95, limits })
}
