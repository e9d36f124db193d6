//! How likely a label is wrong at a place, given what every engine has there.

use std::collections::HashMap;

use super::spots::{Elsewhere, Spot};

/// Two engines that err at one place, each by itself, err alike in this share of cases; so it is taken of two engines that have no
/// third beside them.
pub(super) const ALIKE: f64 = 0.05;
/// An engine that errs where a label is wrong says what the wrong label says in this share of cases.
const INTO_LABEL: f64 = 0.05;
/// How often an engine follows another one's mistake, before anything is seen.
const FOLLOWS: f64 = 0.005;
/// A label is accused only if it is more likely wrong than right even where engines follow each other so many times as often as
/// is estimated.
const DOUBT: f64 = 1.5;
/// Engines from which it can be seen how often they err alike: of two, both or one are against a label.
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
    /// By two engines: how often the second makes the mistake that the first one makes at a place, though the words are no trap
    /// elsewhere. Engines of one family err alike.
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

    /// The same where engines follow each other more often than is estimated: what is estimated is not known, and a label is
    /// accused only if it is more likely wrong than right all the same.
    pub(super) fn doubted(&self) -> Self {
        let more = |follows: &f64| (follows * DOUBT).min(0.9);
        let follows = if self.errs.len() < FEWEST_TO_FOLLOW {
            self.follows.clone()
        } else {
            self.follows.iter().map(|row| row.iter().map(more).collect()).collect()
        };
        Self { follows, ..self.clone() }
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

    /// How likely it is that the engines err here, one by itself and others as it does: from the engine that explains most.
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
                    let rate = |other: usize| match engines < FEWEST_TO_FOLLOW {
                        true => model.errs[other] * ALIKE,
                        false => followed[first][other][0] / followed[first][other][1],
                    };
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
