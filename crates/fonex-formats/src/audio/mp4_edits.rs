//! The edit list of a track of an MP4 file (ISO/IEC 14496-12, 8.6.6): which part of its samples is played, and when. The
//! demuxer gives all samples of the track, encoder priming included.

use std::io::{Read, Seek, SeekFrom};

/// Boxes deeper or larger than this are not those of an edit list.
const MOST_BYTES: u64 = 64 << 20;

/// One stretch of what is played.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Edit {
    /// Where it begins in the track's samples, in seconds; none for silence.
    pub(super) from_s: Option<f64>,
    /// How long it is, in seconds; none for all that there is.
    pub(super) lasts_s: Option<f64>,
}

/// The `moov` box of an MP4 file. None for other files.
pub(super) fn moov<R: Read + Seek>(source: &mut R) -> Option<Vec<u8>> {
    let end = source.seek(SeekFrom::End(0)).ok()?;
    let mut at = 0;
    // Top-level boxes are walked by their lengths; only `moov` is read.
    while at + 8 <= end {
        source.seek(SeekFrom::Start(at)).ok()?;
        let mut head = [0; 16];
        source.read_exact(&mut head[..8]).ok()?;
        let mut length = u64::from(u32::from_be_bytes(head[..4].try_into().ok()?));
        if length == 1 {
            source.read_exact(&mut head[8..]).ok()?;
            length = u64::from_be_bytes(head[8..].try_into().ok()?);
        }
        if at == 0 && &head[4..8] != b"ftyp" || length != 0 && length < 8 {
            return None;
        }
        if &head[4..8] == b"moov" && length <= MOST_BYTES {
            let mut moov = vec![0; usize::try_from(length).ok()?.checked_sub(8)?];
            source.seek(SeekFrom::Start(at + 8)).ok()?;
            source.read_exact(&mut moov).ok()?;
            return Some(moov);
        }
        if length == 0 {
            return None;
        }
        at = at.checked_add(length)?;
    }
    None
}

/// The content of the first box of this name in `parent`, and what follows it.
fn find<'b>(mut parent: &'b [u8], name: &[u8; 4]) -> Option<(&'b [u8], &'b [u8])> {
    loop {
        let length = u32::from_be_bytes(parent.get(..4)?.try_into().ok()?) as usize;
        let content = parent.get(8..length)?;
        let rest = &parent[length..];
        if &parent[4..8] == name {
            return Some((content, rest));
        }
        parent = rest;
    }
}

/// The edits of one track; none where it has no list, or one that cannot be.
pub(super) fn edits_of(moov: &[u8], track_id: u32) -> Option<Vec<Edit>> {
    let movie_scale = scale(find(moov, b"mvhd")?.0)?;
    // The length of a fragmented file is not known to its list.
    let fragmented = find(moov, b"mvex").is_some();
    let mut rest = moov;
    while let Some((track, behind)) = find(rest, b"trak") {
        rest = behind;
        let (header, _) = find(track, b"tkhd")?;
        if word(header, if header.first()? == &1 { 20 } else { 12 })? != track_id {
            continue;
        }
        let (list, _) = find(track, b"edts").and_then(|(edits, _)| find(edits, b"elst"))?;
        let media_scale = scale(find(find(track, b"mdia")?.0, b"mdhd")?.0)?;
        let wide = list.first()? == &1;
        let count = word(list, 4)? as usize;
        let entry = |at: usize| {
            let at = 8 + at * if wide { 20 } else { 12 };
            let (lasts, from) = if wide {
                (double(list, at)?, double(list, at + 8)? as i64)
            } else {
                (u64::from(word(list, at)?), i64::from(word(list, at + 4)? as i32))
            };
            let from_s = (from >= 0).then(|| from as f64 / media_scale);
            Some(Edit { from_s, lasts_s: Some(lasts as f64 / movie_scale) })
        };
        let mut edits: Vec<Edit> = (0..count.min(list.len() / 12)).map(entry).collect::<Option<_>>()?;
        if let Some(last) = edits.last_mut().filter(|last| last.from_s.is_some()) {
            last.lasts_s = last.lasts_s.filter(|lasts_s| *lasts_s > 0.0 && !fragmented);
        }
        return (!edits.is_empty()).then_some(edits);
    }
    None
}

/// The units a second of a header of the movie or of a track's media.
fn scale(header: &[u8]) -> Option<f64> {
    let scale = word(header, if header.first()? == &1 { 20 } else { 12 })?;
    (scale > 0).then(|| f64::from(scale))
}

/// Plays samples by their edits. The first sample is `first_s` behind the beginning of the media.
pub(super) fn play(samples: &[f32], rate_hz: u32, first_s: f64, edits: &[Edit], longest: usize) -> Vec<f32> {
    let count = |seconds: f64| (seconds * f64::from(rate_hz)).round() as i64;
    let mut played: Vec<f32> = Vec::with_capacity(samples.len());
    for edit in edits {
        let room = longest.saturating_sub(played.len());
        let most = edit.lasts_s.map_or(i64::MAX, count);
        let Some(from_s) = edit.from_s else {
            played.resize(played.len() + (most.max(0) as usize).min(room), 0.0);
            continue;
        };
        let from = count(from_s - first_s);
        // Before the first sample there is silence.
        let silence = (-from).max(0).min(most);
        played.resize(played.len() + (silence as usize).min(room), 0.0);
        let from = (from.max(0) as usize).min(samples.len());
        let rest = (most - silence).max(0) as usize;
        played.extend_from_slice(&samples[from..from + rest.min(samples.len() - from)]);
    }
    played.truncate(longest);
    played
}

fn word(bytes: &[u8], at: usize) -> Option<u32> {
    Some(u32::from_be_bytes(bytes.get(at..at + 4)?.try_into().ok()?))
}

fn double(bytes: &[u8], at: usize) -> Option<u64> {
    Some(u64::from_be_bytes(bytes.get(at..at + 8)?.try_into().ok()?))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn named(name: &[u8; 4], content: &[u8]) -> Vec<u8> {
        [&(content.len() as u32 + 8).to_be_bytes()[..], name, content].concat()
    }

    /// A header of version 0 whose words 3 and 4 are these.
    fn header(name: &[u8; 4], id: u32, next: u32) -> Vec<u8> {
        let words = [0, 0, 0, id, next];
        named(name, &words.iter().flat_map(|word: &u32| word.to_be_bytes()).collect::<Vec<u8>>())
    }

    fn track(id: u32, scale: u32, edits: &[(u32, i32)]) -> Vec<u8> {
        let entries = edits.iter().flat_map(|(lasts, from)| {
            [lasts.to_be_bytes(), from.to_be_bytes(), 0x0001_0000_u32.to_be_bytes()].concat()
        });
        let list: Vec<u8> =
            [0_u32.to_be_bytes(), (edits.len() as u32).to_be_bytes()].concat().into_iter().chain(entries).collect();
        let edits = named(b"edts", &named(b"elst", &list));
        let media = named(b"mdia", &header(b"mdhd", scale, 0));
        named(b"trak", &[header(b"tkhd", id, 0), edits, media].concat())
    }

    fn movie(tracks: &[Vec<u8>], fragmented: bool) -> Vec<u8> {
        let mut moov = header(b"mvhd", 1_000, 0);
        tracks.iter().for_each(|track| moov.extend(track));
        if fragmented {
            moov.extend(named(b"mvex", &[]));
        }
        moov
    }

    #[test]
    fn the_edits_are_those_of_the_track_asked_for() {
        let picture = track(1, 90_000, &[(290, 3_000)]);
        let sound = track(2, 48_000, &[(500, -1), (1_000, 1_024)]);
        let moov = movie(&[picture, sound], false);
        let edits = edits_of(&moov, 2).unwrap();
        assert_eq!(edits[0], Edit { from_s: None, lasts_s: Some(0.5) });
        assert_eq!(edits[1], Edit { from_s: Some(1_024.0 / 48_000.0), lasts_s: Some(1.0) });
        assert_eq!(edits_of(&moov, 1).unwrap()[0].lasts_s, Some(0.29));
        assert_eq!(edits_of(&moov, 3), None);
        let open = movie(&[track(2, 48_000, &[(100, 0)])], true);
        assert_eq!(edits_of(&open, 2).unwrap(), [Edit { from_s: Some(0.0), lasts_s: None }]);
    }

    #[test]
    fn broken_lists_are_none() {
        let whole = movie(&[track(2, 48_000, &[(500, -1), (1_000, 1_024)])], false);
        for cut in 0..whole.len() {
            let _ = edits_of(&whole[..cut], 2);
        }
        assert_eq!(edits_of(&movie(&[track(2, 0, &[(1, 1)])], false), 2), None, "no scale");
        assert_eq!(edits_of(&movie(&[track(2, 8, &[])], false), 2), None);
    }

    #[test]
    fn edits_are_played_by_hand() {
        let samples = [1.0, 2.0, 3.0, 4.0, 5.0];
        let edit = |from_s, lasts_s| Edit { from_s, lasts_s };
        let played = |first_s, edits: &[Edit]| play(&samples, 10, first_s, edits, 12);
        assert_eq!(played(0.0, &[edit(Some(0.1), None)]), [2.0, 3.0, 4.0, 5.0]);
        assert_eq!(played(0.0, &[edit(None, Some(0.2)), edit(Some(0.3), Some(0.1))]), [0.0, 0.0, 4.0]);
        assert_eq!(played(0.2, &[edit(Some(0.1), Some(0.3))]), [0.0, 1.0, 2.0], "the track starts late");
        assert_eq!(played(0.0, &[edit(Some(0.3), None), edit(Some(0.0), Some(0.1))]), [4.0, 5.0, 1.0]);
        assert!(played(0.0, &[edit(Some(9.0), None)]).is_empty());
        assert_eq!(played(0.0, &[edit(None, Some(1e9))]).len(), 12, "as long as may be");
    }
}
