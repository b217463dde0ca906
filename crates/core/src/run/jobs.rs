//! The jobs of a stage: there may be thousands, of which an event changes one.
//!
//! They are kept in pieces, which a run and its copies share until something in them changes, with a count of how the
//! jobs of a piece stand. A copy, a change, and what is asked after every event (which jobs run, whether any failed, whose
//! turn has not come) thus cost about the same in a run of five jobs and in one of five thousand.

use std::collections::HashMap;
use std::ops::{Deref, DerefMut};
use std::sync::Arc;

use super::JobRun;
use crate::{JobKey, State};

/// How many jobs a piece has.
const PIECE: usize = 64;

/// Jobs, in their order.
#[derive(Clone, Debug)]
pub struct Jobs {
    pieces: Vec<Arc<Piece>>,
    places: Arc<HashMap<JobKey, usize>>,
}

/// Some of the jobs, next to each other.
#[derive(Clone, Debug, PartialEq)]
struct Piece {
    jobs: Vec<Arc<JobRun>>,
    counts: Counts,
}

/// How many jobs stand how.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
struct Counts {
    /// It is not decided yet whether they begin.
    unsettled: usize,
    running: usize,
    over: usize,
    /// They fail the run.
    failed: usize,
    /// They began, now or before.
    begun: usize,
}

impl Counts {
    fn of(job: &JobRun) -> Self {
        Self {
            unsettled: usize::from(job.is_unsettled()),
            running: usize::from(job.state == State::Running),
            over: usize::from(job.state.is_over()),
            failed: usize::from(job.fails_the_run()),
            begun: usize::from(job.has_begun()),
        }
    }

    fn add(&mut self, other: Self) {
        self.unsettled += other.unsettled;
        self.running += other.running;
        self.over += other.over;
        self.failed += other.failed;
        self.begun += other.begun;
    }

    fn subtract(&mut self, other: Self) {
        self.unsettled -= other.unsettled;
        self.running -= other.running;
        self.over -= other.over;
        self.failed -= other.failed;
        self.begun -= other.begun;
    }
}

impl PartialEq for Jobs {
    fn eq(&self, other: &Self) -> bool {
        self.pieces == other.pieces
    }
}

impl FromIterator<JobRun> for Jobs {
    fn from_iter<I: IntoIterator<Item = JobRun>>(jobs: I) -> Self {
        let mut pieces: Vec<Piece> = Vec::new();
        let mut places = HashMap::new();
        for (place, job) in jobs.into_iter().enumerate() {
            if place % PIECE == 0 {
                pieces.push(Piece { jobs: Vec::new(), counts: Counts::default() });
            }
            places.insert(job.key.clone(), place);
            if let Some(piece) = pieces.last_mut() {
                piece.counts.add(Counts::of(&job));
                piece.jobs.push(Arc::new(job));
            }
        }
        Self { pieces: pieces.into_iter().map(Arc::new).collect(), places: Arc::new(places) }
    }
}

impl Jobs {
    /// How many there are.
    #[must_use]
    pub fn len(&self) -> usize {
        self.places.len()
    }

    /// Whether there is none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.places.is_empty()
    }

    /// All, in order.
    pub fn iter(&self) -> impl Iterator<Item = &JobRun> {
        self.pieces.iter().flat_map(|piece| &piece.jobs).map(Arc::as_ref)
    }

    /// The place of the job with this key.
    #[must_use]
    pub fn place(&self, key: &JobKey) -> Option<usize> {
        self.places.get(key).copied()
    }

    /// The job at a place.
    #[must_use]
    pub fn at(&self, place: usize) -> Option<&JobRun> {
        self.pieces.get(place / PIECE)?.jobs.get(place % PIECE).map(Arc::as_ref)
    }

    /// The job with this key.
    #[must_use]
    pub fn get(&self, key: &JobKey) -> Option<&JobRun> {
        self.at(self.place(key)?)
    }

    /// Those that are not as they were in an earlier state of the same jobs, in order. What they share is not looked at.
    pub fn changed_since<'j>(&'j self, earlier: &'j Self) -> impl Iterator<Item = &'j JobRun> {
        let pieces = self.pieces.iter().zip(&earlier.pieces).filter(|(now, then)| !Arc::ptr_eq(now, then));
        let jobs = pieces.flat_map(|(now, then)| now.jobs.iter().zip(&then.jobs));
        jobs.filter(|(now, then)| !Arc::ptr_eq(now, then) && now != then).map(|(now, _)| now.as_ref())
    }

    /// Those that run, in order.
    pub fn running(&self) -> impl Iterator<Item = &JobRun> {
        self.of_pieces(|counts| counts.running > 0).filter(|job| job.state == State::Running)
    }

    /// How many run.
    #[must_use]
    pub fn running_count(&self) -> usize {
        self.pieces.iter().map(|piece| piece.counts.running).sum()
    }

    /// Those that fail the run, in order.
    pub fn failed(&self) -> impl Iterator<Item = &JobRun> {
        self.of_pieces(|counts| counts.failed > 0).filter(|job| job.fails_the_run())
    }

    /// Whether all are over.
    #[must_use]
    pub fn are_over(&self) -> bool {
        self.pieces.iter().all(|piece| piece.counts.over == piece.jobs.len())
    }

    /// Whether any began, now or before.
    #[must_use]
    pub fn have_begun(&self) -> bool {
        self.pieces.iter().any(|piece| piece.counts.begun > 0)
    }

    fn of_pieces(&self, has_any: impl Fn(&Counts) -> bool) -> impl Iterator<Item = &JobRun> {
        self.pieces.iter().filter(move |piece| has_any(&piece.counts)).flat_map(|piece| &piece.jobs).map(Arc::as_ref)
    }

    /// The first place from one on whose job fits, among the jobs of which it is not decided yet whether they begin.
    pub(super) fn next_unsettled(&self, from: usize, fits: impl Fn(&JobRun) -> bool) -> Option<usize> {
        let pieces = self.pieces.iter().enumerate().skip(from / PIECE);
        let places = pieces.filter(|(_, piece)| piece.counts.unsettled > 0).flat_map(|(number, piece)| {
            piece.jobs.iter().enumerate().map(move |(at, job)| (number * PIECE + at, job.as_ref()))
        });
        places.skip_while(|(place, _)| *place < from).find(|(_, job)| job.is_unsettled() && fits(job)).map(|(at, _)| at)
    }

    /// The job at a place, to be changed.
    pub(crate) fn change(&mut self, place: usize) -> Option<Changing<'_>> {
        let piece = Arc::make_mut(self.pieces.get_mut(place / PIECE)?);
        let job = Arc::make_mut(piece.jobs.get_mut(place % PIECE)?);
        piece.counts.subtract(Counts::of(job));
        Some(Changing { job, counts: &mut piece.counts })
    }

    /// Changes every job that fits.
    pub(super) fn change_each(&mut self, fits: impl Fn(&JobRun) -> bool, mut change: impl FnMut(&mut JobRun)) {
        for place in 0..self.len() {
            if self.at(place).is_some_and(&fits)
                && let Some(mut job) = self.change(place)
            {
                change(&mut job);
            }
        }
    }
}

/// A job that is changed. When that is done, it counts as it stands then.
#[derive(Debug)]
pub(crate) struct Changing<'j> {
    job: &'j mut JobRun,
    counts: &'j mut Counts,
}

impl Deref for Changing<'_> {
    type Target = JobRun;

    fn deref(&self) -> &JobRun {
        self.job
    }
}

impl DerefMut for Changing<'_> {
    fn deref_mut(&mut self) -> &mut JobRun {
        self.job
    }
}

impl Drop for Changing<'_> {
    fn drop(&mut self) {
        self.counts.add(Counts::of(self.job));
    }
}

#[cfg(test)]
#[path = "tests/jobs.rs"]
mod tests;
