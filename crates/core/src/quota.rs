//! How much of what all share a project may have.

use serde::{Deserialize, Serialize};

use crate::Size;

/// For how many days back the minutes of jobs are counted.
pub const DAYS: i64 = 30;

/// How much a project may have; as much as there is, where nothing is said.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Quota {
    /// What its artifacts may take on the server.
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>))]
    pub artifacts: Option<Size>,
    /// What its logs may take there.
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>))]
    pub logs: Option<Size>,
    /// How many minutes its jobs may take, together, in 30 days.
    pub minutes: Option<u32>,
    /// What the caches that its builds mount may take on each runner.
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>))]
    pub runner_caches: Option<Size>,
}

/// How much a project has.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Used {
    /// What its artifacts take, in bytes; what two of them have in common counts twice.
    pub artifacts: u64,
    /// What its logs take, in bytes.
    pub logs: u64,
    /// How many milliseconds its jobs took in the last 30 days.
    pub millis: u64,
}

/// Something that a project has all of.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum UsedUp {
    /// So many bytes of artifacts, of so many.
    Artifacts(Size, Size),
    /// So many bytes of logs, of so many.
    Logs(Size, Size),
    /// So many minutes, of so many.
    Minutes(u64, u32),
}

impl Quota {
    /// The same, with what another says where this says nothing.
    #[must_use]
    pub fn or(self, other: Self) -> Self {
        Self {
            artifacts: self.artifacts.or(other.artifacts),
            logs: self.logs.or(other.logs),
            minutes: self.minutes.or(other.minutes),
            runner_caches: self.runner_caches.or(other.runner_caches),
        }
    }

    /// What of it is used up.
    #[must_use]
    pub fn used_up(self, used: &Used) -> Vec<UsedUp> {
        let artifacts = self.artifacts.filter(|most| used.artifacts >= most.bytes());
        let logs = self.logs.filter(|most| used.logs >= most.bytes());
        let minutes = used.millis / 60_000;
        let of_minutes = self.minutes.filter(|most| minutes >= u64::from(*most));
        [
            artifacts.map(|most| UsedUp::Artifacts(Size::from_bytes(used.artifacts), most)),
            logs.map(|most| UsedUp::Logs(Size::from_bytes(used.logs), most)),
            of_minutes.map(|most| UsedUp::Minutes(minutes, most)),
        ]
        .into_iter()
        .flatten()
        .collect()
    }

    /// How many more bytes of artifacts there may be.
    #[must_use]
    pub fn artifacts_left(self, used: u64) -> Option<u64> {
        self.artifacts.map(|most| most.bytes().saturating_sub(used))
    }
}

impl UsedUp {
    /// For people.
    #[must_use]
    pub fn words(self, project: &str) -> String {
        match self {
            Self::Artifacts(used, most) => format!("the artifacts of {project} take {used}, and may take {most}"),
            Self::Logs(used, most) => format!("the logs of {project} take {used}, and may take {most}"),
            Self::Minutes(used, most) => {
                format!("jobs of {project} took {used} minutes in {DAYS} days, and may take {most}")
            }
        }
    }

    /// What helps, for people.
    #[must_use]
    pub fn help(self, project: &str) -> String {
        match self {
            Self::Artifacts(..) => format!(
                "keep them shorter (`keep=` in the pipeline, pondrix retention set), or ask for more: pondrix quota show {project}"
            ),
            Self::Logs(..) => {
                format!("keep them shorter (pondrix retention set), or ask for more: pondrix quota show {project}")
            }
            Self::Minutes(..) => {
                format!("wait until older ones count no more, or ask for more: pondrix quota show {project}")
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_used_up_is_told_and_what_is_not_limited_never_is() {
        let mib = |count: u64| Size::from_bytes(count << 20);
        let quota = Quota { artifacts: Some(mib(2)), minutes: Some(10), ..Quota::default() };
        let used = |artifacts: u64, minutes: u64| Used { artifacts, logs: 1 << 40, millis: minutes * 60_000 + 59_999 };
        assert_eq!(quota.used_up(&used((2 << 20) - 1, 9)), []);
        let all = quota.used_up(&used(2 << 20, 10));
        assert_eq!(all, [UsedUp::Artifacts(mib(2), mib(2)), UsedUp::Minutes(10, 10)]);
        assert_eq!(all[1].words("desk"), "jobs of desk took 10 minutes in 30 days, and may take 10");
        assert_eq!(Quota::default().used_up(&used(u64::MAX, 9999)), []);
        assert_eq!((quota.artifacts_left(0), quota.artifacts_left(3 << 20)), (Some(2 << 20), Some(0)));
        let of_all = Quota { artifacts: Some(mib(9)), logs: Some(mib(1)), ..Quota::default() };
        let both = quota.or(of_all);
        assert_eq!((both.artifacts, both.logs, both.minutes), (Some(mib(2)), Some(mib(1)), Some(10)));
        assert_eq!(both.used_up(&used(0, 0)).len(), 1);
    }
}
