//! Packets that do not arrive.

use rand::RngExt;

use super::Audio;
use crate::stats::stream;

/// What is played in place of a lost packet.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Concealment {
    /// Silence.
    None,
    /// The last packet again, falling by half each time, as simple receivers do.
    Repeat,
}

/// Packet length, in seconds: the usual 20 ms.
const PACKET_S: f64 = 0.020;
/// Packets lost in a row on average.
const BURST: f64 = 1.6;

/// Loses `share` of the packets, in bursts (the two-state model of Gilbert, "Capacity of a burst-noise channel", 1960).
/// Gives the share lost in fact.
pub fn lose_packets(audio: &mut Audio, share: f64, concealment: Concealment, seed: u64) -> f64 {
    let mut random = stream(seed, &["packet loss"]);
    let share = share.clamp(0.0, 0.95);
    let leave_loss = BURST.recip();
    let enter_loss = (leave_loss * share / (1.0 - share)).min(1.0);
    let packet = audio.samples_in(PACKET_S);
    let mut losing = random.random_bool(share);
    let (mut lost, mut packets, mut in_a_row) = (0, 0, 0);
    for start in (0..audio.samples.len()).step_by(packet) {
        packets += 1;
        if losing {
            lost += 1;
            in_a_row += 1;
            let level = if in_a_row == 1 { 1.0 } else { 0.5 };
            for at in start..(start + packet).min(audio.samples.len()) {
                audio.samples[at] = match concealment {
                    Concealment::Repeat if at >= packet => audio.samples[at - packet] * level,
                    _ => 0.0,
                };
            }
        } else {
            in_a_row = 0;
        }
        losing = if losing { !random.random_bool(leave_loss) } else { random.random_bool(enter_loss) };
    }
    f64::from(lost) / f64::from(packets.max(1))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_share_is_lost_and_concealment_fills_it() {
        let whole = Audio { rate_hz: 8_000, samples: (0..800_000).map(|i| (i as f32 * 0.25).sin() * 0.5).collect() };
        for share in [0.02, 0.1, 0.3] {
            let (mut bare, mut concealed) = (whole.clone(), whole.clone());
            let lost = lose_packets(&mut bare, share, Concealment::None, 4);
            assert!((lost - share).abs() < 0.02, "{lost} for {share}");
            assert_eq!(lose_packets(&mut concealed, share, Concealment::Repeat, 4), lost, "the same packets");
            let silent = |audio: &Audio| audio.samples.iter().filter(|s| **s == 0.0).count() as f64 / 800_000.0;
            assert!((silent(&bare) - lost).abs() < 0.01 && silent(&concealed) < 0.005);
        }
        let mut untouched = whole.clone();
        assert_eq!(lose_packets(&mut untouched, 0.0, Concealment::None, 4), 0.0);
        assert_eq!(untouched, whole);
    }
}
