//! `fonex compare --varied`: what noise, rooms, lost packets and the like cost, recipe by recipe.

use std::path::Path;

use fonex_analysis::{Comparison, Material, Side};
use fonex_core::material::Recipe;
use fonex_core::measures::{Measure, Unit, find};
use fonex_formats::{Place, Problem};
use fonex_report::charts::{Guide, PlaneAxis, PlaneChart, PlaneForm, PlaneSeries, plane_svg};
use fonex_store::Store;

use super::compare::{Named, verdict};
use crate::failure::Failure;
use crate::output::{self, Cell, Table};

/// Recipes of a run's corpus in its order, and whether it holds clips that were not varied.
struct Recipes {
    names: Vec<String>,
    unchanged: bool,
}

/// Recipes of runs, as they were named.
pub(super) struct Varied(Vec<Recipes>);

impl Varied {
    /// Reads which recipes the corpora of the runs hold.
    pub(super) fn read(store: &Store, named: &[Named]) -> Result<Self, Failure> {
        let mut all = Vec::new();
        for one in named {
            let mut recipes = Recipes { names: Vec::new(), unchanged: false };
            for clip in store.clips(&one.view.run.corpus_checksum)? {
                match clip.recipe() {
                    Some(recipe) if !recipes.names.iter().any(|known| known == recipe) => {
                        recipes.names.push(recipe.to_owned());
                    }
                    Some(_) => {}
                    None => recipes.unchanged = true,
                }
            }
            all.push(recipes);
        }
        if !all[0].unchanged {
            let problem = Problem::new("the run has no unmodified clips", Place::default().field("--varied"));
            let remedy = "add --recipe unchanged to corpus vary, or name the run of the original corpus first";
            return Err(problem.remedy(remedy).into());
        }
        if all.iter().all(|recipes| recipes.names.is_empty()) {
            let problem = Problem::new("no clip of these runs was varied", Place::default().field("--varied"));
            return Err(problem.remedy("make a corpus with fonex corpus vary, and run it").into());
        }
        Ok(Self(all))
    }

    /// Each recipe of each variant against the same variant on the first run's clips as they are.
    pub(super) fn pairs<'n>(&'n self, named: &'n [Named]) -> Vec<(Side<'n>, Side<'n>)> {
        let mut pairs = Vec::new();
        for base in named[0].sides() {
            let base = Side { material: Material::Unchanged, ..base };
            for (one, recipes) in named.iter().zip(&self.0) {
                let sides = one.sides();
                let same =
                    |side: &&Side<'_>| side.variant.variant.name == base.variant.variant.name || sides.len() == 1;
                let Some(side) = sides.iter().find(same) else { continue };
                pairs.extend(
                    recipes.names.iter().map(|name| (base, Side { material: Material::Varied(name), ..*side })),
                );
            }
        }
        pairs
    }
}

/// One row a variant and recipe, for a terminal.
pub(super) fn recipes_table(pairs: &[(Side<'_>, Side<'_>)], comparisons: &[Comparison]) -> Table {
    let mut table = Table::new([
        ("variant", 0),
        ("recipe", 0),
        ("measure", 2),
        ("clips of", 2),
        ("clips", 2),
        ("unchanged", 1),
        ("varied", 0),
        ("difference", 0),
        ("verdict", 0),
        ("more clips", 3),
    ]);
    for ((_, second), comparison) in pairs.iter().zip(comparisons) {
        let Material::Varied(recipe) = second.material else { continue };
        for finding in &comparison.findings {
            let unit = find(&finding.measure).map_or(Unit::Ratio, |measure| measure.unit);
            table.row([
                Cell::text(second.variant.variant.name.as_str()),
                Cell::text(recipe),
                find(&finding.measure)
                    .map_or_else(|| Cell::text(finding.measure.as_str()), |m| Cell::Named(m.id, m.name_compared())),
                finding.slice.as_deref().map_or(Cell::Empty, Cell::text),
                Cell::Count(finding.clips),
                Cell::figure(unit, finding.first),
                Cell::figure(unit, finding.second),
                finding
                    .difference
                    .map_or(Cell::Empty, |difference| Cell::Difference(unit, difference, finding.interval)),
                verdict(finding.verdict),
                finding.more_clips.map_or(Cell::Empty, Cell::Count),
            ]);
        }
    }
    table.without_empty_columns()
}

/// A measure over what a step's number is, a line a variant, with the unchanged clips as dashed lines. Gives the
/// picture and the curves
/// that it leaves out; none where no number takes two values.
fn chart(
    pairs: &[(Side<'_>, Side<'_>)],
    comparisons: &[Comparison],
    measure: &Measure,
) -> Option<(String, Vec<String>)> {
    struct Point {
        variant: String,
        curve: String,
        axis: &'static str,
        x: f64,
        y: f64,
        interval: Option<(f64, f64)>,
    }
    let mut points: Vec<Point> = Vec::new();
    let mut plain: Vec<(String, f64)> = Vec::new();
    for ((first, second), comparison) in pairs.iter().zip(comparisons) {
        let Material::Varied(written) = second.material else { continue };
        let variant = second.variant.variant.name.clone();
        let finding = comparison.findings.iter().find(|f| f.measure == measure.id && f.slice.is_none());
        let Some((unchanged, y)) = finding.and_then(|f| Some((f.first?, f.second?))) else { continue };
        if !plain.iter().any(|(name, _)| *name == variant) {
            plain.push((variant.clone(), unchanged));
        }
        let own = second.variant.slices.iter().find(|slice| slice.by == "varied" && slice.value == written);
        let whole = (first.run.run.id != second.run.run.id).then_some(&second.variant.measures);
        let estimate = own.map(|slice| &slice.measures).or(whole).and_then(|measures| measures.get(measure.id));
        let interval = estimate.and_then(|estimate| estimate.interval).map(|i| (i.low, i.high));
        let Ok(recipe) = written.parse::<Recipe>() else { continue };
        points.extend(recipe.on_curves().into_iter().map(|(curve, axis, x)| Point {
            variant: variant.clone(),
            curve,
            axis,
            x,
            y,
            interval,
        }));
    }
    // A curve has two values at least; of several the one with most is drawn, and those on its axis with it.
    let values = |curve: &str| {
        let mut all: Vec<f64> = points.iter().filter(|point| point.curve == curve).map(|point| point.x).collect();
        all.sort_unstable_by(f64::total_cmp);
        all.dedup();
        all.len()
    };
    let mut curves: Vec<(&str, &'static str)> = Vec::new();
    for point in points.iter().filter(|point| values(&point.curve) > 1) {
        if !curves.contains(&(point.curve.as_str(), point.axis)) {
            curves.push((&point.curve, point.axis));
        }
    }
    let axis = curves.iter().rev().max_by_key(|(curve, _)| values(curve))?.1;
    let (drawn, left): (Vec<_>, Vec<_>) = curves.into_iter().partition(|(_, own)| *own == axis);
    let mut series = Vec::new();
    for (variant, unchanged) in &plain {
        let unchanged = fonex_report::figures::figure(measure.unit, Some(*unchanged));
        for (curve, _) in &drawn {
            let mut own: Vec<&Point> =
                points.iter().filter(|point| point.variant == *variant && point.curve == *curve).collect();
            own.sort_by(|a, b| a.x.total_cmp(&b.x));
            series.push(PlaneSeries {
                name: if drawn.len() > 1 {
                    format!("{variant} {curve} (unchanged {unchanged})")
                } else {
                    format!("{variant} (unchanged {unchanged})")
                },
                points: own.iter().map(|point| (point.x, point.y)).collect(),
                labels: Vec::new(),
                form: PlaneForm::Line,
                intervals: own.iter().map(|point| point.interval).collect(),
            });
        }
    }
    series.retain(|one| !one.points.is_empty());
    let xs = || series.iter().flat_map(|one| &one.points).map(|(x, _)| *x);
    let (low, high) = (xs().fold(f64::MAX, f64::min), xs().fold(f64::MIN, f64::max));
    let guides = plain.iter().map(|(_, y)| Guide { from: (low, *y), to: (high, *y), words: String::new() });
    let curve = if drawn.len() == 1 { format!(", {}", drawn[0].0) } else { String::new() };
    let svg = plane_svg(&PlaneChart {
        equal_units: false,
        title: format!("What it costs{curve}"),
        x: PlaneAxis { label: axis.to_owned(), ..PlaneAxis::default() },
        y: PlaneAxis {
            label: measure.name.to_owned(),
            percent: measure.unit == Unit::Share,
            from_zero: true,
            ..PlaneAxis::default()
        },
        guides: guides.collect(),
        series,
        note: "bars are 95 % intervals over clips; dashed: the same clips unchanged".into(),
    });
    Some((svg, left.into_iter().map(|(curve, _)| curve.to_owned()).collect()))
}

/// Writes the chart of the first measure asked.
pub(super) fn write_chart(
    path: &Path,
    pairs: &[(Side<'_>, Side<'_>)],
    comparisons: &[Comparison],
    measure: &Measure,
) -> Result<(), Failure> {
    let Some((svg, left)) = chart(pairs, comparisons, measure) else {
        let problem =
            Problem::new("no parameter of these recipes takes two values", Place::default().field("--output"));
        return Err(problem
            .remedy("vary the corpus at several levels, such as noise=wind:0 and noise=wind:10")
            .into());
    };
    if !left.is_empty() {
        output::caution(&format!("not in the chart (different axis): {}", left.join(", ")));
    }
    output::write_chart(path, &svg)
}
