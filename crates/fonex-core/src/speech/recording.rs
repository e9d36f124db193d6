//! A recording of any length, measured as it comes, in bounded memory.

use super::{LEAST_PAUSE_S, SpeechMeasures, SpeechSoFar, measure_speech};
use crate::audio::{
    Audio, AudioMeasures, LevelMeter, Loudness, LoudnessMeter, Outline, PauseMeter, PauseRule, Stretch,
    cut_at_pauses, loudness, measure, pauses,
};

/// A recording that is longer than this is not held; how it is spoken is measured in pieces of a quarter to half this length, the last ones
/// of an eighth at least. In seconds.
const LONG_S: f64 = 300.0;

/// What is known of a recording.
#[derive(Debug, Clone)]
pub struct Heard {
    /// Levels.
    pub measures: AudioMeasures,
    /// Loudness.
    pub loudness: Loudness,
    /// Its pauses.
    pub pauses: Vec<Stretch>,
    /// The pieces it is to be cut into; none where that was not asked for.
    pub pieces: Vec<Stretch>,
    /// In how many pieces its speech was measured, where it is long.
    pub speech_pieces: Option<u32>,
    /// How it is spoken, where that was asked for.
    pub speech: Option<SpeechMeasures>,
    /// The sound itself, where it is not long.
    pub sound: Option<Audio>,
    /// The shape of one that is.
    pub outline: Outline,
}

/// Measures a recording that comes bit by bit.
///
/// What needs no more than neighbours (levels, loudness, pauses) is the same however long it is. The pitch of a long one is that of the pieces'
/// frames together, syllables and faults are those of its pieces, which are cut where it is quietest: what is loud is loud within its piece.
pub struct Recording {
    rate_hz: u32,
    with_speech: bool,
    cut: Option<PauseRule>,
    /// Samples from which it is long.
    most: usize,
    held: Vec<f32>,
    long: Option<Long>,
}

/// What is kept of a long one.
struct Long {
    levels: LevelMeter,
    loudness: LoudnessMeter,
    pauses: PauseMeter,
    outline: Outline,
    speech: SpeechSoFar,
    pieces: u32,
}

impl Recording {
    /// One of which nothing has come yet. `cut` says how it is to be cut, where it is.
    #[must_use]
    pub fn new(rate_hz: u32, cut: Option<PauseRule>, with_speech: bool) -> Self {
        let most = (f64::from(rate_hz) * LONG_S) as usize;
        Self { rate_hz, with_speech, cut, most, held: Vec::new(), long: None }
    }

    /// Samples that come next.
    pub fn add(&mut self, samples: &[f32]) {
        let needed = self.held.len() + samples.len();
        if needed > self.held.capacity() {
            // Twice as much each time, but no more than is ever held.
            let room = (2 * needed).min(self.most.saturating_add(samples.len()));
            self.held.reserve_exact(room.max(needed) - self.held.len());
        }
        self.held.extend_from_slice(samples);
        while self.held.len() > self.most {
            let rest = self.held.split_off(self.quietest());
            self.piece(rest);
        }
    }

    /// The quietest place in the second quarter of what is held.
    fn quietest(&self) -> usize {
        let whole = self.held.len().min(self.most);
        let (from, to) = (whole / 4, whole / 2);
        let mut levels = PauseMeter::new(self.rate_hz);
        levels.add(&self.held[from..to]);
        levels.end();
        let place = levels.quietest(0.0, (to - from) as f64 / f64::from(self.rate_hz));
        (from + (place * f64::from(self.rate_hz)) as usize).clamp(1, to.max(1))
    }

    /// Measures what is held, and holds the rest instead.
    fn piece(&mut self, rest: Vec<f32>) {
        let rate_hz = self.rate_hz;
        let long = self.long.get_or_insert_with(|| Long {
            levels: LevelMeter::new(rate_hz),
            loudness: LoudnessMeter::new(rate_hz),
            pauses: PauseMeter::new(rate_hz),
            outline: Outline::default(),
            speech: SpeechSoFar::new(rate_hz),
            pieces: 0,
        });
        let piece = Audio { rate_hz, samples: std::mem::replace(&mut self.held, rest) };
        long.levels.add(&piece.samples);
        long.loudness.add(&piece.samples);
        long.pauses.add(&piece.samples);
        long.outline.add(&piece.samples);
        long.pieces += 1;
        if self.with_speech {
            long.speech.add(&piece, measure(&piece).noise_floor_dbfs);
        }
    }

    /// Nothing comes any more.
    #[must_use]
    pub fn finish(mut self) -> Heard {
        if self.long.is_some() {
            while self.held.len() > self.most / 2 {
                let rest = self.held.split_off(self.quietest());
                self.piece(rest);
            }
            self.piece(Vec::new());
        }
        let Some(Long { levels, loudness, mut pauses, outline, speech, pieces: speech_pieces }) = self.long else {
            return of_short(
                Audio { rate_hz: self.rate_hz, samples: self.held },
                self.cut.as_ref(),
                self.with_speech,
            );
        };
        pauses.end();
        let (measures, loudness) = (levels.finish(), loudness.finish());
        let speech = self.with_speech.then(|| {
            let inside = pauses.pauses(&PauseRule { least_pause_s: LEAST_PAUSE_S, ..PauseRule::default() });
            speech.finish(&measures, inside, loudness)
        });
        let pieces = self.cut.map_or_else(Vec::new, |rule| pauses.cut(&rule));
        let found = pauses.pauses(&PauseRule::default());
        Heard {
            measures,
            loudness,
            pauses: found,
            pieces,
            speech,
            speech_pieces: self.with_speech.then_some(speech_pieces),
            sound: None,
            outline,
        }
    }
}

fn of_short(audio: Audio, cut: Option<&PauseRule>, with_speech: bool) -> Heard {
    let measures = measure(&audio);
    let speech = with_speech.then(|| measure_speech(&audio, &measures));
    let loudness = match &speech {
        Some(speech) => Loudness { integrated_lufs: speech.loudness_lufs, true_peak_dbtp: speech.true_peak_dbtp },
        None => loudness(&audio),
    };
    Heard {
        measures,
        loudness,
        pauses: pauses(&audio, &PauseRule::default()),
        pieces: cut.map_or_else(Vec::new, |rule| cut_at_pauses(&audio, rule)),
        speech,
        speech_pieces: None,
        sound: Some(audio),
        outline: Outline::default(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::audio::{NoiseColour, noise};

    /// Buzzes that rise, between pauses, over noise; one clipped stretch, one click, one gap.
    fn spoken(seconds: usize) -> Audio {
        let rate_hz = 16_000;
        let mut samples = noise(NoiseColour::Pink, seconds * rate_hz as usize, rate_hz, 5);
        let mut phase = 0.0;
        for (i, sample) in samples.iter_mut().enumerate() {
            let t = i as f64 / f64::from(rate_hz);
            phase += (110.0 + 20.0 * (t * 0.7).sin()) / f64::from(rate_hz);
            let swell = 0.5 - 0.5 * (std::f64::consts::TAU * 4.0 * t).cos();
            let speaks = t % 5.0 > 0.8;
            let buzz: f64 =
                (1..12).map(|h| (std::f64::consts::TAU * phase * f64::from(h)).sin() / f64::from(h)).sum();
            *sample = *sample * 0.002 + if speaks { (0.25 * swell * buzz) as f32 } else { 0.0 };
        }
        samples[200_000..200_200].fill(1.0);
        samples[700_000] = 0.9;
        Audio { rate_hz, samples }
    }

    fn heard(audio: &Audio, most: usize, cut: usize) -> Heard {
        let rule = PauseRule { longest_piece_s: 10.0, ..PauseRule::default() };
        let mut recording = Recording { most, ..Recording::new(audio.rate_hz, Some(rule), true) };
        audio.samples.chunks(cut).for_each(|part| recording.add(part));
        recording.finish()
    }

    #[test]
    fn a_long_recording_measures_as_one_that_is_held() {
        let audio = spoken(61);
        let whole = heard(&audio, usize::MAX, 4096);
        assert_eq!(whole.sound.as_ref(), Some(&audio));
        let spoken = whole.speech.clone().unwrap();
        for (most, cut) in [(320_000, 1000), (300_001, 48_000), (200_000, audio.samples.len())] {
            let pieces = heard(&audio, most, cut);
            assert!(pieces.sound.is_none());
            assert_eq!((&pieces.pauses, &pieces.pieces), (&whole.pauses, &whole.pieces));
            let near = |a: Option<f64>, b: Option<f64>| (a.unwrap() - b.unwrap()).abs() < 1e-9;
            let (m, w) = (pieces.measures, whole.measures);
            assert_eq!((m.duration_s, m.peak_dbfs, m.clipped_share), (w.duration_s, w.peak_dbfs, w.clipped_share));
            assert_eq!((m.silence, m.noise_floor_dbfs, m.snr_db), (w.silence, w.noise_floor_dbfs, w.snr_db));
            assert!(near(m.level_dbfs, w.level_dbfs) && (m.dc_offset - w.dc_offset).abs() < 1e-12);
            assert!(near(pieces.loudness.integrated_lufs, whole.loudness.integrated_lufs));
            assert_eq!(pieces.loudness.true_peak_dbtp, whole.loudness.true_peak_dbtp);
            assert_eq!(pieces.outline.extremes(100).len(), 100);

            let speech = pieces.speech.unwrap();
            assert_eq!((speech.pauses, &speech.pauses_at), (spoken.pauses, &spoken.pauses_at));
            assert_eq!((speech.speaking_s, speech.level_movement_db), (spoken.speaking_s, spoken.level_movement_db));
            let (pitch, held) = (speech.pitch.unwrap(), spoken.pitch.unwrap());
            assert!((pitch.median_hz - held.median_hz).abs() < 0.3, "{pitch:?} {held:?}");
            assert!((pitch.range_st - held.range_st).abs() < 0.05, "{pitch:?} {held:?}");
            assert!(speech.syllables.abs_diff(spoken.syllables) <= 2, "{} {}", speech.syllables, spoken.syllables);
            // A click is placed to the millisecond, counted from the beginning of its piece.
            let (clicks, whole_clicks) = (speech.faults.clicks.unwrap(), spoken.faults.clicks.unwrap());
            assert!(clicks.count == whole_clicks.count && (clicks.at_s - whole_clicks.at_s).abs() < 0.002);
            assert_eq!(speech.faults.names(), spoken.faults.names());
        }
    }

    #[test]
    fn silence_and_nothing_are_no_speech() {
        let silent = Audio { rate_hz: 8_000, samples: vec![0.0; 8_000 * 30] };
        let found = heard(&silent, 80_000, 1_000);
        assert_eq!(found.measures, measure(&silent));
        assert_eq!(found.speech.unwrap(), measure_speech(&silent, &measure(&silent)));
        assert_eq!(found.pieces, []);
        assert_eq!(Recording::new(8_000, None, false).finish().measures.duration_s, 0.0);
    }
}
