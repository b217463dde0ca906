//! What jobs leave and hand on.

use std::collections::HashSet;

use pondrix_api::{ArtifactFile, FetchedArtifact, NewArtifact};
use pondrix_core::image::Digest;
use pondrix_core::pipeline::JobKind;
use pondrix_core::plan::PlannedJob;
use pondrix_core::run::{JobResult, Run};
use pondrix_core::work::{Outputs, RunFacts};
use pondrix_core::{JobKey, RunId, State, Time, junit, retention};
use tracing::{info, warn};

use super::{Engine, EngineError, LiveRun};
use crate::off_thread::off_thread;
use crate::store::{self, ArtifactRow, StoreError};

/// How many of a job's runs have their files kept, however long they are to be.
const MOST_ARTIFACTS: usize = 50;
/// How many artifacts are removed in one write.
const ARTIFACTS_PIECE: usize = 16;
/// How many contents are looked at before others have their turn.
const CONTENTS_PIECE: usize = 256;
/// How many runs of a job are looked at for tests that are flaky.
const HISTORY: usize = 30;

impl LiveRun {
    /// The outputs that a job sees: of the jobs before it that have no matrix, the nearest of a name.
    pub(super) fn outputs(&self, run: &Run, key: &JobKey) -> Outputs {
        let mut outputs = Outputs::new();
        for job in self.row.plan.before(key).into_iter().filter(|job| job.matrix.is_empty()) {
            let results = run.job(&job.key).map_or(&[][..], |job| &job.results);
            for result in results {
                if let JobResult::Output { name, value } = result {
                    outputs.insert((job.name.clone(), name.clone()), value.clone());
                }
            }
        }
        outputs
    }
}

impl Engine {
    /// Keeps files of a job.
    pub(crate) async fn add_artifact(
        &self,
        live: &LiveRun,
        job: &JobKey,
        request: NewArtifact,
    ) -> Result<(), EngineError> {
        let size: u64 = request.files.iter().map(|file| file.size).sum();
        self.must_have_room(live, size).await?;
        let created = self.clock.now();
        let until = created.plus_millis(i64::from(request.seconds) * 1000);
        let artifact = ArtifactRow { job: job.clone(), name: request.name, created, until, files: request.files };
        let run = live.row.id;
        Ok(self.store.write(move |records| store::put_artifact(records, run, &artifact)).await?)
    }

    /// The files that a job kept under a name; those of the run that it was carried over from, where it
    /// was. Nothing when there are none any more.
    pub(crate) async fn artifact(
        &self,
        run: &RunId,
        job: &JobKey,
        name: &str,
    ) -> Result<Option<Vec<ArtifactFile>>, StoreError> {
        let (mut run, job, name) = (run.clone(), job.clone(), name.to_owned());
        loop {
            let Some(live) = self.find(&run).await? else { return Ok(None) };
            let (id, wanted, named) = (live.row.id, job.clone(), name.clone());
            if let Some(files) = self.store.read(move |c| store::artifact(c, id, &wanted, &named)).await? {
                return Ok(Some(files));
            }
            let earlier = live.row.summary.rerun_of.filter(|number| *number < run.number);
            let carried = live.now().job(&job).is_some_and(|job| job.state == State::Passed && job.started.is_none());
            match earlier.filter(|_| carried) {
                Some(number) => run.number = number,
                None => return Ok(None),
            }
        }
    }

    /// The files that a job asks for.
    pub(super) async fn artifacts_for(
        &self,
        live: &LiveRun,
        job: &PlannedJob,
    ) -> Result<Vec<FetchedArtifact>, StoreError> {
        let JobKind::Steps(steps) = &job.kind else { return Ok(Vec::new()) };
        let mut all = Vec::new();
        for (fetch, from) in steps.fetches.iter().zip(&job.fetches) {
            let files = self.artifact(&live.row.facts.id, from, &fetch.name.value).await?;
            all.push(FetchedArtifact {
                name: fetch.name.value.clone(),
                from: from.to_string(),
                to: fetch.to.clone(),
                files,
            });
        }
        Ok(all)
    }

    /// Remembers which tests failed, for those that are flaky.
    pub(super) fn remember_tests(
        connection: &rusqlite::Connection,
        run: i64,
        job: &JobKey,
        result: &JobResult,
    ) -> Result<(), StoreError> {
        let JobResult::Tests { report } = result else { return Ok(()) };
        let failed: Vec<_> = report.failures.iter().map(|failure| failure.test.clone()).collect();
        store::put_tests(connection, run, job, &failed)
    }

    /// Remembers an image and what it was built on, and what an environment runs. What tries push is nobody's base.
    pub(super) fn remember_image(
        connection: &rusqlite::Connection,
        run: i64,
        facts: &RunFacts,
        job: &JobKey,
        result: &JobResult,
        now: Time,
    ) -> Result<(), StoreError> {
        if facts.is_try {
            return Ok(());
        }
        if let JobResult::Release { environment, image, .. } = result {
            return store::put_running(connection, run, job, environment, image);
        }
        let JobResult::Image { repository, digest, tags, base, platforms } = result else { return Ok(()) };
        store::put_tags(connection, run, repository, digest, tags, now)?;
        let branch = facts.branch.as_str();
        // Who builds on an index builds on one image of it: which, the registry is asked.
        let tags = if platforms.is_empty() { tags.as_slice() } else { &[] };
        let pushed = store::Pushed { run, branch, job, repository, digest, tags, base: base.as_ref() };
        store::put_image(connection, &pushed)
    }

    /// The tests of a job that are flaky over its runs.
    pub(crate) async fn flaky(&self, project: i64, job: &JobKey) -> Result<Vec<String>, StoreError> {
        let job = job.clone();
        let history = self.store.read(move |c| store::test_history(c, project, &job, HISTORY)).await?;
        let mut tests: Vec<&String> = history.iter().flat_map(|(_, failed)| failed).collect();
        tests.sort();
        tests.dedup();
        let is_flaky = |test: &&&String| {
            let of_test: Vec<_> =
                history.iter().map(|(commit, failed)| (commit.as_str(), failed.contains(test))).collect();
            junit::is_flaky(&of_test)
        };
        Ok(tests.iter().filter(is_flaky).map(|test| (*test).clone()).collect())
    }

    /// Removes artifacts that are not to be kept any more, and contents that nothing refers to; piece by piece.
    pub(crate) async fn tidy(self: std::sync::Arc<Self>) {
        if let Err(error) = self.tidy_inner().await {
            warn!(%error, "artifacts could not be looked at");
        }
        let tries = self.tries.clone();
        off_thread(move || tries.prune(std::time::SystemTime::now())).await;
    }

    async fn tidy_inner(&self) -> Result<(), StoreError> {
        let now = self.clock.now();
        let over =
            move |c: &rusqlite::Connection| Ok(retention::to_remove(&store::all_artifacts(c)?, now, MOST_ARTIFACTS));
        let over = self.store.read(over).await?;
        self.piece(self.store.write(move |c| store::forget_time(c, now))).await?;
        for piece in over.chunks(ARTIFACTS_PIECE) {
            let ids = piece.to_vec();
            self.piece(self.store.write(move |c| store::remove_artifacts(c, &ids))).await?;
        }
        if !over.is_empty() {
            info!(count = over.len(), "artifacts were removed");
        }
        let files = self.files.clone();
        let idle = off_thread(move || {
            files.remove_marks();
            files.idle()
        });
        let idle = idle.await;
        for piece in idle.chunks(CONTENTS_PIECE) {
            let asked = piece.to_vec();
            let remove = async {
                let unneeded = self.store.read(move |c| store::unneeded(c, asked)).await?;
                let files = self.files.clone();
                let remove = move || unneeded.iter().for_each(|digest| files.remove_idle(digest));
                off_thread(remove).await;
                Ok::<_, StoreError>(())
            };
            self.piece(remove).await?;
        }
        Ok(())
    }

    /// Of contents those that a run may name and have: what its jobs have sent, and what its project has already. Others'
    /// are none of its business, though it knows their digests.
    pub(crate) async fn allowed_contents(&self, run: i64, digests: Vec<Digest>) -> Result<HashSet<Digest>, StoreError> {
        let files = self.files.clone();
        let sent = move || -> (Vec<Digest>, Vec<Digest>) {
            digests.into_iter().partition(|digest| files.is_allowed(digest, run))
        };
        let (sent, unknown) = off_thread(sent).await;
        let known = self.store.read(move |records| store::contents_of_project(records, run, unknown)).await?;
        let files = self.files.clone();
        let there = move || known.into_iter().filter(|digest| files.has(digest)).collect::<Vec<_>>();
        Ok(sent.into_iter().chain(off_thread(there).await).collect())
    }
}
