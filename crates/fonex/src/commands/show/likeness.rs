//! How alike the voices of a run sound: a table, and a map.

use std::collections::BTreeMap;
use std::path::Path;

use fonex_analysis::{Likeness, Material, Recordings, RunView, Side, VariantView, likeness};
use fonex_formats::{Place, Problem, audio_path, corpus_folder};
use fonex_report::charts::{PlaneAxis, PlaneChart, PlaneForm, PlaneSeries, plane_svg};
use fonex_store::Store;

use super::ShowOptions;
use crate::cli::Format;
use crate::failure::{Code, Failure};
use crate::output::{self, Cell, Table, plural};

/// Voices that have room beside each other.
const MOST_VOICES: usize = 40;

pub(super) fn show_likeness(store: &Store, view: &RunView, options: &ShowOptions) -> Result<Code, Failure> {
    let speaks = |variant: &&VariantView| variant.variant.task == fonex_core::Task::Speak;
    let count = view.variants.iter().filter(speaks).count();
    if count > MOST_VOICES {
        let left_out = plural((count - MOST_VOICES) as u64, "voice");
        output::caution(&format!("{left_out} left out: the first {MOST_VOICES} are compared"));
    }
    let folder = options.bench.bench.parent().unwrap_or(Path::new(""));
    let recordings = recordings(store, view, folder)?;
    let Some(found) = likeness(store, &voices_of(view), recordings.as_ref())? else {
        let problem =
            Problem::new(format!("run {} has no two voices that speak the same text", view.name()), Place::default());
        return Err(problem.remedy("run a plan in which several voices speak one corpus").into());
    };
    match options.format.format {
        Format::Json => output::print_json(&found)?,
        Format::Table => {
            output::print_lines(&output::text(&table(&found)))?;
        }
        form => output::print_table(&table(&found), form)?,
    }
    if let Some(path) = &options.output {
        output::write_chart(path, &plane_svg(&map(&found)))?;
    }
    Ok(Code::Done)
}

/// The recordings of the run's corpus as far as they are there; none where no text has one.
fn recordings(store: &Store, view: &RunView, folder: &Path) -> Result<Option<Recordings>, Failure> {
    let corpus = folder.join(&view.run.corpus_path);
    let near = corpus_folder(&corpus);
    let clips = store.clips(&view.run.corpus_checksum)?;
    let files: BTreeMap<_, _> = clips
        .iter()
        .filter_map(|clip| Some((clip.id.clone(), (audio_path(near, clip)?, clip.side))))
        .filter(|(_, (path, _))| path.is_file())
        .collect();
    Ok((!files.is_empty()).then(|| Recordings { name: "recordings".to_owned(), files }))
}

/// How far each voice of a run is from the recordings of its texts, in decibels by the voice's name; nothing where there are no recordings.
pub fn apart_from_recordings(store: &Store, view: &RunView, folder: &Path) -> Result<BTreeMap<String, f64>, Failure> {
    let Some(recordings) = recordings(store, view, folder)? else { return Ok(BTreeMap::new()) };
    let found = likeness(store, &voices_of(view), Some(&recordings))?;
    let Some(found) = found.filter(|found| found.voices.last() == Some(&recordings.name)) else {
        return Ok(BTreeMap::new());
    };
    let last = found.voices.len() - 1;
    Ok(found.voices[..last].iter().cloned().zip(found.distances_db[last].iter().copied()).collect())
}

fn voices_of(view: &RunView) -> Vec<Side<'_>> {
    let voices = view.variants.iter().filter(|variant| variant.variant.task == fonex_core::Task::Speak);
    voices.map(|variant| Side { run: view, variant, material: Material::Whole }).take(MOST_VOICES).collect()
}

fn table(found: &Likeness) -> Table {
    let names = found.voices.iter().map(|name| (name.as_str(), 0));
    let mut table = Table::new(std::iter::once(("dB apart", 0)).chain(names)).titled("How alike the voices sound");
    for (at, (name, row)) in found.voices.iter().zip(&found.distances_db).enumerate() {
        let cells = row.iter().enumerate().map(
            |(other, apart)| {
                if other == at { Cell::Empty } else { Cell::Number(*apart, 1) }
            },
        );
        table.row(std::iter::once(Cell::text(name.as_str())).chain(cells));
    }
    table.noted(format!(
        "Mel-cepstral distance after alignment in time, mean over {}; 0 is the same sound.",
        plural(found.texts as u64, "text")
    ))
}

fn map(found: &Likeness) -> PlaneChart {
    let axis = |label: &str| PlaneAxis { label: label.to_owned(), ..PlaneAxis::default() };
    PlaneChart {
        title: "How alike the voices sound".to_owned(),
        x: axis("decibels"),
        y: axis("decibels"),
        series: vec![PlaneSeries {
            name: String::new(),
            points: found.places.clone(),
            labels: found.voices.clone(),
            form: PlaneForm::Marks,
            intervals: Vec::new(),
        }],
        guides: Vec::new(),
        equal_units: true,
        note: format!(
            "voices that lie close sound alike; distances are mel-cepstral, over {}, as well as a plane can show them",
            plural(found.texts as u64, "text")
        ),
    }
}
