//! A corpus at a glance: four distributions, and how its minutes fall on its groups.

use plotters::prelude::*;
use plotters::style::text_anchor::{HPos, VPos};

use super::{
    Area, Drawn, GRID, INK, QUIET, Scale, anchored, colour, draw, estimated_width, line, round_step, shortened, text,
};

/// One distribution.
#[derive(Debug, Clone, PartialEq)]
pub struct Distribution {
    /// What is distributed, with its unit.
    pub title: String,
    /// The values, one a clip.
    pub values: Vec<f64>,
}

/// One group of clips.
#[derive(Debug, Clone, PartialEq)]
pub struct GroupBar {
    /// What groups them, such as `channel`.
    pub by: String,
    /// The value shared.
    pub value: String,
    /// Clips in it.
    pub clips: u64,
    /// Minutes of audio in it.
    pub minutes: f64,
}

const WIDTH: i32 = 1100;
const PANEL: (i32, i32) = (330, 150);
const BINS: usize = 16;

/// Draws the picture; its height follows the groups.
#[must_use]
pub fn corpus_svg(title: &str, subtitle: &str, distributions: &[Distribution], groups: &[GroupBar]) -> String {
    let sections = groups.chunk_by(|a, b| a.by == b.by).count() as i32;
    let rows = groups.len() as i32;
    let height = (120 + (rows * 21 + sections * 34).max(2 * (PANEL.1 + 86))).max(480);
    draw(WIDTH as u32, height as u32, |area| {
        text(area, title, (24, 28), anchored(18, INK, HPos::Left, VPos::Center))?;
        text(area, subtitle, (24, 52), anchored(13, QUIET, HPos::Left, VPos::Center))?;
        for (at, distribution) in distributions.iter().take(4).enumerate() {
            let corner = (24 + (at as i32 % 2) * (PANEL.0 + 28), 84 + (at as i32 / 2) * (PANEL.1 + 86));
            histogram(area, distribution, corner)?;
        }
        group_bars(area, groups, (24 + 2 * (PANEL.0 + 28) + 6, 84))
    })
}

fn histogram(area: &Area<'_>, distribution: &Distribution, (left, top): (i32, i32)) -> Drawn {
    text(area, &distribution.title, (left, top + 8), anchored(14, INK, HPos::Left, VPos::Center))?;
    let (floor, ceiling) = (top + 28 + PANEL.1, top + 34);
    let values: Vec<f64> = distribution.values.iter().copied().filter(|v| v.is_finite()).collect();
    let low = values.iter().copied().fold(f64::INFINITY, f64::min);
    let high = values.iter().copied().fold(f64::NEG_INFINITY, f64::max);
    if values.is_empty() {
        return text(
            area,
            "no clip tells",
            (left, (floor + ceiling) / 2),
            anchored(13, QUIET, HPos::Left, VPos::Center),
        );
    }
    let step = round_step(((high - low) / BINS as f64).max(1e-6));
    let first = (low / step).floor();
    let bins = ((high / step).floor() - first) as usize + 1;
    let mut counts = vec![0_u32; bins];
    values.iter().for_each(|v| counts[(((v / step).floor() - first) as usize).min(bins - 1)] += 1);
    let most = counts.iter().copied().max().unwrap_or(1);
    let x = Scale { low: first * step, high: (first + bins as f64) * step, from: left, to: left + PANEL.0 };
    let y = Scale { low: 0.0, high: f64::from(most), from: floor, to: ceiling };
    for (at, count) in counts.iter().enumerate() {
        let (from, to) = (x.at((first + at as f64) * step), x.at((first + at as f64 + 1.0) * step));
        let bar = [(from + 1, y.at(f64::from(*count))), ((to - 1).max(from + 2), floor)];
        area.draw(&Rectangle::new(bar, colour(0).filled())).map_err(drop)?;
    }
    line(area, (left, floor), (left + PANEL.0, floor), QUIET)?;
    text(
        area,
        &format!("{most} clips"),
        (left + PANEL.0, ceiling - 2),
        anchored(12, QUIET, HPos::Right, VPos::Bottom),
    )?;
    line(area, (left, ceiling), (left + PANEL.0, ceiling), GRID)?;
    for share in 0..=4 {
        let at = x.low + (x.high - x.low) * f64::from(share) / 4.0;
        let places = usize::from(x.high - x.low < 8.0);
        let anchor = [HPos::Left, HPos::Center, HPos::Center, HPos::Center, HPos::Right][share as usize];
        text(area, &format!("{at:.places$}"), (x.at(at), floor + 14), anchored(12, QUIET, anchor, VPos::Center))?;
    }
    Ok(())
}

fn group_bars(area: &Area<'_>, groups: &[GroupBar], (left, mut y): (i32, i32)) -> Drawn {
    let (names, end) = (110, WIDTH - 24);
    let most = groups.iter().map(|group| group.minutes).filter(|m| m.is_finite()).fold(1e-9, f64::max);
    let x = Scale { low: 0.0, high: most, from: left + names, to: end - 96 };
    for section in groups.chunk_by(|a, b| a.by == b.by) {
        text(area, &section[0].by, (left, y + 8), anchored(14, INK, HPos::Left, VPos::Center))?;
        y += 22;
        for group in section {
            let name = shortened(&group.value, 15);
            text(area, &name, (left, y + 8), anchored(12, INK, HPos::Left, VPos::Center))?;
            let bar = [(x.from, y + 2), (x.at(group.minutes).max(x.from + 1), y + 15)];
            area.draw(&Rectangle::new(bar, colour(2).filled())).map_err(drop)?;
            let size = format!("{:.1} min, {}", group.minutes, group.clips);
            debug_assert!(estimated_width(&size, 12) < 200);
            text(area, &size, (x.at(group.minutes) + 6, y + 8), anchored(12, QUIET, HPos::Left, VPos::Center))?;
            y += 21;
        }
        y += 12;
    }
    Ok(())
}
