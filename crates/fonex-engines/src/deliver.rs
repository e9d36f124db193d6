//! Having a clip heard by the plan's delivery.

use fonex_core::audio::Audio;
use fonex_core::text::{HeardPiece, join_pieces};
use fonex_core::{Delivery, Heard, Outcome};

use crate::{Answer, Engine, HearRequest, Live, Measured, heard_answer};

/// Has a clip heard by a delivery. The pieces go one after the other; the first that fails ends the clip.
pub fn hear_by(delivery: Delivery, engine: &dyn Engine, request: &HearRequest<'_>) -> Answer<Heard> {
    if delivery == Delivery::Whole {
        return engine.hear(request);
    }
    if let Delivery::Live(pace) = delivery {
        if !engine.takes_live() {
            let why = "this engine cannot take live audio; a socket can, and a worker with live = true";
            return Answer::failed(Outcome::Refused, why);
        }
        let live = Live { pace, ..request.live.unwrap_or(Live::paced(pace)) };
        return engine.hear(&HearRequest { live: Some(live), ..*request });
    }
    let rate = f64::from(request.audio.rate_hz);
    let mut measured = Measured::default();
    let mut pieces = Vec::new();
    let stretches = delivery.stretches(request.audio);
    for (start_s, end_s) in &stretches {
        let samples = &request.audio.samples;
        let [from, to] = [start_s, end_s].map(|s| ((s * rate).round() as usize).min(samples.len()));
        let audio = Audio { rate_hz: request.audio.rate_hz, samples: samples[from..to].to_vec() };
        let answer = engine.hear(&HearRequest { audio: &audio, ..*request });
        add(&mut measured, &answer.measured);
        match answer {
            Answer { outcome: Outcome::Done | Outcome::Nothing, value: Some(heard), .. } => {
                pieces.push(HeardPiece { start_s: *start_s, end_s: *end_s, heard });
            }
            failed => {
                let place = format!("in the piece from {start_s:.2} s: ");
                let detail = Some(place + failed.detail.as_deref().unwrap_or("no more was said"));
                return Answer { detail, measured, value: None, ..failed };
            }
        }
    }
    measured.traffic.pieces = Some(stretches.len() as u32);
    heard_answer(join_pieces(&pieces), measured)
}

/// Adds a later call of the same trial: times and processor seconds add up, memory is the larger.
pub(crate) fn add(measured: &mut Measured, later: &Measured) {
    let sum = |a: Option<f64>, b: Option<f64>| a.zip(b).map(|(a, b)| a + b).or(a).or(b);
    measured.took_ms = sum(measured.took_ms, later.took_ms);
    measured.cpu_s = sum(measured.cpu_s, later.cpu_s);
    measured.peak_memory_kib = measured.peak_memory_kib.max(later.peak_memory_kib);
    measured.first_ms = measured.first_ms.or(later.first_ms);
    if measured.came_as.is_none() {
        measured.came_as.clone_from(&later.came_as);
    }
    measured.traffic.append(later.traffic.clone());
}
