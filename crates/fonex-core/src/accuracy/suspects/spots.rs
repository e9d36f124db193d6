//! The places at which some engine differs from the label, and what each engine has there.

use super::{Voter, WordStep};
use crate::align::{Edit, count_edits};

/// A place of a label at which some engine differs.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Spot {
    /// The first word of the label that belongs to it.
    pub(super) from: usize,
    /// Behind its last word.
    pub(super) to: usize,
    /// What the label says.
    pub(super) label: Vec<String>,
    /// Engines that have what the label says.
    pub(super) as_label: Vec<usize>,
    /// What others have, most engines first.
    pub(super) others: Vec<Version>,
    /// What other clips say of it.
    pub(super) elsewhere: Elsewhere,
}

/// Whether engines put the same in place of a label's words in other clips too. A word that sounds like another does so
/// wherever it is said; a slip of the pen is made once.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub(super) struct Elsewhere {
    /// Other clips in which it could have happened.
    pub(super) clips: f64,
    /// Those in which it did.
    pub(super) again: f64,
    /// Those in which it would by chance, were engines to err by themselves.
    pub(super) by_chance: f64,
}

/// What some engines have in place of the label's words.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Version {
    pub(super) words: Vec<String>,
    pub(super) engines: Vec<usize>,
}

impl Spot {
    /// What most engines have that differ.
    pub(super) fn lead(&self) -> Option<&Version> {
        self.others.first()
    }

    /// Errors that each engine has here too many, were what most have right. An engine that has what the label says
    /// has too few.
    pub(super) fn added(&self) -> impl Iterator<Item = (usize, f64)> + '_ {
        let truth = self.lead().map_or(&[][..], |lead| &lead.words);
        let errors = |said: &[String], heard: &[String]| count_edits(said, heard).errors() as f64;
        let off = move |heard: &[String]| errors(&self.label, heard) - errors(truth, heard);
        let as_label = self.as_label.iter().map(move |engine| (*engine, off(&self.label)));
        as_label.chain(
            self.others
                .iter()
                .flat_map(move |version| version.engines.iter().map(move |engine| (*engine, off(&version.words)))),
        )
    }
}

/// The words of the label, in the reading that was compared.
pub(super) fn said(voter: &Voter) -> Vec<&str> {
    voter.steps.iter().filter_map(|step| step.said.as_deref()).collect()
}

/// Voters that were compared with one reading of the label: that of the one with the fewest errors. Those that were held
/// against another reading are left out.
pub(super) fn of_one_reading(voters: &[Voter]) -> Vec<&Voter> {
    let errors = |voter: &&Voter| voter.steps.iter().filter(|step| step.edit != Edit::Correct).count();
    let Some(best) = voters.iter().min_by_key(errors) else { return Vec::new() };
    let reading = said(best);
    voters.iter().filter(|voter| said(voter) == reading).collect()
}

/// What a voter has at each word of the label, and before it: two more than twice the words, places between words first.
fn elements(voter: &Voter, words: usize) -> Vec<Vec<String>> {
    let mut elements: Vec<Vec<String>> = vec![Vec::new(); 2 * words + 1];
    let mut next = 0;
    for WordStep { said, heard, .. } in &voter.steps {
        let at = if said.is_some() { 2 * next + 1 } else { 2 * next };
        next += usize::from(said.is_some());
        elements[at].extend(heard.as_ref().map(|heard| heard.as_str().to_owned()));
    }
    elements
}

/// A label that is another text altogether: two engines differ from it in more than half of its words, and from each other in
/// less than a third of that. Small errors of theirs would hide it word by word, so it is one place; engines within that
/// distance agree, in the words of the one that is nearest to all.
pub(super) fn another_text(voters: &[&Voter]) -> Option<Spot> {
    let label: Vec<String> = said(voters[0]).into_iter().map(str::to_owned).collect();
    let heard: Vec<Vec<String>> = voters
        .iter()
        .map(|voter| voter.steps.iter().filter_map(|step| Some(step.heard.as_ref()?.as_str().to_owned())).collect())
        .collect();
    let far: Vec<u64> = heard.iter().map(|heard| count_edits(&label, heard).errors()).collect();
    let off = |at: &usize| far[*at] * 2 > label.len() as u64 && far[*at] >= 3;
    let agrees = |one: usize, other: usize| {
        one == other || count_edits(&heard[one], &heard[other]).errors() * 3 < far[one].min(far[other])
    };
    let all: Vec<usize> = (0..voters.len()).filter(off).collect();
    let with = |one: usize| all.iter().copied().filter(|other| agrees(one, *other)).collect::<Vec<_>>();
    let lead = all.iter().copied().map(with).max_by_key(Vec::len).filter(|lead| lead.len() > 1)?;
    let distance =
        |one: usize| lead.iter().map(|other| count_edits(&heard[one], &heard[*other]).errors()).sum::<u64>();
    let middle = lead.iter().copied().min_by_key(|one| distance(*one))?;
    let engines = |places: &[usize]| places.iter().map(|place| voters[*place].engine).collect::<Vec<_>>();
    let mut others = vec![Version { words: heard[middle].clone(), engines: engines(&lead) }];
    let rest = (0..voters.len()).filter(|place| !lead.contains(place));
    others.extend(rest.map(|place| Version { words: heard[place].clone(), engines: engines(&[place]) }));
    Some(Spot { from: 0, to: label.len(), label, as_label: Vec::new(), others, elsewhere: Elsewhere::default() })
}

/// The places at which some voter differs, and how many words nobody differs at.
pub(super) fn spots(voters: &[&Voter]) -> (Vec<Spot>, usize) {
    let label = said(voters[0]);
    let words = label.len();
    let all: Vec<Vec<Vec<String>>> = voters.iter().map(|voter| elements(voter, words)).collect();
    let as_label = |at: usize, has: &[String]| {
        if at.is_multiple_of(2) { has.is_empty() } else { has.len() == 1 && has[0] == label[at / 2] }
    };
    let disputed: Vec<bool> =
        (0..=2 * words).map(|at| all.iter().any(|elements| !as_label(at, &elements[at]))).collect();
    let mut found = Vec::new();
    let mut at = 0;
    while at <= 2 * words {
        if !disputed[at] {
            at += 1;
            continue;
        }
        // A word belongs with what stands beside it, and not with the next word.
        let start = at;
        while at <= 2 * words && disputed[at] {
            at += 1;
        }
        let (from, to) = (start / 2, at / 2);
        let own = label[from..to].iter().map(|word| (*word).to_owned()).collect();
        let mut spot =
            Spot { from, to, label: own, as_label: Vec::new(), others: Vec::new(), elsewhere: Elsewhere::default() };
        for (voter, elements) in voters.iter().zip(&all) {
            let has: Vec<String> = elements[start..at].concat();
            if has == spot.label {
                spot.as_label.push(voter.engine);
            } else if let Some(version) = spot.others.iter_mut().find(|version| version.words == has) {
                version.engines.push(voter.engine);
            } else {
                spot.others.push(Version { words: has, engines: vec![voter.engine] });
            }
        }
        spot.others.sort_by_key(|version| std::cmp::Reverse(version.engines.len()));
        found.push(spot);
    }
    let undisputed = (0..words).filter(|word| !disputed[2 * word + 1]).count();
    (found, undisputed)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::accuracy::score_clip;
    use crate::text::{Label, TextProfile};

    fn voter(engine: usize, label: &str, heard: &str) -> Voter {
        let profile = TextProfile::shipped("neutral").unwrap();
        Voter { engine, steps: score_clip(&profile, &Label::parse(label).unwrap(), heard).steps }
    }

    fn spots_of(label: &str, heard: [&str; 3]) -> (Vec<Spot>, usize) {
        let voters: Vec<Voter> = (0..).zip(heard).map(|(engine, heard)| voter(engine, label, heard)).collect();
        let voters: Vec<&Voter> = voters.iter().collect();
        spots(&voters)
    }

    #[test]
    fn by_hand() {
        let heard = ["hold at pylon ten", "hold it pylon ten now", "so hold at pylon six now"];
        let (found, undisputed) = spots_of("hold at pylon six now", heard);
        let shown: Vec<(String, String, Vec<usize>, Vec<usize>)> = found
            .iter()
            .map(|spot| {
                let lead = spot.lead().unwrap();
                (spot.label.join(" "), lead.words.join(" "), lead.engines.clone(), spot.as_label.clone())
            })
            .collect();
        let spot =
            |label: &str, lead: &str, engines, as_label| (label.to_owned(), lead.to_owned(), engines, as_label);
        assert_eq!(
            shown,
            [
                spot("", "so", vec![2], vec![0, 1]),
                spot("at", "it", vec![1], vec![0, 2]),
                spot("six", "ten", vec![0, 1], vec![2]),
                spot("now", "", vec![0], vec![1, 2]),
            ]
        );
        assert_eq!(undisputed, 2);
        // Were "ten" right in place of "six", the first two had one error too many each, and the third one too few.
        let added: Vec<(usize, f64)> = found[2].added().collect();
        assert_eq!(added, [(2, -1.0), (0, 1.0), (1, 1.0)]);
    }

    #[test]
    fn voters_of_another_reading_are_left_out() {
        let label = "we are {going to|gonna} hold";
        let voters = [
            voter(0, label, "we are gonna hold"),
            voter(1, label, "we are going to hold"),
            voter(2, label, "we are gonna fold"),
        ];
        let kept: Vec<usize> = of_one_reading(&voters).iter().map(|voter| voter.engine).collect();
        assert_eq!(kept, [0, 2]);
    }
}
