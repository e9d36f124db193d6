//! Decoding: what the bytes are decides, never the file's ending.

use std::io::{Cursor, ErrorKind, Seek};
use std::path::Path;

use fonex_core::Side;
use fonex_core::audio::{Audio, ChannelMeter, Channels};
use symphonia::core::errors::Error as SymphoniaError;
use symphonia::core::formats::probe::Hint;
use symphonia::core::formats::{FormatOptions, FormatReader, TrackType};
use symphonia::core::io::{MediaSource, MediaSourceStream};
use symphonia::core::meta::MetadataOptions;
use thiserror::Error;

use super::decoder::SampleDecoder;
use super::hand_over::Window;
use super::mp4_edits::{Edit, edits_of, moov, play};

/// Rates that audio has: below is telemetry, above no recorder goes.
const RATES_HZ: std::ops::RangeInclusive<u32> = 1_000..=768_000;
/// The most samples of one channel that are decoded: a few bytes may become very many. Seven hours at 16 kHz, two and a half at
/// 44.1 kHz, 1.6 GB of memory.
const MOST_SAMPLES: usize = 400_000_000;

/// Samples that are handed over at once of what was decoded as a whole.
const HANDED_AT_ONCE: usize = 1 << 16;
/// Samples for which room is made at once.
const AT_ONCE: usize = 32 << 20;

/// The most samples that are handed over as they come, a day at 44.1 kHz; and the most seconds of them.
const MOST_STREAMED: usize = 4_000_000_000;
const LONGEST_STREAMED_S: usize = 2 * 86_400;

/// A decoded recording.
#[derive(Debug, Clone, PartialEq)]
pub struct Decoded {
    /// The sound: channels mixed to one, or the side asked for.
    pub audio: Audio,
    /// Channels in the file.
    pub channels: usize,
    /// Bits of each sample, where the file states it.
    pub bits: Option<u32>,
    /// Container and codec as the bytes say, such as `wave/pcm_s16le`.
    pub kind: String,
    /// What is not as the file itself states, such as fewer samples than its header claims.
    pub defect: Option<String>,
    /// About how many seconds of the encoder's priming stand before the sound, where the codec has some and the container
    /// does not say how much: everything is late by it.
    pub priming_s: Option<f64>,
    /// The channels that were mixed; none for a file of one, and for one side. Their loudness is there where the sound was
    /// handed over as it was decoded.
    pub apart: Option<Channels>,
}

impl Decoded {
    /// Share of clipped samples: of the worst channel, which the mix may hide, or of the mix.
    #[must_use]
    pub fn clipped_share(&self, of_mix: f64) -> f64 {
        self.apart.as_ref().map_or(0.0, Channels::clipped_share).max(of_mix)
    }
}

/// Why audio could not be decoded.
#[derive(Debug, Error)]
pub enum AudioError {
    /// The file cannot be opened or read.
    #[error("cannot be read: {0}")]
    Io(#[from] std::io::Error),
    /// There is nothing in it.
    #[error("the file is empty")]
    Empty,
    /// The bytes are of no known kind.
    #[error("not a supported audio format (WAV, FLAC, MP3, Ogg Vorbis, Opus, M4A, AIFF, CAF, Matroska)")]
    UnknownKind,
    /// The container holds no audio.
    #[error("the file holds no audio track")]
    NoAudio,
    /// A rate that cannot be.
    #[error("the file states an impossible sample rate of {0} Hz")]
    Rate(u32),
    /// Too long to take into memory.
    #[error("the recording has more than {} million samples; cut it, or bring it to a lower rate", .0 / 1_000_000)]
    TooLong(usize),
    /// The data is broken from the start.
    #[error("the audio data is broken: {0}")]
    Broken(String),
}

/// Reads an audio file.
///
/// # Errors
/// See [`AudioError`]. A file broken in the middle is no error: it gives what could be decoded and a `defect`.
pub fn read_audio(path: &Path) -> Result<Decoded, AudioError> {
    read_side(path, None)
}

/// Reads one side of an audio file, or all channels mixed. A file of one channel is either side.
///
/// # Errors
/// See [`AudioError`].
pub fn read_side(path: &Path, side: Option<Side>) -> Result<Decoded, AudioError> {
    let file = crate::regular::open(path)?;
    if file.metadata()?.len() == 0 {
        return Err(AudioError::Empty);
    }
    let moov = moov(&mut &file);
    (&file).rewind()?;
    decode_source(Box::new(file), side, moov.as_deref(), MOST_SAMPLES, None)
}

/// Hands over what [`read_side`] would read as it is decoded, with its rate, in order; the sound of what is returned is empty. Only a file
/// whose edit list plays its audio in several parts is decoded as a whole before.
///
/// # Errors
/// See [`AudioError`]; some of the sound may have been handed over before.
pub fn stream_side(
    path: &Path,
    side: Option<Side>,
    take: &mut dyn FnMut(u32, &[f32]),
) -> Result<Decoded, AudioError> {
    let file = crate::regular::open(path)?;
    if file.metadata()?.len() == 0 {
        return Err(AudioError::Empty);
    }
    let moov = moov(&mut &file);
    (&file).rewind()?;
    decode_source(Box::new(file), side, moov.as_deref(), MOST_SAMPLES, Some(take))
}

/// Whoever takes samples as they are decoded, with their rate.
type Taker<'t> = &'t mut dyn FnMut(u32, &[f32]);

/// Decodes audio in memory.
///
/// # Errors
/// See [`AudioError`].
pub fn decode(bytes: Vec<u8>) -> Result<Decoded, AudioError> {
    decode_up_to(bytes, MOST_SAMPLES)
}

/// Decodes audio in memory of no more than this many samples.
///
/// # Errors
/// See [`AudioError`].
pub fn decode_up_to(bytes: Vec<u8>, most: usize) -> Result<Decoded, AudioError> {
    if bytes.is_empty() {
        return Err(AudioError::Empty);
    }
    let mut source = Cursor::new(bytes);
    let moov = moov(&mut source);
    source.set_position(0);
    decode_source(Box::new(source), None, moov.as_deref(), most, None)
}

/// Audio that starts later than this behind the beginning of its file is taken to be a piece of something longer.
const LATEST_START_S: f64 = 600.0;
/// A start that is less late is that of an encoder.
const EARLIEST_START_S: f64 = 0.005;

/// Where the container says that its sound stands: how late it starts, and by which edits it is played.
#[derive(Clone, Copy)]
struct Order<'e> {
    first_s: f64,
    edits: &'e [Edit],
}

/// What is played where there is no edit list.
const WHOLE: [Edit; 1] = [Edit { from_s: Some(0.0), lasts_s: None }];

/// Behind the silence of a track that starts late, and by its edit list, without encoder priming, which would put everything too late, and
/// padding behind the end; none where the sound stands as it is decoded. Times are those of the whole file.
fn order<'e>(kind: &str, first_s: f64, edits: Option<&'e [Edit]>, defect: &mut Option<String>) -> Option<Order<'e>> {
    let matroska = kind.starts_with("matroska") || kind.starts_with("mkv");
    let timed = matroska || kind.starts_with("isomp4");
    // Matroska states the encoder's priming (CodecDelay, RFC 9559), and its first packet begins so much before zero. Of Opus the
    // decoder leaves it out.
    let primed = matroska && !kind.ends_with("/opus") && first_s < -EARLIEST_START_S;
    let mut first_s = if primed || timed && first_s > EARLIEST_START_S { first_s } else { 0.0 };
    if first_s > LATEST_START_S {
        defect.get_or_insert(format!("its audio starts at {first_s:.1} s; times are counted from there"));
        first_s = 0.0;
    }
    let edits = edits.unwrap_or(&WHOLE);
    (edits != WHOLE || first_s != 0.0).then_some(Order { first_s, edits })
}

fn decode_source(
    source: Box<dyn MediaSource>,
    side: Option<Side>,
    moov: Option<&[u8]>,
    most: usize,
    mut take: Option<Taker<'_>>,
) -> Result<Decoded, AudioError> {
    let stream = MediaSourceStream::new(source, Default::default());
    let probe = symphonia::default::get_probe();
    let mut format = probe
        .probe(&Hint::new(), stream, FormatOptions::default(), MetadataOptions::default())
        .map_err(|error| match error {
            SymphoniaError::IoError(error) if error.kind() != ErrorKind::UnexpectedEof => AudioError::Io(error),
            SymphoniaError::DecodeError(what) => AudioError::Broken(what.to_owned()),
            _ => AudioError::UnknownKind,
        })?;
    let track = format.default_track(TrackType::Audio).ok_or(AudioError::NoAudio)?;
    let (track_id, stated_frames, delay) = (track.id, track.num_frames, track.delay.unwrap_or(0));
    let second = track.time_base.map_or(0.0, |base| f64::from(base.numer.get()) / f64::from(base.denom.get()));
    let edits = moov.and_then(|moov| edits_of(moov, track_id));
    let mut first_s = None;
    let mut starts_late = None;
    let parameters = track.codec_params.as_ref().and_then(|p| p.audio()).ok_or(AudioError::NoAudio)?;
    let bits = parameters.bits_per_coded_sample.or(parameters.bits_per_sample);
    let mut decoder = SampleDecoder::new(parameters, delay)?;
    let kind = format!("{}/{}", format.format_info().short_name, decoder.name());

    let stated_room = stated_frames.map_or(0, |frames| usize::try_from(frames).unwrap_or(usize::MAX));
    let room = if most <= AT_ONCE { most } else { stated_room };
    let with_loudness = take.is_some();
    let mut mixing = Mixing { side, bits, most, room, with_loudness, ..Mixing::default() };
    let mut interleaved: Vec<f32> = Vec::new();
    let (mut placed, mut window, mut given) = (None, None, 0);
    let mut defect = None;
    loop {
        let packet = match next_packet(format.as_mut()) {
            Ok(Some(packet)) => packet,
            Ok(None) => break,
            Err(what) => {
                defect = Some(what);
                break;
            }
        };
        if packet.track_id != track_id {
            continue;
        }
        let first_s = *first_s.get_or_insert(packet.pts.get() as f64 * second);
        match decoder.decode(&packet, &mut interleaved) {
            Ok(spec) => {
                if mixing.check(spec.rate_hz, spec.channels)? {
                    placed = order(&kind, first_s, edits.as_deref(), &mut starts_late);
                    window = take.as_ref().and_then(|_| window_of(placed, spec.rate_hz));
                    if window.is_some() {
                        (mixing.room, mixing.most) =
                            (0, MOST_STREAMED.min(LONGEST_STREAMED_S * spec.rate_hz as usize));
                    }
                }
                mixing.add(&interleaved)?;
                if let (Some(window), Some(take)) = (&mut window, &mut take) {
                    let rate_hz = mixing.rate_hz;
                    given += window.give(mixing.handed_over(), &mut |samples| take(rate_hz, samples));
                    mixing.samples.clear();
                }
            }
            Err(error) => defect = Some(format!("a packet cannot be decoded: {error}")),
        }
    }
    let mut decoded = mixing.finish(kind, decoder.expected(stated_frames, delay), defect.or(starts_late))?;
    // Where a delay is stated it has been left out.
    let stated = delay > 0 || first_s.is_some_and(|first_s| first_s < -EARLIEST_START_S) || edits.is_some();
    decoded.priming_s =
        usual_priming(&decoded.kind).filter(|_| !stated).map(|n| n / f64::from(decoded.audio.rate_hz));
    let Audio { rate_hz, samples } = &mut decoded.audio;
    if let (Some(Order { first_s, edits }), None) = (placed, &window) {
        *samples = play(samples, *rate_hz, first_s, edits, most);
    }
    if let (None, Some(take)) = (&window, take) {
        samples.chunks(HANDED_AT_ONCE).for_each(|part| take(*rate_hz, part));
        given = samples.len();
        samples.clear();
    }
    if samples.is_empty() && given == 0 {
        return Err(AudioError::Broken("its edit list plays none of its audio".to_owned()));
    }
    Ok(decoded)
}

/// Samples that encoders usually put before the sound: 1,024 of AAC (one frame), 1,105 of MP3 (one frame of 576 and the delay
/// of 529 of the decoder); some encoders put twice as many.
fn usual_priming(kind: &str) -> Option<f64> {
    match kind.rsplit('/').next() {
        Some("aac") => Some(1_024.0),
        Some("mp3") => Some(1_105.0),
        _ => None,
    }
}

/// What is handed over of each packet; none where the edits play it in several parts.
fn window_of(placed: Option<Order<'_>>, rate_hz: u32) -> Option<Window> {
    match placed {
        None => Some(Window::ALL),
        Some(Order { first_s, edits: [edit] }) => Window::of(edit, first_s, rate_hz),
        Some(_) => None,
    }
}

/// The next packet, the end, or what is wrong. A WAV from a pipe states no true length and simply ends; a file that
/// states its length is held to it in [`Mixing::finish`].
fn next_packet(format: &mut dyn FormatReader) -> Result<Option<symphonia::core::packet::Packet>, String> {
    match format.next_packet() {
        Ok(packet) => Ok(packet),
        Err(SymphoniaError::IoError(error)) if error.kind() == ErrorKind::UnexpectedEof => Ok(None),
        Err(error) => Err(format!("the data is broken: {error}")),
    }
}

/// Mixes channels to one, or takes one side, as packets come.
#[derive(Default)]
struct Mixing {
    side: Option<Side>,
    with_loudness: bool,
    /// Measures the channels, where several are mixed.
    apart: Option<ChannelMeter>,
    bits: Option<u32>,
    rate_hz: u32,
    channels: usize,
    samples: Vec<f32>,
    /// No more than this many.
    most: usize,
    /// As many as are likely to come.
    room: usize,
    /// Samples that were handed over before those that are held.
    before: usize,
    unreal: u64,
}

impl Mixing {
    /// Whether this is the first packet with sound; whether it is like those before.
    fn check(&mut self, rate_hz: u32, channels: usize) -> Result<bool, AudioError> {
        if !RATES_HZ.contains(&rate_hz) {
            return Err(AudioError::Rate(rate_hz));
        }
        let first = self.samples.is_empty() && self.before == 0;
        if first {
            (self.rate_hz, self.channels) = (rate_hz, channels.max(1));
            let several = self.channels > 1 && self.side.is_none();
            self.apart = several.then(|| ChannelMeter::new(rate_hz, self.channels, self.with_loudness));
        } else if (rate_hz, channels) != (self.rate_hz, self.channels) {
            return Err(AudioError::Broken("the sample rate or channel count changes in the middle".to_owned()));
        }
        Ok(first)
    }

    /// The samples that are held, which are no longer counted among them.
    fn handed_over(&mut self) -> &[f32] {
        self.before += self.samples.len();
        &self.samples
    }

    fn add(&mut self, interleaved: &[f32]) -> Result<(), AudioError> {
        let (scale, from) = ((self.channels as f32).recip(), self.samples.len());
        let frames = interleaved.chunks_exact(self.channels);
        if from == 0 {
            // Room that is not used costs nothing; to grow into it would take it twice. Where it is not to be had, growing may do.
            drop(self.samples.try_reserve_exact(self.room.min(self.most) + frames.len()));
        }
        match self.side {
            _ if self.channels == 1 => self.samples.extend_from_slice(interleaved),
            None => self.samples.extend(frames.map(|frame| frame.iter().sum::<f32>() * scale)),
            Some(Side::Left) => self.samples.extend(frames.map(|frame| frame[0])),
            Some(Side::Right) => self.samples.extend(frames.map(|frame| frame[1])),
        }
        let added = &mut self.samples[from..];
        if added.iter().fold(false, |any, s| any | !s.is_finite()) {
            for sample in added.iter_mut().filter(|sample| !sample.is_finite()) {
                self.unreal += 1;
                *sample = 0.0;
            }
        }
        if let Some(apart) = &mut self.apart {
            apart.add(&interleaved[..(self.samples.len() - from) * self.channels], &self.samples[from..]);
        }
        if self.before + self.samples.len() > self.most {
            return Err(AudioError::TooLong(self.most));
        }
        Ok(())
    }

    fn finish(self, kind: String, stated: Option<u64>, defect: Option<String>) -> Result<Decoded, AudioError> {
        if self.samples.is_empty() && self.before == 0 {
            return Err(AudioError::Broken(defect.unwrap_or_else(|| "it holds no samples".to_owned())));
        }
        let decoded = (self.before + self.samples.len()) as u64;
        let short = stated
            .filter(|stated| decoded < *stated)
            .map(|stated| format!("it holds {decoded} of the {stated} samples its header states"));
        let unreal =
            (self.unreal > 0).then(|| format!("{} samples are not numbers; treated as silence", self.unreal));
        Ok(Decoded {
            audio: Audio { rate_hz: self.rate_hz, samples: self.samples },
            channels: self.channels,
            bits: self.bits,
            kind,
            defect: short.or(unreal).or(defect),
            priming_s: None,
            apart: self.apart.map(ChannelMeter::finish),
        })
    }
}
