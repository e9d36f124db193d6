//! Charts and the HTML report. Takes plain data and gives SVG, PNG, HTML or text; reads and writes no files.

mod book;
pub mod charts;
pub mod figures;
mod html;
pub mod junit;
mod outline;
mod panel_page;
mod png;
pub mod readable;
mod script;
mod table;
mod terminal;
mod thread;
mod watch_page;

pub use book::{Book, BookClip, BookKey, BookTrial};
pub use charts::shortened;
pub use html::{
    AudioClip, ChartFigure, ClipCard, Reading, RenderError, ReportData, SpokenBy, SpokenText, Statement, data_uri,
    render_report,
};
pub use panel_page::{PanelPage, render_panel};
pub use png::{PngError, png_from_svg};
pub use table::{Cell, HtmlTable, Table, folded_under};
pub use terminal::terminal_trend;
pub use thread::{Piece, is_right_to_left, pieces};
pub use watch_page::{WatchPage, watch_page};
