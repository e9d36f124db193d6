//! What the clips of a corpus share: speakers, recordings and slices, as numbers, so that a million labels need not be read
//! again for every table.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};

use fonex_core::Clip;
use fonex_core::accuracy::ScoreBuilder;
use fonex_core::measures::Units;
use fonex_core::measures::Withheld;
use fonex_core::stats::UnitKind;
use fonex_core::text::TextProfile;
use fonex_core::verdict::DrawnUnit;
use fonex_store::{Store, StoreError};

use crate::column::Column;

/// Raised whenever a sheet holds something else.
const VERSION: u32 = 2;

/// The tag that names a clip's recording, where clips are cut from longer ones.
const RECORDING: &str = "recording";

/// What the clips of a corpus share.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Sheet {
    /// Clips.
    pub clips: u32,
    /// Speakers, numbered from 1; 0 for a clip without one.
    speaker: Vec<u32>,
    /// Recordings, numbered likewise.
    recording: Vec<u32>,
    /// What clips share, in the order of its names.
    pub keys: Vec<SliceKey>,
    /// The must-hear terms of all clips, each once, in their order.
    terms: Vec<String>,
}

/// One thing that clips share, such as a tag.
#[derive(Debug, Clone, PartialEq)]
pub struct SliceKey {
    /// Its name: a tag's, `speaker` or `lang`.
    pub by: String,
    /// Its values, in order.
    pub values: Vec<String>,
    /// The value of each clip, numbered from 1; 0 for a clip without one.
    pub of_clip: Vec<u32>,
}

impl Sheet {
    /// Of the labels of a corpus, in their order.
    #[must_use]
    pub fn of(clips: &[Clip]) -> Self {
        let mut builder = SheetBuilder::default();
        clips.iter().for_each(|clip| builder.add(clip));
        builder.finish()
    }

    /// The sheet of a corpus in a store, kept for the next time.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn load(store: &Store, corpus_checksum: &str) -> Result<Self, StoreError> {
        if let Some(sheet) = store.kept_sheet(corpus_checksum, VERSION)?.and_then(|bytes| Self::decode(&bytes)) {
            return Ok(sheet);
        }
        let mut builder = SheetBuilder::default();
        store.each_label(corpus_checksum, |_, record| {
            builder.add(&serde_json::from_str(record)?);
            Ok(())
        })?;
        let sheet = builder.finish();
        // A store that may only be read is read all the same.
        drop(store.keep_sheet(corpus_checksum, VERSION, &sheet.encode()));
        Ok(sheet)
    }

    /// An empty score that knows the must-hear terms of all labels, since a term is invented wherever it is heard.
    #[must_use]
    pub fn empty_score(&self, profile: &TextProfile) -> ScoreBuilder {
        let mut empty = ScoreBuilder::new(&profile.name);
        empty.tell_terms(profile, &self.terms);
        empty
    }

    /// Whether a clip, by its place, is in a slice. None where no clip shares such a value.
    #[must_use]
    pub fn slice(&self, by: &str, value: &str) -> Option<impl Fn(u32) -> bool + '_> {
        let key = self.keys.iter().find(|key| key.by == by)?;
        let number = key.values.iter().position(|own| own == value)? as u32 + 1;
        Some(move |clip: u32| key.of_clip.get(clip as usize) == Some(&number))
    }

    /// Which clips have a disputed label: those with a number above 0. None where none has.
    #[must_use]
    pub fn disputed(&self) -> Option<&[u32]> {
        self.keys.iter().find(|key| key.by == Clip::DISPUTED).map(|key| key.of_clip.as_slice())
    }

    /// Which unit of chance to take when none is asked for: speakers where speakers have several clips, else recordings where
    /// those have, else clips. Units too few for an interval are not taken. `places` are the clips taken.
    #[must_use]
    pub fn natural_unit(&self, places: &[u32]) -> DrawnUnit {
        let natural = [DrawnUnit::Speaker, DrawnUnit::Recording].into_iter().find(|unit| {
            let count = self.units(*unit, places).count;
            (count as usize) < places.len() && u64::from(count) >= Withheld::LEAST_GROUPS
        });
        natural.unwrap_or(DrawnUnit::Clip)
    }

    /// How many speakers the clips are of, where some speaker has several: a verdict whose unit is the clip holds for these
    /// speakers alone.
    #[must_use]
    pub fn repeated_speakers(&self, places: &[u32]) -> Option<u64> {
        let numbers = || places.iter().map(|place| self.speaker[*place as usize]).filter(|number| *number > 0);
        let distinct: HashSet<u32> = numbers().collect();
        (distinct.len() < numbers().count()).then_some(distinct.len() as u64)
    }

    /// The unit of each clip taken. A clip that names no speaker or recording is one by itself.
    #[must_use]
    pub fn units(&self, unit: DrawnUnit, places: &[u32]) -> Units {
        let numbers = match unit {
            DrawnUnit::Clip => return Units::clips(places.len() as u32),
            DrawnUnit::Speaker => &self.speaker,
            DrawnUnit::Recording => &self.recording,
        };
        let mut known: HashMap<u32, u32> = HashMap::new();
        let mut count = 0;
        let mut next = || {
            count += 1;
            count - 1
        };
        let of_clip = places
            .iter()
            .map(|place| match numbers[*place as usize] {
                0 => next(),
                number => *known.entry(number).or_insert_with(&mut next),
            })
            .collect();
        Units { kind: UnitKind::Group, of_clip, count }
    }

    fn encode(&self) -> Vec<u8> {
        let mut bytes = Vec::new();
        let mut put = |part: &[u8]| {
            bytes.extend((part.len() as u64).to_le_bytes());
            bytes.extend(part);
        };
        put(&numbers(&self.speaker));
        put(&numbers(&self.recording));
        put(&serde_json::to_vec(&self.terms).expect("terms are plain data"));
        for key in &self.keys {
            let names: Vec<&String> = std::iter::once(&key.by).chain(&key.values).collect();
            put(&serde_json::to_vec(&names).expect("names are plain data"));
            put(&numbers(&key.of_clip));
        }
        bytes
    }

    fn decode(bytes: &[u8]) -> Option<Self> {
        let mut rest = bytes;
        let mut parts = Vec::new();
        while !rest.is_empty() {
            let (length, behind) = rest.split_first_chunk::<8>()?;
            let (part, behind) = behind.split_at_checked(u64::from_le_bytes(*length) as usize)?;
            parts.push(part);
            rest = behind;
        }
        let read = |part: &[u8]| Some(Column::decode(part)?.numbers.iter().map(|n| *n as u32).collect::<Vec<u32>>());
        let [speaker, recording, terms, keys @ ..] = parts.as_slice() else { return None };
        let terms = serde_json::from_slice(terms).ok()?;
        let (speaker, recording) = (read(speaker)?, read(recording)?);
        let mut sheet = Self { clips: speaker.len() as u32, speaker, recording, keys: Vec::new(), terms };
        for pair in keys.chunks_exact(2) {
            let mut names: Vec<String> = serde_json::from_slice(pair[0]).ok()?;
            let values = names.split_off(1);
            sheet.keys.push(SliceKey { by: names.pop()?, values, of_clip: read(pair[1])? });
        }
        Some(sheet)
    }
}

/// Builds a [`Sheet`] label by label.
#[derive(Default)]
struct SheetBuilder {
    sheet: Sheet,
    keys: BTreeMap<String, BTreeMap<String, Vec<u32>>>,
    speakers: HashMap<String, u32>,
    recordings: HashMap<String, u32>,
    terms: BTreeSet<String>,
}

impl SheetBuilder {
    fn add(&mut self, clip: &Clip) {
        let Self { sheet, keys, speakers, recordings, terms } = self;
        for term in &clip.terms {
            if !terms.contains(term) {
                terms.insert(term.clone());
            }
        }
        for (by, value) in clip.shared() {
            if !keys.contains_key(by) {
                keys.insert(by.to_owned(), BTreeMap::new());
            }
            let Some(values) = keys.get_mut(by) else { continue };
            match values.get_mut(value) {
                Some(places) => places.push(sheet.clips),
                None => drop(values.insert(value.to_owned(), vec![sheet.clips])),
            }
        }
        sheet.clips += 1;
        sheet.speaker.push(numbered(speakers, clip.speaker.as_deref()));
        // Two sides of one file are of one conversation.
        let both_sides = clip.audio.as_deref().filter(|_| clip.side.is_some());
        let named = clip.tags.get(RECORDING).map(String::as_str).or(both_sides);
        sheet.recording.push(numbered(recordings, named));
    }

    fn finish(self) -> Sheet {
        let Self { mut sheet, keys, terms, .. } = self;
        sheet.terms = terms.into_iter().collect();
        for (by, values) in keys {
            let mut of_clip = vec![0; sheet.clips as usize];
            for (number, places) in (1..).zip(values.values()) {
                places.iter().for_each(|place| of_clip[*place as usize] = number);
            }
            sheet.keys.push(SliceKey { by, values: values.into_keys().collect(), of_clip });
        }
        sheet
    }
}

fn numbers(numbers: &[u32]) -> Vec<u8> {
    let mut column = Column::new(1);
    numbers.iter().for_each(|number| column.push(&[f64::from(*number)]));
    column.encode()
}

/// The number of a name, from 1, new names counted on; 0 for none.
fn numbered(known: &mut HashMap<String, u32>, name: Option<&str>) -> u32 {
    let Some(name) = name else { return 0 };
    let next = known.len() as u32 + 1;
    known.get(name).copied().unwrap_or_else(|| *known.entry(name.to_owned()).or_insert(next))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn clip(id: &str, speaker: Option<&str>, audio: &str, channel: Option<&str>) -> Clip {
        let tags = channel.map(|channel| ("channel".to_owned(), channel.to_owned())).into_iter().collect();
        Clip {
            id: id.to_owned(),
            speaker: speaker.map(str::to_owned),
            audio: Some(audio.to_owned()),
            tags,
            ..Clip::default()
        }
    }

    #[test]
    fn a_sheet_by_hand_and_back_from_the_store() {
        let clips = [
            clip("a", Some("anna"), "1.wav", Some("radio")),
            clip("b", None, "2.wav", Some("help")),
            clip("c", Some("bo"), "3.wav", None),
            Clip { terms: vec!["Marl".into(), "quay".into()], ..clip("d", Some("anna"), "4.wav", Some("radio")) },
        ];
        let sheet = Sheet::of(&clips);
        assert_eq!(Sheet::decode(&sheet.encode()).as_ref(), Some(&sheet));
        let channel = &sheet.keys[0];
        assert_eq!((channel.by.as_str(), channel.of_clip.as_slice()), ("channel", &[2, 1, 0, 2][..]));
        // Three units are too few for an interval: these speakers are all there are.
        assert_eq!(sheet.natural_unit(&[0, 1, 2, 3]), DrawnUnit::Clip);
        assert_eq!(sheet.repeated_speakers(&[0, 1, 2, 3]), Some(2));
        assert_eq!((sheet.natural_unit(&[0, 1, 2]), sheet.repeated_speakers(&[0, 1, 2])), (DrawnUnit::Clip, None));
        let units = sheet.units(DrawnUnit::Speaker, &[0, 1, 2, 3]);
        assert_eq!((units.of_clip, units.count), (vec![0, 1, 2, 0], 3));
    }

    #[test]
    fn clips_of_one_recording_are_one_unit() {
        let mut clips =
            [clip("a", None, "1.wav", None), clip("b", None, "1.wav", None), clip("c", None, "2.wav", None)];
        clips[0].side = Some(fonex_core::Side::Left);
        clips[1].side = Some(fonex_core::Side::Right);
        let sheet = Sheet::of(&clips);
        assert_eq!(sheet.natural_unit(&[0, 1, 2]), DrawnUnit::Clip);
        assert_eq!(sheet.units(DrawnUnit::Recording, &[0, 1, 2]).count, 2);
    }

    #[test]
    fn units_are_taken_where_they_repeat_and_are_enough() {
        let world = |speakers: usize, recordings: usize| -> Sheet {
            let clips = (0..40).map(|at| {
                let speaker = (speakers > 0).then(|| format!("op-{}", at % speakers));
                let file = format!("{}.wav", at % recordings);
                let side = Some(if at < 20 { fonex_core::Side::Left } else { fonex_core::Side::Right });
                Clip { side, ..clip(&format!("c{at}"), speaker.as_deref(), &file, None) }
            });
            Sheet::of(&clips.collect::<Vec<_>>())
        };
        let all: Vec<u32> = (0..40).collect();
        for (speakers, recordings, unit) in [
            (8, 40, DrawnUnit::Speaker),
            (7, 40, DrawnUnit::Clip),
            (1, 40, DrawnUnit::Clip),
            (1, 10, DrawnUnit::Recording),
            (0, 10, DrawnUnit::Recording),
            (0, 7, DrawnUnit::Clip),
            (0, 40, DrawnUnit::Clip),
        ] {
            assert_eq!(world(speakers, recordings).natural_unit(&all), unit, "{speakers} {recordings}");
        }
    }
}
