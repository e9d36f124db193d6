//! `fonex corpus texts`: a corpus to be spoken, made of plain writing.

use std::path::{Path, PathBuf};

use clap::Args;
use fonex_core::Clip;
use fonex_core::material::{SpokenText, ladder, no_longer_than, read_texts};
use fonex_core::speech::read_markup;
use fonex_core::text::{Label, plain_label};
use fonex_formats::{Place, Problem, regular};

use super::import::tag_and_value;
use super::write_corpus;
use crate::failure::{Code, Failure};
use crate::output::{self, plural};

#[derive(Debug, Args)]
#[command(
    after_help = "A file that begins with < is one text with markup (SSML): it becomes a clip with its markup and one without.
Any other file holds a text a line. A line \"# names\" is a heading: it becomes the tag kind of the texts below it,
up to the next heading or a line \"#\". Texts without a heading are of the kind numbers, abbreviations or plain.
Examples, in the folder the demo made:
  fonex corpus texts texts/announcements.txt --lang en -o announcements.jsonl
  fonex corpus texts texts/announcements.txt --ladder 4 -o ladder.jsonl"
)]
pub struct CorpusTexts {
    /// Text files, UTF-8, one text per line, or SSML files
    #[arg(required = true, value_name = "FILE")]
    pub files: Vec<PathBuf>,
    /// Also make texts of every length from a word to a page, up to this many of each
    #[arg(long, value_name = "N")]
    pub ladder: Option<usize>,
    /// Cut texts longer than this many characters at the end of a sentence
    #[arg(long, value_name = "CHARACTERS", value_parser = clap::value_parser!(u32).range(1..))]
    pub longest: Option<u32>,
    /// Language of the texts, as a BCP 47 tag
    #[arg(long)]
    pub lang: Option<String>,
    /// File of names and terms, one per line, that must be heard where a text holds them; spellings that a recogniser may return as
    /// {pylon six|mast six}
    #[arg(long, value_name = "FILE")]
    pub terms: Option<PathBuf>,
    /// Tag to add to every text; may be repeated
    #[arg(long = "tag", value_name = "TAG=VALUE")]
    pub tags: Vec<String>,
    /// Corpus file to write; by default standard output
    #[arg(short, long, value_name = "FILE")]
    pub output: Option<PathBuf>,
}

pub fn texts(options: &CorpusTexts) -> Result<Code, Failure> {
    let terms = options.terms.as_deref().map(read_terms).transpose()?.unwrap_or_default();
    let mut clips: Vec<Clip> = Vec::new();
    for file in &options.files {
        let written = regular::read_text(file).map_err(|error| Problem::io("read", file, &error))?;
        if written.trim_start().starts_with('<') {
            marked_up(options, file, &written, &terms, &mut clips)?;
            continue;
        }
        let read = read_texts(&written);
        if read.is_empty() {
            let problem = Problem::new("the file holds no text", Place::file(file));
            return Err(problem.expected("a text a line").into());
        }
        let rungs = options.ladder.map_or_else(Vec::new, |each| ladder(&read, each));
        let mut all = read;
        all.extend(rungs);
        if let Some(longest) = options.longest {
            all = no_longer_than(all, longest as usize);
        }
        let stem = stem(file, &clips);
        for (at, text) in all.iter().enumerate() {
            clips.push(clip(options, &terms, format!("{stem}-{:03}", at + 1), text)?);
        }
    }
    match &options.output {
        Some(path) => {
            write_corpus(path, &clips)?;
            output::note(&format!("Wrote {}: {}.", path.display(), plural(clips.len() as u64, "text")));
        }
        None => output::print(&clips.iter().map(|clip| fonex_formats::corpus_line(clip) + "\n").collect::<String>())?,
    }
    Ok(Code::Done)
}

/// Adds a text with markup, and beside it the same text without, so that a voice can be held against itself.
fn marked_up(
    options: &CorpusTexts,
    file: &Path,
    written: &str,
    terms: &Terms,
    clips: &mut Vec<Clip>,
) -> Result<(), Problem> {
    let markup = read_markup(written).map_err(|error| Problem::new(error.to_string(), Place::file(file)))?;
    let stem = stem(file, clips);
    let text = SpokenText { text: markup.text(), kind: "markup".to_owned(), rung: None };
    let mut marked = clip(options, terms, format!("{stem}-001"), &text)?;
    marked.ssml = Some(written.trim().to_owned());
    // Read out sign by sign: what a recogniser must return.
    marked.terms.extend(markup.spelled.iter().map(|spelled| plain_label(spelled)));
    let mut plain = Clip { id: format!("{stem}-002"), ssml: None, terms: Vec::new(), ..marked.clone() };
    plain.tags.insert("kind".to_owned(), "markup left out".to_owned());
    clips.push(marked);
    clips.push(plain);
    Ok(())
}

/// The name of a file without its ending, told apart from those before.
fn stem(file: &Path, before: &[Clip]) -> String {
    let stem = file.file_stem().map_or_else(|| "text".to_owned(), |stem| stem.to_string_lossy().into_owned());
    let taken = |stem: &str| before.iter().any(|clip| clip.id == format!("{stem}-001"));
    let mut names = std::iter::once(stem.clone()).chain((2..).map(|n| format!("{stem}-{n}")));
    names.find(|name| !taken(name)).unwrap_or(stem)
}

/// Terms as they are written, with their first readings in small letters.
type Terms = Vec<(String, String)>;

fn read_terms(path: &Path) -> Result<Terms, Problem> {
    let written = regular::read_text(path).map_err(|error| Problem::io("read", path, &error))?;
    let lines = (1..).zip(written.lines()).map(|(number, line)| (number, line.trim()));
    lines
        .filter(|(_, line)| !line.is_empty())
        .map(|(number, line)| {
            let label =
                Label::parse(line).map_err(|error| Problem::new(error.to_string(), Place::line(path, number)))?;
            Ok((line.to_owned(), label.first_reading().to_lowercase()))
        })
        .collect()
}

/// Whether a text holds a term, as whole words.
fn holds(text: &str, term: &str) -> bool {
    let edge = |c: Option<char>| c.is_none_or(|c| !c.is_alphanumeric());
    !term.is_empty()
        && text
            .match_indices(term)
            .any(|(at, found)| edge(text[..at].chars().next_back()) && edge(text[at + found.len()..].chars().next()))
}

fn clip(options: &CorpusTexts, terms: &Terms, id: String, text: &SpokenText) -> Result<Clip, Problem> {
    let mut clip = Clip { id, text: plain_label(&text.text), lang: options.lang.clone(), ..Clip::default() };
    let low = text.text.to_lowercase();
    clip.terms = terms.iter().filter(|(_, reading)| holds(&low, reading)).map(|(term, _)| term.clone()).collect();
    for typed in &options.tags {
        let (tag, value) = tag_and_value(typed)?;
        clip.tags.insert(tag.to_owned(), value.to_owned());
    }
    clip.tags.insert("kind".to_owned(), text.kind.clone());
    if let Some(rung) = text.rung {
        clip.tags.insert("ladder".to_owned(), rung.as_str().to_owned());
    }
    Ok(clip)
}
