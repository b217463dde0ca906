//! How long runs are kept, and what hangs on them.
//!
//! A rule is for all projects or one, and for all branches or those of a pattern. What it does not say, a more
//! general rule says, and in the end [`Limits::default`].

use std::collections::{HashMap, HashSet};
use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use crate::pipeline::Pattern;
use crate::{Duration, DurationError, ProjectName, Time};

/// How long something is kept.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub enum Age {
    /// For so long.
    For(Duration),
    /// Until somebody removes it.
    Forever,
}

/// What a rule says; what it leaves out, a more general one says.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Keep {
    /// How long runs are kept from their end on, with their images' records, tests, artifacts and logs.
    pub runs: Option<Age>,
    /// How long logs are kept from their run's end on.
    pub logs: Option<Age>,
    /// How long caches are kept after they were last used.
    pub caches: Option<Age>,
    /// How many of the newest runs of each branch that is still there are kept, however old they are.
    pub at_least: Option<u32>,
    /// How many runs of each branch are kept, however new they are; 0 for any number.
    pub at_most: Option<u32>,
}

/// A rule, and what it is for.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Rule {
    /// The project; all where none is said.
    pub project: Option<ProjectName>,
    /// The branches; all, and tags and tries too, where none are said.
    pub branch: Option<Pattern>,
    /// What it says.
    #[serde(flatten)]
    pub keep: Keep,
}

impl fmt::Display for Rule {
    /// What it says, in a line: `branch release/*: runs 90d, logs 9d`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if let Some(branch) = &self.branch {
            write!(f, "branch {branch}: ")?;
        }
        let Keep { runs, logs, caches, at_least, at_most } = &self.keep;
        let ages = [("runs", runs), ("logs", logs), ("caches", caches)]
            .map(|(what, age)| age.map(|age| format!("{what} {age}")));
        let counts = [("at least", at_least), ("at most", at_most)]
            .map(|(what, count)| count.map(|count| format!("{what} {count}")));
        let said: Vec<_> = ages.into_iter().chain(counts).flatten().collect();
        f.write_str(&if said.is_empty() { "as is usual".to_owned() } else { said.join(", ") })
    }
}

/// What holds for a branch.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Limits {
    /// See [`Keep::runs`].
    pub runs: Age,
    /// See [`Keep::logs`].
    pub logs: Age,
    /// See [`Keep::caches`].
    pub caches: Age,
    /// See [`Keep::at_least`].
    pub at_least: u32,
    /// See [`Keep::at_most`].
    pub at_most: Option<u32>,
}

/// What runs are counted with.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Line {
    /// Those of the same branch.
    Branch(String),
    /// All of tags.
    Tags,
    /// All that try what is not committed.
    Tries,
}

/// A run, as far as it matters here.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Past {
    /// Which it is. Later ones have higher ids.
    pub id: i64,
    /// What it is counted with.
    pub line: Line,
    /// Whether its branch is still there; `true` for tags and tries.
    pub is_there: bool,
    /// When it ended; nothing while it goes on.
    pub ended: Option<Time>,
    /// The run that it does again.
    pub rerun_of: Option<i64>,
    /// Whether its logs are still there.
    pub has_logs: bool,
}

/// What goes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum What {
    /// The run, with all that hangs on it.
    Run,
    /// Its logs alone.
    Logs,
}

/// Why it goes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Why {
    /// It ended longer ago than this.
    Older(Duration),
    /// So many of its branch are newer.
    TooMany(u32),
}

/// What is to go of a run, and why.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Going {
    /// The run.
    pub id: i64,
    /// What of it.
    pub what: What,
    /// Why.
    pub why: Why,
}

/// Why a rule makes no sense.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("at most {at_most} runs of a branch, and at least {at_least}: the first must not be the smaller one")]
pub struct Contradiction {
    at_least: u32,
    at_most: u32,
}

const DAY: u32 = 86_400;

impl Default for Limits {
    /// What holds where nobody said anything.
    fn default() -> Self {
        let days = |days| Age::For(Duration::from_seconds(days * DAY));
        Self { runs: days(180), logs: days(90), caches: days(30), at_least: 10, at_most: None }
    }
}

impl Age {
    /// Whether what ended at `since` has been kept for longer.
    #[must_use]
    pub fn is_over(self, since: Time, now: Time) -> bool {
        self.over(since, now).is_some()
    }

    /// How long, when that is over for what was last of use at `since`.
    fn over(self, since: Time, now: Time) -> Option<Duration> {
        match self {
            Self::For(length) if since.plus_millis(i64::from(length.seconds()) * 1000) <= now => Some(length),
            Self::For(_) | Self::Forever => None,
        }
    }
}

impl Keep {
    /// Whether nothing is said.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        *self == Self::default()
    }

    /// What this says, and where it says nothing what `other` does.
    #[must_use]
    pub fn or(self, other: Self) -> Self {
        Self {
            runs: self.runs.or(other.runs),
            logs: self.logs.or(other.logs),
            caches: self.caches.or(other.caches),
            at_least: self.at_least.or(other.at_least),
            at_most: self.at_most.or(other.at_most),
        }
    }
}

impl Rule {
    /// Whether two rules are for the same.
    #[must_use]
    pub fn is_for_the_same(&self, other: &Self) -> bool {
        self.project == other.project && self.branch == other.branch
    }

    /// How special it is: one of a project is more so than one of all, then one of a pattern, then one of a
    /// longer pattern.
    fn rank(&self) -> (bool, usize) {
        (self.project.is_some(), self.branch.as_ref().map_or(0, |branch| branch.as_str().len()))
    }

    fn is_for(&self, project: &ProjectName, line: &Line) -> bool {
        let fits = |branch: &Pattern| matches!(line, Line::Branch(name) if branch.matches(name));
        self.project.as_ref().is_none_or(|of| of == project) && self.branch.as_ref().is_none_or(fits)
    }
}

impl Limits {
    /// What holds for a line of runs of a project.
    #[must_use]
    pub fn of(rules: &[Rule], project: &ProjectName, line: &Line) -> Self {
        let mut fitting: Vec<&Rule> = rules.iter().filter(|rule| rule.is_for(project, line)).collect();
        fitting.sort_by_key(|rule| std::cmp::Reverse(rule.rank()));
        let said = fitting.into_iter().fold(Keep::default(), |said, rule| said.or(rule.keep));
        let usual = Self::default();
        Self {
            runs: said.runs.unwrap_or(usual.runs),
            logs: said.logs.unwrap_or(usual.logs),
            caches: said.caches.unwrap_or(usual.caches),
            at_least: said.at_least.unwrap_or(usual.at_least),
            at_most: said.at_most.filter(|most| *most > 0),
        }
    }

    /// Checks that the limits of every rule, with what it inherits, make sense.
    ///
    /// # Errors
    /// When a branch is to have more runs at the least than at the most.
    pub fn check(&self) -> Result<(), Contradiction> {
        match self.at_most {
            Some(at_most) if at_most < self.at_least => Err(Contradiction { at_least: self.at_least, at_most }),
            _ => Ok(()),
        }
    }

    /// How long ago a cache was used at the least, when that is too long ago.
    #[must_use]
    pub fn cache_is_over(&self, used: Time, now: Time) -> bool {
        self.caches.over(used, now).is_some()
    }
}

/// The shortest time that any of the rules keeps runs or logs for, and whether any keeps no more than so many: younger
/// runs need not be looked at where none does.
#[must_use]
pub fn shortest(rules: &[Rule]) -> (Age, bool) {
    let usual = Limits::default();
    let said = rules.iter().flat_map(|rule| [rule.keep.runs, rule.keep.logs]).flatten();
    let ages = said.chain([usual.runs, usual.logs]);
    let shortest = ages.min_by_key(|age| match age {
        Age::For(length) => length.seconds(),
        Age::Forever => u32::MAX,
    });
    let counts = rules.iter().any(|rule| rule.keep.at_most.is_some_and(|most| most > 0));
    (shortest.unwrap_or(Age::Forever), counts)
}

/// Judges the runs of a project, the newest first, one by one.
#[derive(Debug)]
pub struct Judge<'a> {
    rules: &'a [Rule],
    project: &'a ProjectName,
    now: Time,
    lines: HashMap<Line, (Limits, u32)>,
    done_again: HashSet<i64>,
}

impl<'a> Judge<'a> {
    /// A judge for a project's runs at a moment.
    #[must_use]
    pub fn new(rules: &'a [Rule], project: &'a ProjectName, now: Time) -> Self {
        Self { rules, project, now, lines: HashMap::new(), done_again: HashSet::new() }
    }

    /// What goes of the next older run; nothing when all of it stays. `is_needed` is asked only of a run that would
    /// go: whether an environment runs what it built or rolled out, or could return to it, or a branch has no newer
    /// image.
    pub fn judge(&mut self, run: &Past, is_needed: impl FnOnce(i64) -> bool) -> Option<Going> {
        let make = || (Limits::of(self.rules, self.project, &run.line), 0);
        let (limits, newer) = self.lines.entry(run.line.clone()).or_insert_with(make);
        let at = *newer;
        *newer += 1;
        let limits = *limits;
        let Some(ended) = run.ended else {
            self.done_again.extend(run.rerun_of);
            return None;
        };
        let too_many = limits.at_most.filter(|most| at >= *most).map(Why::TooMany);
        let is_spared = run.is_there && at < limits.at_least;
        let too_old = limits.runs.over(ended, self.now).filter(|_| !is_spared).map(Why::Older);
        // What a run that stays has taken over from an earlier one is found there.
        let stays = self.done_again.contains(&run.id);
        if let Some(why) = too_many.or(too_old).filter(|_| !stays && !is_needed(run.id)) {
            return Some(Going { id: run.id, what: What::Run, why });
        }
        self.done_again.extend(run.rerun_of);
        let why = limits.logs.over(ended, self.now).filter(|_| run.has_logs).map(Why::Older)?;
        Some(Going { id: run.id, what: What::Logs, why })
    }
}

impl fmt::Display for Why {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Older(age) => write!(f, "ended more than {age} ago"),
            Self::TooMany(most) => write!(f, "{most} of its branch are newer"),
        }
    }
}

impl FromStr for Age {
    type Err = DurationError;

    fn from_str(text: &str) -> Result<Self, DurationError> {
        if text == "forever" { Ok(Self::Forever) } else { text.parse().map(Self::For) }
    }
}

impl fmt::Display for Age {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::For(length) => length.fmt(f),
            Self::Forever => f.pad("forever"),
        }
    }
}

impl TryFrom<String> for Age {
    type Error = DurationError;

    fn try_from(text: String) -> Result<Self, DurationError> {
        text.parse()
    }
}

impl From<Age> for String {
    fn from(age: Age) -> Self {
        age.to_string()
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn age(text: &str) -> Option<Age> {
        Some(text.parse().unwrap())
    }

    fn rule(project: Option<&str>, branch: Option<&str>, keep: Keep) -> Rule {
        let branch = branch.map(|text| Pattern::new(text).unwrap());
        Rule { project: project.map(|name| name.parse().unwrap()), branch, keep }
    }

    fn past(id: i64, ended: i64) -> Past {
        let line = Line::Branch("main".to_owned());
        let ended = Some(Time::from_millis(ended));
        Past { id, line, is_there: true, ended, rerun_of: None, has_logs: true }
    }

    fn judge(rules: &[Rule], now: i64, newest_first: &[Past], needed: &[i64]) -> Vec<(i64, What)> {
        let project = "desk".parse().unwrap();
        let mut judge = Judge::new(rules, &project, Time::from_millis(now));
        let judged = |run: &Past| judge.judge(run, |id| needed.contains(&id));
        newest_first.iter().filter_map(judged).map(|going| (going.id, going.what)).collect()
    }

    #[test]
    fn the_most_special_rule_that_says_something_holds() {
        let rules = [
            rule(None, None, Keep { runs: age("90d"), logs: age("30d"), ..Keep::default() }),
            rule(None, Some("release/*"), Keep { runs: age("forever"), ..Keep::default() }),
            rule(Some("desk"), None, Keep { logs: age("7d"), at_least: Some(3), ..Keep::default() }),
            rule(Some("desk"), Some("release/1*"), Keep { at_least: Some(5), ..Keep::default() }),
        ];
        let of = |project: &str, line: Line| Limits::of(&rules, &project.parse().unwrap(), &line);
        let branch = |name: &str| Line::Branch(name.to_owned());
        let told = |limits: Limits| (limits.runs.to_string(), limits.logs.to_string(), limits.at_least);
        assert_eq!(told(of("pond", branch("main"))), ("90d".into(), "30d".into(), 10));
        assert_eq!(told(of("pond", branch("release/2"))), ("forever".into(), "30d".into(), 10));
        assert_eq!(told(of("desk", branch("release/12"))), ("forever".into(), "7d".into(), 5));
        assert_eq!(told(of("desk", Line::Tags)), ("90d".into(), "7d".into(), 3));
    }

    #[test]
    fn what_is_needed_or_done_again_stays_and_the_newest_do() {
        let keep = Keep { runs: age("10s"), logs: age("5s"), at_least: Some(1), ..Keep::default() };
        let rules = [rule(None, None, keep)];
        let going_on = Past { ended: None, ..past(9, 0) };
        let again = Past { rerun_of: Some(3), ended: Some(Time::from_millis(14_000)), ..past(8, 0) };
        let needed = Past { has_logs: false, ..past(4, 1) };
        let all = [going_on, again, past(5, 4_000), needed, past(3, 2), past(2, 1)];
        assert_eq!(judge(&rules, 15_000, &all, &[4]), [(5, What::Run), (3, What::Logs), (2, What::Run)]);
    }

    #[test]
    fn a_branch_that_is_gone_spares_nothing_for_its_number() {
        let rules = [rule(None, None, Keep { runs: age("1s"), logs: age("forever"), ..Keep::default() })];
        let gone = Past { is_there: false, line: Line::Branch("fix".into()), ..past(2, 0) };
        assert_eq!(judge(&rules, 5_000, &[gone, past(1, 0)], &[]), [(2, What::Run)]);
    }

    #[test]
    fn more_at_the_least_than_at_the_most_is_a_contradiction() {
        let limits = Limits { at_least: 5, at_most: Some(4), ..Limits::default() };
        assert!(limits.check().is_err());
        assert!(Limits { at_most: Some(5), ..limits }.check().is_ok());
    }

    #[test]
    fn ages_read_back_as_they_were_written() {
        for text in ["forever", "90d", "1h30m"] {
            assert_eq!(text.parse::<Age>().unwrap().to_string(), text);
        }
        assert!("ever".parse::<Age>().is_err());
    }

    fn pasts() -> impl Strategy<Value = (Vec<Past>, Vec<i64>)> {
        let one = (0u8..4, any::<bool>(), prop::option::weighted(0.9, 0i64..60), 0i64..4, prop::bool::weighted(0.1));
        prop::collection::vec(one, 0..30).prop_map(|all| {
            let count = all.len() as i64;
            let needed = all.iter().zip((1..=count).rev()).filter(|((.., is_needed), _)| *is_needed).map(|(_, id)| id);
            let needed = needed.collect();
            let make = |(at, (line, is_there, ended, back, _)): (usize, (u8, bool, Option<i64>, i64, bool))| {
                let id = count - at as i64;
                let line = match line {
                    0 => Line::Tags,
                    1 => Line::Tries,
                    other => Line::Branch(other.to_string()),
                };
                let rerun_of = Some(id - back).filter(|of| back > 0 && *of > 0);
                let ended = ended.map(|seconds| Time::from_millis(seconds * 1000));
                Past { id, line, is_there, ended, rerun_of, has_logs: true }
            };
            (all.into_iter().enumerate().map(make).collect(), needed)
        })
    }

    proptest! {
        #[test]
        fn what_must_stay_stays_and_judging_again_finds_nothing(
            (all, needed) in pasts(), seconds in 1u32..40, at_least in 0u32..5, at_most in prop::option::of(5u32..9), now in 0i64..60,
        ) {
            let keep = Keep {
                runs: Some(Age::For(Duration::from_seconds(seconds))),
                at_least: Some(at_least),
                at_most,
                ..Keep::default()
            };
            let rules = [rule(None, None, keep)];
            let gone: HashSet<i64> = judge(&rules, now * 1000, &all, &needed).into_iter().map(|(id, _)| id).collect();
            for (at, run) in all.iter().enumerate().filter(|(_, run)| gone.contains(&run.id)) {
                let ended = run.ended.expect("what goes on stays");
                prop_assert!(!needed.contains(&run.id));
                let newer = all[..at].iter().filter(|other| other.line == run.line).count() as u32;
                let is_old = ended.plus_millis(i64::from(seconds) * 1000).millis() <= now * 1000;
                let is_spared = run.is_there && newer < at_least;
                prop_assert!(at_most.is_some_and(|most| newer >= most) || (is_old && !is_spared));
            }
            let stays: Vec<Past> = all.iter().filter(|run| !gone.contains(&run.id)).cloned().collect();
            for of in stays.iter().filter_map(|run| run.rerun_of) {
                prop_assert!(!gone.contains(&of), "what a run that stays does again must stay");
            }
            prop_assert_eq!(judge(&rules, now * 1000, &stays, &needed), []);
        }
    }
}
