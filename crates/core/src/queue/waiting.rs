//! The jobs that wait, in an order in which the next is found without a look at all.

use std::collections::{BTreeMap, HashMap};

use super::{Offer, Who};
use crate::{JobKey, ProjectName, RunId};

/// When a job's turn comes in its project: the oldest run first, in it what was offered first.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct Turn {
    /// The number of the run.
    pub(super) run: u64,
    /// Which offer it is of all that there were.
    pub(super) offer: u64,
}

/// Jobs of a project that are for the same runners.
#[derive(Clone, Debug)]
pub(super) struct Line {
    pub(super) who: Who,
    pub(super) offers: BTreeMap<Turn, Offer>,
}

/// All of them.
#[derive(Clone, Debug, Default)]
pub(super) struct Waiting {
    projects: BTreeMap<ProjectName, Vec<Line>>,
    turns: HashMap<RunId, HashMap<JobKey, Turn>>,
    offers: u64,
}

impl Waiting {
    /// Adds a job. One that waits already stays where it is.
    pub(super) fn add(&mut self, offer: Offer) {
        let of_run = self.turns.entry(offer.run.clone()).or_default();
        if of_run.contains_key(&offer.job) {
            return;
        }
        self.offers += 1;
        let turn = Turn { run: offer.run.number, offer: self.offers };
        of_run.insert(offer.job.clone(), turn);
        let lines = self.projects.entry(offer.run.project.clone()).or_default();
        match lines.iter_mut().find(|line| line.who == offer.who) {
            Some(line) => drop(line.offers.insert(turn, offer)),
            None => lines.push(Line { who: offer.who.clone(), offers: [(turn, offer)].into() }),
        }
    }

    /// Every project that has any, with its lines.
    pub(super) fn projects(&self) -> impl Iterator<Item = (&ProjectName, &[Line])> {
        self.projects.iter().map(|(project, lines)| (project, &lines[..]))
    }

    /// A job that waits.
    pub(super) fn offer(&self, run: &RunId, job: &JobKey) -> Option<&Offer> {
        let turn = self.turns.get(run)?.get(job)?;
        self.projects.get(&run.project)?.iter().find_map(|line| line.offers.get(turn))
    }

    /// Takes a job out.
    pub(super) fn remove(&mut self, run: &RunId, job: &JobKey) -> Option<Offer> {
        let of_run = self.turns.get_mut(run)?;
        let turn = of_run.remove(job)?;
        if of_run.is_empty() {
            self.turns.remove(run);
        }
        self.take_out(&run.project, turn)
    }

    /// Takes all jobs of a run out.
    pub(super) fn forget(&mut self, run: &RunId) {
        for turn in self.turns.remove(run).into_iter().flat_map(HashMap::into_values) {
            self.take_out(&run.project, turn);
        }
    }

    fn take_out(&mut self, project: &ProjectName, turn: Turn) -> Option<Offer> {
        let lines = self.projects.get_mut(project)?;
        let at = lines.iter().position(|line| line.offers.contains_key(&turn))?;
        let offer = lines[at].offers.remove(&turn);
        if lines[at].offers.is_empty() {
            lines.remove(at);
        }
        if lines.is_empty() {
            self.projects.remove(project);
        }
        offer
    }
}
