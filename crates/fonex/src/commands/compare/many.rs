//! Every variant against every other: who beats whom, and who is on the front.

use fonex_analysis::{Asked, Comparison, Side, all_pairs, comparable, compare};
use fonex_core::measures::{Measure, find};
use fonex_core::verdict::Verdict;
use fonex_formats::{Place, Problem};
use fonex_report::folded_under;
use fonex_store::Store;
use serde::Serialize;

use super::Named;
use crate::cli::Format;
use crate::failure::{Code, Failure};
use crate::output::{self, Cell, Table, money};

/// Variants beyond which a table has no column for each.
const MOST_COLUMNS: usize = 12;

/// A group of variants that do the same, held against each other.
#[derive(Serialize, schemars::JsonSchema)]
pub(in crate::commands) struct Matrix {
    /// The variants, best first by the first measure.
    variants: Vec<String>,
    /// Every pair.
    comparisons: Vec<Comparison>,
    /// Variants that no other is at least as good as in every measure and the cost, and surely better in one.
    front: Vec<String>,
    /// For each other variant one that is.
    beaten: Vec<Beaten>,
}

#[derive(Serialize, schemars::JsonSchema)]
struct Beaten {
    variant: String,
    by: String,
}

pub(super) fn print_matrix(store: &Store, named: &[Named], asked: &Asked, form: Format) -> Result<Code, Failure> {
    let sides: Vec<Side<'_>> = named.iter().flat_map(Named::sides).collect();
    let pairs = all_pairs(&sides);
    if pairs.is_empty() {
        let problem = Problem::new("no two of these variants do the same", Place::default());
        return Err(problem.remedy("name more runs, or variants as RUN:VARIANT").into());
    }
    let comparisons = compare(store, &pairs, asked)?;
    if comparisons.iter().all(|comparison| comparison.findings.is_empty()) {
        return Err(super::nothing_to_compare().into());
    }
    let mut matrices = Vec::new();
    let mut text = String::new();
    for group in comparable(&sides).into_iter().filter(|group| group.len() > 1) {
        let names: Vec<String> = group.iter().map(Side::name).collect();
        let own = comparisons.iter().filter(|c| names.contains(&c.first) && names.contains(&c.second));
        let own: Vec<Comparison> = own.cloned().collect();
        let measures: Vec<&'static Measure> = measures_of(&own);
        let Some(first) = measures.first() else { continue };
        let mut order: Vec<&Side<'_>> = group.iter().collect();
        let value = |side: &Side<'_>| side.variant.measures.get(first.id).map_or(f64::INFINITY, |e| e.value);
        let sign = if first.better == fonex_core::measures::Better::Higher { -1.0 } else { 1.0 };
        order.sort_by(|a, b| (sign * value(a)).total_cmp(&(sign * value(b))));
        let names: Vec<String> = order.iter().map(|side| side.name()).collect();
        let beaten: Vec<Beaten> = names
            .iter()
            .filter_map(|name| {
                let by = names.iter().find(|other| beats(&own, &measures, other, name))?;
                Some(Beaten { variant: name.clone(), by: by.clone() })
            })
            .collect();
        let front: Vec<String> =
            names.iter().filter(|name| beaten.iter().all(|beaten| beaten.variant != **name)).cloned().collect();
        for measure in &measures {
            let table = matrix_table(&order, &names, &own, measure);
            let shown = if form == Format::Markdown { table.markdown() } else { output::text(&table) };
            text += &format!("{shown}\n");
        }
        text += &front_lines(&order, &measures, &front, &beaten);
        matrices.push(Matrix { variants: names, comparisons: own, front, beaten });
    }
    if form == Format::Json {
        output::print_json(&matrices)?;
    } else if form == Format::Csv {
        // A program puts the matrix together as it likes.
        output::print_table(&super::findings_table(&comparisons, true), form)?;
    } else {
        let mut cautions: Vec<&String> = comparisons.iter().flat_map(|comparison| &comparison.cautions).collect();
        cautions.sort();
        cautions.dedup();
        cautions.iter().for_each(|caution| output::caution(caution));
        output::print_lines(&text)?;
        if form == Format::Table {
            output::print_lines(&super::explained(&comparisons))?;
        }
    }
    Ok(Code::Done)
}

/// The measures that a group was asked about, without what happened to none of it.
fn measures_of(comparisons: &[Comparison]) -> Vec<&'static Measure> {
    let mut measures: Vec<&'static Measure> = Vec::new();
    for finding in comparisons.iter().flat_map(|comparison| &comparison.findings) {
        if let Some(measure) = find(&finding.measure).filter(|measure| measures.iter().all(|m| m.id != measure.id)) {
            measures.push(measure);
        }
    }
    let happened = |measure: &&Measure| {
        let own = comparisons.iter().flat_map(|comparison| &comparison.findings).filter(|f| f.measure == measure.id);
        !measure.rare || own.into_iter().any(|finding| finding.first != Some(0.0) || finding.second != Some(0.0))
    };
    if measures.len() > 1 {
        measures.retain(happened);
    }
    measures
}

/// What is known of one variant against another: the verdict on it, and by how much it is off.
fn verdict_on(comparisons: &[Comparison], measure: &Measure, one: &str, other: &str) -> Option<(Verdict, f64)> {
    comparisons.iter().find_map(|comparison| {
        let turned = comparison.first == one && comparison.second == other;
        if !(turned || comparison.first == other && comparison.second == one) {
            return None;
        }
        let finding = comparison.findings.iter().find(|f| f.measure == measure.id && f.slice.is_none())?;
        let off = finding.difference?;
        // A finding is about the second; of the first the opposite holds.
        Some(match (turned, finding.verdict) {
            (false, verdict) => (verdict, off),
            (true, Verdict::Better) => (Verdict::Worse, -off),
            (true, Verdict::Worse) => (Verdict::Better, -off),
            (true, verdict) => (verdict, -off),
        })
    })
}

/// Whether one variant is at least as good as another in everything, and surely better in something.
fn beats(comparisons: &[Comparison], measures: &[&'static Measure], one: &str, other: &str) -> bool {
    if one == other {
        return false;
    }
    let mut surely = false;
    for measure in measures {
        let Some((verdict, off)) = verdict_on(comparisons, measure, one, other) else { return false };
        let no_worse = off == 0.0 || Verdict::of(measure.better, off) != Verdict::Worse;
        if !no_worse || verdict == Verdict::Worse {
            return false;
        }
        surely |= verdict == Verdict::Better;
    }
    // What is paid is no sample: the prices decide.
    let costs = comparisons.iter().find_map(|comparison| {
        let [first, second] = [comparison.first_cost.as_ref()?, comparison.second_cost.as_ref()?];
        if first.currency != second.currency {
            return None;
        }
        match (
            comparison.first == one && comparison.second == other,
            comparison.first == other && comparison.second == one,
        ) {
            (true, _) => Some([first.per_trial, second.per_trial]),
            (_, true) => Some([second.per_trial, first.per_trial]),
            _ => None,
        }
    });
    match costs {
        Some([own, of_other]) if own > of_other => false,
        Some([own, of_other]) => surely || own < of_other,
        None => surely,
    }
}

fn matrix_table(
    sides: &[&Side<'_>],
    names: &[String],
    comparisons: &[Comparison],
    measure: &'static Measure,
) -> Table {
    let columns = sides.len() <= MOST_COLUMNS;
    let numbers: Vec<String> = (1..=sides.len()).map(|number| number.to_string()).collect();
    let against = numbers.iter().map(|number| (number.as_str(), 0)).filter(|_| columns);
    let head = [("", 0), ("variant", 0), (measure.name, 0), ("beats", 1), ("beaten by", 1)];
    let mut table = Table::new(head.into_iter().chain(against));
    for ((side, name), number) in sides.iter().zip(names).zip(&numbers) {
        let verdicts: Vec<Option<Verdict>> = names
            .iter()
            .map(|other| verdict_on(comparisons, measure, name, other).map(|(verdict, _)| verdict))
            .collect();
        let count = |wanted: Verdict| verdicts.iter().flatten().filter(|verdict| **verdict == wanted).count() as u64;
        let figure = side.variant.measures.get(measure.id);
        let cells = [
            Cell::text(number.as_str()),
            Cell::text(name.as_str()),
            figure.map_or(Cell::Empty, |figure| Cell::Estimate(measure.unit, figure.value, figure.interval)),
            Cell::Count(count(Verdict::Better)),
            Cell::Count(count(Verdict::Worse)),
        ];
        let against = verdicts.iter().map(|verdict| verdict.map_or(Cell::Empty, super::verdict));
        table.row(cells.into_iter().chain(against.filter(|_| columns)));
    }
    table
}

fn front_lines(sides: &[&Side<'_>], measures: &[&'static Measure], front: &[String], beaten: &[Beaten]) -> String {
    let mut about: Vec<&str> = measures.iter().map(|measure| measure.name).collect();
    let costs: Vec<String> = sides
        .iter()
        .filter_map(|side| {
            let cost = side.variant.cost.as_ref().filter(|cost| cost.per_trial > 0.0)?;
            Some(format!("{} {}", side.name(), money(cost.per_trial, Some(&cost.currency))))
        })
        .collect();
    if !costs.is_empty() {
        about.push("cost");
    }
    let mut lines = vec![format!("On the front of {}: {}", about.join("; "), front.join(", "))];
    lines.extend(beaten.iter().map(|Beaten { variant, by }| {
        format!("not on it: {variant}, since {by} is at least as good in each and surely better in one")
    }));
    if !costs.is_empty() {
        lines.push(format!("cost of a trial: {}", costs.join(", ")));
    }
    lines.iter().map(|line| folded_under(line, output::width(), 2)).collect::<String>() + "\n"
}
