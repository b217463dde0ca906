//! Runners, and what jobs need of them.

use std::collections::BTreeSet;

use crate::ProjectName;
use crate::access::Projects;
use crate::pipeline::Needs;

/// A runner, as it introduced itself.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct RunnerFacts {
    /// Its name.
    pub name: String,
    /// The pool that it is of.
    pub pool: String,
    /// The projects that it works for; all, where none is named.
    pub projects: Vec<Projects>,
    /// The programs that its machine has.
    pub tools: BTreeSet<String>,
    /// Whether jobs may use its machine's own network.
    pub host_network: bool,
    /// The platforms whose programs it runs: its machine's, and those that it has an emulator for.
    pub platforms: BTreeSet<String>,
    /// Whether it is given no more jobs.
    pub is_paused: bool,
}

impl RunnerFacts {
    /// Whether it works for a project.
    #[must_use]
    pub fn works_for(&self, project: &ProjectName) -> bool {
        self.projects.is_empty() || self.projects.iter().any(|own| own.matches(project.as_str()))
    }

    /// What keeps it from a project's job, in words; nothing when it can do it.
    pub(super) fn keeps_from(&self, project: &ProjectName, needs: &Needs) -> Option<String> {
        if !self.works_for(project) {
            return Some(format!("{} does not work for {project}", self.name));
        }
        self.lacks(needs)
    }

    /// What it lacks for a job, in words; nothing when it can do it.
    pub(super) fn lacks(&self, needs: &Needs) -> Option<String> {
        if needs.pool.as_ref().is_some_and(|pool| *pool != self.pool) {
            return Some(format!("{} is of the pool `{}`", self.name, self.pool));
        }
        if needs.host_network && !self.host_network {
            return Some(format!("{} does not let jobs use its machine's network", self.name));
        }
        if let Some(platform) = needs.platform.as_ref().filter(|platform| !self.runs(platform)) {
            return Some(format!("{} does not run programs for {platform}", self.name));
        }
        let tool = needs.tools.iter().find(|tool| !self.tools.contains(*tool))?;
        Some(format!("{} lacks `{tool}`", self.name))
    }
}

impl RunnerFacts {
    /// Whether it runs programs for a platform. One that says no variant runs all of them.
    fn runs(&self, platform: &str) -> bool {
        let fits = |own: &String| {
            platform.strip_prefix(own.as_str()).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
        };
        self.platforms.iter().any(fits)
    }
}

/// What a job needs of its runner, in words.
pub(super) fn wanted(needs: &Needs) -> String {
    let pool = needs.pool.as_ref().map(|pool| format!("of the pool `{pool}`"));
    let tools = (!needs.tools.is_empty()).then(|| format!("with {}", quoted(&needs.tools)));
    let network = needs.host_network.then(|| "that lets jobs use its machine's network".to_owned());
    let platform = needs.platform.as_ref().map(|platform| format!("that runs programs for {platform}"));
    [pool, tools, network, platform].into_iter().flatten().collect::<Vec<_>>().join(" ")
}

fn quoted(names: &[String]) -> String {
    names.iter().map(|name| format!("`{name}`")).collect::<Vec<_>>().join(" and ")
}

/// How many of many are named.
const NAMED: usize = 3;

/// Some, and how many more there are.
pub(super) fn listed(all: &[String]) -> String {
    match all.len().checked_sub(NAMED) {
        None | Some(0) => all.join(", "),
        Some(more) => format!("{} and {more} more", all[..NAMED].join(", ")),
    }
}
