//! Chance, from a seed.

use std::sync::{Arc, Mutex};
use std::time::Duration;

/// Numbers that a seed decides (SplitMix64), shared by all who draw from it.
#[derive(Clone, Debug)]
pub(crate) struct Random(Arc<Mutex<u64>>);

impl Random {
    pub(crate) fn new(seed: u64) -> Self {
        Self(Arc::new(Mutex::new(seed)))
    }

    fn next(&self) -> u64 {
        let mut state = self.0.lock().unwrap();
        *state = state.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut mixed = *state;
        mixed = (mixed ^ (mixed >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        mixed = (mixed ^ (mixed >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        mixed ^ (mixed >> 31)
    }

    /// A number below `end`.
    pub(crate) fn below(&self, end: u64) -> u64 {
        self.next() % end.max(1)
    }

    /// Whether something happens that happens so often in a hundred times.
    pub(crate) fn percent(&self, chance: u64) -> bool {
        self.below(100) < chance
    }

    /// A time up to this one.
    pub(crate) fn up_to(&self, longest: Duration) -> Duration {
        Duration::from_millis(self.below(u64::try_from(longest.as_millis()).unwrap() + 1))
    }

    pub(crate) fn pick<'a, T>(&self, from: &'a [T]) -> Option<&'a T> {
        (!from.is_empty()).then(|| &from[usize::try_from(self.below(from.len() as u64)).unwrap()])
    }
}
