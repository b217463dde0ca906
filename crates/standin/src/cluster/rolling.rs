//! The arithmetic of a rolling replacement (Kubernetes API, `DeploymentStrategy`, `rollingUpdate`).

use serde_json::Value;

/// How many replicas there are of each age, and how many may be.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Replicas {
    /// How many are wanted.
    pub(super) wanted: u64,
    /// How many the new set asks for, and how many of those are available.
    pub(super) new: u64,
    pub(super) new_available: u64,
    /// The same for all older sets.
    pub(super) old: u64,
    pub(super) old_available: u64,
    /// How many more than wanted there may be for a while.
    pub(super) surge: u64,
    /// How many fewer than wanted may be available for a while.
    pub(super) unavailable: u64,
}

/// A number or a percentage of `of`, rounded up or down.
fn share(value: Option<&Value>, of: u64, up: bool) -> u64 {
    let percent = |percent: u64| if up { (of * percent).div_ceil(100) } else { of * percent / 100 };
    match value {
        Some(Value::Number(number)) => number.as_u64().unwrap_or(0),
        Some(Value::String(text)) => text.trim_end_matches('%').parse().map_or(0, percent),
        _ => percent(25),
    }
}

impl Replicas {
    /// The limits that a Deployment sets.
    pub(super) fn limits(deployment: &Value, wanted: u64) -> (u64, u64) {
        let limit = |name: &str| deployment.pointer(&format!("/spec/strategy/rollingUpdate/{name}"));
        let surge = share(limit("maxSurge"), wanted, true);
        let unavailable = share(limit("maxUnavailable"), wanted, false);
        // With neither, nothing could ever move.
        if surge == 0 && unavailable == 0 { (0, 1) } else { (surge, unavailable) }
    }

    /// How many the new set and the older sets shall ask for next.
    pub(super) fn step(self) -> (u64, u64) {
        let room = (self.wanted + self.surge).saturating_sub(self.new + self.old);
        let new = if self.new > self.wanted { self.wanted } else { self.wanted.min(self.new + room) };
        // Old replicas that answer nobody go at once; one that answers goes only when enough others do.
        let silent = self.old - self.old_available.min(self.old);
        let least = self.wanted.saturating_sub(self.unavailable);
        let spare = (self.new_available + self.old_available).saturating_sub(least).min(self.old_available);
        (new, self.old.saturating_sub(silent + spare))
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use serde_json::json;

    use super::*;

    #[test]
    fn limits_are_numbers_or_percentages() {
        let limits = |surge: Value, unavailable: Value| {
            let rolling = json!({ "maxSurge": surge, "maxUnavailable": unavailable });
            Replicas::limits(&json!({ "spec": { "strategy": { "rollingUpdate": rolling } } }), 3)
        };
        assert_eq!(limits(json!(1), json!(0)), (1, 0));
        assert_eq!(limits(json!("50%"), json!("50%")), (2, 1));
        assert_eq!(limits(json!(0), json!(0)), (0, 1));
        assert_eq!(Replicas::limits(&json!({}), 3), (1, 0));
    }

    proptest! {
        #[test]
        fn a_replacement_ends_and_never_leaves_its_limits(wanted in 0u64..8, surge in 0u64..4, unavailable in 0u64..4) {
            let unavailable = if surge == 0 { unavailable.max(1) } else { unavailable };
            let mut now = Replicas { wanted, new: 0, new_available: 0, old: wanted, old_available: wanted, surge, unavailable };
            for _ in 0..100 {
                (now.new, now.old) = now.step();
                now.old_available = now.old_available.min(now.old);
                prop_assert!(now.new + now.old <= wanted + surge);
                prop_assert!(now.new_available + now.old_available + unavailable >= wanted);
                // One more of the new ones becomes available.
                now.new_available = now.new.min(now.new_available + 1);
            }
            prop_assert_eq!((now.new, now.old), (wanted, 0));
        }
    }
}
