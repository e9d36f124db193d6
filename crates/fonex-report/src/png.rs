//! SVG to PNG. Letters become outlines of a font of our own first, so that every machine draws the same picture.

use resvg::tiny_skia::{Pixmap, Transform};
use resvg::usvg::{Options, Tree};
use thiserror::Error;

use crate::outline::outline_text;

/// Why no picture could be made.
#[derive(Debug, Error)]
pub enum PngError {
    /// The SVG is broken.
    #[error("the chart cannot be read as SVG: {0}")]
    Svg(String),
    /// The picture would be empty or too large.
    #[error("a picture of {0} x {1} pixels cannot be made")]
    Size(u32, u32),
    /// The encoder failed.
    #[error("the picture cannot be encoded: {0}")]
    Encode(String),
}

/// Pixels for each unit of the chart: charts are drawn at 96 units an inch.
const SCALE: f32 = 2.0;

/// Draws a chart as PNG at twice its size.
///
/// # Errors
/// When the SVG is broken or too large.
pub fn png_from_svg(svg: &str) -> Result<Vec<u8>, PngError> {
    let outlined = outline_text(svg)?;
    let tree = Tree::from_str(&outlined, &Options::default()).map_err(|error| PngError::Svg(error.to_string()))?;
    let size = tree.size();
    let (width, height) = ((size.width() * SCALE).ceil() as u32, (size.height() * SCALE).ceil() as u32);
    let mut picture = Pixmap::new(width, height).ok_or(PngError::Size(width, height))?;
    resvg::render(&tree, Transform::from_scale(SCALE, SCALE), &mut picture.as_mut());
    picture.encode_png().map_err(|error| PngError::Encode(error.to_string()))
}
