//! A corpus and a results file scored in rounds, on all cores, in memory that does not grow with their size.

use std::path::Path;

use fonex_core::accuracy::{Answered, ClipScore, Score, ScoreBuilder};
use fonex_core::align::EditCounts;
use fonex_core::text::{Label, TextProfile};
use fonex_core::{Clip, Heard};
use fonex_formats::{
    HeardFile, Joined, Pair, PartWork, Problem, Problems, Share, can_join, in_parallel, listed_terms, read_corpus,
    read_heard, work_on,
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
    /// Works on the next clips, part by part on all cores.
    fn next_round<W: PartWork>(
        &mut self,
        work: &W,
        meanwhile: impl FnOnce() + Send,
    ) -> Result<Option<Vec<W::Done>>, Problems> {
        match self {
            Self::Joined(joined) => joined.next_round(work, meanwhile),
            Self::InMemory { clips, heard } => {
                meanwhile();
                let mut with_heard = |clip: Clip| (heard.by_id.remove(&clip.id), clip);
                let round: Vec<Pair> =
                    clips.take(ROUND).map(&mut with_heard).map(|(heard, clip)| (clip, heard)).collect();
                let parts: Vec<&[Pair]> = round.chunks(PART).collect();
                Ok((!round.is_empty()).then(|| in_parallel(&parts, |part| work_on(work, part))))
            }
        }
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
        let mut source = if can_join(corpus, heard) {
            self.empty.tell_terms(self.profile, &listed_terms(corpus)?);
            Source::Joined(Box::new(Joined::open(corpus, heard, share)?))
        } else {
            let corpus = read_corpus(corpus)?;
            corpus.clips.iter().for_each(|clip| self.empty.tell_terms(self.profile, &clip.terms));
            let (mut clips, mut heard) = (corpus.clips, read_heard(heard)?);
            if let Some(share) = share {
                clips.retain(|clip| share.has(&clip.id));
                heard.order.retain(|id| share.has(id));
            }
            Source::InMemory { clips: clips.into_iter(), heard }
        };
        let mut all = Part::new(&self.empty);
        let mut lines = lines;
        // What was scored is taken in while the next is being scored.
        let mut scored: Vec<Part> = Vec::new();
        loop {
            let mut written = Ok(());
            let take_in = || {
                for part in scored.drain(..) {
                    if let (Some(lines), Ok(())) = (&mut lines, &written) {
                        written = lines.write(&part.lines);
                    }
                    all.merge(part, self.worst);
                }
            };
            let next = source.next_round(&self, take_in);
            written?;
            match next? {
                Some(parts) => scored = parts,
                None => break,
            }
        }
        source.unknown()?.iter().for_each(|id| all.builder.add_unknown(id));
        Ok(all)
    }

    fn clip(&self, clip: &Clip, heard: Option<&Heard>, part: &mut Part) {
        part.label.refill(&clip.text).expect("labels are checked when the corpus is read");
        part.unlabelled += u64::from(clip.text.trim().is_empty());
        if clip.is_disputed() {
            part.builder.add_disputed(self.profile, clip, &part.label, heard);
            return;
        }
        let Some(heard) = heard else {
            part.builder.add_missing(self.profile, clip, &part.label);
            return;
        };
        let counts = part.builder.hear(self.profile, clip, &part.label, heard);
        let words = counts.words;
        part.builder.add(clip, &[Answered { counts, took_ms: heard.took_ms }]);
        if self.wants_lines {
            clip_line(&mut part.lines, self.of.as_deref(), clip, &part.builder.compared_words());
        }
        if is_among_worst(&part.worst, words, self.worst) {
            let score = part.builder.compared_words();
            keep_worst(&mut part.worst, &clip.id, score, self.worst);
        }
    }
}

impl PartWork for Scoring<'_> {
    type Done = Part;

    fn begin(&self) -> Part {
        Part::new(&self.empty)
    }

    fn take(&self, part: &mut Part, clip: &Clip, heard: Option<&Heard>) {
        match self.snr_of.and_then(|folder| snr_band(folder, clip)) {
            Some(band) => {
                let mut tagged = clip.clone();
                tagged.tags.insert("snr".to_owned(), band);
                self.clip(&tagged, heard, part);
            }
            None => self.clip(clip, heard, part),
        }
    }
}

impl Part {
    fn new(empty: &ScoreBuilder) -> Self {
        Self { builder: empty.clone(), worst: Vec::new(), unlabelled: 0, lines: Vec::new(), label: Label::default() }
    }

    fn merge(&mut self, later: Self, most: usize) {
        self.builder.merge(later.builder);
        self.unlabelled += later.unlabelled;
        later.worst.into_iter().for_each(|(id, score)| keep_worst(&mut self.worst, &id, score, most));
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
