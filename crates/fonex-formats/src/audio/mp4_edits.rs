//! The edit list of an MP4 file: how many samples of encoder priming stand before the sound, which the demuxer keeps.

use std::io::{Read, Seek, SeekFrom};

/// Boxes deeper or larger than this are not those of an edit list.
const MOST_BYTES: u64 = 64 << 20;

/// Samples to skip at the start of the first track with an edit list, and samples to keep behind them (ISO/IEC 14496-12,
/// 8.6.6), at the track's own time scale. None for files that are no MP4 or have no such list.
pub(super) fn first_edit<R: Read + Seek>(source: &mut R) -> Option<(u64, Option<u64>)> {
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
            return edit_in(&moov);
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

fn edit_in(moov: &[u8]) -> Option<(u64, Option<u64>)> {
    let (header, _) = find(moov, b"mvhd")?;
    let movie_scale = u64::from(word(header, if header.first()? == &1 { 20 } else { 12 })?);
    let mut rest = moov;
    while let Some((track, behind)) = find(rest, b"trak") {
        rest = behind;
        let Some((list, _)) = find(track, b"edts").and_then(|(edits, _)| find(edits, b"elst")) else { continue };
        let (media, _) = find(track, b"mdia")?;
        let (media_header, _) = find(media, b"mdhd")?;
        let media_scale = u64::from(word(media_header, if media_header.first()? == &1 { 20 } else { 12 })?);
        let wide = list.first()? == &1;
        let (duration, start) = if wide {
            (double(list, 8)?, double(list, 16)?)
        } else {
            (u64::from(word(list, 8)?), u64::from(word(list, 12)?))
        };
        // An empty edit, which delays the track, has the start -1; it is not priming.
        if start >= u64::from(u32::MAX) || movie_scale == 0 {
            return None;
        }
        let keep = (duration > 0).then(|| (duration as f64 * media_scale as f64 / movie_scale as f64).round() as u64);
        return Some((start, keep));
    }
    None
}

fn word(bytes: &[u8], at: usize) -> Option<u32> {
    Some(u32::from_be_bytes(bytes.get(at..at + 4)?.try_into().ok()?))
}

fn double(bytes: &[u8], at: usize) -> Option<u64> {
    Some(u64::from_be_bytes(bytes.get(at..at + 8)?.try_into().ok()?))
}
