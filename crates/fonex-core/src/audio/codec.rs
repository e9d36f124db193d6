//! The telephone's 8-bit companding, ITU-T G.711, as a round trip.

use super::Audio;

/// Which law compands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Law {
    /// A-law, used in most of the world.
    A,
    /// Mu-law, used in North America and Japan.
    Mu,
}

/// Sends each sample through 8-bit companding and back. The rate stays; a telephone has 8,000 Hz.
pub fn compand(audio: &mut Audio, law: Law) {
    for sample in &mut audio.samples {
        let linear = (f64::from(*sample) * 32768.0).round().clamp(-32768.0, 32767.0) as i16;
        let restored = match law {
            Law::A => a_law_decode(a_law_encode(linear)),
            Law::Mu => mu_law_decode(mu_law_encode(linear)),
        };
        *sample = (f64::from(restored) / 32768.0) as f32;
    }
}

/// A-law of a 16-bit sample (G.711, table 1a; even bits inverted).
fn a_law_encode(linear: i16) -> u8 {
    let sign = if linear >= 0 { 0x80 } else { 0 };
    let magnitude = if linear >= 0 { linear >> 4 } else { !(linear >> 4) } as u16;
    let coded = if magnitude < 32 {
        magnitude as u8
    } else {
        let segment = 12 - magnitude.leading_zeros() as u8;
        (segment << 4) | ((magnitude >> (segment - 1)) as u8 & 0x0f)
    };
    (coded | sign) ^ 0x55
}

fn a_law_decode(coded: u8) -> i16 {
    let coded = coded ^ 0x55;
    let (segment, step) = ((coded >> 4) & 7, i16::from(coded & 0x0f));
    let magnitude = if segment == 0 { (step << 4) + 8 } else { ((step << 4) + 0x108) << (segment - 1) };
    if coded & 0x80 == 0 { -magnitude } else { magnitude }
}

/// Mu-law of a 16-bit sample (G.711, table 2a; all bits inverted).
fn mu_law_encode(linear: i16) -> u8 {
    const BIAS: i32 = 0x84;
    const CLIP: i32 = 32_635;
    let sign = if linear < 0 { 0x80 } else { 0 };
    let magnitude = i32::from(linear).abs().min(CLIP) + BIAS;
    let segment = 24 - magnitude.leading_zeros() as u8;
    let step = (magnitude >> (segment + 3)) as u8 & 0x0f;
    !(sign | (segment << 4) | step)
}

fn mu_law_decode(coded: u8) -> i16 {
    let coded = !coded;
    let (segment, step) = ((coded >> 4) & 7, i32::from(coded & 0x0f));
    let magnitude = (((step << 3) + 0x84) << segment) - 0x84;
    (if coded & 0x80 == 0 { magnitude } else { -magnitude }) as i16
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn published_code_words() {
        // G.711: positive and negative zero, the ends of the scale, and one value inside a segment of each law.
        assert_eq!(
            (a_law_encode(0), a_law_encode(-1), a_law_encode(32767), a_law_encode(-32768)),
            (0xd5, 0x55, 0xaa, 0x2a)
        );
        assert_eq!((mu_law_encode(0), mu_law_encode(32767), mu_law_encode(-32768)), (0xff, 0x80, 0x00));
        assert_eq!((a_law_decode(0xaa), mu_law_decode(0x80)), (32256, 32124));
        assert_eq!((a_law_decode(a_law_encode(1000)), mu_law_decode(mu_law_encode(1000))), (1008, 988));
    }

    #[test]
    fn the_error_is_a_share_of_the_sample() {
        for linear in (-32_000..32_000_i16).step_by(7) {
            for (law, restored) in
                [(Law::A, a_law_decode(a_law_encode(linear))), (Law::Mu, mu_law_decode(mu_law_encode(linear)))]
            {
                let error = (i32::from(restored) - i32::from(linear)).abs();
                assert!(error <= 16 + i32::from(linear).abs() / 30, "{law:?} {linear} {restored}");
            }
        }
    }
}
