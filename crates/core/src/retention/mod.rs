//! What is kept, and what is removed: a function of what there is and of now.

mod rules;

use std::collections::BTreeMap;

use crate::Time;
pub use rules::{Age, Contradiction, Going, Judge, Keep, Limits, Line, Past, Rule, What, Why, shortest};

/// Files of a job that are kept.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Kept {
    /// Which these are.
    pub id: i64,
    /// What they are of: the same for all that take each other's place, as one job's over many runs.
    pub group: String,
    /// When they were kept.
    pub made: Time,
    /// Until when they are to be kept.
    pub until: Time,
}

/// The ids of what is to be removed: what was kept for long enough, and of each group what is older than
/// its newest `most`.
#[must_use]
pub fn to_remove(kept: &[Kept], now: Time, most: usize) -> Vec<i64> {
    let mut groups: BTreeMap<&str, Vec<&Kept>> = BTreeMap::new();
    for one in kept {
        groups.entry(&one.group).or_default().push(one);
    }
    let mut removed = Vec::new();
    for group in groups.values_mut() {
        group.sort_by_key(|one| (std::cmp::Reverse(one.made), std::cmp::Reverse(one.id)));
        let over = group.iter().enumerate().filter(|(at, one)| *at >= most || one.until <= now);
        removed.extend(over.map(|(_, one)| one.id));
    }
    removed.sort_unstable();
    removed
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn kept(id: i64, group: &str, made: i64, until: i64) -> Kept {
        Kept { id, group: group.into(), made: Time::from_millis(made), until: Time::from_millis(until) }
    }

    #[test]
    fn what_is_over_its_time_and_what_is_too_many_is_removed() {
        let all =
            [kept(1, "a", 1, 100), kept(2, "a", 2, 100), kept(3, "a", 3, 100), kept(4, "b", 1, 9), kept(5, "b", 2, 11)];
        assert_eq!(to_remove(&all, Time::from_millis(10), 2), [1, 4]);
    }

    proptest! {
        #[test]
        fn what_stays_is_in_time_never_too_many_and_the_newest(
            all in prop::collection::vec((0u8..3, 0i64..50, 0i64..99), 0..30), now in 0i64..99, most in 1usize..5,
        ) {
            let all: Vec<_> = (0..).zip(&all).map(|(id, (group, made, until))| kept(id, &group.to_string(), *made, *until)).collect();
            let removed = to_remove(&all, Time::from_millis(now), most);
            let stays: Vec<_> = all.iter().filter(|one| !removed.contains(&one.id)).collect();
            for one in &stays {
                prop_assert!(one.until.millis() > now);
                prop_assert!(stays.iter().filter(|other| other.group == one.group).count() <= most);
            }
            for gone in all.iter().filter(|one| removed.contains(&one.id) && one.until.millis() > now) {
                let newer = all.iter().filter(|one| one.group == gone.group && one.made >= gone.made && one.id != gone.id);
                prop_assert!(newer.count() >= most, "removed though it was among the newest");
            }
        }
    }
}
