//! The report: one self-contained HTML file that reads without scripts and can be explored with its own. What an engine wrote is
//! only ever text in it.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use minijinja::value::Serde;
use minijinja::{AutoEscape, Environment};
use serde::Serialize;
use thiserror::Error;

use crate::script::{LOOK, data_block, report_program, sum};
use crate::{Book, HtmlTable, Piece};

/// Everything a report shows, in order.
#[derive(Debug, Clone, Default, Serialize)]
pub struct ReportData {
    /// Title of the page.
    pub title: String,
    /// What it was made from and when.
    pub subtitle: String,
    /// What a reader with two minutes must know, in three sentences at most.
    pub verdict: Vec<String>,
    /// The picture of it.
    pub picture: Option<ChartFigure>,
    /// The variants by the measures that matter, a table a task.
    pub head: Vec<HtmlTable>,
    /// What limits that.
    pub cautions: Vec<String>,
    /// What else can be said, most important first.
    pub statements: Vec<Statement>,
    /// Findings with a verdict, and labels under suspicion.
    pub tables: Vec<HtmlTable>,
    /// Findings without a verdict.
    pub untold: Option<HtmlTable>,
    /// The measures of variants, a few tables a task.
    pub summary: Vec<HtmlTable>,
    /// Charts as SVG made by [`crate::charts`], with a caption for readers who do not see them.
    pub charts: Vec<ChartFigure>,
    /// What went wrong.
    pub wrong: Vec<HtmlTable>,
    /// The worst clips, for readers without scripts and for paper.
    pub clips: Vec<ClipCard>,
    /// All clips, for the browser.
    #[serde(skip)]
    pub book: Option<Book>,
    /// Texts as every voice spoke them.
    pub spoken: Vec<SpokenText>,
    /// How the figures were made.
    pub method: Vec<String>,
    /// Facts about the runs, as name and value.
    pub facts: Vec<(String, String)>,
    /// Whether sounds lie beside the page.
    #[serde(skip)]
    pub sounds_beside: bool,
    /// The version that wrote it.
    pub version: String,
}

/// A chart with its caption.
#[derive(Debug, Clone, Serialize)]
pub struct ChartFigure {
    /// SVG text.
    pub svg: String,
    /// The same for a narrow screen, where it is drawn for one.
    pub narrow: Option<String>,
    /// What it shows.
    pub caption: String,
}

/// A sentence, with what the browser of clips shows for it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Statement {
    /// The sentence.
    pub text: String,
    /// The fragment that opens its clips: `clips&slice=channel=radio`.
    pub clips: Option<String>,
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
    /// A data URI, or the address of a file beside the page.
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

/// What the template reads.
#[derive(Serialize)]
struct Shown<'p> {
    page: &'p ReportData,
    style: &'static str,
    style_sum: String,
    script: &'p str,
    script_sum: String,
    /// Where the page may play sounds from, and read them from to draw them.
    sound_from: &'static str,
    read_from: &'static str,
    book: Option<String>,
}

/// Writes the page.
///
/// # Errors
/// When the template and the data do not fit, which the tests rule out.
pub fn render_report(data: &ReportData) -> Result<String, RenderError> {
    let script = report_program();
    let shown = Shown {
        page: data,
        style: LOOK,
        style_sum: sum(LOOK),
        script_sum: sum(&script),
        script: &script,
        sound_from: if data.sounds_beside { "'self' file: data:" } else { "data:" },
        read_from: if data.sounds_beside { "'self'" } else { "'none'" },
        book: data.book.as_ref().map(data_block),
    };
    let mut environment = Environment::new();
    environment.set_auto_escape_callback(|_| AutoEscape::Html);
    environment.add_template("report.html", TEMPLATE)?;
    Ok(environment.get_template("report.html")?.render(Serde(shown))?)
}

/// Bytes as a data URI.
#[must_use]
pub fn data_uri(media_type: &str, bytes: &[u8]) -> String {
    format!("data:{media_type};base64,{}", STANDARD.encode(bytes))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{BookClip, Cell, Table};

    #[test]
    fn nothing_an_engine_wrote_becomes_markup() {
        let attack = "<script>alert(1)</script>\"'><img src=x onerror=alert(1)>";
        let mut table = Table::new([(attack, 0)]).titled(attack).noted(attack);
        table.row([Cell::text(attack)]);
        let table = table.html();
        let audio = AudioClip { source: data_uri("audio/flac", b"x"), label: attack.into() };
        let chart = ChartFigure { svg: "<svg></svg>".into(), narrow: None, caption: attack.into() };
        let mut book = Book::new([attack.to_owned()].into_iter(), Vec::new(), 0);
        book.add_clip(BookClip { id: attack.into(), text: attack.into(), ..BookClip::default() });
        let data = ReportData {
            title: attack.into(),
            subtitle: attack.into(),
            verdict: vec![attack.into()],
            picture: Some(chart.clone()),
            cautions: vec![attack.into()],
            statements: vec![Statement { text: attack.into(), clips: Some(attack.into()) }],
            head: vec![table.clone()],
            untold: Some(table.clone()),
            facts: vec![(attack.into(), attack.into())],
            summary: vec![table.clone()],
            charts: vec![chart],
            wrong: vec![table.clone()],
            tables: vec![table],
            method: vec![attack.into()],
            book: Some(book),
            sounds_beside: false,
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
        assert_eq!(page.matches("<script").count(), 2, "the data and the program");
        assert!(!page.contains("<img") && !page.contains("\"'>"), "{page}");
        assert_eq!(
            page.matches("&lt;script&gt;").count(),
            59,
            "every field is shown, the title and those of tables twice"
        );
        assert_eq!(page.matches("\\u003cscript").count(), 3, "the name, the id and the text of the clips to explore");
        assert!(page.contains("<svg></svg>"));
        // The program and the style are those that the policy lets through, and it lets through nothing else.
        let program = report_program();
        for (text, element) in [(program.as_str(), "script-src"), (LOOK, "style-src")] {
            assert!(page.contains(text) && page.contains(&format!("{element} 'sha256-{}'; ", sum(text))));
        }
        assert!(
            page.contains("default-src 'none'") && page.contains("connect-src 'none'") && !page.contains("unsafe")
        );
        for outside in ["http:", "https:", "src=\"/", "url("] {
            assert!(!page.replace("http://www.w3.org/2000/svg", "").contains(outside), "{outside}");
        }
    }
}
