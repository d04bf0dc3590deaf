//! Randomness that is the same everywhere: a stream cipher as generator, and our own few draws from
//! it, so that no library's choice of distribution can change the files.

use rand_chacha::ChaCha8Rng;
use rand_chacha::rand_core::{Rng, SeedableRng};

pub struct Dice(ChaCha8Rng);

impl Dice {
    /// The dice of one file: the same seed gives other dice for another stream.
    pub fn new(seed: u64, stream: u64) -> Dice {
        let mut rng = ChaCha8Rng::seed_from_u64(seed);
        rng.set_stream(stream);
        Dice(rng)
    }

    /// A number below `end`. The bias of the multiplication is below one in 2^32 / `end`.
    pub fn below(&mut self, end: u32) -> u32 {
        ((u64::from(self.0.next_u32()) * u64::from(end)) >> 32) as u32
    }

    /// Whether a thing happens that happens `per_mille` times in a thousand.
    pub fn chance(&mut self, per_mille: u32) -> bool {
        self.below(1000) < per_mille
    }

    /// One of some things.
    pub fn pick<'a, T>(&mut self, things: &'a [T]) -> &'a T {
        &things[self.below(things.len() as u32) as usize]
    }

    /// One of some things, the earlier ones more often: the smaller of two draws.
    pub fn lean<'a, T>(&mut self, things: &'a [T]) -> &'a T {
        let (a, b) = (self.below(things.len() as u32), self.below(things.len() as u32));
        &things[a.min(b) as usize]
    }
}
