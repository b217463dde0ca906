//! What protects environments: rules that the server keeps, and that no commit can widen.
//!
//! A pipeline file says what a run asks for. Whether it gets that is decided here, of who or what started the run, and
//! of the branch or tag whose commit it carries.

use std::collections::BTreeSet;
use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use super::{Holder, Projects};
use crate::pipeline::{Pattern, PatternError, StartKind};
use crate::{Schedule, Time};

/// A branch or tag that a project trusts, or several: `main`, `release/*`, `tag:v*`.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct RefPattern {
    is_tag: bool,
    pattern: Pattern,
}

const TAG: &str = "tag:";

impl RefPattern {
    /// A branch of just this name.
    ///
    /// # Errors
    /// When there is nothing in it.
    pub fn branch(name: &str) -> Result<Self, PatternError> {
        let plain: String =
            name.chars().flat_map(|c| "*?[]{}\\".contains(c).then_some('\\').into_iter().chain([c])).collect();
        Ok(Self { is_tag: false, pattern: Pattern::new(&plain)? })
    }

    /// Whether a run of this branch, or of this tag, carries a commit of it.
    #[must_use]
    pub fn matches(&self, branch: &str, tag: Option<&str>) -> bool {
        match tag {
            Some(tag) => self.is_tag && self.pattern.matches(tag),
            None => !self.is_tag && self.pattern.matches(branch),
        }
    }
}

impl FromStr for RefPattern {
    type Err = PatternError;

    fn from_str(text: &str) -> Result<Self, PatternError> {
        let (name, is_tag) = text.strip_prefix(TAG).map_or((text, false), |name| (name, true));
        Ok(Self { is_tag, pattern: Pattern::new(name)? })
    }
}

impl TryFrom<String> for RefPattern {
    type Error = PatternError;

    fn try_from(text: String) -> Result<Self, PatternError> {
        text.parse()
    }
}

impl From<RefPattern> for String {
    fn from(pattern: RefPattern) -> Self {
        pattern.to_string()
    }
}

impl fmt::Display for RefPattern {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&format!("{}{}", if self.is_tag { TAG } else { "" }, self.pattern))
    }
}

/// Of which branches and tags an environment takes runs.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub enum Refs {
    /// Of those that the run's project protects.
    #[default]
    Protected,
    /// Of any.
    Any,
    /// Of these.
    #[cfg_attr(feature = "schema", schema(value_type = Vec<String>))]
    These(Vec<RefPattern>),
}

/// That nothing is rolled out for now.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Freeze {
    /// Why.
    pub reason: String,
    /// Who said so.
    pub by: String,
    /// Since when.
    #[cfg_attr(feature = "schema", schema(value_type = String, format = DateTime))]
    pub since: Time,
}

/// Whose yes an environment wants before a rollout begins.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Approvers {
    /// Whose counts.
    #[cfg_attr(feature = "schema", schema(value_type = Vec<String>))]
    pub of: Vec<Holder>,
    /// How many different people must say yes.
    pub count: u32,
    /// Whether that of whoever started the run, or wrote its commit, counts too.
    #[serde(default)]
    pub own: bool,
}

/// A yes that a stage waits for before anything of it begins, since it goes to an environment that wants it. It is asked
/// for beside what the pipeline file asks for.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Gate {
    /// The environment.
    pub environment: String,
    /// Whose yes counts.
    pub of: Vec<Holder>,
    /// How many different people must say it.
    pub count: u32,
    /// Whose does not: whoever started the run, or wrote its commit.
    #[serde(default)]
    pub not_by: Vec<String>,
}

impl Gate {
    /// Whether somebody's yes counts.
    #[must_use]
    pub fn counts(&self, person: &str, teams: &[String]) -> bool {
        !self.not_by.iter().any(|own| own == person) && self.of.iter().any(|holder| holder.is(person, teams))
    }

    /// Who they are, for people: `2 of odile, team:keepers`.
    #[must_use]
    pub fn whose(&self) -> String {
        let of = list(&self.of);
        if self.count > 1 { format!("{} of {of}", self.count) } else { of }
    }

    /// Whether enough people said yes: each with the teams that they were of.
    #[must_use]
    pub fn is_open<'a>(&self, yes: impl Iterator<Item = (&'a str, &'a [String])>) -> bool {
        let people: BTreeSet<_> =
            yes.filter(|(person, teams)| self.counts(person, teams)).map(|(name, _)| name).collect();
        people.len() >= self.count as usize
    }
}

/// What an environment asks of a run that would roll out there.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct EnvironmentRules {
    /// The projects that may; all, where none is named.
    #[serde(default)]
    #[cfg_attr(feature = "schema", schema(value_type = Vec<String>))]
    pub projects: Vec<Projects>,
    /// The branches and tags whose commits may.
    #[serde(default)]
    pub refs: Refs,
    /// The kinds of start that may; all but tries, where none is named.
    #[serde(default)]
    pub starts: Vec<StartKind>,
    /// Who may start by hand what rolls out there; everybody who may start runs, where nobody is named.
    #[serde(default)]
    #[cfg_attr(feature = "schema", schema(value_type = Vec<String>))]
    pub people: Vec<Holder>,
    /// Whose yes is wanted.
    #[serde(default)]
    pub approvers: Option<Approvers>,
    /// The minutes in which a rollout may begin; any, where none is said.
    #[serde(default)]
    #[cfg_attr(feature = "schema", schema(inline, value_type = Option<crate::schedule::Written>))]
    pub window: Option<Schedule>,
    /// That nothing is rolled out for now.
    #[serde(default)]
    pub freeze: Option<Freeze>,
    /// Kinds of objects that may be applied beside workloads, services and configuration: `Role`, `Namespace`.
    #[serde(default)]
    pub kinds: Vec<String>,
}

impl fmt::Display for EnvironmentRules {
    /// What it takes, in a line: `protected refs, with the yes of 2 of odile, team:keepers`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.refs {
            Refs::Protected => f.write_str("protected refs")?,
            Refs::Any => f.write_str("any ref")?,
            Refs::These(patterns) => f.write_str(&list(patterns))?,
        }
        if !self.projects.is_empty() {
            write!(f, " of {}", list(&self.projects))?;
        }
        if let Some(Approvers { of, count, own }) = &self.approvers {
            let count = if *count > 1 { format!("{count} of ") } else { String::new() };
            let own = if *own { ", their own too" } else { "" };
            write!(f, ", with the yes of {count}{}{own}", list(of))?;
        }
        if !self.starts.is_empty() {
            write!(f, ", started by {}", list(&self.starts))?;
        }
        if !self.people.is_empty() {
            write!(f, ", by hand by {}", list(&self.people))?;
        }
        if let Some(window) = &self.window {
            write!(f, ", in the minutes {window}")?;
        }
        if !self.kinds.is_empty() {
            write!(f, ", with objects of the kinds {}", list(&self.kinds))?;
        }
        Ok(())
    }
}

/// Somebody who started a run by hand.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Starter {
    /// Their name.
    pub name: String,
    /// The teams that they are of.
    pub teams: Vec<String>,
}

/// A run that would roll out.
#[derive(Clone, Debug)]
pub struct Candidate<'a> {
    /// Its project.
    pub project: &'a str,
    /// What that project protects.
    pub protected: &'a [RefPattern],
    /// The branch; empty for a run of a tag.
    pub branch: &'a str,
    /// The tag.
    pub tag: Option<&'a str>,
    /// Why it began.
    pub start: StartKind,
    /// Whether it carries files that nobody committed.
    pub is_try: bool,
    /// Whether the project protected the branch or tag, and the commit was in it, when the run was made.
    pub was_trusted: bool,
    /// Whether the commit is in the branch or tag now.
    pub is_in_ref: bool,
    /// Who started it by hand, where somebody did.
    pub by: Option<Starter>,
}

/// A rule that keeps a run from an environment, in words: what is asked for, and what the run has.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{words}")]
pub struct RuleBroken {
    /// Which rule: the word that sets it.
    pub rule: &'static str,
    /// What it says, and what the run is.
    pub words: String,
}

fn list<T: ToString>(all: &[T]) -> String {
    all.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
}

impl Candidate<'_> {
    /// Whether its project trusts what it carries: a commit that is in a protected branch or tag, was there when the run
    /// was made, and of a ref that was protected then. A name alone is no reason: a branch may be removed and made again
    /// with other commits, and protected only then.
    #[must_use]
    pub fn is_trusted(&self) -> bool {
        self.is_protected() && self.was_trusted && self.is_in_ref
    }

    fn is_protected(&self) -> bool {
        !self.is_try && self.protected.iter().any(|pattern| pattern.matches(self.branch, self.tag))
    }

    /// What it carries and what is protected, for people: `carries the branch `plan-b`; visitor-desk protects main`. If its
    /// name alone would be trusted, why the run is not.
    #[must_use]
    pub fn carries(&self) -> String {
        let protected = match self.protected {
            [] => "none yet".to_owned(),
            some => list(some),
        };
        let carries = format!("carries {}", self.title());
        match (self.is_protected(), self.is_in_ref) {
            (true, false) => format!("{carries}, which does not have its commit now"),
            (true, true) if !self.was_trusted => format!("{carries}, which was not trusted when the run was made"),
            _ => format!("{carries}; {} protects {protected}", self.project),
        }
    }

    /// What makes a run trusted, for people: a command.
    #[must_use]
    pub fn help(&self) -> String {
        let project = self.project;
        match (self.is_protected(), self.tag) {
            (true, Some(tag)) => format!("start a new run of the tag: pondrix start {project} --tag {tag}"),
            (true, None) => {
                format!("start a new run of the branch: pondrix start {project} --branch {}", self.branch)
            }
            (false, _) => {
                format!("merge it first, or have {project} protect that: pondrix project set {project} --protect REF")
            }
        }
    }

    /// The branch or tag, for people.
    fn title(&self) -> String {
        match (self.is_try, self.tag) {
            (true, _) => "files that nobody committed".to_owned(),
            (false, Some(tag)) => format!("the tag `{tag}`"),
            (false, None) => format!("the branch `{}`", self.branch),
        }
    }
}

impl EnvironmentRules {
    /// Whether a run may roll out there, but for the time of day and people's yes.
    ///
    /// # Errors
    /// The first rule that keeps it from that.
    pub fn admit(&self, run: &Candidate<'_>) -> Result<(), RuleBroken> {
        let broken = |rule, words: String| Err(RuleBroken { rule, words });
        if let Some(Freeze { reason, by, since }) = &self.freeze {
            return broken("freeze", format!("nothing is rolled out there since {since}: {reason} ({by})"));
        }
        if !self.projects.is_empty() && !self.projects.iter().any(|projects| projects.matches(run.project)) {
            let words = format!("it takes rollouts of {}, and this is {}", list(&self.projects), run.project);
            return broken("projects", words);
        }
        let takes_start = match self.starts.as_slice() {
            [] => !run.is_try,
            // Whoever does a try once more tries it too.
            starts if run.is_try => starts.contains(&StartKind::Try),
            starts => starts.contains(&run.start),
        };
        if !takes_start {
            let starts = match self.starts.as_slice() {
                [] => "every kind of start but `try`".to_owned(),
                starts => list(starts),
            };
            let start = if run.is_try { StartKind::Try } else { run.start };
            return broken("starts", format!("it takes runs of {starts}, and this one began by `{start}`"));
        }
        match &self.refs {
            Refs::Any => {}
            // Where tries are taken, it is by this name and not by a branch.
            _ if run.is_try && self.starts.contains(&StartKind::Try) => {}
            Refs::Protected if run.is_trusted() => {}
            Refs::Protected => {
                return broken("refs", format!("it takes protected refs only, and this run {}", run.carries()));
            }
            Refs::These(patterns) => {
                if run.is_try || !patterns.iter().any(|pattern| pattern.matches(run.branch, run.tag)) {
                    let words = format!("it takes {}, and this run carries {}", list(patterns), run.title());
                    return broken("refs", words);
                }
                if !run.is_in_ref {
                    let words = format!("this run carries {}, which does not have its commit now", run.title());
                    return broken("refs", words);
                }
            }
        }
        if let Some(starter) = &run.by
            && !self.people.is_empty()
            && !self.people.iter().any(|holder| holder.is(&starter.name, &starter.teams))
        {
            let words = format!("{} may start what rolls out there, and {} did", list(&self.people), starter.name);
            return broken("people", words);
        }
        Ok(())
    }

    /// The yes that a rollout waits for, which is not that of these people, unless their own counts too.
    #[must_use]
    pub fn gate(&self, environment: &str, own: Vec<String>) -> Option<Gate> {
        let Approvers { of, count, own: own_counts } = self.approvers.clone()?;
        let not_by = if own_counts { Vec::new() } else { own };
        Some(Gate { environment: environment.to_owned(), of, count, not_by })
    }

    /// Whether a rollout may begin now.
    ///
    /// # Errors
    /// When this moment is outside of the window.
    pub fn admit_now(&self, now: Time) -> Result<(), RuleBroken> {
        match &self.window {
            Some(window) if !window.has(now) => {
                let next = window.next_after(now).map(|next| format!("; the next such minute is {next}"));
                let words = format!("a rollout begins in the minutes `{window}` only{}", next.unwrap_or_default());
                Err(RuleBroken { rule: "window", words })
            }
            _ => Ok(()),
        }
    }

    /// Whether an object of a kind may be applied.
    ///
    /// # Errors
    /// When it may not.
    pub fn admit_kind(&self, api_version: &str, kind: &str) -> Result<(), RuleBroken> {
        let group = api_version.rsplit_once('/').map_or("", |(group, _)| group);
        let is_usual = KINDS.iter().any(|(of, kinds)| *of == group && kinds.contains(&kind));
        if is_usual || self.kinds.iter().any(|own| own == kind) {
            return Ok(());
        }
        let usual = KINDS.iter().flat_map(|(_, kinds)| kinds.iter().copied());
        let all: Vec<_> = usual.chain(self.kinds.iter().map(String::as_str)).collect();
        let words = format!("it takes no objects of the kind `{kind}` ({api_version}); it takes {}", list(&all));
        Err(RuleBroken { rule: "kinds", words })
    }
}

/// What is applied wherever nothing else is said, by the group of their API: workloads, services, and what configures
/// them. None of them is of the whole cluster, and none gives rights.
const KINDS: [(&str, &[&str]); 6] = [
    ("", &["ConfigMap", "PersistentVolumeClaim", "Secret", "Service"]),
    ("apps", &["DaemonSet", "Deployment", "StatefulSet"]),
    ("batch", &["CronJob", "Job"]),
    ("autoscaling", &["HorizontalPodAutoscaler"]),
    ("networking.k8s.io", &["Ingress", "NetworkPolicy"]),
    ("policy", &["PodDisruptionBudget"]),
];
