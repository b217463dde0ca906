//! Following a run: told whole at first, and then what changes of it. In a run of thousands of jobs a change is told at
//! the cost of the jobs that it changed.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;
use std::time::Duration;

use pondrix_api::{FailureView, JobView, RunDetail, RunUpdate, StageView};
use pondrix_core::run::{JobRun, Run, StageRun};
use pondrix_core::{JobKey, State};
use tokio::sync::watch;
use tokio::time::Instant;

use super::live::Seen;
use super::{Engine, LiveRun, detail};

/// How long a follower has at least between two things that it is told.
const REST: Duration = Duration::from_millis(25);
/// How often it is looked whether jobs wait for another reason than before: that changes without anything happening to
/// their run.
const REASONS_CHECK: Duration = Duration::from_secs(1);

/// What a follower is told.
#[derive(Debug)]
pub(crate) enum News {
    /// The run, whole.
    Whole(Box<RunDetail>),
    /// What changed of it.
    Update(Box<RunUpdate>),
}

/// Somebody who follows one run.
#[derive(Debug)]
pub(crate) struct Follower {
    engine: Arc<Engine>,
    live: Arc<LiveRun>,
    changes: watch::Receiver<Seen>,
    /// The version that was told before the connection was lost.
    resumed: Option<u64>,
    /// What it knows.
    told: Option<Told>,
    /// Not before this moment is it told more.
    not_before: Instant,
    /// Whether any job waits for a runner, as far as was looked.
    waits: bool,
    /// When it is looked at next why.
    reasons_due: Instant,
}

/// A run as a follower knows it.
#[derive(Debug)]
struct Told {
    seen: Seen,
    /// Why jobs wait.
    reasons: HashMap<JobKey, String>,
    failure: Option<FailureView>,
}

impl Follower {
    /// Follows a run from now on; who knows it in a version is not told that again.
    pub(crate) fn new(engine: Arc<Engine>, live: Arc<LiveRun>, resumed: Option<u64>) -> Self {
        let (changes, now) = (live.watch(), Instant::now());
        Self { engine, live, changes, resumed, told: None, not_before: now, waits: true, reasons_due: now }
    }

    /// What is to be told next; nothing where the run is over, and all of it told.
    pub(crate) async fn next(&mut self) -> Option<News> {
        if self.told.as_ref().is_some_and(|told| told.seen.run.state.is_over()) {
            return None;
        }
        tokio::time::sleep_until(self.not_before).await;
        loop {
            let seen = self.changes.borrow_and_update().clone();
            let is_over = seen.run.state.is_over();
            let news = match self.told.take() {
                None => self.whole(seen).await,
                Some(told) => self.update(told, seen).await,
            };
            if news.is_some() {
                self.not_before = Instant::now() + REST;
                return news;
            }
            if is_over {
                return None;
            }
            tokio::select! {
                changed = self.changes.changed() => changed.ok()?,
                () = tokio::time::sleep_until(self.reasons_due), if self.waits => {}
            }
        }
    }

    async fn whole(&mut self, seen: Seen) -> Option<News> {
        if self.resumed == Some(seen.version) && !seen.run.state.is_over() {
            // It knows all but why jobs wait now.
            let failure = self.engine.failure(&self.live, &seen.run).await;
            let told = Told { seen: seen.clone(), reasons: HashMap::new(), failure };
            return self.update(told, seen).await;
        }
        let detail = self.engine.detail_as(&self.live, &seen).await;
        self.waits = seen.run.jobs().any(is_waiting);
        self.reasons_due = Instant::now() + REASONS_CHECK;
        let jobs = detail.stages.iter().flat_map(|stage| &stage.jobs).filter(|job| job.state == State::Queued);
        let reasons = jobs.filter_map(|job| Some((JobKey::from_text(&job.job), job.reason.clone()?))).collect();
        self.told = Some(Told { seen, reasons, failure: detail.failure.clone() });
        Some(News::Whole(Box::new(detail)))
    }

    async fn update(&mut self, told: Told, seen: Seen) -> Option<News> {
        let Told { seen: before, mut reasons, failure } = told;
        let run = Arc::clone(&seen.run);
        let changed = |stage: usize| -> Vec<&JobRun> {
            let before = before.run.stages.get(stage).map(|stage| &stage.jobs);
            before.into_iter().flat_map(|before| run.stages[stage].jobs.changed_since(before)).collect()
        };
        let mut stages: Vec<_> = (0..run.stages.len()).map(|stage| (&run.stages[stage], changed(stage))).collect();
        let known: HashSet<&JobKey> = stages.iter().flat_map(|(_, jobs)| jobs).map(|job| &job.key).collect();
        let is_due = Instant::now() >= self.reasons_due;
        let waiting: Vec<_> = if is_due {
            self.reasons_due = Instant::now() + REASONS_CHECK;
            reasons.retain(|job, _| run.job(job).is_some_and(is_waiting));
            run.jobs().filter(|job| is_waiting(job)).collect()
        } else {
            stages.iter().flat_map(|(_, jobs)| jobs).copied().filter(|job| is_waiting(job)).collect()
        };
        self.waits = !waiting.is_empty() || self.waits && !is_due;
        for (job, reason) in waiting.iter().zip(self.engine.why_waiting(&self.live, &waiting).await) {
            let before = match &reason {
                Some(reason) => reasons.insert(job.key.clone(), reason.clone()),
                None => reasons.remove(&job.key),
            };
            if before != reason
                && !known.contains(&job.key)
                && let Some((stage, _)) = run.place(&job.key)
            {
                stages[stage].1.push(job);
            }
        }
        let is_other = |(stage, jobs): &(&StageRun, Vec<&JobRun>), before: Option<&StageRun>| {
            !jobs.is_empty() || before.is_none_or(|before| !is_as(stage, before))
        };
        let stages: Vec<_> = stages
            .into_iter()
            .enumerate()
            .filter(|(at, stage)| is_other(stage, before.run.stages.get(*at)))
            .map(|(_, (stage, jobs))| {
                StageView::with_jobs(stage, jobs.into_iter().map(|job| view(job, &reasons)).collect())
            })
            .collect();
        let is_news = !stages.is_empty() || seen.version != before.version;
        let failure = if fails_as(&before.run, &run) { failure } else { self.engine.failure(&self.live, &run).await };
        let news = is_news.then(|| {
            News::Update(Box::new(RunUpdate {
                summary: detail::summary_of(&self.live, &run),
                stages,
                missing: run.missing.clone(),
                stopped_by: run.stopped_by.clone(),
                failure: failure.clone(),
                version: seen.version,
            }))
        });
        self.told = Some(Told { seen, reasons, failure });
        news
    }
}

/// Whether a job waits for a runner.
pub(super) fn is_waiting(job: &JobRun) -> bool {
    job.state == State::Queued && job.queued.is_some()
}

/// A job, with why it waits.
fn view(job: &JobRun, reasons: &HashMap<JobKey, String>) -> JobView {
    let mut view = JobView::from(job);
    if is_waiting(job) {
        view.reason = reasons.get(&job.key).cloned();
    }
    view
}

/// Whether a stage is as it was, besides its jobs.
fn is_as(stage: &StageRun, before: &StageRun) -> bool {
    (stage.state, stage.asked, &stage.answers) == (before.state, before.asked, &before.answers)
}

/// Whether what broke in a run is what broke before: the same job, unchanged.
fn fails_as(before: &Run, now: &Run) -> bool {
    match (before.first_failure(), now.first_failure()) {
        (None, None) => true,
        (Some((before, _)), Some((now, _))) => before == now,
        _ => false,
    }
}
