//! The area under the receiver operating characteristic, with words clustered in units.

use super::linear::Linear;
use crate::measures::Sample;

/// Each row's placement among the rows of the other kind, by unit (Obuchowski, "Nonparametric analysis of clustered ROC curve
/// data", 1997). Ties count half. Cost is that of sorting the rows.
pub(super) fn linear(sample: &Sample) -> Option<Linear> {
    let mut rows: Vec<(f64, bool, f64, u32)> = Vec::new();
    sample.each_row(|clip, row, weight| rows.push((row[0], row[1] > 0.5, weight, sample.unit[clip])));
    rows.sort_by(|a, b| a.0.total_cmp(&b.0));
    let all = |kind: bool| rows.iter().filter(|row| row.1 == kind).map(|row| row.2).sum::<f64>();
    let (right, wrong) = (all(true), all(false));
    if right <= 0.0 || wrong <= 0.0 {
        return None;
    }
    let units = sample.unit.iter().max().map_or(0, |unit| *unit as usize + 1);
    let mut placed = vec![None::<[f64; 4]>; units];
    let (mut right_below, mut wrong_below, mut sum) = (0.0, 0.0, 0.0);
    for tied in rows.chunk_by(|a, b| a.0 == b.0) {
        let here = |kind: bool| tied.iter().filter(|row| row.1 == kind).map(|row| row.2).sum::<f64>();
        let (right_here, wrong_here) = (here(true), here(false));
        for (_, is_right, weight, unit) in tied {
            let own = placed[*unit as usize].get_or_insert([0.0; 4]);
            if *is_right {
                let place = (wrong_below + wrong_here / 2.0) / wrong;
                own[0] += weight * place;
                own[1] += weight;
                sum += weight * place;
            } else {
                own[2] += weight * (1.0 - (right_below + right_here / 2.0) / right);
                own[3] += weight;
            }
        }
        right_below += right_here;
        wrong_below += wrong_here;
    }
    let estimate = sum / right;
    let count = placed.iter().flatten().count() as f64;
    let influence = |[r, nr, w, nw]: [f64; 4]| count * ((r - estimate * nr) / right + (w - estimate * nw) / wrong);
    Some(Linear::new(estimate, placed.into_iter().map(|own| own.map(influence)).collect(), (0.0, 1.0)))
}
