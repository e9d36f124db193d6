//! Labels on trial: the clips whose labels several engines agree against.

use fonex_analysis::{LabelsOnTrial, RunView, SuspectClip, Wanted, try_labels};
use fonex_core::Clip;
use fonex_core::measures::find;
use fonex_formats::{Place, Problem};
use fonex_report::figures::difference;
use fonex_report::folded_under;

use super::check::CorpusCheckOptions;
use crate::cli::BenchArg;
use crate::commands::{find_run, load_run, store_to_read};
use crate::failure::Failure;
use crate::output::{self, Cell, Table, plural};

/// In so many clips the same difference is a spelling rather than a slip of the pen.
const SPELLING: usize = 3;

/// What the engines of the runs named say of the labels.
pub(super) fn try_labels_of(options: &CorpusCheckOptions, clips: &[Clip]) -> Result<LabelsOnTrial, Failure> {
    let bench = BenchArg { bench: options.bench.clone().unwrap_or_else(|| "fonex.toml".into()), store: None };
    let mut store = store_to_read(&bench)?;
    let wanted = Wanted { measures: find("wer").into_iter().collect(), ..Wanted::default() };
    let mut runs: Vec<RunView> = Vec::new();
    for typed in &options.with {
        let run = find_run(&store, typed)?;
        runs.push(load_run(&mut store, run, None, &wanted)?);
    }
    let tried = try_labels(&store, &runs, clips)?.ok_or_else(|| {
        let problem = Problem::new("fewer than two engines hear in these runs", Place::default().field("--with"));
        problem.expected("runs of at least two engines; models of one engine have one voice")
    })?;
    if tried.clips == 0 {
        let problem = Problem::new("no clip of this corpus was heard by two engines of these runs", Place::default());
        return Err(problem.expected("runs of this corpus").into());
    }
    Ok(tried)
}

pub(super) fn page(tried: &LabelsOnTrial, most: usize) -> String {
    let engines: Vec<&str> = tried.engines.iter().map(|engine| engine.name.as_str()).collect();
    let mut text =
        format!("\nLabels on trial: {} heard {}.\n", engines.join(", "), plural(tried.clips as u64, "clip"));
    let added = tried.engines.iter().filter_map(|engine| {
        Some(format!("{} to {}", difference(fonex_core::measures::Unit::Share, engine.added_wer?), engine.name))
    });
    let added: Vec<String> = added.collect();
    let says = format!(
        "About {} of these labels may be wrong; the WER that this adds: {}.",
        tried.expected_wrong.round(),
        added.join(", ")
    );
    text += &folded_under(&says, output::width(), 2);
    if tried.engines.len() < 3 {
        let caution = "caution: two engines that share mistakes accuse correct labels; \
                       add a third engine of another family.";
        text += &folded_under(caution, output::width(), 2);
    }
    if tried.suspects.is_empty() {
        return text + "No label is suspect.\n";
    }
    let shown = LabelsOnTrial { suspects: tried.suspects.iter().take(most).cloned().collect(), ..tried.clone() };
    text += &output::text(&table(&shown).without(&["chance"]));
    if let Some(more) = tried.suspects.len().checked_sub(most).filter(|more| *more > 0) {
        text += &format!("and {more} more; --limit {} shows them\n", tried.suspects.len());
    }
    for suspect in &shown.suspects {
        text += &folded_under(&format!("{} by agreement: {}", suspect.clip, suspect.agreed), output::width(), 2);
    }
    text += &spellings(&shown.suspects);
    text + "Listen before you change a label; where you cannot decide, the tag disputed has the clip counted apart.\n"
}

/// What stands in several clips is for the text profile to settle.
fn spellings(suspects: &[SuspectClip]) -> String {
    let mut told: Vec<String> = Vec::new();
    for spot in suspects.iter().flat_map(|suspect| &suspect.spots).filter(|spot| spot.clips >= SPELLING) {
        let line = format!(
            "\"{}\" is heard as \"{}\" in {} clips: if that is a spelling, a replace rule of the text profile settles it\n",
            spot.label, spot.agreed, spot.clips
        );
        if !told.contains(&line) {
            told.push(line);
        }
    }
    told.concat()
}

/// One row a suspect place.
pub(in crate::commands) fn table(tried: &LabelsOnTrial) -> Table {
    let mut table = Table::new([
        ("clip", 0),
        ("odds", 0),
        ("chance", 2),
        ("the label says", 0),
        ("engines agree on", 0),
        ("engines", 1),
        ("clips so", 2),
    ]);
    let said = |words: &str| if words.is_empty() { "(nothing)".to_owned() } else { words.to_owned() };
    for suspect in &tried.suspects {
        for spot in &suspect.spots {
            table.row([
                Cell::text(suspect.clip.as_str()),
                Cell::text(odds(spot.chance)),
                Cell::Number(spot.chance, 3),
                Cell::text(said(&spot.label)),
                Cell::text(said(&spot.agreed)),
                Cell::text(format!("{} of {}", spot.engines.len(), spot.of)),
                Cell::Count(spot.clips as u64),
            ]);
        }
    }
    table
}

/// A chance as odds for and against a wrong label.
fn odds(chance: f64) -> String {
    if chance >= 0.999 {
        return "over 999 : 1".to_owned();
    }
    let ratio = chance / (1.0 - chance);
    if ratio >= 1.0 { format!("{ratio:.0} : 1") } else { format!("1 : {:.0}", 1.0 / ratio) }
}
