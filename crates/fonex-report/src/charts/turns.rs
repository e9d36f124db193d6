//! Turns of a conversation as stacked bars: which link takes which part of the wait.

use plotters::prelude::*;
use plotters::style::text_anchor::{HPos, VPos};

use super::{GRID, INK, QUIET, Scale, anchored, colour, draw, legend, line, shortened, text};

/// One turn.
#[derive(Debug, Clone, PartialEq)]
pub struct TurnBar {
    /// Its name.
    pub name: String,
    /// Milliseconds of each link, in their order.
    pub parts_ms: [f64; 3],
    /// Milliseconds in all if the links overlapped; drawn as a mark.
    pub overlapped_ms: f64,
}

const WIDTH: u32 = 960;
const LEFT: i32 = 170;
const RIGHT: i32 = 880;
const TOP: i32 = 84;
const ROW: i32 = 26;
/// Bars drawn; further ones would be too thin to read.
const MOST_BARS: usize = 30;

/// Draws the bars, in the order given.
#[must_use]
pub fn turns_svg(title: &str, links: &[String; 3], bars: &[TurnBar]) -> String {
    let shown = &bars[..bars.len().min(MOST_BARS)];
    let bottom = TOP + ROW * shown.len().max(1) as i32;
    draw(WIDTH, (bottom + 64) as u32, |area| {
        text(area, title, (24, 26), anchored(17, INK, HPos::Left, VPos::Center))?;
        let names: Vec<&str> = links.iter().map(String::as_str).collect();
        legend(area, &names, (30, 54))?;
        let sums = shown.iter().map(|bar| bar.parts_ms.iter().sum::<f64>());
        let most = sums.filter(|sum| sum.is_finite()).fold(0.0, f64::max);
        let (x, ticks) = Scale::from_zero(most, LEFT, RIGHT);
        for tick in ticks {
            line(area, (x.at(tick), TOP), (x.at(tick), bottom), GRID)?;
            let label = if tick >= 1000.0 { format!("{} s", tick / 1000.0) } else { format!("{tick} ms") };
            text(area, &label, (x.at(tick), bottom + 14), anchored(13, QUIET, HPos::Center, VPos::Center))?;
        }
        for (row, bar) in shown.iter().enumerate() {
            let y = TOP + ROW * row as i32 + ROW / 2;
            text(area, &shortened(&bar.name, 20), (LEFT - 8, y), anchored(13, INK, HPos::Right, VPos::Center))?;
            let mut from = 0.0;
            for (link, part) in bar.parts_ms.iter().enumerate() {
                let (left, right) = (x.at(from), x.at(from + part));
                let shape = Rectangle::new([(left, y - 8), (right, y + 8)], colour(link).filled());
                area.draw(&shape).map_err(drop)?;
                // A thin white edge parts neighbours where colours look alike.
                line(area, (right, y - 8), (right, y + 8), WHITE)?;
                from += part;
            }
            let all = format!("{:.0} ms", bar.parts_ms.iter().sum::<f64>());
            text(area, &all, (x.at(from) + 6, y), anchored(12, INK, HPos::Left, VPos::Center))?;
            let mark = x.at(bar.overlapped_ms);
            line(area, (mark, y - 11), (mark, y + 11), INK.stroke_width(2))?;
        }
        let more = bars.len() - shown.len();
        let note = "dark mark: if the first sentence were spoken as soon as it is available";
        let note = if more > 0 { format!("{note}; {more} further turns are not drawn") } else { note.to_owned() };
        text(area, &note, (24, bottom + 44), anchored(12, QUIET, HPos::Left, VPos::Center))
    })
}
