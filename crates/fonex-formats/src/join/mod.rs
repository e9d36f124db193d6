//! Labels and results read side by side and joined by id, in memory that does not grow with their texts.
//!
//! Both files are read once, in rounds of equally many lines, a round in parts, each of which one core parses and works
//! on while its records are at hand. What has no partner yet is remembered by its place in the file and read again when
//! its partner comes, so any order works, and the common one costs nothing. Rounds follow each other without a pause.

mod crew;
mod plain;
mod refill;
mod side;
mod terms;

use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use fonex_core::{Clip, Heard, in_parallel};

use crate::lines::{Block, LineAt, Lines};
use crate::pieces::{Pieces, is_lines};
use crate::{Place, Problem, Problems, Share, corpus, heard};

use refill::{Answer, Room};
use side::{IdAt, Placed, Record, Records, Side, hash, id_at, ids, in_line, parse_lines};
pub use terms::{listed_terms, lists_terms_early};

/// Lines a round reads of each file.
const ROUND: usize = 1 << 14;
/// Lines a worker takes at once. It decides how results are grouped, so it does not depend on the machine.
const PART: usize = 1 << 12;
/// Complaints gathered before reading stops.
const MOST_PROBLEMS: usize = 100;

/// A clip and its result, if there is one.
pub type Pair = (Clip, Option<Heard>);

/// Work on clips, part by part; in a part one after the other.
pub trait PartWork: Sync {
    /// What becomes of a part.
    type Done: Send;

    /// A part of which nothing is done.
    fn begin(&self) -> Self::Done;

    /// Works on the next clip of a part, and its result, if there is one.
    fn take(&self, done: &mut Self::Done, clip: &Clip, heard: Option<&Heard>);
}

/// Works on pairs in memory.
pub fn work_on<W: PartWork>(work: &W, pairs: &[Pair]) -> W::Done {
    let mut done = work.begin();
    pairs.iter().for_each(|(clip, heard)| work.take(&mut done, clip, heard.as_ref()));
    done
}

/// A corpus and results, both read line by line, together.
pub struct Joined {
    corpus: PathBuf,
    clips: Side<Clip>,
    results: Side<Answer>,
    /// The lines of both, until they are worked through.
    lines: Option<[Lines; 2]>,
    problems: Vec<Problem>,
    share: Option<Share>,
    /// Whether each clip had its result in the same place so far.
    side_by_side: bool,
    /// Whether both had the same number of line too: the ids of one then stand for those of the other, which are not kept.
    alike: bool,
}

/// A part of a round.
enum Part<R> {
    /// Each clip had its result in the same place; the ids with their lines.
    Worked(R, SharedIds),
    /// What is to be joined yet, and what is wrong.
    Read(Records<Clip>, Records<Answer>, Vec<Problem>),
}

/// The ids of clips that have their results in the same place.
struct SharedIds {
    /// With the lines of the clips.
    of_clips: Vec<IdAt>,
    /// With the lines of the results, where these are others.
    of_results: Option<Vec<IdAt>>,
}

impl Joined {
    /// Opens both files, to read all of them or the records of a share.
    ///
    /// # Errors
    /// When a file cannot be read.
    pub fn open(corpus: &Path, heard: &Path, share: Option<Share>) -> Result<Self, Problem> {
        let (clips, clip_lines) = Side::open(corpus, share)?;
        let (results, result_lines) = Side::open(heard, share)?;
        let lines = Some([clip_lines, result_lines]);
        Ok(Self {
            corpus: corpus.to_owned(),
            clips,
            results,
            lines,
            problems: Vec::new(),
            share,
            side_by_side: true,
            alike: true,
        })
    }

    /// Works on all pairs, part by part on all cores, and on the clips without a result behind them. What becomes of each part is
    /// given to `take_in`, in an order that the files alone decide, while others are being worked on.
    ///
    /// # Errors
    /// Every [`Problem`] of both files, up to a hundred, once they have been read; what `take_in` could not do.
    pub fn work_through<W: PartWork>(
        &mut self,
        work: &W,
        mut take_in: impl FnMut(W::Done) -> Result<(), Problem>,
    ) -> Result<(), Problems> {
        let Some(lines) = self.lines.take() else { return Ok(()) };
        let pieces = [Arc::clone(&self.clips.pieces), Arc::clone(&self.results.pieces)];
        let part_of = |blocks: &[Block; 2], part| read_part([&pieces[0], &pieces[1]], blocks, part, work);
        crew::in_rounds(lines, part_of, |round| {
            let (mut clips, mut results) = (Vec::new(), Vec::new());
            for part in round {
                match part {
                    Part::Worked(done, ids) => {
                        if self.problems.is_empty() {
                            take_in(done)?;
                        }
                        self.note(&ids);
                    }
                    Part::Read(more_clips, more_results, problems) => {
                        self.side_by_side = false;
                        self.keep_ids_apart();
                        self.clips.ids.extend(&ids(&more_clips));
                        self.results.ids.extend(&ids(&more_results));
                        self.problems.extend(problems);
                        clips.extend(more_clips);
                        results.extend(more_results);
                    }
                }
            }
            if self.problems.len() >= MOST_PROBLEMS {
                return Err(Problems(std::mem::take(&mut self.problems)));
            }
            if self.problems.is_empty() && !(clips.is_empty() && results.is_empty()) {
                let joined = self.join(clips, results)?;
                in_parts(&joined, work).into_iter().try_for_each(&mut take_in)?;
            }
            Ok(())
        })?;
        self.complain_of_repeated()?;
        // A small corpus may have a share without a clip.
        if self.clips.ids.is_empty() && self.problems.is_empty() && self.share.is_none() {
            self.problems.push(corpus::no_clip(&self.corpus));
        }
        if !self.problems.is_empty() {
            return Err(Problems(std::mem::take(&mut self.problems)));
        }
        let left: Vec<Pair> = self.clips.left()?.into_iter().map(|clip| (clip, None)).collect();
        Ok(in_parts(&left, work).into_iter().try_for_each(take_in)?)
    }

    fn note(&mut self, SharedIds { of_clips, of_results }: &SharedIds) {
        if of_results.is_some() {
            self.keep_ids_apart();
        }
        if !self.alike {
            self.results.ids.extend(of_results.as_ref().unwrap_or(of_clips));
        }
        self.clips.ids.extend(of_clips);
    }

    /// Keeps the ids of results too, from the first on.
    fn keep_ids_apart(&mut self) {
        if std::mem::take(&mut self.alike) {
            self.results.ids.clone_from(&self.clips.ids);
        }
    }

    /// The ids of results that belong to no clip, in file order; known at the end.
    ///
    /// # Errors
    /// When the file cannot be read again.
    pub fn unknown(&mut self) -> Result<Vec<String>, Problem> {
        Ok(self.results.left()?.into_iter().map(|record| record.id).collect())
    }

    /// Pairs the records of a round with each other and with those that waited.
    fn join(&mut self, clips: Records<Clip>, results: Records<Answer>) -> Result<Vec<Pair>, Problem> {
        let mut pairs = Vec::with_capacity(clips.len());
        let mut results: Vec<Option<Placed<Answer>>> = results.into_iter().map(Some).collect();
        let places = results.iter().enumerate().filter_map(|(at, result)| Some((result.as_ref()?.0, at)));
        let places: HashMap<u128, usize, foldhash::fast::FixedState> = places.collect();
        for (id, line, clip) in clips {
            if let Some((.., result)) = places.get(&id).and_then(|at| results[*at].take()) {
                pairs.push((clip, Some(result.heard)));
            } else if let Some(place) = self.results.waiting.remove(&id) {
                let result = self.results.read_again(&place)?;
                pairs.push((clip, Some(result.heard)));
            } else {
                self.clips.waiting.insert(id, line);
            }
        }
        for (id, line, result) in results.into_iter().flatten() {
            if let Some(place) = self.clips.waiting.remove(&id) {
                let clip = self.clips.read_again(&place)?;
                pairs.push((clip, Some(result.heard)));
            } else {
                self.results.waiting.insert(id, line);
            }
        }
        Ok(pairs)
    }

    /// One result and one clip an id: which is known only when every id has been seen.
    fn complain_of_repeated(&mut self) -> Result<(), Problem> {
        let of_clips = self.clips.repeated();
        // Where both files name the same ids in the same order, neither repeats one that the other does not.
        let of_results = if self.side_by_side && of_clips.is_empty() {
            Vec::new()
        } else {
            self.keep_ids_apart();
            self.results.repeated()
        };
        let ids = self.clips.ids_in(of_clips.iter().flatten().copied())?;
        for (number, id, first) in alike(&of_clips, &ids) {
            let place = |line| self.clips.pieces.place(line);
            self.problems.push(corpus::taken(id, place(number), place(first)));
        }
        let ids = self.results.ids_in(of_results.iter().flatten().copied())?;
        for (number, id, _) in alike(&of_results, &ids) {
            self.problems.push(heard::second(id, self.results.pieces.place(number)));
        }
        Ok(())
    }
}

/// Of lines whose ids have one hash, those whose ids are the same: the line, its id, and the first line with it.
fn alike<'i>(lines: &'i [[u64; 2]], ids: &'i HashMap<u64, String>) -> impl Iterator<Item = (u64, &'i String, u64)> {
    lines.iter().filter_map(|[number, first]| {
        let id = ids.get(number)?;
        (ids.get(first) == Some(id)).then_some((*number, id, *first))
    })
}

/// Works on a part of a round in which clips and results go together, or parses it.
fn read_part<W: PartWork>(pieces: [&Pieces; 2], blocks: &[Block; 2], part: usize, work: &W) -> Part<W::Done> {
    let [clips, results] = blocks;
    let of_part = |block: &'_ Block| {
        let start = (part * PART).min(block.lines.len());
        start..(start + PART).min(block.lines.len())
    };
    let (clip_lines, result_lines) = (&clips.lines[of_part(clips)], &results.lines[of_part(results)]);
    if let Some((done, ids)) = work_side_by_side((clips, clip_lines), (results, result_lines), work) {
        return Part::Worked(done, ids);
    }
    let mut problems = Vec::new();
    let clips = parse_lines(clips, clip_lines, pieces[0], &mut problems);
    let results = parse_lines(results, result_lines, pieces[1], &mut problems);
    Part::Read(clips, results, problems)
}

/// Works on a part in which each clip has its result in the same place and nothing is wrong; none where that is not so.
fn work_side_by_side<W: PartWork>(
    clips: (&Block, &[LineAt]),
    results: (&Block, &[LineAt]),
    work: &W,
) -> Option<(W::Done, SharedIds)> {
    let mut done = work.begin();
    let ids = read_side_by_side(clips, results, &mut |clip, heard| work.take(&mut done, clip, Some(heard)))?;
    Some((done, ids))
}

/// Calls `with` for each clip of such a part, and its result, and gives their ids; none where it is no such part. It is read without
/// keeping more than a line of each. This stands apart from the work, so that it is compiled here and not again with each kind of it.
fn read_side_by_side(
    (clips, clip_lines): (&Block, &[LineAt]),
    (results, result_lines): (&Block, &[LineAt]),
    with: &mut dyn FnMut(&Clip, &Heard),
) -> Option<SharedIds> {
    if clip_lines.len() != result_lines.len() {
        return None;
    }
    let mut of_clips = Vec::with_capacity(clip_lines.len());
    let (mut clip, mut answer) = (Room::<Clip>::default(), Room::<Answer>::default());
    let texts = clips.texts(clip_lines)?.zip(results.texts(result_lines)?);
    for (clip_line, (clip_text, answer_text)) in clip_lines.iter().zip(texts) {
        let id = read_pair((&mut clip, clip_text?), (&mut answer, answer_text?))?;
        with(&clip.record, &answer.record.heard);
        of_clips.push(id_at(id, clip_line));
    }
    let others = clip_lines.iter().zip(result_lines).any(|(clip, result)| clip.number != result.number);
    let of_results = others.then(|| of_clips.iter().zip(result_lines).map(|(id, line)| in_line(*id, line)).collect());
    Some(SharedIds { of_clips, of_results })
}

/// Reads a clip and its result, and gives the hash of their id; none where they do not go together or anything is wrong with them.
fn read_pair(
    (clip, clip_text): (&mut Room<Clip>, &str),
    (answer, answer_text): (&mut Room<Answer>, &str),
) -> Option<u128> {
    clip.refill(clip_text).ok()?;
    answer.refill(answer_text).ok()?;
    let (clip, answer) = (&clip.record, &answer.record);
    let all_well = clip.id == answer.id && clip.check(Place::default).is_ok() && answer.check(Place::default).is_ok();
    all_well.then(|| hash(&clip.id))
}

fn in_parts<W: PartWork>(pairs: &[Pair], work: &W) -> Vec<W::Done> {
    in_parallel(&pairs.chunks(PART).collect::<Vec<_>>(), |part| work_on(work, part))
}

/// Whether both are read line by line, and so can be read together.
#[must_use]
pub fn can_join(corpus: &Path, heard: &Path) -> bool {
    is_lines(corpus) && is_lines(heard)
}

#[cfg(test)]
mod tests {
    use super::*;

    struct Collect;

    impl PartWork for Collect {
        type Done = Vec<(String, Option<String>)>;

        fn begin(&self) -> Self::Done {
            Vec::new()
        }

        fn take(&self, done: &mut Self::Done, clip: &Clip, heard: Option<&Heard>) {
            done.push((clip.id.clone(), heard.map(|heard| heard.text.clone())));
        }
    }

    /// Joins files of these ids and gives (clip, text of its result), and the unknown ids.
    fn joined(clips: &[u32], results: &[u32]) -> (Vec<(String, Option<String>)>, Vec<String>) {
        let folder = tempfile::tempdir().unwrap();
        let [corpus, heard] = ["corpus.jsonl", "heard.jsonl"].map(|name| folder.path().join(name));
        let lines = |ids: &[u32]| {
            ids.iter().map(|id| format!("{{\"id\":\"c{id}\",\"text\":\"t{id}\"}}\r\n")).collect::<String>()
        };
        std::fs::write(&corpus, lines(clips)).unwrap();
        std::fs::write(&heard, lines(results)).unwrap();
        let mut joined = Joined::open(&corpus, &heard, None).unwrap();
        let mut pairs = Vec::new();
        let take_in = |part| {
            pairs.extend(part);
            Ok(())
        };
        joined.work_through(&Collect, take_in).unwrap();
        (pairs, joined.unknown().unwrap())
    }

    #[test]
    fn any_order_over_several_rounds_joins_every_id() {
        let count = ROUND as u32 * 3 + 100;
        let clips: Vec<u32> = (0..count).collect();
        let mut results: Vec<u32> = (0..count).map(|i| (i * 7919 + 5) % count).filter(|i| i % 1000 != 3).collect();
        results.push(count + 1);
        let (pairs, unknown) = joined(&clips, &results);
        assert_eq!(unknown, [format!("c{}", count + 1)]);
        let mut seen: Vec<&str> = pairs.iter().map(|(id, _)| id.as_str()).collect();
        seen.sort_unstable();
        seen.dedup();
        assert_eq!((pairs.len(), seen.len()), (count as usize, count as usize));
        for (id, text) in &pairs {
            let number: u32 = id[1..].parse().unwrap();
            assert_eq!(text.clone(), (number % 1000 != 3).then(|| format!("t{number}")));
        }
        let missing: Vec<&str> = pairs.iter().filter(|(_, text)| text.is_none()).map(|(id, _)| id.as_str()).collect();
        assert_eq!(missing[..2], ["c3", "c1003"], "in the order of the corpus");
    }
}
