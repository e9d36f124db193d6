//! The answer of a comparison: who is better, where, and what it costs.

use fonex_analysis::Comparison;
use fonex_core::measures::{Better, Measure, Unit, find};
use fonex_core::speech::{SoundChange, SoundVerdict};
use fonex_core::verdict::{DrawnUnit, Finding, Verdict};
use fonex_report::figures::{difference, difference_with_interval};

use super::pages::{explained, finding_row, more_in_words, reason, sign_of};
use crate::brief::{Brief, each_once, names_in_words, quoted};
use crate::commands::sound::sound;
use crate::output::{Cell, Table, capital, money, plural};

/// Pairs that each have sentences of their own.
const MOST_SENTENCES: usize = 3;
/// Columns of slices.
const MOST_SLICES: usize = 4;
/// Rows of the findings about one pair.
const MOST_ROWS: usize = 14;

/// Names for readers: without the run where all are of one run, and without the recogniser where one hears all voices.
struct Names<'c> {
    run: Option<&'c str>,
    listener: Option<&'c str>,
}

impl<'c> Names<'c> {
    fn new(comparisons: &'c [Comparison]) -> Self {
        let names = || comparisons.iter().flat_map(|one| [one.first.as_str(), one.second.as_str()]);
        let run = |name: &'c str| name.split_once(':').map(|(run, _)| run);
        let first = names().next().and_then(run);
        let mut listeners = names().filter_map(|name| name.rsplit_once(" by ").map(|(_, listener)| listener));
        let listener = listeners.next();
        Self {
            run: first.filter(|first| names().all(|name| run(name) == Some(first))),
            listener: listener.filter(|first| listeners.all(|other| other == *first)),
        }
    }

    fn of<'n>(&self, name: &'n str) -> &'n str {
        let without_run = self.run.and_then(|run| name.strip_prefix(run)?.strip_prefix(':')).unwrap_or(name);
        let heard = self.listener.and_then(|listener| without_run.strip_suffix(listener)?.strip_suffix(" by "));
        heard.unwrap_or(without_run)
    }
}

/// The answer. `asked` holds the runs of the command line, `by` the tags compared by, and `tag` one to compare by.
pub(super) fn brief(comparisons: &[Comparison], asked: &[String], by: &[String], tag: Option<&str>) -> Brief {
    let only = comparisons.iter().find_map(|one| one.r#where.as_ref());
    let names = Names::new(comparisons);
    let mut brief = Brief { heading: heading(comparisons, &names), ..Brief::default() };
    // Error rates before times: voices are compared as they sound and as they are heard.
    let mut ordered: Vec<&Comparison> = comparisons.iter().collect();
    ordered.sort_by_key(|one| one.findings.iter().all(|finding| finding.measure != "wer"));
    let sounds = sounds(&ordered, &names);
    brief.answer = if ordered.len() <= MOST_SENTENCES {
        ordered.iter().flat_map(|one| sentences(one, &names)).collect()
    } else {
        counted(&ordered, &names)
    };
    let sure = ordered.iter().any(|one| one.findings.iter().any(|finding| finding.verdict.is_difference()));
    let place = if sure { brief.answer.len() } else { 0 };
    brief.answer.splice(place..place, sounds);
    let mut hidden = 0;
    brief.tables = match ordered.as_slice() {
        [one] => {
            let (table, left_out) = findings_of_one(one, &names);
            hidden = left_out;
            vec![table]
        }
        several => vec![side_by_side(several, &names)],
    };
    brief.notes = vec![format!("{}. {}", signs(&ordered), explained(comparisons).replace('\n', " ").trim_end())];
    if hidden > 0 {
        brief.notes.insert(0, format!("{} without a verdict: --all", plural(hidden, "slice")));
    }
    brief.stands_out = stands_out(&ordered, &names);
    let runs: Vec<String> = asked.iter().map(|run| quoted(run)).collect();
    let only = only.map_or_else(String::new, |only| format!(" --where {}", quoted(only)));
    let runs = format!("{}{only}", runs.join(" "));
    if let Some(tag) = tag.filter(|_| by.is_empty()) {
        brief.more.push(format!("fonex compare {runs} --by {}", quoted(tag)));
    }
    if comparisons.iter().any(|one| one.findings.iter().any(|finding| finding.measure == "wer")) {
        brief.more.push(format!("fonex compare {runs} --flips"));
    }
    if asked.len() == 1 && comparisons.len() > 1 {
        brief.more.push(format!("fonex compare {runs} --matrix"));
    }
    let by: String = by.iter().map(|by| format!(" --by {}", quoted(by))).collect();
    brief.more.push(format!("fonex compare {runs}{by} --all"));
    brief
}

fn heading(comparisons: &[Comparison], names: &Names<'_>) -> String {
    let clips =
        comparisons.iter().flat_map(|one| &one.findings).map(|finding| finding.clips).max().unwrap_or_default();
    let Some(first) = comparisons.first() else { return String::new() };
    let run = names.run.map_or_else(String::new, |run| format!("Run {run}: "));
    let mut seconds: Vec<&str> = Vec::new();
    for name in comparisons.iter().map(|one| names.of(&one.second)) {
        if !seconds.contains(&name) {
            seconds.push(name);
        }
    }
    let same = comparisons.iter().all(|one| names.of(&one.first) == names.of(&first.first));
    let heard = names.listener.map_or_else(String::new, |listener| format!(", heard by {listener}"));
    let sides = match (same, seconds.len()) {
        (true, ..=4) => format!("{} against {}", names_in_words(&seconds), names.of(&first.first)),
        (true, many) => format!("{many} variants against {}", names.of(&first.first)),
        (false, many) => plural(many as u64, "pair"),
    };
    format!("{run}{sides}{heard}, {} in common", plural(clips, "clip"))
}

/// How the voices sound beside each other: of one pair in full, of several the verdicts.
fn sounds(comparisons: &[&Comparison], names: &Names<'_>) -> Option<String> {
    let told: Vec<(&str, &SoundChange)> =
        comparisons.iter().filter_map(|one| Some((names.of(&one.second), one.sound.as_ref()?))).collect();
    if let [(_, only)] = told.as_slice() {
        let own = comparisons.iter().find(|one| one.sound.as_ref() == Some(*only))?;
        let text = sound(own).split_whitespace().collect::<Vec<_>>().join(" ");
        return Some(format!("{}.", capital(&text)));
    }
    let of = |wanted: SoundVerdict| -> Vec<String> {
        let own = told.iter().filter(|(_, sound)| sound.verdict == wanted && sound.own_db.is_some());
        own.map(|(name, sound)| match (wanted, sound.excess_db) {
            (SoundVerdict::Changed, Some(db)) => format!("{name} by {db:.1} dB"),
            _ => (*name).to_owned(),
        })
        .collect()
    };
    let mut parts = Vec::new();
    for (verdict, what) in [
        (SoundVerdict::Changed, "different"),
        (SoundVerdict::Unchanged, "the same"),
        (SoundVerdict::CannotTell, "not certain"),
    ] {
        let own = of(verdict);
        match own.len() {
            0 => {}
            1..=4 => parts.push(format!("{what} {}", names_in_words(&own))),
            many => parts.push(format!("{what} {many}")),
        }
    }
    (!parts.is_empty()).then(|| format!("Sound: {}.", parts.join("; ")))
}

/// The first measure's finding over all clips.
fn first_of(comparison: &Comparison) -> Option<(&'static Measure, &Finding)> {
    let overall = || comparison.findings.iter().filter(|finding| finding.slice.is_none());
    let wer = overall().find(|finding| finding.measure == "wer");
    let finding =
        wer.or_else(|| overall().find(|finding| finding.verdict.is_difference())).or_else(|| overall().next())?;
    Some((find(&finding.measure)?, finding))
}

/// What is to be said of one pair.
fn sentences(comparison: &Comparison, names: &Names<'_>) -> Vec<String> {
    let Some((measure, finding)) = first_of(comparison) else { return Vec::new() };
    let (second, first) = (names.of(&comparison.second), names.of(&comparison.first));
    let off = |finding: &Finding| {
        let size = finding.difference.unwrap_or_default();
        format!("{} {}", measure.name_compared(), difference_with_interval(measure.unit, size, finding.interval))
    };
    let says =
        |finding: &Finding, measure: &Measure| measure.says[usize::from(finding.difference.unwrap_or(0.0) > 0.0)];
    let mut lines = Vec::new();
    let slices: Vec<String> = comparison
        .findings
        .iter()
        .filter(|one| one.measure == measure.id && one.verdict.is_difference())
        .filter_map(|one| Some(format!("{} ({})", one.slice.as_ref()?, difference(measure.unit, one.difference?))))
        .collect();
    let where_too = if slices.is_empty() || slices.len() > MOST_SLICES {
        String::new()
    } else {
        format!("; certain on {} too", names_in_words(&slices))
    };
    match finding.verdict {
        Verdict::Alike => lines.extend(super::statement(comparison, finding)),
        verdict if verdict.is_difference() => {
            let less = if finding.less_than_matters { ", less than matters" } else { "" };
            lines.push(format!("{second} {} {first}: {}{less}{where_too}.", says(finding, measure), off(finding)));
        }
        _ if finding.withheld.is_some() || finding.difference.is_none_or(|size| size == 0.0) => {
            let why = reason(finding);
            let why = if why.is_empty() { String::new() } else { format!(": {why}") };
            lines.push(format!("{second} and {first}: no verdict on {}{why}.", measure.name_compared()));
        }
        _ => {
            let why = match more_in_words(finding) {
                Some(more) => format!("{more} more clips are needed"),
                None => reason(finding),
            };
            let why = if why.is_empty() { String::new() } else { format!("; {why}") };
            lines.push(format!(
                "Whether {second} {} {first} is not certain: {}{why}.",
                says(finding, measure),
                off(finding)
            ));
            if !slices.is_empty() {
                lines.push(format!("It is certain on {}.", names_in_words(&slices)));
            }
        }
    }
    let others: Vec<String> = comparison
        .findings
        .iter()
        .filter(|one| one.slice.is_none() && one.measure != measure.id && one.verdict.is_difference())
        .filter_map(|one| {
            let measure = find(&one.measure)?;
            let says = says(one, measure);
            let says = says.strip_suffix(" than").unwrap_or(says);
            let less = if one.less_than_matters { ", less than matters" } else { "" };
            Some(format!("{says} ({} {}{less})", measure.name_compared(), difference(measure.unit, one.difference?)))
        })
        .collect();
    if !others.is_empty() {
        lines.push(format!("It {}.", names_in_words(&others)));
    }
    lines
}

/// The verdicts of many pairs, counted measure by measure.
fn counted(comparisons: &[&Comparison], names: &Names<'_>) -> Vec<String> {
    let (mut lines, mut uncertain) = (Vec::new(), Vec::new());
    for measure in measures_of(comparisons) {
        let findings: Vec<(&Comparison, &Finding)> = comparisons
            .iter()
            .filter_map(|one| {
                Some((*one, one.findings.iter().find(|f| f.measure == measure.id && f.slice.is_none())?))
            })
            .collect();
        let of = |wanted: Verdict| {
            let own = findings.iter().filter(|(_, finding)| finding.verdict == wanted);
            own.map(|(one, _)| names.of(&one.second)).collect::<Vec<_>>()
        };
        let mut parts = Vec::new();
        for (verdict, what) in [
            (Verdict::Better, "certainly better"),
            (Verdict::Worse, "certainly worse"),
            (Verdict::Differs, "certainly different"),
            (Verdict::Alike, "alike"),
        ] {
            let own = of(verdict);
            match own.len() {
                0 => {}
                1..=4 => parts.push(format!("{what} {}", names_in_words(&own))),
                many => parts.push(format!("{what} {many} of {}", findings.len())),
            }
        }
        let open = of(Verdict::CannotTell).len();
        if parts.is_empty() {
            uncertain.push(measure.name_compared());
        } else {
            let rest = if open > 0 { format!("; {open} not certain") } else { String::new() };
            lines.push(format!("{}: {}{rest}.", measure.name_compared(), parts.join("; ")));
        }
    }
    lines.truncate(3);
    if !uncertain.is_empty() {
        lines.push(format!("No difference in {} is certain.", names_in_words(&uncertain).replace(" and ", " or ")));
    }
    lines
}

fn measures_of(comparisons: &[&Comparison]) -> Vec<&'static Measure> {
    let mut measures: Vec<&'static Measure> = Vec::new();
    for finding in comparisons.iter().flat_map(|one| &one.findings) {
        if let Some(measure) = find(&finding.measure).filter(|measure| measures.iter().all(|m| m.id != measure.id)) {
            measures.push(measure);
        }
    }
    measures
}

/// The findings about one pair, its variants named in the head; with how many slices are left out.
fn findings_of_one(comparison: &Comparison, names: &Names<'_>) -> (Table, u64) {
    let mut table = Table::new([
        ("verdict", 0),
        ("measure", 0),
        ("clips of", 0),
        ("clips", 2),
        ("units", 4),
        (names.of(&comparison.first), 1),
        (names.of(&comparison.second), 1),
        ("difference", 0),
    ]);
    let all = comparison.findings.len() <= MOST_ROWS;
    let is_listed = |finding: &&Finding| all || finding.slice.is_none() || finding.verdict.is_difference();
    let mut listed: Vec<&Finding> = comparison.findings.iter().filter(is_listed).collect();
    // Each measure over all clips, then its slices, the worst loss first.
    let place = |finding: &Finding| comparison.findings.iter().position(|one| one.measure == finding.measure);
    listed.sort_by(|a, b| {
        let key = |finding: &Finding| (place(finding), finding.slice.is_some());
        key(a).cmp(&key(b)).then_with(|| loss(b).total_cmp(&loss(a)))
    });
    listed.iter().take(3 * MOST_ROWS).for_each(|finding| table.row(finding_row(finding)));
    let left_out = comparison.findings.len() - listed.len().min(3 * MOST_ROWS);
    (table.without_empty_columns(), left_out as u64)
}

/// By how much the second is worse.
fn loss(finding: &Finding) -> f64 {
    let size = finding.difference.unwrap_or(f64::NEG_INFINITY);
    match find(&finding.measure).map(|measure| measure.better) {
        Some(Better::Higher) => -size,
        _ => size,
    }
}

/// A question of the table: a measure, its slice, and how many clips it is about.
struct Asked<'c> {
    measure: &'static Measure,
    slice: Option<&'c str>,
    clips: u64,
}

impl Asked<'_> {
    fn finding<'f>(&self, comparisons: &[&'f Comparison]) -> Option<&'f Finding> {
        let mut all = comparisons.iter().flat_map(|one| &one.findings);
        all.find(|finding| finding.measure == self.measure.id && finding.slice.as_deref() == self.slice)
    }
}

/// A row a variant, a column a question. A voice and how it is heard share a row.
fn side_by_side(comparisons: &[&Comparison], names: &Names<'_>) -> Table {
    let mut questions: Vec<Asked<'_>> = Vec::new();
    for finding in comparisons.iter().flat_map(|one| &one.findings) {
        let Some(measure) = find(&finding.measure) else { continue };
        let slice = finding.slice.as_deref();
        if questions.iter().all(|known| (known.measure.id, known.slice) != (measure.id, slice)) {
            questions.push(Asked { measure, slice, clips: finding.clips });
        }
    }
    // Slices of the first measure only; of many, those with a verdict.
    let first = questions.first().map(|question| question.measure.id);
    questions.retain(|question| question.slice.is_none() || Some(question.measure.id) == first);
    let sliced = questions.iter().any(|question| question.slice.is_some());
    let worst = |question: &Asked<'_>| {
        comparisons.iter().filter_map(|one| question.finding(&[*one])).map(loss).fold(f64::NEG_INFINITY, f64::max)
    };
    // The first measure over all clips, its slices with the worst loss first, then the others.
    questions.sort_by(|a, b| {
        let key = |question: &Asked<'_>| (Some(question.measure.id) != first, question.slice.is_some());
        let slices = a.slice.is_some() && b.slice.is_some();
        key(a)
            .cmp(&key(b))
            .then_with(|| if slices { worst(b).total_cmp(&worst(a)) } else { std::cmp::Ordering::Equal })
    });
    if questions.iter().filter(|question| question.slice.is_some()).count() > MOST_SLICES {
        let told = |question: &Asked<'_>| {
            comparisons.iter().any(|one| question.finding(&[*one]).is_some_and(|f| f.verdict.is_difference()))
        };
        let mut room = MOST_SLICES;
        questions.retain(|question| {
            let shown = question.slice.is_none() || room > 0 && told(question);
            room -= usize::from(shown && question.slice.is_some());
            shown
        });
    }
    let mut rows: Vec<(&str, &str, Vec<&Comparison>)> = Vec::new();
    for one in comparisons {
        let (first, second) = (names.of(&one.first), names.of(&one.second));
        match rows.iter_mut().find(|(f, s, _)| (*f, *s) == (first, second)) {
            Some((_, _, known)) => known.push(one),
            None => rows.push((first, second, vec![one])),
        }
    }
    let same = rows.iter().all(|(first, _, _)| *first == rows[0].0);
    let head = if same { format!("against {}", rows.first().map_or("", |row| row.0)) } else { "pair".to_owned() };
    let columns: Vec<String> = questions
        .iter()
        .map(|Asked { measure, slice, clips }| match slice {
            Some(slice) => format!("{} ({clips})", slice.split_once('=').map_or(*slice, |(_, value)| value)),
            None => {
                let points = if measure.unit == Unit::Share { " (pts)" } else { "" };
                let all = if sliced && Some(measure.id) == first { ", all clips" } else { "" };
                format!("{}{points}{all}", measure.name_compared())
            }
        })
        .collect();
    let ranked = columns.iter().zip(&questions).map(|(name, asked)| (name.as_str(), u8::from(asked.slice.is_some())));
    let mut table = Table::new(std::iter::once((head.as_str(), 0)).chain(ranked));
    for (first, second, own) in &rows {
        let name = if same { (*second).to_owned() } else { format!("{second} against {first}") };
        let cells = questions.iter().enumerate().map(|(at, question)| {
            question.finding(own).map_or(Cell::Empty, |finding| cell(question.measure.unit, finding, at == 0))
        });
        table.row(std::iter::once(Cell::text(name)).chain(cells));
    }
    table.without_empty_columns()
}

/// `▲ +20.3 pts`, in the first column with its interval.
fn cell(unit: Unit, finding: &Finding, whole: bool) -> Cell {
    let Some(size) = finding.difference else { return Cell::Empty };
    let read = difference_with_interval(unit, size, finding.interval.filter(|_| whole));
    Cell::Verdict(sign_of(finding.verdict), read.replace(" pts", ""))
}

/// What the signs of the table mean, those that it has.
fn signs(comparisons: &[&Comparison]) -> String {
    let findings = || comparisons.iter().flat_map(|one| &one.findings);
    let known = [Verdict::Worse, Verdict::Better, Verdict::Differs, Verdict::Alike, Verdict::CannotTell];
    let used = known.into_iter().filter(|verdict| findings().any(|finding| finding.verdict == *verdict));
    used.map(|verdict| format!("{} {}", sign_of(verdict), verdict.as_str())).collect::<Vec<_>>().join("  ")
}

/// Cautions once for all pairs they concern, cost, small slices.
fn stands_out(comparisons: &[&Comparison], names: &Names<'_>) -> Vec<String> {
    let mut lines = each_once(comparisons.iter().flat_map(|one| one.cautions.iter().cloned()));
    for one in comparisons {
        if let (Some(first), Some(second)) = (&one.first_cost, &one.second_cost) {
            lines.push(format!(
                "cost of a trial: {} {}, {} {}",
                names.of(&one.first),
                money(first.per_trial, Some(&first.currency)),
                names.of(&one.second),
                money(second.per_trial, Some(&second.currency))
            ));
        }
    }
    let withheld = comparisons.iter().flat_map(|one| &one.findings).filter(|f| f.verdict == Verdict::CannotTell);
    let mut few: Vec<&str> = withheld
        .filter(|finding| finding.unit == DrawnUnit::Clip && finding.withheld.is_some())
        .filter_map(|finding| finding.slice.as_deref())
        .collect();
    few.dedup();
    few.sort_unstable();
    few.dedup();
    if !few.is_empty() {
        let shown: Vec<&str> = few.iter().copied().take(3).collect();
        let more = few.len() - shown.len();
        let more = if more > 0 { format!(" and {more} more") } else { String::new() };
        lines.push(format!("no verdict on small slices: {}{more}", shown.join(", ")));
    }
    lines
}
