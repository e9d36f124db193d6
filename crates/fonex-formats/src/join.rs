//! Labels and results read side by side and joined by id, in memory that does not grow with their texts.
//!
//! Both files are read once, in rounds of equally many lines, a round in parts, each of which one core parses and works
//! on while its records are at hand. What has no partner yet is remembered by its place in the file and read again when
//! its partner comes, so any order works, and the common one costs nothing.

use std::collections::HashMap;
use std::fs::File;
use std::hash::BuildHasher;
use std::io::{Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};

use foldhash::quality::FixedState;
use fonex_core::{Clip, Heard};
use serde::de::DeserializeOwned;

use crate::corpus::{self, check_clip};
use crate::heard::{self, check_record};
use crate::lines::{Block, LineAt, Lines, as_text};
use crate::{HeardRecord, Place, Problem, Problems, in_parallel, parse_strict};

/// Lines a round reads of each file.
const ROUND: usize = 1 << 15;
/// Lines a worker takes at once. It decides how results are grouped, so it does not depend on the machine.
const PART: usize = 1 << 12;
/// Complaints gathered before reading stops.
const MOST_PROBLEMS: usize = 100;

/// A clip and its result, if there is one.
pub type Pair = (Clip, Option<Heard>);

/// A corpus and a results file, both JSON Lines, read together.
pub struct Joined {
    clips: Side<Clip>,
    results: Side<HeardRecord>,
    problems: Vec<Problem>,
    /// The next lines of both files, read while the ones before were worked on.
    ahead: Option<Result<[Block; 2], Problem>>,
    ended: bool,
}

/// A record with its hashed id and the line it stands in.
type Placed<T> = (u128, LineAt, T);
/// Records of a block, in order.
type Records<T> = Vec<Placed<T>>;

/// A part of a round.
enum Part<R> {
    /// Each clip had its result in the same place; the ids with their lines.
    Worked(R, [Vec<(u128, u64)>; 2]),
    /// What is to be joined yet, and what is wrong.
    Read(Records<Clip>, Records<HeardRecord>, Vec<Problem>),
}

/// One of the two files.
struct Side<T> {
    path: PathBuf,
    lines: Lines,
    /// A second handle, to read lines again.
    again: File,
    /// Records without a partner so far, by their ids' hash.
    waiting: HashMap<u128, LineAt, foldhash::fast::FixedState>,
    /// The hash of every id, and the line it stands in.
    ids: Vec<(u128, u64)>,
    read: std::marker::PhantomData<T>,
}

/// What both records have.
trait Record: DeserializeOwned + Send + Sync {
    fn id(&self) -> &str;
    fn check(&self, place: &Place) -> Result<(), Problem>;
}

impl Record for Clip {
    fn id(&self) -> &str {
        &self.id
    }

    fn check(&self, place: &Place) -> Result<(), Problem> {
        check_clip(self, place)
    }
}

impl Record for HeardRecord {
    fn id(&self) -> &str {
        &self.id
    }

    fn check(&self, place: &Place) -> Result<(), Problem> {
        check_record(self, place)
    }
}

fn hash(id: &str) -> u128 {
    let half = |seed| u128::from(FixedState::with_seed(seed).hash_one(id));
    half(1) << 64 | half(2)
}

fn parse_record<T: Record>(text: &str, path: &Path, number: u64) -> Result<T, Problem> {
    // The strict reader knows the field of a fault; it is asked only when there is one.
    serde_json::from_str(text).or_else(|_| parse_strict(text, Place::line(path, number)))
}

/// The records of some lines. What is wrong in a record does not hide its id.
fn parse_lines<T: Record>(block: &Block, lines: &[LineAt], path: &Path, problems: &mut Vec<Problem>) -> Records<T> {
    let mut records = Vec::with_capacity(lines.len());
    for line in lines {
        match block.text(line, path).and_then(|text| parse_record::<T>(text, path, line.number)) {
            Ok(record) => {
                problems.extend(record.check(&Place::line(path, line.number)).err());
                records.push((hash(record.id()), *line, record));
            }
            Err(problem) => problems.push(problem),
        }
    }
    records
}

fn ids<T>(records: &Records<T>) -> Vec<(u128, u64)> {
    records.iter().map(|(id, line, _)| (*id, line.number)).collect()
}

impl<T: Record> Side<T> {
    fn open(path: &Path) -> Result<Self, Problem> {
        Ok(Self {
            path: path.to_owned(),
            lines: Lines::open(path)?,
            again: File::open(path).map_err(|error| Problem::io("read", path, &error))?,
            waiting: HashMap::default(),
            ids: Vec::new(),
            read: std::marker::PhantomData,
        })
    }

    /// Reads a line again.
    fn read_again(&mut self, line: &LineAt) -> Result<T, Problem> {
        let mut bytes = vec![0; line.length()];
        let read = self.again.seek(SeekFrom::Start(line.offset)).and_then(|_| self.again.read_exact(&mut bytes));
        read.map_err(|error| Problem::io("read", &self.path, &error))?;
        parse_record(as_text(&bytes, &self.path, line.number)?, &self.path, line.number)
    }

    /// The lines left waiting, in file order, read again.
    fn left(&mut self) -> Result<Vec<T>, Problem> {
        let mut left: Vec<LineAt> = self.waiting.drain().map(|(_, line)| line).collect();
        left.sort_unstable_by_key(|line| line.number);
        left.iter().map(|line| self.read_again(line)).collect()
    }

    /// The id in a line, found by reading the file once more.
    fn id_in(&self, number: u64) -> Result<String, Problem> {
        let mut lines = Lines::open(&self.path)?;
        while let Some((at, text)) = lines.next()? {
            if at == number {
                return parse_record::<T>(text, &self.path, number).map(|record| record.id().to_owned());
            }
        }
        Ok(String::new())
    }

    /// Lines that repeat an id, each with the line of its first.
    fn repeated(&mut self) -> Vec<(u64, u64)> {
        self.ids.sort_unstable();
        let mut repeated: Vec<(u64, u64)> = Vec::new();
        for ids in self.ids.chunk_by(|a, b| a.0 == b.0).filter(|ids| ids.len() > 1) {
            repeated.extend(ids[1..].iter().map(|(_, line)| (*line, ids[0].1)));
        }
        repeated.sort_unstable();
        repeated.truncate(MOST_PROBLEMS);
        repeated
    }
}

impl Joined {
    /// Opens both files.
    ///
    /// # Errors
    /// When a file cannot be read.
    pub fn open(corpus: &Path, heard: &Path) -> Result<Self, Problem> {
        Ok(Self {
            clips: Side::open(corpus)?,
            results: Side::open(heard)?,
            problems: Vec::new(),
            ahead: None,
            ended: false,
        })
    }

    /// Works on the next pairs, part by part on all cores; none at the end, when the clips without a result have been
    /// given as well. `meanwhile` is called once, beside the work where there is any.
    ///
    /// # Errors
    /// Every [`Problem`] of both files, up to a hundred, once they have been read.
    pub fn next_round<R: Send>(
        &mut self,
        work: impl Fn(&[Pair]) -> R + Sync,
        meanwhile: impl FnOnce() + Send,
    ) -> Result<Option<Vec<R>>, Problems> {
        let mut meanwhile = Some(meanwhile);
        let result = self.next_round_beside(work, &mut meanwhile);
        if let Some(meanwhile) = meanwhile {
            meanwhile();
        }
        result
    }

    fn next_round_beside<R: Send>(
        &mut self,
        work: impl Fn(&[Pair]) -> R + Sync,
        meanwhile: &mut Option<impl FnOnce() + Send>,
    ) -> Result<Option<Vec<R>>, Problems> {
        while !self.ended {
            let [block, answers] = match self.ahead.take() {
                Some(read) => read?,
                None => next_blocks(&mut self.clips.lines, &mut self.results.lines)?,
            };
            if block.lines.is_empty() && answers.lines.is_empty() {
                self.ended = true;
                self.complain_of_repeated()?;
                if self.clips.ids.is_empty() && self.problems.is_empty() {
                    self.problems.push(corpus::no_clip(&self.clips.path));
                }
                if !self.problems.is_empty() {
                    break;
                }
                let left: Vec<Pair> = self.clips.left()?.into_iter().map(|clip| (clip, None)).collect();
                return Ok(Some(in_parts(&left, work)));
            }
            let Self { clips, results, .. } = self;
            let (paths, lines) = ([&clips.path, &results.path], (&mut clips.lines, &mut results.lines));
            let (parts, ahead) = std::thread::scope(|scope| {
                let ahead = scope.spawn(|| next_blocks(lines.0, lines.1));
                if let Some(meanwhile) = meanwhile.take() {
                    scope.spawn(meanwhile);
                }
                let parts = read_parts(paths, &block, &answers, &work);
                (parts, ahead.join().expect("reading does not panic"))
            });
            self.ahead = Some(ahead);
            let (mut worked, mut clips, mut results) = (Vec::with_capacity(parts.len()), Vec::new(), Vec::new());
            for part in parts {
                match part {
                    Part::Worked(result, [clip_ids, result_ids]) => {
                        worked.push(result);
                        self.clips.ids.extend(clip_ids);
                        self.results.ids.extend(result_ids);
                    }
                    Part::Read(more_clips, more_results, problems) => {
                        self.clips.ids.extend(ids(&more_clips));
                        self.results.ids.extend(ids(&more_results));
                        self.problems.extend(problems);
                        clips.extend(more_clips);
                        results.extend(more_results);
                    }
                }
            }
            if self.problems.len() >= MOST_PROBLEMS {
                return Err(Problems(std::mem::take(&mut self.problems)));
            }
            if self.problems.is_empty() {
                let joined = self.join(clips, results)?;
                worked.extend(in_parts(&joined, work));
                return Ok(Some(worked));
            }
        }
        if self.problems.is_empty() { Ok(None) } else { Err(Problems(std::mem::take(&mut self.problems))) }
    }

    /// The ids of results that belong to no clip, in file order; known at the end.
    ///
    /// # Errors
    /// When the file cannot be read again.
    pub fn unknown(&mut self) -> Result<Vec<String>, Problem> {
        Ok(self.results.left()?.into_iter().map(|record| record.id).collect())
    }

    /// Pairs the records of a round with each other and with those that waited.
    fn join(&mut self, clips: Records<Clip>, results: Records<HeardRecord>) -> Result<Vec<Pair>, Problem> {
        let mut pairs = Vec::with_capacity(clips.len());
        let mut results: Vec<Option<Placed<HeardRecord>>> = results.into_iter().map(Some).collect();
        let places = results.iter().enumerate().filter_map(|(at, result)| Some((result.as_ref()?.0, at)));
        let places: HashMap<u128, usize, foldhash::fast::FixedState> = places.collect();
        for (id, line, clip) in clips {
            if let Some((.., result)) = places.get(&id).and_then(|at| results[*at].take()) {
                pairs.push((clip, Some(result.into_heard().1)));
            } else if let Some(place) = self.results.waiting.remove(&id) {
                let result = self.results.read_again(&place)?;
                pairs.push((clip, Some(result.into_heard().1)));
            } else {
                self.clips.waiting.insert(id, line);
            }
        }
        for (id, line, result) in results.into_iter().flatten() {
            if let Some(place) = self.clips.waiting.remove(&id) {
                let clip = self.clips.read_again(&place)?;
                pairs.push((clip, Some(result.into_heard().1)));
            } else {
                self.results.waiting.insert(id, line);
            }
        }
        Ok(pairs)
    }

    /// One result and one clip an id: which is known only when every id has been seen.
    fn complain_of_repeated(&mut self) -> Result<(), Problem> {
        let Self { clips, results, .. } = self;
        let (of_clips, of_results) = std::thread::scope(|scope| {
            let of_clips = scope.spawn(|| clips.repeated());
            let of_results = results.repeated();
            (of_clips.join().expect("sorting does not panic"), of_results)
        });
        for (number, first) in of_clips {
            let id = self.clips.id_in(number)?;
            self.problems.push(corpus::taken(
                &id,
                Place::line(&self.clips.path, number),
                Place::line(&self.clips.path, first),
            ));
        }
        for (number, _) in of_results {
            let id = self.results.id_in(number)?;
            self.problems.push(heard::second(&id, Place::line(&self.results.path, number)));
        }
        Ok(())
    }
}

fn next_blocks(clips: &mut Lines, results: &mut Lines) -> Result<[Block; 2], Problem> {
    Ok([clips.next_block(ROUND)?, results.next_block(ROUND)?])
}

/// Parses the lines of a round, and works on the parts in which clips and results go together.
fn read_parts<R: Send>(
    [clips_path, results_path]: [&PathBuf; 2],
    clips: &Block,
    results: &Block,
    work: &(impl Fn(&[Pair]) -> R + Sync),
) -> Vec<Part<R>> {
    let count = clips.lines.len().max(results.lines.len()).div_ceil(PART);
    let parts: Vec<usize> = (0..count).collect();
    in_parallel(&parts, |part| {
        fn lines_of(block: &Block, part: usize) -> &[LineAt] {
            let start = (part * PART).min(block.lines.len());
            &block.lines[start..(start + PART).min(block.lines.len())]
        }
        let mut problems = Vec::new();
        let clips = parse_lines::<Clip>(clips, lines_of(clips, *part), clips_path, &mut problems);
        let results = parse_lines(results, lines_of(results, *part), results_path, &mut problems);
        let go_together = clips.len() == results.len() && clips.iter().zip(&results).all(|(a, b)| a.0 == b.0);
        if !go_together || !problems.is_empty() {
            return Part::Read(clips, results, problems);
        }
        let ids = [ids(&clips), ids(&results)];
        let heard = |(.., result): Placed<HeardRecord>| Some(result.into_heard().1);
        let pairs: Vec<Pair> =
            clips.into_iter().zip(results).map(|((.., clip), result)| (clip, heard(result))).collect();
        Part::Worked(work(&pairs), ids)
    })
}

fn in_parts<R: Send>(pairs: &[Pair], work: impl Fn(&[Pair]) -> R + Sync) -> Vec<R> {
    in_parallel(&pairs.chunks(PART).collect::<Vec<_>>(), |part| work(part))
}

/// Whether both are JSON Lines files, which can be read together.
#[must_use]
pub fn can_join(corpus: &Path, heard: &Path) -> bool {
    let lines = |path: &Path| {
        let other_form = path.extension().is_some_and(|ending| ending == "csv" || ending == "tsv");
        path.is_file() && !other_form
    };
    lines(corpus) && lines(heard)
}

/// Every must-hear term that a corpus file lists. Lines without any are not read closely.
///
/// # Errors
/// When the file cannot be read; broken lines are left to the reader of clips.
pub fn listed_terms(corpus: &Path) -> Result<Vec<String>, Problem> {
    #[derive(serde::Deserialize)]
    struct Terms {
        #[serde(default)]
        terms: Vec<String>,
    }
    let mut found = Vec::new();
    if !holds(corpus, b"\"terms\"").map_err(|error| Problem::io("read", corpus, &error))? {
        return Ok(found);
    }
    let mut lines = Lines::open(corpus)?;
    while let Some((_, line)) = lines.next()? {
        if memchr::memmem::find(line.as_bytes(), b"\"terms\"").is_some()
            && let Ok(Terms { terms }) = serde_json::from_str(line)
        {
            found.extend(terms);
        }
    }
    Ok(found)
}

/// Whether some bytes stand anywhere in a file.
fn holds(path: &Path, wanted: &[u8]) -> std::io::Result<bool> {
    const CHUNK: usize = 1 << 20;
    let mut file = File::open(path)?;
    let (mut chunk, mut kept) = (vec![0; CHUNK], 0);
    loop {
        let read = file.read(&mut chunk[kept..])?;
        if read == 0 {
            return Ok(false);
        }
        let filled = kept + read;
        if memchr::memmem::find(&chunk[..filled], wanted).is_some() {
            return Ok(true);
        }
        // What is wanted may lie across the end.
        kept = filled.min(wanted.len() - 1);
        chunk.copy_within(filled - kept..filled, 0);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Joins files of these ids and gives (clip, text of its result), and the unknown ids.
    fn joined(clips: &[u32], results: &[u32]) -> (Vec<(String, Option<String>)>, Vec<String>) {
        let folder = tempfile::tempdir().unwrap();
        let [corpus, heard] = ["corpus.jsonl", "heard.jsonl"].map(|name| folder.path().join(name));
        let lines = |ids: &[u32]| {
            ids.iter().map(|id| format!("{{\"id\":\"c{id}\",\"text\":\"t{id}\"}}\r\n")).collect::<String>()
        };
        std::fs::write(&corpus, lines(clips)).unwrap();
        std::fs::write(&heard, lines(results)).unwrap();
        let mut joined = Joined::open(&corpus, &heard).unwrap();
        let mut pairs = Vec::new();
        let id_and_text = |(clip, heard): &Pair| (clip.id.clone(), heard.as_ref().map(|heard| heard.text.clone()));
        while let Some(round) =
            joined.next_round(|part| part.iter().map(id_and_text).collect::<Vec<_>>(), || ()).unwrap()
        {
            pairs.extend(round.into_iter().flatten());
        }
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

    #[test]
    fn terms_are_found_wherever_they_stand() {
        let folder = tempfile::tempdir().unwrap();
        let corpus = folder.path().join("corpus.jsonl");
        // Before, across and behind the end of what is looked through at once.
        for padding in [0, (1 << 20) - 30, (1 << 20) - 20, 1 << 20] {
            let first = format!("{{\"id\":\"a\",\"text\":\"{}\"}}\n", "x".repeat(padding));
            std::fs::write(&corpus, first + "{\"id\":\"b\",\"text\":\"t\",\"terms\":[\"pylon six\"]}\n").unwrap();
            assert_eq!(listed_terms(&corpus).unwrap(), ["pylon six"], "{padding}");
        }
        std::fs::write(&corpus, "{\"id\":\"a\",\"text\":\"terms\"}\n").unwrap();
        assert!(listed_terms(&corpus).unwrap().is_empty());
    }
}
