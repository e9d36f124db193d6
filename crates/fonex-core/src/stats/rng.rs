//! One kind of random stream for everything that is seeded.

use rand::SeedableRng;

/// A permuted congruential generator (O'Neill, "PCG: a family of simple fast space-efficient statistically good
/// algorithms for random number generation", 2014), chosen because its output is the same on every machine.
pub type Stream = rand_pcg::Pcg64;

/// The stream for a seed and the names of what is drawn. Different names give independent streams, so adding a use
/// never shifts the numbers of another.
#[must_use]
pub fn stream(seed: u64, names: &[&str]) -> Stream {
    // FNV-1a, 64 bit, over the names with a separator, then mixed with the seed by the generator's own seeding.
    const OFFSET: u64 = 0xcbf2_9ce4_8422_2325;
    const PRIME: u64 = 0x0000_0100_0000_01b3;
    let mut hash = OFFSET ^ seed.wrapping_mul(0x9e37_79b9_7f4a_7c15);
    for name in names {
        for byte in name.bytes().chain([0xff]) {
            hash = (hash ^ u64::from(byte)).wrapping_mul(PRIME);
        }
    }
    Stream::seed_from_u64(hash)
}
