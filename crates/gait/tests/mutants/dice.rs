//! Luck that can be had again.

/// Numbers from a seed (SplitMix64).
pub struct Dice(u64);

impl Dice {
    pub const fn new(seed: u64) -> Self {
        Self(seed)
    }

    pub const fn roll(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        z ^ (z >> 31)
    }

    pub fn below(&mut self, most: usize) -> usize {
        (self.roll() % most.max(1) as u64) as usize
    }
}
