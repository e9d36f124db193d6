//! How likely a label is wrong at a place, given what every engine has there.

use std::collections::HashMap;

use super::spots::{Elsewhere, Spot};

/// The share of places at which two engines that err independently make the same mistake. Fixed where only two engines vote:
/// their agreement cannot be told from a wrong label.
pub(super) const ALIKE: f64 = 0.05;
/// An engine that errs where a label is wrong says what the wrong label says in this share of cases.
const INTO_LABEL: f64 = 0.05;
/// Prior rate at which an engine repeats another engine's mistake.
const FOLLOWS: f64 = 0.005;
/// Safety factor on the estimated rates of repeated mistakes when a label is accused.
const DOUBT: f64 = 1.5;
/// The fewest engines from which the rates of repeated mistakes can be estimated.
const FEWEST_TO_FOLLOW: usize = 3;
/// Words of the longest trap.
const LONGEST_TRAP: usize = 4;
/// Rounds of estimation; far more than it takes to settle.
const ROUNDS: usize = 200;
/// Places that the shares are worth before anything is seen, so that a few clips do not settle them.
const BEFORE: f64 = 20.0;
/// Shares before anything is seen: wrong labels, and traps.
const SHARES: [f64; 2] = [0.003, 0.02];
/// How often a trap catches an engine, before anything is seen.
const CATCHES: f64 = 0.5;

/// What is estimated of engines and labels together.
#[derive(Debug, Clone, PartialEq)]
pub struct Model {
    /// By engine: how often it errs at a place by itself.
    pub errs: Vec<f64>,
    /// `follows[i][j]`: how often engine j makes the same mistake as engine i at a place that is no trap. Engines of one family
    /// share many mistakes.
    pub follows: Vec<Vec<f64>>,
    /// How often a trap leads an engine to the common mistake.
    pub catches: f64,
    /// The share of places that are traps.
    pub traps: f64,
    /// The share of places at which the label is wrong.
    pub wrong: f64,
}

/// What happened at a place: the engines err by themselves, it is a trap, the label is wrong.
type Classes = [f64; 3];

impl Model {
    /// The chance that the label is wrong at a place.
    pub(super) fn wrong_label(&self, spot: &Spot) -> f64 {
        // One engine alone says nothing against a label.
        if spot.lead().is_none_or(|lead| lead.engines.len() < 2) {
            return 0.0;
        }
        self.classes(spot)[2]
    }

    /// The same model with higher rates of repeated mistakes ([`DOUBT`]), for accusing labels: the rates are only estimates.
    pub(super) fn doubted(&self) -> Self {
        let more = |follows: &f64| (follows * DOUBT).min(0.9);
        let mut doubted = self.clone();
        if self.errs.len() >= FEWEST_TO_FOLLOW {
            doubted.follows.iter_mut().flatten().for_each(|follows| *follows = more(follows));
        }
        doubted
    }

    fn classes(&self, spot: &Spot) -> Classes {
        shares(self.likelihoods(spot))
    }

    fn likelihoods(&self, spot: &Spot) -> Classes {
        let lead = spot.lead().map_or(&[][..], |lead| &lead.engines);
        let others = spot.others.iter().skip(1).flat_map(|version| &version.engines);
        let err = |engines: &[usize]| engines.iter().map(|engine| self.errs[*engine]).product::<f64>();
        let do_not = |engines: &[usize]| engines.iter().map(|engine| 1.0 - self.errs[*engine]).product::<f64>();
        let rest: f64 = others.map(|engine| self.errs[*engine]).product();
        let caught = self.catches.powi(lead.len() as i32) * (1.0 - self.catches).powi(spot.as_label.len() as i32);
        let into_label = INTO_LABEL.powi(spot.as_label.len() as i32);
        let [by_chance, of_trap] = elsewhere(spot.elsewhere);
        // A whole text is no trap.
        let of_trap = if spot.label.len() > LONGEST_TRAP { 0.0 } else { of_trap };
        let by_themselves = self.by_themselves(spot);
        [
            (1.0 - self.traps - self.wrong) * by_themselves * rest * by_chance,
            self.traps * caught * rest * of_trap,
            self.wrong * do_not(lead) * err(&spot.as_label) * into_label * rest * by_chance,
        ]
    }

    /// The likelihood that one engine errs here and the others repeat its mistake, maximised over the first engine.
    fn by_themselves(&self, spot: &Spot) -> f64 {
        let lead = spot.lead().map_or(&[][..], |lead| &lead.engines);
        let do_not = spot.as_label.iter().map(|engine| 1.0 - self.errs[*engine]).product::<f64>();
        let from = |first: &usize| {
            let others = lead.iter().filter(|other| *other != first);
            self.errs[*first] * others.map(|other| self.follows[*first][*other]).product::<f64>()
        };
        do_not * lead.iter().map(from).reduce(f64::max).unwrap_or(1.0)
    }

    fn clean(&self, engines: &[usize]) -> Classes {
        let product = |of: fn(f64) -> f64| engines.iter().map(|engine| of(self.errs[*engine])).product::<f64>();
        let all = engines.len() as i32;
        [
            (1.0 - self.traps - self.wrong) * product(|errs| 1.0 - errs),
            self.traps * (1.0 - self.catches).powi(all),
            self.wrong * product(|errs| errs) * INTO_LABEL.powi(all),
        ]
    }

    /// How well it explains what was seen: the logarithm of its likelihood.
    fn fits(&self, spots: &[&Spot], clean: &HashMap<Vec<usize>, f64>) -> f64 {
        let log = |classes: Classes| classes.iter().sum::<f64>().max(f64::MIN_POSITIVE).ln();
        let clean = clean.iter().map(|(engines, words)| words * log(self.clean(engines)));
        spots.iter().map(|spot| log(self.likelihoods(spot))).chain(clean).sum()
    }
}

/// How likely what other clips say is, where engines err by themselves, and where it is a trap.
///
/// By themselves they err alike in about as many clips as chance has it (Poisson). How often a trap works elsewhere is not
/// known at all: every share is as likely, so that every number of clips is.
fn elsewhere(seen: Elsewhere) -> [f64; 2] {
    let mut by_chance = (-seen.by_chance).exp();
    let mut clip = 1.0;
    while clip <= seen.again {
        by_chance *= seen.by_chance / clip;
        clip += 1.0;
    }
    [by_chance.max(f64::MIN_POSITIVE), 1.0 / (seen.clips.max(seen.again) + 1.0)]
}

fn shares(classes: Classes) -> Classes {
    let sum: f64 = classes.iter().sum();
    if sum > 0.0 { classes.map(|class| class / sum) } else { [1.0, 0.0, 0.0] }
}

/// Estimates the model from all places: those at which some engine differs, and how many words each set of engines hears as
/// the label has them.
///
/// What is found depends on where the search starts: of several starts the one that explains most is taken.
pub(super) fn fit(engines: usize, spots: &[&Spot], clean: &HashMap<Vec<usize>, f64>) -> Model {
    let starts = [(0.3, 0.03, FOLLOWS), (0.5, 0.003, FOLLOWS), (0.3, 0.003, FOLLOWS), (0.3, 0.003, 0.3)];
    let fitted = starts.map(|(catches, wrong, follows)| {
        let start = Model {
            errs: vec![0.1; engines],
            follows: vec![vec![follows; engines]; engines],
            catches,
            traps: SHARES[1],
            wrong,
        };
        let model = fit_from(start, engines, spots, clean);
        (model.fits(spots, clean), model)
    });
    let best = fitted.into_iter().reduce(|best, other| if other.0 > best.0 { other } else { best });
    best.expect("there are starts").1
}

fn fit_from(mut model: Model, engines: usize, spots: &[&Spot], clean: &HashMap<Vec<usize>, f64>) -> Model {
    for _ in 0..ROUNDS {
        let mut erred = vec![[BEFORE * 0.1, BEFORE]; engines];
        let mut caught = [BEFORE * CATCHES, BEFORE];
        let mut followed = vec![vec![[BEFORE * FOLLOWS, BEFORE]; engines]; engines];
        let mut of = [BEFORE * (1.0 - SHARES[0] - SHARES[1]), BEFORE * SHARES[1], BEFORE * SHARES[0]];
        for spot in spots {
            let classes = model.classes(spot);
            of.iter_mut().zip(classes).for_each(|(sum, class)| *sum += class);
            let lead = spot.lead().map_or(&[][..], |lead| &lead.engines);
            let mut count = |engines: &[usize], [by_itself, wrong]: [f64; 2]| {
                for engine in engines {
                    erred[*engine][0] += classes[0] * by_itself + classes[2] * wrong;
                    erred[*engine][1] += classes[0] + classes[2];
                }
            };
            count(&spot.as_label, [0.0, 1.0]);
            count(lead, [1.0, 0.0]);
            spot.others.iter().skip(1).for_each(|version| count(&version.engines, [1.0, 1.0]));
            let erring = spot.others.iter().flat_map(|version| &version.engines);
            for first in erring.clone() {
                let alike = spot.others.iter().find(|version| version.engines.contains(first));
                for other in erring.clone().chain(&spot.as_label).filter(|other| *other != first) {
                    let follows = alike.is_some_and(|version| version.engines.contains(other));
                    followed[*first][*other][0] += classes[0] * f64::from(u8::from(follows));
                    followed[*first][*other][1] += classes[0];
                }
            }
            caught[0] += classes[1] * lead.len() as f64;
            caught[1] += classes[1] * (lead.len() + spot.as_label.len()) as f64;
        }
        for (engines, words) in clean {
            let classes = shares(model.clean(engines));
            of.iter_mut().zip(classes).for_each(|(sum, class)| *sum += class * words);
            engines.iter().for_each(|engine| erred[*engine][1] += (classes[0] + classes[2]) * words);
            caught[1] += classes[1] * words * engines.len() as f64;
        }
        let all: f64 = of.iter().sum();
        model = Model {
            errs: erred.iter().map(|[erred, of]| (erred / of).clamp(1e-6, 0.9)).collect(),
            follows: (0..engines)
                .map(|first| {
                    let estimated = |other: usize| followed[first][other][0] / followed[first][other][1];
                    let independent = |other: usize| model.errs[other] * ALIKE;
                    let rate = |other| if engines < FEWEST_TO_FOLLOW { independent(other) } else { estimated(other) };
                    (0..engines).map(rate).collect()
                })
                .collect(),
            // Beyond this a trap is what a wrong label is, and cannot be told from one.
            catches: (caught[0] / caught[1]).clamp(0.05, 0.8),
            traps: of[1] / all,
            wrong: of[2] / all,
        };
    }
    model
}
