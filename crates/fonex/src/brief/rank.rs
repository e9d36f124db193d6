//! Which variant is best in one measure, by how much, and whether that is certain: as sentences.

use fonex_analysis::{Comparison, Side};
use fonex_core::measures::{Better, Measure};
use fonex_core::verdict::{Finding, Verdict};
use fonex_report::figures::{difference, figure};

use crate::commands::compare::more_in_words;

/// Variants that are named one by one in a sentence; of more the count says more.
const MOST_NAMED: usize = 4;

/// The variants of a group in the order of one measure.
pub struct Ranking<'s> {
    measure: &'static Measure,
    /// Names for readers with their figures, the best first.
    sides: Vec<(String, Side<'s>, f64)>,
    comparisons: &'s [Comparison],
}

/// Orders a group by a measure. None if it has no direction or fewer than two variants have a figure.
pub fn ranking<'s>(
    measure: &'static Measure,
    group: &[(String, Side<'s>)],
    comparisons: &'s [Comparison],
) -> Option<Ranking<'s>> {
    let sign = match measure.better {
        Better::Lower => 1.0,
        Better::Higher => -1.0,
        Better::Neither => return None,
    };
    let figure = |side: &Side<'_>| side.variant.measures.get(measure.id).map(|estimate| estimate.value);
    let mut sides: Vec<(String, Side<'s>, f64)> =
        group.iter().filter_map(|(name, side)| Some((name.clone(), *side, figure(side)?))).collect();
    sides.sort_by(|a, b| (sign * a.2).total_cmp(&(sign * b.2)));
    (sides.len() > 1).then_some(Ranking { measure, sides, comparisons })
}

impl Ranking<'_> {
    /// Which variant has the best figure, and what is certain about the others. One sentence or two.
    #[must_use]
    pub fn sentences(&self) -> Vec<String> {
        let (name, _, value) = &self.sides[0];
        let (measure, unit) = (self.measure, self.measure.unit);
        let most = if measure.better == Better::Higher { "highest" } else { "lowest" };
        let least = if measure.better == Better::Higher { "higher" } else { "lower" };
        let read = |at: usize| figure(unit, Some(self.sides[at].2));
        let with_figure = |at: usize| format!("{} ({})", self.sides[at].0, read(at));
        let equal: Vec<usize> = (1..self.sides.len()).filter(|at| read(*at) == read(0)).collect();
        let (mut certain, mut alike, mut open) = (Vec::new(), Vec::new(), Vec::new());
        for at in (1..self.sides.len()).filter(|at| !equal.contains(at)) {
            let Some(finding) = self.finding(0, at) else { continue };
            match finding.verdict {
                Verdict::Alike => alike.push(at),
                Verdict::CannotTell => open.push((at, finding)),
                _ => certain.push(at),
            }
        }
        let all = self.sides.len() - 1;
        let mut best_of: Vec<&str> = vec![name];
        best_of.extend(equal.iter().map(|at| self.sides[*at].0.as_str()));
        let best_of =
            if best_of.len() > MOST_NAMED { format!("{} variants", best_of.len()) } else { names_in_words(&best_of) };
        if equal.len() == all {
            return vec![format!("{best_of} have the same {}.", with_value(measure, *value))];
        }
        let verb = if equal.is_empty() { "has" } else { "have" };
        let head = format!("{best_of} {verb} the {most} {}", with_value(measure, *value));
        if certain.is_empty() && alike.is_empty() && open.is_empty() {
            return vec![format!("{head}.")];
        }
        let listed = |places: &[usize]| {
            // A long list says less than its count.
            if places.len() > MOST_NAMED {
                format!("{} of {all} others", places.len())
            } else {
                names_in_words(&places.iter().map(|at| with_figure(*at)).collect::<Vec<_>>())
            }
        };
        let mut sentences = Vec::new();
        if certain.is_empty() {
            sentences.push(format!("{head}."));
        } else {
            sentences.push(format!("{head}, certainly {least} than {}.", listed(&certain)));
        }
        if !alike.is_empty() {
            let matters = alike.first().and_then(|at| self.finding(0, *at)?.matters);
            let within = matters.map_or_else(String::new, |matters| {
                format!(" within {}", difference(unit, matters).trim_start_matches('+'))
            });
            sentences.push(format!("It is alike with {}{within}.", listed(&alike)));
        }
        if let Some((at, finding)) = open.first() {
            let places: Vec<usize> = open.iter().map(|(at, _)| *at).collect();
            let verb = if open.len() == 1 { "is not" } else { "none is" };
            let others = if open.len() == 1 {
                format!("The difference from {} {verb} certain", listed(&places))
            } else {
                format!("Of the differences from {} {verb} certain", listed(&places))
            };
            let more = more_in_words(finding).map(|more| match open.len() {
                1 => format!("; {more} more clips are needed"),
                _ => format!("; for {} {more} more clips are needed", self.sides[*at].0),
            });
            sentences.push(format!("{others}{}.", more.unwrap_or_default()));
        }
        sentences
    }

    /// The finding about two variants over all clips.
    fn finding(&self, one: usize, other: usize) -> Option<&Finding> {
        // A page compares under names of its own.
        let is = |at: usize, name: &str| self.sides[at].0 == name || self.sides[at].1.name() == name;
        let own = self.comparisons.iter().find(|comparison| {
            let (first, second) = (&comparison.first, &comparison.second);
            is(one, first) && is(other, second) || is(other, first) && is(one, second)
        })?;
        own.findings.iter().find(|finding| finding.measure == self.measure.id && finding.slice.is_none())
    }
}

/// `WER, 8.4 %`, or `latency, 24.8 ms in the median`.
fn with_value(measure: &Measure, value: f64) -> String {
    let value = figure(measure.unit, Some(value));
    match measure.name.strip_suffix(MEDIAN) {
        Some(name) => format!("{name}, {value} in the median"),
        None => format!("{}, {value}", measure.name),
    }
}

/// How the names of medians end.
pub const MEDIAN: &str = ", median";

/// `a, b and c`.
#[must_use]
pub fn names_in_words(names: &[impl AsRef<str>]) -> String {
    match names {
        [] => String::new(),
        [one] => one.as_ref().to_owned(),
        [most @ .., last] => {
            let most: Vec<&str> = most.iter().map(AsRef::as_ref).collect();
            format!("{} and {}", most.join(", "), last.as_ref())
        }
    }
}
