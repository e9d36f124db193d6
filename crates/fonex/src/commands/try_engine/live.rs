//! `fonex try --live`: words as they come, from a clip or from a microphone on standard input.

use std::io::{IsTerminal, Read, Write};
use std::sync::Mutex;
use std::sync::mpsc::{Sender, channel};
use std::time::Instant;

use fonex_core::Clip;
use fonex_core::audio::{Audio, resample};
use fonex_core::latency::{LiveEvent, LiveLog, LiveWhat, Pacing, measure_live};
use fonex_core::text::TextProfile;
use fonex_engines::{EngineConfig, Pace, Recording};
use fonex_formats::audio::decode;
use fonex_formats::{Place, Problem};

use super::TryOptions;
use crate::output::{self, milliseconds};

/// The pace that was asked for.
pub fn pace(options: &TryOptions) -> Pace {
    let (wait_s, longest_s) = (options.wait, options.longest);
    Pace { speed: options.speed, frame_ms: options.frame_ms, no_wait: options.no_wait, wait_s, longest_s }
}

/// Prints what the engine says as it comes: to a terminal, or line by line to standard error.
pub struct Watch {
    longest_s: Option<f64>,
    shown: Mutex<Shown>,
}

#[derive(Default)]
struct Shown {
    settled: Vec<String>,
    interim: Vec<String>,
}

impl Watch {
    pub fn new(longest_s: Option<f64>) -> Self {
        Self { longest_s, shown: Mutex::default() }
    }

    pub fn show(&self, event: &LiveEvent) {
        let line = self.line(event);
        let mut out = std::io::stderr().lock();
        drop(writeln!(out, "{line}").and_then(|()| out.flush()));
    }

    /// One line an event; words that stand where others stood before are set in angle quotes.
    fn line(&self, event: &LiveEvent) -> String {
        let mut shown = self.shown.lock().expect("nobody panics while it is held");
        let words: Vec<String> = event.text.split_whitespace().map(str::to_owned).collect();
        let marked: Vec<String> = words
            .iter()
            .enumerate()
            .map(|(at, word)| match shown.interim.get(at) {
                Some(before) if before != word => format!("‹{word}›"),
                _ => word.clone(),
            })
            .collect();
        let what = match event.what {
            LiveWhat::Ready => "ready",
            LiveWhat::Interim => "interim",
            LiveWhat::Final => "final",
            LiveWhat::EndOfSpeech => "end of speech",
        };
        match event.what {
            LiveWhat::Interim => shown.interim = words,
            LiveWhat::Final => {
                shown.settled.extend(words);
                shown.interim.clear();
            }
            LiveWhat::Ready | LiveWhat::EndOfSpeech => {}
        }
        let left = self
            .longest_s
            .map_or_else(String::new, |longest| format!("  ({:.1} s left)", (longest - event.at_ms / 1e3).max(0.0)));
        format!("{:>8.2} s  {what:<13}  {}{left}", event.at_ms / 1e3, marked.join(" ")).trim_end().to_owned()
    }
}

/// What the delivery showed, in words.
pub fn summary(profile: &TextProfile, clip: &Clip, heard: &str, log: &LiveLog) -> String {
    let measured = measure_live(profile, clip, heard, log);
    let mut text = String::new();
    let mut say = |what: &str, ms: Option<f64>| {
        if let Some(ms) = ms {
            text += &format!("  {what} {}\n", milliseconds(ms));
        }
    };
    let from = if clip.words.is_empty() { "of the audio" } else { "of speech" };
    say(&format!("start {from} to first words"), measured.first_words_ms);
    say("word end to word shown, median", fonex_core::stats::median(&measured.shown_ms));
    say("and for good", fonex_core::stats::median(&measured.settled_ms));
    say("last final result after the end of speech", measured.final_after_ms);
    text += &format!("  {} of {} shown words were changed later\n", measured.changed_words, measured.shown_words);
    if log.waited_ms >= 1.0 {
        text += &format!("  the first sample waited {} until the engine was ready\n", milliseconds(log.waited_ms));
    }
    let Pacing { frames, late_p99_ms, late_max_ms, .. } = log.pacing;
    text +=
        &format!("  {frames} frames, sent {late_p99_ms:.1} ms late (99th percentile), {late_max_ms:.1} ms at most\n");
    if log.pacing.fell_behind() {
        text += "  this machine was too slow to deliver in time: the figures are not the engine's alone\n";
    }
    text
}

/// What stands on standard input.
pub enum Input {
    /// Audio that is recorded while it is read.
    Live(Recording),
    /// Audio read to its end.
    Whole(Audio),
}

/// Opens standard input for an engine: live for one that takes audio so, else to its end.
pub fn from_stdin(options: &TryOptions, config: &EngineConfig, takes_live: bool) -> Result<Input, Problem> {
    if std::io::stdin().is_terminal() {
        let problem = Problem::new("standard input is a terminal, not audio", Place::default());
        return Err(problem.remedy("pipe a recorder into it: recorder | fonex try ENGINE -"));
    }
    let mut stdin = std::io::stdin();
    let (rate_hz, channels, first) = match head(&mut stdin, options.raw_hz.unwrap_or(config.audio.rate_hz))? {
        Head::Samples { rate_hz, channels, first } => (rate_hz, channels, first),
        Head::File(first) => return whole_file(first, stdin, config, takes_live),
    };
    let began = Instant::now();
    if !takes_live || rate_hz != config.audio.rate_hz {
        let mono = one_channel(&to_its_end(first, stdin)?, channels);
        let samples = mono.chunks_exact(2).map(|pair| f32::from(i16::from_le_bytes([pair[0], pair[1]])) / 32_768.0);
        let audio = Audio { rate_hz, samples: samples.collect() };
        return if takes_live { resampled(&audio, config) } else { Ok(Input::Whole(audio)) };
    }
    let (sender, receiver) = channel();
    std::thread::spawn(move || pass_on(first, channels, &sender));
    Ok(Input::Live(Recording::new(receiver, began)))
}

/// A file of any container: read to its end, and delivered from there.
fn whole_file(first: Vec<u8>, stdin: impl Read, config: &EngineConfig, takes_live: bool) -> Result<Input, Problem> {
    let decoded = decode(to_its_end(first, stdin)?)
        .map_err(|error| Problem::new(format!("the audio on standard input: {error}"), Place::default()))?;
    if let Some(defect) = &decoded.defect {
        output::caution(&format!("standard input: {defect}"));
    }
    if !takes_live {
        return Ok(Input::Whole(decoded.audio));
    }
    resampled(&decoded.audio, config)
}

/// Audio that was read to its end, at the rate that the engine takes, to be delivered as if it were spoken now.
fn resampled(audio: &Audio, config: &EngineConfig) -> Result<Input, Problem> {
    if audio.rate_hz != config.audio.rate_hz {
        output::note(&format!(
            "The audio has {} Hz and the engine takes {} Hz: it was read to its end and resampled.",
            audio.rate_hz, config.audio.rate_hz
        ));
    }
    let began = Instant::now();
    let audio = resample(audio, config.audio.rate_hz)
        .map_err(|error| Problem::new(format!("the audio on standard input: {error}"), Place::default()))?;
    let sample = |s: &f32| ((s * 32_768.0).round().clamp(-32_768.0, 32_767.0) as i16).to_le_bytes();
    let (sender, receiver) = channel();
    // The receiver is still there.
    drop(sender.send(audio.samples.iter().flat_map(sample).collect()));
    Ok(Input::Live(Recording::new(receiver, began)))
}

fn to_its_end(first: Vec<u8>, stdin: impl Read) -> Result<Vec<u8>, Problem> {
    const LONGEST: u64 = 4 << 30;
    let mut bytes = first;
    stdin.take(LONGEST).read_to_end(&mut bytes).map_err(|error| unreadable(&error))?;
    Ok(bytes)
}

fn unreadable(error: &std::io::Error) -> Problem {
    Problem::new(format!("standard input cannot be read: {error}"), Place::default())
}

/// Passes on what is recorded until the recorder ends or nobody listens any more.
fn pass_on(first: Vec<u8>, channels: usize, sender: &Sender<Vec<u8>>) {
    let frame = 2 * channels;
    let mut held = first;
    let mut buffer = [0; 4096];
    let mut stdin = std::io::stdin();
    loop {
        let whole = held.len() / frame * frame;
        let part = one_channel(&held[..whole], channels);
        held.drain(..whole);
        if !part.is_empty() && sender.send(part).is_err() {
            return;
        }
        match stdin.read(&mut buffer) {
            Ok(0) | Err(_) => return,
            Ok(read) => held.extend(&buffer[..read]),
        }
    }
}

/// Interleaved sixteen-bit samples mixed to one channel, as those of a file are.
fn one_channel(bytes: &[u8], channels: usize) -> Vec<u8> {
    let mixed = |frame: &[u8]| {
        let sum: i32 = frame.chunks_exact(2).map(|pair| i32::from(i16::from_le_bytes([pair[0], pair[1]]))).sum();
        ((sum / channels as i32) as i16).to_le_bytes()
    };
    bytes.chunks_exact(2 * channels).flat_map(mixed).collect()
}

/// How a stream begins.
#[derive(Debug, PartialEq)]
enum Head {
    /// Sixteen-bit samples follow, which can be passed on as they come.
    Samples { rate_hz: u32, channels: usize, first: Vec<u8> },
    /// A file of another form, with the bytes read so far.
    File(Vec<u8>),
}

/// The containers that a stream may begin with: at which byte stands what.
const CONTAINERS: [(usize, &[u8]); 7] =
    [(0, b"fLaC"), (0, b"OggS"), (0, b"ID3"), (0, b"FORM"), (0, b"caff"), (0, b"\x1aE\xdf\xa3"), (4, b"ftyp")];

/// Reads the head of a stream. One without a head is raw samples of one channel at `raw_hz`.
fn head(input: &mut impl Read, raw_hz: u32) -> Result<Head, Problem> {
    let started = Instant::now();
    let mut bytes = Vec::new();
    let mut buffer = [0; 256];
    let mut more = |bytes: &mut Vec<u8>, wanted: usize| -> Result<bool, Problem> {
        while bytes.len() < wanted {
            let read = input.read(&mut buffer).map_err(|error| unreadable(&error))?;
            if read == 0 {
                return Ok(false);
            }
            bytes.extend(&buffer[..read]);
        }
        Ok(true)
    };
    if !more(&mut bytes, 12)? && bytes.is_empty() {
        let waited = started.elapsed().as_secs_f64();
        return Err(Problem::new(
            format!("standard input ended after {waited:.1} s without a sample"),
            Place::default(),
        )
        .remedy("check that the recorder runs"));
    }
    if CONTAINERS.iter().any(|(at, mark)| bytes.get(*at..at + mark.len()) == Some(*mark)) {
        return Ok(Head::File(bytes));
    }
    if !bytes.starts_with(b"RIFF") || bytes.get(8..12) != Some(b"WAVE") {
        return Ok(Head::Samples { rate_hz: raw_hz, channels: 1, first: bytes });
    }
    let (mut at, mut form) = (12, None);
    let broken = |what: &str| Problem::new(format!("the WAV on standard input {what}"), Place::default());
    loop {
        if !more(&mut bytes, at + 8)? {
            return Err(broken("ends inside its head"));
        }
        let size = u32::from_le_bytes([bytes[at + 4], bytes[at + 5], bytes[at + 6], bytes[at + 7]]) as usize;
        let id: [u8; 4] = [bytes[at], bytes[at + 1], bytes[at + 2], bytes[at + 3]];
        at += 8;
        if &id == b"data" {
            let (rate_hz, channels) = form.ok_or_else(|| broken("has samples before its format"))?;
            return Ok(Head::Samples { rate_hz, channels, first: bytes.split_off(at.min(bytes.len())) });
        }
        if size > 1 << 20 {
            return Err(broken("has a head that is too long"));
        }
        if !more(&mut bytes, at + size)? {
            return Err(broken("ends inside its head"));
        }
        if &id == b"fmt " && size >= 16 {
            let short = |place: usize| u16::from_le_bytes([bytes[at + place], bytes[at + place + 1]]);
            let rate_hz = u32::from(short(4)) | u32::from(short(6)) << 16;
            let (channels, bits) = (usize::from(short(2)), short(14));
            if !(1..=16).contains(&channels) || !(4_000..=384_000).contains(&rate_hz) {
                return Err(broken(&format!("has {channels} channels at {rate_hz} Hz")));
            }
            // Other samples than plain ones of sixteen bits cannot be passed on as they are.
            if bits != 16 || ![1, 0xfffe].contains(&short(0)) {
                return Ok(Head::File(bytes));
            }
            form = Some((rate_hz, channels));
        }
        at += size + size % 2;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn heads_of_streams_are_read_and_broken_ones_told() {
        let wav = |bits: u16| {
            let mut bytes = b"RIFF\xff\xff\xff\xffWAVELIST\x03\0\0\0abc\0fmt \x10\0\0\0\x01\0\x02\0".to_vec();
            bytes.extend(16_000_u32.to_le_bytes());
            bytes.extend([0; 6]);
            bytes.extend(bits.to_le_bytes());
            bytes.extend(b"data\xff\xff\xff\xff\x01\x02\x03\x04");
            bytes
        };
        let samples = |rate_hz, channels, first: &[u8]| Head::Samples { rate_hz, channels, first: first.to_vec() };
        assert_eq!(head(&mut &wav(16)[..], 8_000).unwrap(), samples(16_000, 2, &[1, 2, 3, 4]));
        assert_eq!(head(&mut &b"\x01\x02\x03"[..], 8_000).unwrap(), samples(8_000, 1, &[1, 2, 3]));
        assert!(matches!(head(&mut &wav(24)[..], 8_000).unwrap(), Head::File(bytes) if wav(24).starts_with(&bytes)));
        for file in [&b"fLaC\0\0\0\x22more and more"[..], b"OggS\0more and more", b"\0\0\0\x20ftypM4A more"] {
            assert!(matches!(head(&mut &file[..], 8_000).unwrap(), Head::File(bytes) if file.starts_with(&bytes)));
        }
        assert!(head(&mut &wav(16)[..40], 8_000).is_err());
        assert!(head(&mut &b""[..], 8_000).is_err());
        assert_eq!(one_channel(&[1, 2, 3, 4], 1), [1, 2, 3, 4]);
        // 100 and 300, −1 and −3.
        assert_eq!(one_channel(&[100, 0, 44, 1, 255, 255, 253, 255], 2), [200, 0, 254, 255]);
    }

    #[test]
    fn changed_words_are_marked_and_the_time_left_told() {
        let watch = Watch::new(Some(5.0));
        let event = |at_ms, what, text: &str| LiveEvent { at_ms, what, text: text.to_owned() };
        watch.line(&event(500.0, LiveWhat::Interim, "hole at"));
        let line = watch.line(&event(1_000.0, LiveWhat::Interim, "hold at six"));
        assert!(line.contains("‹hold› at six") && line.contains("(4.0 s left)"), "{line}");
    }
}
