//! A corpus and a results file scored in rounds, on all cores, in memory that does not grow with their size.

use std::path::Path;
use std::sync::{Mutex, MutexGuard};

use fonex_core::accuracy::{ClipScore, Score, ScoreBuilder};
use fonex_core::align::EditCounts;
use fonex_core::text::{Label, TextProfile};
use fonex_core::{Clip, Heard, in_parallel};
use fonex_formats::{
    HeardFile, Joined, Pair, PartWork, Place, Problem, Problems, Share, can_join, listed_terms, lists_terms_early,
    read_corpus, read_heard, work_on,
};

use super::clip_lines::{ClipLines, clip_line};
use crate::facts::snr_band;
use crate::failure::Failure;
use crate::memory::keep_what_was_freed;

/// Clips of a round that one worker takes at once.
const PART: usize = 1 << 12;
/// Clips of a round that is read from memory.
const ROUND: usize = 1 << 15;

/// How clips are scored.
pub struct Scoring<'o> {
    pub profile: &'o TextProfile,
    pub empty: ScoreBuilder,
    /// How many of the worst clips are kept.
    pub worst: usize,
    /// The results file, where its lines must say so.
    pub of: Option<String>,
    pub wants_lines: bool,
    /// Slice by the signal-to-noise ratio measured in the audio of this folder.
    pub snr_of: Option<&'o Path>,
}

/// What became of all clips.
pub struct Scored {
    pub score: Score,
    pub worst: Vec<(String, ClipScore)>,
    /// Clips whose label is empty.
    pub unlabelled: u64,
}

pub struct Part {
    pub builder: ScoreBuilder,
    worst: Vec<(String, ClipScore)>,
    pub unlabelled: u64,
    lines: Vec<u8>,
    /// A clip listed terms that were to be told before.
    untold: bool,
    /// The label of the clip at hand; kept for what it allocated.
    label: Label,
}

enum Source {
    /// Two JSON Lines files, read together.
    Joined(Box<Joined>),
    /// Other forms, read whole.
    InMemory { clips: std::vec::IntoIter<Clip>, heard: HeardFile },
}

impl Source {
    /// Works on all clips, part by part on all cores, and takes in what becomes of each part, in order.
    fn work_through<W: PartWork>(
        &mut self,
        work: &W,
        mut take_in: impl FnMut(W::Done) -> Result<(), Problem>,
    ) -> Result<(), Problems> {
        match self {
            Self::Joined(joined) => joined.work_through(work, take_in)?,
            Self::InMemory { clips, heard } => {
                let mut with_heard = |clip: Clip| (heard.by_id.remove(&clip.id), clip);
                loop {
                    let round: Vec<Pair> =
                        clips.take(ROUND).map(&mut with_heard).map(|(heard, clip)| (clip, heard)).collect();
                    if round.is_empty() {
                        break;
                    }
                    let parts: Vec<&[Pair]> = round.chunks(PART).collect();
                    in_parallel(&parts, |part| work_on(work, part)).into_iter().try_for_each(&mut take_in)?;
                }
            }
        }
        Ok(())
    }

    /// The ids of results that belong to no clip.
    fn unknown(&mut self) -> Result<Vec<String>, Problem> {
        match self {
            Self::Joined(joined) => joined.unknown(),
            Self::InMemory { heard, .. } => {
                let HeardFile { by_id, order, .. } = heard;
                Ok(std::mem::take(order).into_iter().filter(|id| by_id.contains_key(id)).collect())
            }
        }
    }
}

impl Scoring<'_> {
    /// Scores a corpus against a results file.
    pub fn run(self, corpus: &Path, heard: &Path, lines: Option<&mut ClipLines>) -> Result<Scored, Failure> {
        let all = self.gather(corpus, heard, None, lines)?;
        Ok(Scored { score: all.builder.finish(), worst: all.worst, unlabelled: all.unlabelled })
    }

    /// Counts what a score is made of, of all clips or a share of them.
    pub fn gather(
        mut self,
        corpus: &Path,
        heard: &Path,
        share: Option<Share>,
        lines: Option<&mut ClipLines>,
    ) -> Result<Part, Failure> {
        keep_what_was_freed();
        if !can_join(corpus, heard) {
            let corpus = read_corpus(corpus)?;
            corpus.clips.iter().for_each(|clip| self.empty.tell_terms(self.profile, &clip.terms));
            let (mut clips, mut heard) = (corpus.clips, read_heard(heard)?);
            if let Some(share) = share {
                clips.retain(|clip| share.has(&clip.id));
                heard.order.retain(|id| share.has(id));
            }
            let source = Source::InMemory { clips: clips.into_iter(), heard };
            return Ok(self.gather_from(source, true, lines)?.expect("terms were told"));
        }
        let joined = || Joined::open(corpus, heard, share).map(|joined| Source::Joined(Box::new(joined)));
        // Terms are to be told before the first clip. Few corpora have any: a large one is not looked through for them unless a clip
        // has some after all. Lines that were written cannot be taken back, and a share does not show all clips.
        if share.is_none()
            && lines.is_none()
            && !lists_terms_early(corpus)?
            && let Some(all) = self.gather_from(joined()?, false, None)?
        {
            return Ok(all);
        }
        self.empty.tell_terms(self.profile, &listed_terms(corpus)?);
        Ok(self.gather_from(joined()?, true, lines)?.expect("terms were told"))
    }

    /// Counts all clips; none where a clip lists terms that were not told.
    fn gather_from(
        &self,
        mut source: Source,
        told: bool,
        mut lines: Option<&mut ClipLines>,
    ) -> Result<Option<Part>, Failure> {
        let (mut all, mut untold) = (Part::new(&self.empty), false);
        let work = InParts { scoring: self, told, spare: Mutex::default() };
        let worked = source.work_through(&work, |mut part| {
            if part.untold {
                untold = true;
                return Err(Problem::new("must-hear terms are listed late", Place::default()));
            }
            if let Some(lines) = &mut lines {
                lines.write(&part.lines)?;
            }
            all.take_in(&mut part, self.worst);
            work.spare().push(part);
            Ok(())
        });
        if untold {
            return Ok(None);
        }
        worked?;
        source.unknown()?.iter().for_each(|id| all.builder.add_unknown(id));
        Ok(Some(all))
    }

    /// Counts a clip into a part.
    fn clip(&self, clip: &Clip, heard: Option<&Heard>, part: &mut Part) {
        part.unlabelled += u64::from(clip.text.trim_start().is_empty());
        let words = part.builder.take(self.profile, clip, &mut part.label, heard);
        let Some(words) = words.expect("labels are checked when the corpus is read") else { return };
        if self.wants_lines {
            clip_line(&mut part.lines, self.of.as_deref(), clip, &part.builder.compared_words());
        }
        if is_among_worst(&part.worst, words, self.worst) {
            let score = part.builder.compared_words();
            keep_worst(&mut part.worst, &clip.id, score, self.worst);
        }
    }
}

/// Scoring in parts.
struct InParts<'s> {
    scoring: &'s Scoring<'s>,
    /// The must-hear terms of all clips are known.
    told: bool,
    /// Parts that were taken in, for what they allocated and the words they know.
    spare: Mutex<Vec<Part>>,
}

impl InParts<'_> {
    fn spare(&self) -> MutexGuard<'_, Vec<Part>> {
        self.spare.lock().expect("no holder of this lock panics")
    }
}

impl PartWork for InParts<'_> {
    type Done = Part;

    fn begin(&self) -> Part {
        let spare = self.spare().pop();
        spare.unwrap_or_else(|| Part::new(&self.scoring.empty))
    }

    fn take(&self, part: &mut Part, clip: &Clip, heard: Option<&Heard>) {
        part.untold |= !self.told && !clip.terms.is_empty();
        match self.scoring.snr_of.and_then(|folder| snr_band(folder, clip)) {
            Some(band) => {
                let mut tagged = clip.clone();
                tagged.tags.insert("snr".to_owned(), band);
                self.scoring.clip(&tagged, heard, part);
            }
            None => self.scoring.clip(clip, heard, part),
        }
    }
}

impl Part {
    fn new(empty: &ScoreBuilder) -> Self {
        Self {
            builder: empty.clone(),
            worst: Vec::new(),
            unlabelled: 0,
            lines: Vec::new(),
            untold: false,
            label: Label::default(),
        }
    }

    /// Takes in a later part and leaves it empty.
    fn take_in(&mut self, later: &mut Self, most: usize) {
        self.builder.take_in(&mut later.builder);
        self.unlabelled += std::mem::take(&mut later.unlabelled);
        later.worst.drain(..).for_each(|(id, score)| keep_worst(&mut self.worst, &id, score, most));
        later.lines.clear();
    }
}

fn rate(words: EditCounts) -> f64 {
    words.errors() as f64 / words.reference().max(1) as f64
}

fn is_among_worst(worst: &[(String, ClipScore)], words: EditCounts, most: usize) -> bool {
    let full = worst.len() >= most;
    words.errors() > 0 && (!full || worst.last().is_some_and(|(_, last)| rate(last.words) < rate(words)))
}

fn keep_worst(worst: &mut Vec<(String, ClipScore)>, id: &str, score: ClipScore, most: usize) {
    if !is_among_worst(worst, score.words, most) {
        return;
    }
    let at = worst.partition_point(|(_, kept)| rate(kept.words) >= rate(score.words));
    worst.insert(at, (id.to_owned(), score));
    worst.truncate(most);
}
