//! The area under the receiver operating characteristic, with words clustered in units.

use super::linear::Linear;
use crate::measures::Sample;

/// A word's confidence, its clip, and whether it is right: small, since there may be millions.
struct Row {
    value: f64,
    clip: u32,
    right: bool,
}

/// Each row's placement among the rows of the other kind, by unit (Obuchowski, "Nonparametric analysis of clustered ROC curve
/// data", 1997). Ties count half. Cost is that of sorting the rows.
pub(super) fn linear(sample: &Sample) -> Option<Linear> {
    let mut rows: Vec<Row> = Vec::with_capacity(sample.own_rows());
    sample.each_row(|clip, row, _| rows.push(Row { value: row[0], clip: clip as u32, right: row[1] > 0.5 }));
    let weight = |row: &Row| sample.weight_of(row.clip as usize);
    rows.sort_unstable_by(|a, b| a.value.total_cmp(&b.value));
    let all = |kind: bool| rows.iter().filter(|row| row.right == kind).map(weight).sum::<f64>();
    let (right, wrong) = (all(true), all(false));
    if right <= 0.0 || wrong <= 0.0 {
        return None;
    }
    let units = sample.unit.iter().max().map_or(0, |unit| *unit as usize + 1);
    let mut placed = vec![None::<[f64; 4]>; units];
    let (mut right_below, mut wrong_below, mut sum) = (0.0, 0.0, 0.0);
    for tied in rows.chunk_by(|a, b| a.value == b.value) {
        let here = |kind: bool| tied.iter().filter(|row| row.right == kind).map(weight).sum::<f64>();
        let (right_here, wrong_here) = (here(true), here(false));
        for row in tied {
            let (unit, weight) = (sample.unit[row.clip as usize], weight(row));
            let own = placed[unit as usize].get_or_insert([0.0; 4]);
            if row.right {
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
