//! The report: one self-contained HTML file without a script. What an engine wrote is only ever text in it.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use minijinja::value::Serde;
use minijinja::{AutoEscape, Environment};
use serde::Serialize;
use thiserror::Error;

use crate::{HtmlTable, Piece};

/// Everything a report shows, in order.
#[derive(Debug, Clone, Default, Serialize)]
pub struct ReportData {
    /// Title of the page.
    pub title: String,
    /// What it was made from and when.
    pub subtitle: String,
    /// What can be said, most important first.
    pub statements: Vec<String>,
    /// What limits that.
    pub cautions: Vec<String>,
    /// Facts about the runs, as name and value.
    pub facts: Vec<(String, String)>,
    /// The tables of variants, one a task.
    pub summary: Vec<HtmlTable>,
    /// Charts as SVG made by [`crate::charts`], with a caption for readers who do not see them.
    pub charts: Vec<ChartFigure>,
    /// Further tables, such as slices.
    pub tables: Vec<HtmlTable>,
    /// The worst clips.
    pub clips: Vec<ClipCard>,
    /// Texts as every voice spoke them.
    pub spoken: Vec<SpokenText>,
    /// The version that wrote it.
    pub version: String,
}

/// A chart with its caption.
#[derive(Debug, Clone, Serialize)]
pub struct ChartFigure {
    /// SVG text.
    pub svg: String,
    /// What it shows.
    pub caption: String,
}

/// One clip with what each variant made of it.
#[derive(Debug, Clone, Serialize)]
pub struct ClipCard {
    /// Id of the clip.
    pub id: String,
    /// Tags, speaker and language, as one line.
    pub facts: String,
    /// Language for the browser; empty where unknown.
    pub lang: String,
    /// Whether the text runs from right to left.
    pub right_to_left: bool,
    /// The sound; none where it could not be embedded.
    pub audio: Option<AudioClip>,
    /// One reading a variant.
    pub readings: Vec<Reading>,
}

/// What one variant heard of a clip.
#[derive(Debug, Clone, Serialize)]
pub struct Reading {
    /// The variant.
    pub variant: String,
    /// Such as `2 of 7 words wrong`.
    pub summary: String,
    /// The comparison.
    pub pieces: Vec<Piece>,
}

/// Sound to listen to.
#[derive(Debug, Clone, Serialize)]
pub struct AudioClip {
    /// A data URI.
    pub source: String,
    /// What it is, for readers of the page.
    pub label: String,
}

/// One text by every voice, to be listened to in a row.
#[derive(Debug, Clone, Serialize)]
pub struct SpokenText {
    /// Id of its clip.
    pub id: String,
    /// The text.
    pub text: String,
    /// Tags and language, as one line.
    pub facts: String,
    /// Language for the browser; empty where unknown.
    pub lang: String,
    /// Whether the text runs from right to left.
    pub right_to_left: bool,
    /// The voices.
    pub voices: Vec<SpokenBy>,
}

/// A text by one voice.
#[derive(Debug, Clone, Serialize)]
pub struct SpokenBy {
    /// The voice.
    pub voice: String,
    /// What it spoke; none where it could not be embedded.
    pub audio: Option<AudioClip>,
    /// What each recogniser heard of it.
    pub heard: Vec<Reading>,
}

/// Why no page could be written.
#[derive(Debug, Error)]
#[error("the report cannot be written: {0}")]
pub struct RenderError(#[from] minijinja::Error);

const TEMPLATE: &str = include_str!("../templates/report.html");

/// Writes the page.
///
/// # Errors
/// When the template and the data do not fit, which the tests rule out.
pub fn render_report(data: &ReportData) -> Result<String, RenderError> {
    let mut environment = Environment::new();
    environment.set_auto_escape_callback(|_| AutoEscape::Html);
    environment.add_template("report.html", TEMPLATE)?;
    Ok(environment.get_template("report.html")?.render(Serde(data))?)
}

/// Bytes as a data URI.
#[must_use]
pub fn data_uri(media_type: &str, bytes: &[u8]) -> String {
    format!("data:{media_type};base64,{}", STANDARD.encode(bytes))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Cell, Table};

    #[test]
    fn nothing_an_engine_wrote_becomes_markup() {
        let attack = "<script>alert(1)</script>\"'><img src=x onerror=alert(1)>";
        let mut table = Table::new([(attack, 0)]).titled(attack).noted(attack);
        table.row([Cell::text(attack)]);
        let table = table.html();
        let audio = AudioClip { source: data_uri("audio/flac", b"x"), label: attack.into() };
        let data = ReportData {
            title: attack.into(),
            subtitle: attack.into(),
            statements: vec![attack.into()],
            cautions: vec![attack.into()],
            facts: vec![(attack.into(), attack.into())],
            summary: vec![table.clone()],
            charts: vec![ChartFigure { svg: "<svg></svg>".into(), caption: attack.into() }],
            tables: vec![table],
            clips: vec![ClipCard {
                id: attack.into(),
                facts: attack.into(),
                lang: attack.into(),
                right_to_left: false,
                audio: Some(audio.clone()),
                readings: vec![Reading {
                    variant: attack.into(),
                    summary: attack.into(),
                    pieces: vec![
                        Piece::Right { said: attack.into() },
                        Piece::Other { said: attack.into(), heard: attack.into() },
                        Piece::Dropped { said: attack.into() },
                        Piece::Added { heard: attack.into() },
                    ],
                }],
            }],
            spoken: vec![SpokenText {
                id: attack.into(),
                text: attack.into(),
                facts: attack.into(),
                lang: String::new(),
                right_to_left: false,
                voices: vec![SpokenBy { voice: attack.into(), audio: Some(audio), heard: Vec::new() }],
            }],
            version: attack.into(),
        };
        let page = render_report(&data).unwrap();
        assert!(!page.contains("<script") && !page.contains("<img") && !page.contains("\"'>"), "{page}");
        assert_eq!(page.matches("&lt;script&gt;").count(), 33, "every field is shown, the title twice");
        assert!(page.contains("<svg></svg>") && page.contains("Content-Security-Policy"));
    }
}
