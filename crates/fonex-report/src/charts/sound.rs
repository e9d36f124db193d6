//! A recording: waveform and spectrogram over one time axis, with its labels and pauses.

use std::fmt::Write as _;

use plotters::prelude::*;
use plotters::style::text_anchor::{HPos, VPos};

use super::{Area, Drawn, GRID, INK, QUIET, Scale, anchored, colour, draw, estimated_width, line, round_step, text};

/// What is drawn of a recording.
#[derive(Debug, Clone, PartialEq)]
pub struct SoundPicture {
    /// Its name.
    pub title: String,
    /// Its measures in one line.
    pub subtitle: String,
    /// Length in seconds.
    pub duration_s: f64,
    /// Lowest and highest sample of each column of the picture; as many columns as [`WAVE_COLUMNS`] or fewer.
    pub wave: Vec<(f32, f32)>,
    /// Decibels of each band, low to high, in columns evenly over the length.
    pub spectrum: Vec<Vec<f32>>,
    /// Middle frequency of each band in hertz.
    pub bands_hz: Vec<f64>,
    /// Words or captions with their times.
    pub labels: Vec<SoundLabel>,
    /// Pauses, start and end.
    pub pauses: Vec<(f64, f64)>,
}

/// A word or caption with its times in seconds.
#[derive(Debug, Clone, PartialEq)]
pub struct SoundLabel {
    /// Its text.
    pub text: String,
    /// Its start.
    pub start: f64,
    /// Its end.
    pub end: f64,
}

/// Columns the waveform and the spectrogram are drawn in.
pub const WAVE_COLUMNS: usize = 600;

const WIDTH: u32 = 1100;
const LEFT: i32 = 70;
const RIGHT: i32 = 1076;
const WAVE: (i32, i32) = (78, 198);
const SPECTRUM: (i32, i32) = (214, 414);
const LABEL_ROWS: i32 = 3;
/// Steps of grey between the floor and the top of the spectrogram.
const GREYS: u32 = 12;
/// Decibels shown below the loudest band.
const SHOWN_DB: f32 = 70.0;

/// Draws the picture.
#[must_use]
pub fn sound_svg(picture: &SoundPicture) -> String {
    let height = (SPECTRUM.1 + 30 + if picture.labels.is_empty() { 24 } else { LABEL_ROWS * 20 + 30 }) as u32;
    let svg = draw(WIDTH, height, |area| {
        let high = Some(picture.duration_s).filter(|s| s.is_finite()).unwrap_or(0.0).max(1e-3);
        let x = Scale { low: 0.0, high, from: LEFT, to: RIGHT };
        text(area, &picture.title, (24, 26), anchored(17, INK, HPos::Left, VPos::Center))?;
        text(area, &picture.subtitle, (24, 50), anchored(13, QUIET, HPos::Left, VPos::Center))?;
        for (start, end) in &picture.pauses {
            let stretch = [(x.at(*start), WAVE.0), (x.at(*end), WAVE.1)];
            area.draw(&Rectangle::new(stretch, colour(4).mix(0.22).filled())).map_err(drop)?;
        }
        waveform(area, picture)?;
        for (at, name) in [(WAVE.0, "1"), ((WAVE.0 + WAVE.1) / 2, "0"), (WAVE.1, "−1")] {
            line(area, (LEFT, at), (RIGHT, at), GRID)?;
            text(area, name, (LEFT - 8, at), anchored(12, QUIET, HPos::Right, VPos::Center))?;
        }
        time_axis(area, x)?;
        frequency_axis(area, picture)?;
        labels(area, picture, x)
    });
    svg.replace("</svg>", &(spectrum_layer(picture) + "</svg>"))
}

fn waveform(area: &Area<'_>, picture: &SoundPicture) -> Drawn {
    let y = Scale { low: -1.0, high: 1.0, from: WAVE.1, to: WAVE.0 };
    let column = |at: usize| LEFT + (at as i32 * (RIGHT - LEFT)) / picture.wave.len().max(1) as i32;
    let above =
        picture.wave.iter().enumerate().map(|(at, (_, high))| (column(at), y.at(f64::from(*high).min(1.0)) - 1));
    let below =
        picture.wave.iter().enumerate().rev().map(|(at, (low, _))| (column(at), y.at(f64::from(*low).max(-1.0)) + 1));
    area.draw(&Polygon::new(above.chain(below).collect::<Vec<_>>(), colour(0).filled())).map_err(drop)
}

fn time_axis(area: &Area<'_>, x: Scale) -> Drawn {
    let step = round_step(x.high / 12.0);
    let places = usize::from(step < 1.0) + usize::from(step < 0.1);
    for tick in 0..=(x.high / step) as i32 {
        let at = x.at(f64::from(tick) * step);
        line(area, (at, SPECTRUM.1), (at, SPECTRUM.1 + 4), QUIET)?;
        let name = format!("{:.places$}", f64::from(tick) * step);
        text(area, &name, (at, SPECTRUM.1 + 14), anchored(12, QUIET, HPos::Center, VPos::Center))?;
    }
    text(area, "s", (RIGHT + 12, SPECTRUM.1 + 14), anchored(12, QUIET, HPos::Left, VPos::Center))
}

fn frequency_axis(area: &Area<'_>, picture: &SoundPicture) -> Drawn {
    let bands = picture.bands_hz.len();
    for hz in [250.0, 500.0, 1_000.0, 2_000.0, 4_000.0, 8_000.0, 16_000.0] {
        let Some(band) = picture.bands_hz.iter().position(|middle| *middle >= hz) else { break };
        let at = SPECTRUM.1 - ((SPECTRUM.1 - SPECTRUM.0) * band as i32) / bands as i32;
        let name = if hz < 1_000.0 { format!("{hz} Hz") } else { format!("{} kHz", hz / 1_000.0) };
        text(area, &name, (LEFT - 8, at), anchored(12, QUIET, HPos::Right, VPos::Center))?;
    }
    Ok(())
}

/// Labels in rows below the axis, each under its start; one that finds no room in any row is left out and counted.
fn labels(area: &Area<'_>, picture: &SoundPicture, x: Scale) -> Drawn {
    let mut free_from = [i32::MIN; LABEL_ROWS as usize];
    let mut left_out = 0;
    for label in &picture.labels {
        // A label may lie about where the sound ends.
        if !(0.0..=x.high).contains(&label.start) {
            left_out += 1;
            continue;
        }
        let (from, to) = (x.at(label.start), x.at(label.end).min(RIGHT));
        for at in [from, to] {
            line(area, (at, WAVE.0), (at, WAVE.1), if at == from { colour(1) } else { GRID })?;
        }
        let Some(row) = free_from.iter().position(|free| *free <= from) else {
            left_out += 1;
            continue;
        };
        let y = SPECTRUM.1 + 34 + 20 * row as i32;
        line(area, (from, WAVE.1), (from, y + 6), colour(1).mix(0.5))?;
        let wide = estimated_width(&label.text, 13);
        if from + 3 + wide < WIDTH as i32 {
            text(area, &label.text, (from + 3, y), anchored(13, INK, HPos::Left, VPos::Center))?;
        } else {
            text(area, &label.text, (WIDTH as i32 - 4, y), anchored(13, INK, HPos::Right, VPos::Center))?;
        }
        free_from[row] = from + wide + 10;
    }
    if left_out > 0 {
        let note = format!("{left_out} labels do not fit");
        text(area, &note, (LEFT, SPECTRUM.1 + 34 + 20 * LABEL_ROWS), anchored(12, QUIET, HPos::Left, VPos::Center))?;
    }
    Ok(())
}

/// The spectrogram as one path a grey, each holding the runs of cells of that grey.
fn spectrum_layer(picture: &SoundPicture) -> String {
    let (columns, bands) = (picture.spectrum.len(), picture.bands_hz.len());
    let loudest = picture.spectrum.iter().flatten().copied().fold(f32::NEG_INFINITY, f32::max);
    let grey = |db: f32| (((db - loudest + SHOWN_DB) / SHOWN_DB).clamp(0.0, 1.0) * GREYS as f32) as u32;
    let mut paths = vec![String::new(); GREYS as usize + 1];
    let edge_x = |column: usize| f64::from(LEFT) + f64::from(RIGHT - LEFT) * column as f64 / columns as f64;
    let edge_y =
        |band: usize| f64::from(SPECTRUM.1) - f64::from(SPECTRUM.1 - SPECTRUM.0) * band as f64 / bands as f64;
    for band in 0..bands {
        let row: Vec<u32> = picture.spectrum.iter().map(|column| grey(column[band])).collect();
        let mut at = 0;
        for run in row.chunk_by(|a, b| a == b) {
            let (from, to) = (edge_x(at), edge_x(at + run.len()));
            at += run.len();
            if run[0] > 0 {
                let (top, bottom) = (edge_y(band + 1), edge_y(band));
                write!(paths[run[0] as usize], "M{from:.1} {top:.1}H{to:.1}V{bottom:.1}H{from:.1}Z")
                    .expect("a text in memory can be written");
            }
        }
    }
    let mut layer = String::new();
    for (level, path) in paths.iter().enumerate().filter(|(_, path)| !path.is_empty()) {
        let shade = 245 - (level as u32 * 225) / GREYS;
        write!(layer, "<path d=\"{path}\" fill=\"rgb({shade},{shade},{shade})\" shape-rendering=\"crispEdges\"/>")
            .expect("a text in memory can be written");
    }
    layer
}
