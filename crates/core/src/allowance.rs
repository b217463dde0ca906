//! How often somebody may do something: so often at once, and as often again with time.

/// How often something may be done.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Rate {
    /// Once in so many microseconds, on average.
    pub each: u64,
    /// So often at once, by whoever did nothing for a while.
    pub at_once: u32,
}

impl Rate {
    /// So often in a second, and so often at once.
    #[must_use]
    pub fn per_second(count: u32, at_once: u32) -> Self {
        Self { each: 1_000_000 / u64::from(count.max(1)), at_once }
    }

    /// Once in so many seconds, and so often at once.
    #[must_use]
    pub const fn once_in(seconds: u32, at_once: u32) -> Self {
        Self { each: 1_000_000 * seconds as u64, at_once }
    }
}

/// What somebody has done lately (the generic cell rate algorithm, ITU-T I.371): one number, of when they will have done
/// nothing for a while.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Allowance {
    /// In microseconds of whatever clock is used.
    rested_at: u64,
}

impl Allowance {
    /// Does it once, at a moment in microseconds.
    ///
    /// # Errors
    /// How long to wait, in microseconds, where it was done too often. It has not been done then.
    pub fn take(&mut self, now: u64, rate: Rate) -> Result<(), u64> {
        let most = rate.each * u64::from(rate.at_once.max(1));
        let rested_at = self.rested_at.max(now) + rate.each;
        match (rested_at - now).checked_sub(most) {
            None | Some(0) => {
                self.rested_at = rested_at;
                Ok(())
            }
            Some(wait) => Err(wait),
        }
    }

    /// Whether nothing of what was done counts any more.
    #[must_use]
    pub const fn is_rested(&self, now: u64) -> bool {
        self.rested_at <= now
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn as_many_at_once_as_are_allowed_and_then_one_for_each_that_time_gives_back() {
        let rate = Rate::per_second(10, 3);
        let mut allowance = Allowance::default();
        assert!(allowance.is_rested(0));
        for _ in 0..3 {
            assert_eq!(allowance.take(1_000, rate), Ok(()));
        }
        assert_eq!(allowance.take(1_000, rate), Err(100_000), "and how long to wait is told");
        assert_eq!(allowance.take(100_999, rate), Err(1));
        assert_eq!(allowance.take(101_000, rate), Ok(()));
        assert!(!allowance.is_rested(101_000) && allowance.is_rested(401_000));
    }

    proptest! {
        #[test]
        fn never_more_than_the_rate_in_any_stretch_of_time(
            pauses in prop::collection::vec(0_u64..400_000, 1..200),
            per_second in 1_u32..100,
            at_once in 1_u32..20,
        ) {
            let rate = Rate::per_second(per_second, at_once);
            let (mut allowance, mut now, mut done) = (Allowance::default(), 0, Vec::new());
            for pause in pauses {
                now += pause;
                match allowance.take(now, rate) {
                    Ok(()) => done.push(now),
                    // Whoever waits as long as they are told may.
                    Err(wait) => {
                        let mut patient = allowance;
                        prop_assert_eq!(patient.take(now + wait, rate), Ok(()));
                    }
                }
            }
            for (first, from) in done.iter().enumerate() {
                for (count, until) in (1..).zip(&done[first..]) {
                    let most = u64::from(at_once) + (until - from) / rate.each;
                    prop_assert!(count <= most + 1, "{} within {} us", count, until - from);
                }
            }
        }
    }
}
