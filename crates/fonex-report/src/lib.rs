//! Charts and the HTML report. Takes plain data and gives SVG, PNG, HTML or text; reads and writes no files.

pub mod charts;
mod html;
mod outline;
mod png;
mod terminal;
mod thread;

pub use html::{
    AudioClip, CellTone, ChartFigure, ClipCard, DataTable, Reading, RenderError, ReportData, TableCell, VariantCards,
    data_uri, render_report,
};
pub use png::{PngError, png_from_svg};
pub use terminal::terminal_trend;
pub use thread::{Piece, is_right_to_left, pieces};
