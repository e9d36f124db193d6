//! The character edits of a comparison whose words are aligned already.

use super::clip_score::NumberedStep;
use crate::align::{Aligner, Edit, EditCounts};
use crate::text::Joined;

/// Steps from which on a text is cut: below, counting it whole costs little.
const LONG: usize = 4096;
/// Steps of a stretch, about.
const STRETCH: usize = 512;
/// Characters of words heard right one after the other in whose middle a text may be cut.
const ANCHOR: usize = 24;

/// Counts the character edits of a comparison. Of a short text they are the fewest there are. A long one is counted stretch by
/// stretch, cut in the middle of the longest run of words heard right there is about every five hundred words: the counts are
/// those of an alignment that pairs the words there, whose edits are never fewer than the fewest, and the same wherever no
/// cheaper alignment of the whole leads past a cut. Cost grows with the text, where enough of it is right to be cut.
pub(super) fn count_characters(
    aligner: &mut Aligner,
    steps: &[NumberedStep],
    said: &Joined,
    heard: &Joined,
) -> EditCounts {
    if steps.len() >= LONG {
        return count_in_stretches(aligner, steps, said, heard, STRETCH);
    }
    if said.is_plain() && heard.is_plain() {
        return aligner.count_ascii(said.text(), heard.text());
    }
    aligner.count_characters(said.text(), heard.text())
}

fn count_in_stretches(
    aligner: &mut Aligner,
    steps: &[NumberedStep],
    said: &Joined,
    heard: &Joined,
    stretch: usize,
) -> EditCounts {
    let mut counts = EditCounts::default();
    let mut from = [0, 0];
    for cut in cuts(steps, said, stretch).chain([[said.words(), heard.words()]]) {
        let stretch = [said.stretch(from[0]..cut[0]), heard.stretch(from[1]..cut[1])];
        counts += aligner.count_characters(stretch[0], stretch[1]);
        // The space between two stretches, which both sides have.
        counts.correct += u64::from(from != [0, 0]);
        from = cut;
    }
    counts
}

/// Where to cut: so many words said and so many heard stand before.
fn cuts(steps: &[NumberedStep], said: &Joined, stretch: usize) -> impl Iterator<Item = [usize; 2]> {
    let (mut at, mut words) = (0, [0, 0]);
    std::iter::from_fn(move || {
        // The longest run of those that begin in the second half of the stretch, or the first there is behind.
        let start = at;
        let mut best: Option<(usize, [usize; 2], usize)> = None;
        let mut run: Option<[usize; 2]> = None;
        while at < steps.len() && (at < start + stretch || best.is_none() || run.is_some()) {
            let step = &steps[at];
            if step.edit == Edit::Correct {
                if at >= start + stretch / 2 || run.is_some() {
                    run.get_or_insert(words);
                }
            } else if let Some(began) = run.take() {
                best = best.max(anchor(said, began, words[0], at));
            }
            words[0] += usize::from(step.said.is_some());
            words[1] += usize::from(step.heard.is_some());
            at += 1;
            // A run without an end is as good as any.
            if let Some(began) = run.filter(|began| words[0] - began[0] >= stretch) {
                best = best.max(anchor(said, began, words[0], at));
                run = None;
            }
        }
        let (_, cut, _) = best?;
        Some(cut)
    })
}

/// The middle of a run of words heard right from `began` to before word `end`; none where it is too short.
fn anchor(said: &Joined, began: [usize; 2], end: usize, at: usize) -> Option<(usize, [usize; 2], usize)> {
    let length = said.stretch(began[0]..end).len();
    let half = (end - began[0]) / 2;
    (length >= ANCHOR && half > 0).then_some((length, [began[0] + half, began[1] + half], at))
}

#[cfg(test)]
mod tests {
    use rand::{RngExt, SeedableRng};
    use rand_pcg::Pcg64Mcg;

    use super::*;
    use crate::accuracy::clip_score::Comparer;
    use crate::text::{Label, TextProfile};

    /// A text of random words and what was heard of it.
    fn texts(words: usize, wrong: f64, vocabulary: usize, seed: u64) -> [String; 2] {
        let mut random = Pcg64Mcg::seed_from_u64(seed);
        let spelled = |n: usize| {
            let letters = "aeiounrtslmdkgpb".as_bytes();
            (0..2 + n % 5).map(|i| char::from(letters[(n * 31 + i * 7 + n / 16) % 16])).collect::<String>()
        };
        let (mut said, mut heard) = (Vec::new(), Vec::new());
        for _ in 0..words {
            let word = spelled(random.random_range(0..vocabulary));
            let other = spelled(random.random_range(0..vocabulary));
            if random.random_bool(wrong) {
                match random.random_range(0..4) {
                    0 => {}
                    1 => heard.extend([word.clone(), other]),
                    _ => heard.push(other),
                }
            } else {
                heard.push(word.clone());
            }
            said.push(word);
        }
        [said.join(" "), heard.join(" ")]
    }

    /// The slow twin counts the whole text at once.
    #[test]
    fn stretches_come_to_what_the_whole_does() {
        let profile = TextProfile::shipped("verbatim").unwrap();
        let mut unlike = 0;
        for (seed, wrong) in [0.0, 0.02, 0.12, 0.3, 0.5, 0.8, 1.0].into_iter().cycle().take(70).enumerate() {
            let vocabulary = [5, 40, 4_000][seed % 3];
            let [said, heard] = texts(600, wrong, vocabulary, seed as u64);
            let mut comparer = Comparer::default();
            comparer.compare(&profile, &Label::parse(&said).unwrap(), &heard);
            let whole = comparer.characters;
            let mut aligner = Aligner::default();
            let parted =
                count_in_stretches(&mut aligner, &comparer.steps, &comparer.said_text, &comparer.heard_text, 40);
            assert_eq!(parted.reference(), said.len() as u64, "every character is counted");
            assert_eq!(parted.heard(), heard.len() as u64);
            assert!(parted.errors() >= whole.errors());
            unlike += parted.errors() - whole.errors();
        }
        assert_eq!(unlike, 0);
    }
}
