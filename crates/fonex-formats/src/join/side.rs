//! One of two joined files: read in blocks, and line by line again where a partner comes late.

use std::collections::{BTreeSet, HashMap};
use std::fs::File;
use std::hash::BuildHasher;
use std::io::{Read, Seek, SeekFrom};
use std::path::Path;
use std::sync::{Arc, Mutex};

use foldhash::quality::FixedState;
use fonex_core::{Clip, in_parallel};
use serde::de::DeserializeOwned;

use super::MOST_PROBLEMS;
use super::refill::{Answer, Refill, Room};
use crate::corpus::check_clip;
use crate::heard::check_heard;
use crate::lines::{Block, LineAt, Lines, as_text};
use crate::pieces::{Holds, Pieces, Wanted};
use crate::{HeardRecord, Place, Problem, Share, parse_strict};

/// A record with its hashed id and the line it stands in.
pub(super) type Placed<T> = (u128, LineAt, T);
/// Records of a block, in order.
pub(super) type Records<T> = Vec<Placed<T>>;

/// One of the two files.
pub(super) struct Side<T> {
    pub(super) pieces: Arc<Pieces>,
    /// A second handle of one of the files, to read lines again.
    again: Option<(usize, File)>,
    /// Records without a partner so far, by their ids' hash.
    pub(super) waiting: HashMap<u128, LineAt, foldhash::fast::FixedState>,
    /// Every id with its line.
    pub(super) ids: Ids,
    read: std::marker::PhantomData<T>,
}

/// What both records have.
pub(super) trait Record: Refill + Default + Send + Sync {
    /// The record as its line holds it.
    type Line: DeserializeOwned + Into<Self>;
    /// What a file of it is.
    const HOLDS: Holds;

    fn id(&self) -> &str;
    fn check(&self, place: impl Fn() -> Place) -> Result<(), Problem>;
}

impl Record for Clip {
    type Line = Self;
    const HOLDS: Holds = Holds::Labels;

    fn id(&self) -> &str {
        &self.id
    }

    fn check(&self, place: impl Fn() -> Place) -> Result<(), Problem> {
        check_clip(self, place)
    }
}

impl Record for Answer {
    type Line = HeardRecord;
    const HOLDS: Holds = Holds::Results;

    fn id(&self) -> &str {
        &self.id
    }

    fn check(&self, place: impl Fn() -> Place) -> Result<(), Problem> {
        check_heard(&self.heard, place)
    }
}

pub(super) fn hash(id: &str) -> u128 {
    let half = |seed| u128::from(FixedState::with_seed(seed).hash_one(id));
    half(1) << 64 | half(2)
}

fn parse_record<T: Record>(text: &str, pieces: &Pieces, number: u64) -> Result<T, Problem> {
    // The strict reader knows the field of a fault; it is asked only when there is one.
    let mut room = Room::<T>::default();
    match room.refill(text) {
        Ok(()) => Ok(room.record),
        Err(_) => parse_strict::<T::Line>(text, pieces.place(number)).map(Into::into),
    }
}

/// The records of some lines. What is wrong in a record does not hide its id.
pub(super) fn parse_lines<T: Record>(
    block: &Block,
    lines: &[LineAt],
    pieces: &Pieces,
    problems: &mut Vec<Problem>,
) -> Records<T> {
    let mut records = Vec::with_capacity(lines.len());
    for line in lines {
        match block.text(line, pieces).and_then(|text| parse_record::<T>(text, pieces, line.number)) {
            Ok(record) => {
                problems.extend(record.check(|| pieces.place(line.number)).err());
                records.push((hash(record.id()), *line, record));
            }
            Err(problem) => problems.push(problem),
        }
    }
    records
}

/// Half of the hash of an id in two parts, and the line it stands in: all that is kept of a record, in twelve bytes, for which a corpus of
/// ten million clips has room.
pub(super) type IdAt = [u32; 3];

pub(super) fn id_at(hash: u128, line: &LineAt) -> IdAt {
    in_line([(hash >> 32) as u32, hash as u32, 0], line)
}

/// The same id in a line.
pub(super) fn in_line([high, low, _]: IdAt, line: &LineAt) -> IdAt {
    // Beyond four thousand million lines the last number stands for all that follow.
    [high, low, u32::try_from(line.number).unwrap_or(u32::MAX)]
}

/// The ids of a file, in many lists by a part of their hash: none of them is large enough that growing it would take much room.
#[derive(Clone, Default)]
pub(super) struct Ids {
    lists: Vec<Vec<IdAt>>,
}

impl Ids {
    const LISTS: usize = 1 << 9;

    pub(super) fn is_empty(&self) -> bool {
        self.lists.iter().all(Vec::is_empty)
    }

    pub(super) fn extend(&mut self, ids: &[IdAt]) {
        self.lists.resize(Self::LISTS, Vec::new());
        for id in ids {
            self.lists[id[0] as usize % Self::LISTS].push(*id);
        }
    }
}

pub(super) fn ids<T>(records: &Records<T>) -> Vec<IdAt> {
    records.iter().map(|(id, line, _)| id_at(*id, line)).collect()
}

impl<T: Record> Side<T> {
    /// A file with its lines.
    pub(super) fn open(path: &Path, share: Option<Share>) -> Result<(Self, Lines), Problem> {
        let lines = Lines::of(Arc::new(Pieces::of(path, Wanted { share, ..T::HOLDS.into() })?))?;
        let side = Self {
            pieces: lines.pieces(),
            again: None,
            waiting: HashMap::default(),
            ids: Ids::default(),
            read: std::marker::PhantomData,
        };
        Ok((side, lines))
    }

    /// Reads a line again.
    pub(super) fn read_again(&mut self, line: &LineAt) -> Result<T, Problem> {
        let mut bytes = vec![0; line.length()];
        let (at, offset) = self.pieces.at(line.offset);
        let file = match &mut self.again {
            Some((open, file)) if *open == at => file,
            other => &mut other.insert((at, self.pieces.open(at)?)).1,
        };
        let read = file.seek(SeekFrom::Start(offset)).and_then(|_| file.read_exact(&mut bytes));
        read.map_err(|error| self.pieces.problem(at, &error))?;
        parse_record(as_text(&bytes, &self.pieces, line.number)?, &self.pieces, line.number)
    }

    /// The lines left waiting, in file order, read again.
    pub(super) fn left(&mut self) -> Result<Vec<T>, Problem> {
        let mut left: Vec<LineAt> = self.waiting.drain().map(|(_, line)| line).collect();
        left.sort_unstable_by_key(|line| line.number);
        left.iter().map(|line| self.read_again(line)).collect()
    }

    /// The ids in these lines, by line, found by reading the file once more, as far as the last of them.
    pub(super) fn ids_in(&self, lines: impl IntoIterator<Item = u64>) -> Result<HashMap<u64, String>, Problem> {
        let wanted: BTreeSet<u64> = lines.into_iter().collect();
        let mut found = HashMap::new();
        let mut lines = Lines::of(Arc::clone(&self.pieces))?;
        while found.len() < wanted.len() {
            let Some((at, text)) = lines.next()? else { break };
            if wanted.contains(&at) {
                found.insert(at, parse_record::<T>(text, &self.pieces, at)?.id().to_owned());
            }
        }
        Ok(found)
    }

    /// Lines that repeat an id, each with the line of its first. Two different ids may be among them, once in a hundred thousand
    /// corpora of ten million clips.
    pub(super) fn repeated(&mut self) -> Vec<[u64; 2]> {
        let lists: Vec<Mutex<Vec<IdAt>>> = self.ids.lists.drain(..).map(Mutex::new).collect();
        let of_lists = in_parallel(&lists, |list| {
            let mut list = list.lock().expect("no holder of this lock panics");
            list.sort_unstable();
            let mut repeated: Vec<[u64; 2]> = Vec::new();
            for ids in list.chunk_by(|a, b| a[..2] == b[..2]).filter(|ids| ids.len() > 1) {
                repeated.extend(ids[1..].iter().map(|[.., line]| [u64::from(*line), u64::from(ids[0][2])]));
            }
            repeated
        });
        self.ids.lists = lists.into_iter().map(|list| list.into_inner().expect("no holder panicked")).collect();
        let mut repeated = of_lists.concat();
        repeated.sort_unstable();
        repeated.truncate(MOST_PROBLEMS);
        repeated
    }
}
