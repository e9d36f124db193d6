//! SVG to PNG, with a font of our own so that every machine draws the same picture.

use resvg::tiny_skia::{Pixmap, Transform};
use resvg::usvg::{Options, Tree};
use thiserror::Error;

/// Why no picture could be made.
#[derive(Debug, Error)]
pub enum PngError {
    /// The SVG is broken.
    #[error("the chart cannot be read as SVG: {0}")]
    Svg(#[from] resvg::usvg::Error),
    /// The picture would be empty or too large.
    #[error("a picture of {0} x {1} pixels cannot be made")]
    Size(u32, u32),
    /// The encoder failed.
    #[error("the picture cannot be encoded: {0}")]
    Encode(String),
}

/// Inter, SIL Open Font License; see `fonts/OFL.txt`.
const FONT: &[u8] = include_bytes!("../fonts/Inter-Regular.subset.otf");
/// Pixels for each unit of the chart: charts are drawn at 96 units an inch.
const SCALE: f32 = 2.0;

/// Draws an SVG as PNG at twice its size.
///
/// # Errors
/// When the SVG is broken or too large.
pub fn png_from_svg(svg: &str) -> Result<Vec<u8>, PngError> {
    let mut options = Options { font_family: "Inter".to_owned(), ..Options::default() };
    options.fontdb_mut().load_font_data(FONT.to_vec());
    options.fontdb_mut().set_sans_serif_family("Inter");
    let tree = Tree::from_str(svg, &options)?;
    let size = tree.size();
    let (width, height) = ((size.width() * SCALE).ceil() as u32, (size.height() * SCALE).ceil() as u32);
    let mut picture = Pixmap::new(width, height).ok_or(PngError::Size(width, height))?;
    resvg::render(&tree, Transform::from_scale(SCALE, SCALE), &mut picture.as_mut());
    picture.encode_png().map_err(|error| PngError::Encode(error.to_string()))
}
