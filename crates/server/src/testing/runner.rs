//! A runner as the server sees one: it asks, does what it is given in steps that take a while, reports, keeps to its
//! lease, and pushes to the registry. What it really does is written down, to be compared with what the records say.

use std::collections::BTreeMap;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use futures_util::FutureExt;
use pondrix_api::{Assignment, Hello, JobReport, RunnerBounds, TagAnswer, TagQuestion, TimedReport};
use pondrix_core::image::Digest;
use pondrix_core::run::{JobResult, Outcome, StepEnd};
use pondrix_core::work::Work;
use pondrix_core::{JobKey, RunId};
use sha2::Digest as _;
use tokio::time::Instant;

use super::World;
use crate::domain::{EngineError, TakeError};
use crate::store::RunnerRow;

/// How the runner ends a job, before its lease is over.
const BEFORE_THE_END: Duration = Duration::from_secs(6);
/// How long what it does may take to end by itself.
const GRACE: Duration = Duration::from_secs(2);
/// How long it waits before it asks again.
const PAUSE: Duration = Duration::from_millis(500);

/// What runners do with jobs.
#[derive(Clone, Debug)]
pub(crate) struct Plan {
    /// The longest that a step takes.
    pub(crate) longest_step: Duration,
    /// How often in a hundred times a step fails.
    pub(crate) fails: u64,
}

/// What runners really did.
#[derive(Clone, Debug, Default)]
pub(crate) struct Deeds(Arc<Mutex<Inner>>);

#[derive(Debug, Default)]
struct Inner {
    /// How often each step was begun, by run, job, attempt and step.
    begun: BTreeMap<(RunId, JobKey, u32, usize), usize>,
    /// Those steps whose end the server has taken.
    ended: Vec<(RunId, JobKey, u32, usize)>,
    /// Steps that were begun although the server had taken their end.
    again: Vec<String>,
    /// What jobs wrote, by run and job, each by each who did it.
    written: BTreeMap<(RunId, JobKey), Vec<Arc<Mutex<String>>>>,
    /// Who does what, with the locks of it.
    doing: BTreeMap<u64, (RunId, JobKey, Vec<String>)>,
    /// Locks that two jobs had at once, in deed.
    clashes: Vec<String>,
    count: u64,
}

/// Somebody does a job for as long as this lives.
struct Doing {
    deeds: Deeds,
    number: u64,
}

impl Drop for Doing {
    fn drop(&mut self) {
        self.deeds.0.lock().unwrap().doing.remove(&self.number);
    }
}

impl Deeds {
    fn begin_log(&self, assignment: &Assignment) -> Arc<Mutex<String>> {
        let written = Arc::new(Mutex::new(String::new()));
        let key = (assignment.facts.id.clone(), assignment.job.clone());
        self.0.lock().unwrap().written.entry(key).or_default().push(Arc::clone(&written));
        written
    }

    fn begin_job(&self, assignment: &Assignment, locks: Vec<String>) -> Doing {
        let mut inner = self.0.lock().unwrap();
        let (run, job) = (assignment.facts.id.clone(), assignment.job.clone());
        let others = inner
            .doing
            .values()
            .filter(|(other, _, held)| other.project == run.project && held.iter().any(|lock| locks.contains(lock)));
        let clashes: Vec<_> = others.map(|(other, theirs, _)| format!("{other} {theirs} and {run} {job}")).collect();
        inner.clashes.extend(clashes);
        inner.count += 1;
        let number = inner.count;
        inner.doing.insert(number, (run, job, locks));
        Doing { deeds: self.clone(), number }
    }

    fn begin_step(&self, run: &RunId, job: &JobKey, attempt: u32, step: usize) {
        let mut inner = self.0.lock().unwrap();
        let key = (run.clone(), job.clone(), attempt, step);
        if inner.ended.contains(&key) {
            inner.again.push(format!("{run} {job}, attempt {attempt}, step {step}"));
        }
        *inner.begun.entry(key).or_default() += 1;
    }

    fn end_step(&self, run: &RunId, job: &JobKey, attempt: u32, step: usize) {
        self.0.lock().unwrap().ended.push((run.clone(), job.clone(), attempt, step));
    }

    /// What must never have happened and did.
    pub(crate) fn wrongs(&self) -> Vec<String> {
        let inner = self.0.lock().unwrap();
        let again = inner.again.iter().map(|what| format!("begun although its end was reported: {what}"));
        again.chain(inner.clashes.iter().map(|what| format!("both had a lock: {what}"))).collect()
    }

    /// The jobs that anybody did, each with what everybody who did it wrote.
    pub(crate) fn written(&self) -> Vec<(RunId, JobKey, Vec<String>)> {
        let inner = self.0.lock().unwrap();
        let texts = |all: &Vec<Arc<Mutex<String>>>| all.iter().map(|text| text.lock().unwrap().clone()).collect();
        inner.written.iter().map(|((run, job), all)| (run.clone(), job.clone(), texts(all))).collect()
    }
}

/// Why a job ends before it is done.
#[derive(Clone, Debug, Default)]
struct Ending(Arc<AtomicBool>);

impl Ending {
    fn is_so(&self) -> bool {
        self.0.load(Ordering::Relaxed)
    }

    fn begin(&self) {
        self.0.store(true, Ordering::Relaxed);
    }
}

/// A job that a runner does.
struct Job<'a> {
    world: &'a World,
    runner: &'a str,
    assignment: &'a Assignment,
    deeds: &'a Deeds,
    ending: Ending,
    /// When the server was asked last what it has answered.
    heard: Arc<Mutex<Instant>>,
    /// What this runner wrote of it.
    written: Arc<Mutex<String>>,
    /// How much of that the server has.
    sent: u64,
    /// What is to be told with what comes next, and which step it ends.
    held: Vec<((JobReport, Instant), Option<usize>)>,
    doing: Arc<Mutex<Option<Doing>>>,
}

/// What is told now of what was then.
fn timed(report: JobReport, when: Instant) -> TimedReport {
    TimedReport { report, ago: u64::try_from(when.elapsed().as_millis()).unwrap() }
}

/// The job is no longer the runner's.
struct NotOurs;

/// A runner that works for all projects.
pub(crate) fn row(name: &str) -> RunnerRow {
    let bounds = RunnerBounds { pool: "pond".to_owned(), ..RunnerBounds::default() };
    RunnerRow { name: name.to_owned(), bounds, by: "admin".to_owned(), is_own: false }
}

/// Runs until the world is over. A runner that is killed begins anew as another `instance`.
pub(crate) async fn run(world: World, name: String, instance: u64, plan: Plan, deeds: Deeds) {
    let hello = Hello {
        slots: 1,
        stuck: 0,
        tools: std::collections::BTreeSet::new(),
        host_network: false,
        platforms: std::collections::BTreeSet::new(),
        version: "0".to_owned(),
        instance: instance.to_string(),
    };
    let greet = || {
        let (of, hello) = (name.clone(), hello.clone());
        world.network.ask(&world, &name, move |engine| {
            let (row, hello) = (row(&of), hello.clone());
            async move { engine.greet(row, hello).await }.boxed()
        })
    };
    let _ = greet().await;
    while !world.is_over() {
        let asked = name.clone();
        let taken = world.network.ask(&world, &name, move |engine| {
            let asked = asked.clone();
            async move { engine.take(&asked, Duration::from_secs(20)).await }.boxed()
        });
        match taken.await {
            Ok(Ok(Some(assignment))) => do_job(&world, &name, &assignment, &plan, &deeds).await,
            Ok(Ok(None)) => {}
            Ok(Err(TakeError::Unknown(_))) => drop(greet().await),
            Ok(Err(TakeError::Engine(_))) | Err(_) => tokio::time::sleep(PAUSE).await,
        }
    }
}

async fn do_job(world: &World, runner: &str, assignment: &Assignment, plan: &Plan, deeds: &Deeds) {
    // The locks are not told to runners: the world looks them up.
    let locks = world.server().map(|server| server.engine.live(&assignment.facts.id)).and_then(|live| {
        let live = live?;
        let state = live.state.try_lock().ok()?;
        Some(
            state
                .run
                .locks_wanted(&assignment.job)
                .into_iter()
                .filter(|hold| hold.job.is_some())
                .map(|hold| hold.lock)
                .collect(),
        )
    });
    let ending = Ending::default();
    let heard = Arc::new(Mutex::new(Instant::now()));
    let lease = Duration::from_secs(assignment.lease_seconds);
    let beats = async {
        loop {
            let asked = Instant::now();
            let text = (runner.to_owned(), assignment.lease.clone());
            let beat = world.network.ask(world, runner, move |engine| {
                let text = text.clone();
                async move {
                    let (live, lease) = engine.leased(&text.0, &text.1).await?;
                    let halts = tokio::time::timeout(Duration::from_secs(5), live.halted(&lease.job)).await.is_ok();
                    Some(halts)
                }
                .boxed()
            });
            match beat.await {
                Ok(Some(false)) => *heard.lock().unwrap() = asked,
                // Halted, or given up.
                Ok(_) => {
                    ending.begin();
                    std::future::pending::<()>().await;
                }
                Err(_) => tokio::time::sleep(PAUSE).await,
            }
        }
    };
    // What is done, as long as anything is: it ends with the order to end, whatever is still to be told.
    let doing: Arc<Mutex<Option<Doing>>> = Arc::default();
    let stop = async {
        while !ending.is_so() {
            tokio::time::sleep(Duration::from_secs(1)).await;
        }
        tokio::time::sleep(GRACE).await;
        drop(doing.lock().unwrap().take());
        std::future::pending::<()>().await;
    };
    let watch = async {
        loop {
            let left = (lease - BEFORE_THE_END).saturating_sub(heard.lock().unwrap().elapsed());
            if left.is_zero() {
                ending.begin();
                std::future::pending::<()>().await;
            }
            tokio::time::sleep(left).await;
        }
    };
    let work = async {
        let job = Job {
            world,
            runner,
            assignment,
            deeds,
            ending: ending.clone(),
            heard: Arc::clone(&heard),
            written: deeds.begin_log(assignment),
            sent: 0,
            held: Vec::new(),
            doing: Arc::clone(&doing),
        };
        drop(job.carry_out(plan, locks.unwrap_or_default()).await);
    };
    tokio::select! {
        biased;
        () = work => {}
        () = beats => {}
        () = watch => {}
        () = stop => {}
    }
}

impl Job<'_> {
    async fn carry_out(mut self, plan: &Plan, locks: Vec<String>) -> Result<(), NotOurs> {
        let (run, job, attempt) =
            (&self.assignment.facts.id.clone(), self.assignment.job.clone(), self.assignment.attempt);
        let steps = match &self.assignment.work {
            Work::Steps(work) => work.steps.len(),
            Work::Image(_) => 2,
        };
        // Nothing is done before the server knows that the runner knows: the commit's files come from it.
        self.report(JobReport::Prepared).await?;
        let mut outcome = Outcome::Passed;
        *self.doing.lock().unwrap() = Some(self.deeds.begin_job(self.assignment, locks));
        for step in 0..steps {
            if self.ending.is_so() {
                outcome = Outcome::Stopped;
                break;
            }
            self.deeds.begin_step(run, &job, attempt, step);
            let log = self.length();
            let take = self.world.random.up_to(plan.longest_step);
            let until = Instant::now() + take;
            // As the real one: what is to be told is told while the step goes on.
            let is_told = self.report(JobReport::StepStarted { step, log }).await;
            while Instant::now() < until && !self.ending.is_so() {
                tokio::time::sleep(Duration::from_secs(1)).await;
            }
            is_told?;
            if self.ending.is_so() {
                outcome = Outcome::Stopped;
                break;
            }
            self.say(&format!("{run} {job} attempt {attempt} step {step}\n"));
            self.deliver().await?;
            if let (Work::Image(_), 1) = (&self.assignment.work, step) {
                self.push().await?;
            }
            let fails = self.world.random.percent(plan.fails);
            let log = self.length();
            let ended = JobReport::StepEnded { step, end: StepEnd::Exit(fails.into()), log };
            // What comes while other things are told is told together.
            if self.world.random.percent(30) {
                self.held.push(((ended, Instant::now()), Some(step)));
            } else {
                self.report_end_of(ended, step).await?;
            }
            if fails {
                outcome = Outcome::Failed;
                break;
            }
        }
        // Nothing of it runs any more.
        drop(self.doing.lock().unwrap().take());
        self.report(JobReport::Ended { outcome, reason: None, usage: None }).await
    }

    fn length(&self) -> u64 {
        self.assignment.log + self.written.lock().unwrap().len() as u64
    }

    fn say(&self, line: &str) {
        self.written.lock().unwrap().push_str(line);
    }

    /// Reports, until the server has it or takes nothing more.
    async fn report(&mut self, report: JobReport) -> Result<(), NotOurs> {
        self.held.push(((report, Instant::now()), None));
        self.report_held().await
    }

    async fn report_end_of(&mut self, ended: JobReport, step: usize) -> Result<(), NotOurs> {
        self.held.push(((ended, Instant::now()), Some(step)));
        self.report_held().await
    }

    async fn report_held(&mut self) -> Result<(), NotOurs> {
        let (reports, steps): (Vec<_>, Vec<_>) = self.held.drain(..).unzip();
        loop {
            let asked = Instant::now();
            let reports: Vec<_> = reports.iter().cloned().map(|(report, when)| timed(report, when)).collect();
            let text = (self.runner.to_owned(), self.assignment.lease.clone());
            let answer = self.world.network.ask(self.world, self.runner, move |engine| {
                let (text, reports) = (text.clone(), reports.clone());
                async move {
                    let (live, lease) = engine.leased(&text.0, &text.1).await.ok_or(EngineError::LeaseEnded)?;
                    engine.report(&live, &lease, reports).await
                }
                .boxed()
            });
            match answer.await {
                Ok(Ok(())) => {
                    *self.heard.lock().unwrap() = asked;
                    let facts = self.assignment;
                    for step in steps.into_iter().flatten() {
                        self.deeds.end_step(&facts.facts.id, &facts.job, facts.attempt, step);
                    }
                    return Ok(());
                }
                Ok(Err(error)) if error.is_transient() => {}
                Ok(Err(EngineError::Store(_) | EngineError::Broke)) | Err(_) => {}
                Ok(Err(_)) => return Err(NotOurs),
            }
            tokio::time::sleep(PAUSE).await;
        }
    }

    /// Sends what was written, until the server has it or takes nothing more.
    async fn deliver(&mut self) -> Result<(), NotOurs> {
        loop {
            let text = self.written.lock().unwrap().clone();
            if self.sent == text.len() as u64 {
                return Ok(());
            }
            let lease = (self.runner.to_owned(), self.assignment.lease.clone());
            let (base, sent) = (self.assignment.log, self.sent);
            let answer = self.world.network.ask(self.world, self.runner, move |engine| {
                let (lease, text) = (lease.clone(), text.clone());
                async move {
                    let (live, lease) = engine.leased(&lease.0, &lease.1).await?;
                    let from = usize::try_from(sent).unwrap();
                    engine.append_log(&live, &lease, base + sent, text.as_bytes()[from..].to_vec()).await.ok()
                }
                .boxed()
            });
            match answer.await {
                Ok(Some(length)) => self.sent = length.saturating_sub(base),
                Ok(None) => return Err(NotOurs),
                Err(_) => tokio::time::sleep(PAUSE).await,
            }
        }
    }

    /// Sets tags, each after it was asked whether it may be.
    async fn push(&mut self) -> Result<(), NotOurs> {
        let Work::Image(work) = &self.assignment.work else { return Ok(()) };
        let commit = self.assignment.facts.commit.clone();
        let digest = Digest::from_bytes(&sha2::Sha256::digest(commit.as_bytes()).into());
        for target in &work.pushes {
            let mut tags = Vec::new();
            let all = target.tags.iter().map(|tag| (tag, false)).chain(target.moving.iter().map(|tag| (tag, true)));
            for (tag, moves) in all {
                loop {
                    if self.ending.is_so() {
                        return Err(NotOurs);
                    }
                    let question = TagQuestion { repository: target.repository.clone(), tag: tag.clone(), moves };
                    let lease = (self.runner.to_owned(), self.assignment.lease.clone());
                    let answer = self.world.network.ask(self.world, self.runner, move |engine| {
                        let (question, lease) = (question.clone(), lease.clone());
                        async move {
                            let (live, lease) =
                                engine.leased(&lease.0, &lease.1).await.ok_or(EngineError::LeaseEnded)?;
                            engine.may_tag(&live, &lease, question).await
                        }
                        .boxed()
                    });
                    match answer.await {
                        Ok(Ok(TagAnswer::Set)) => {
                            // What was asked long ago may have changed since.
                            self.world.registry.set(&target.repository, tag, &commit);
                            tags.push(tag.clone());
                            break;
                        }
                        Ok(Ok(TagAnswer::Leave { .. })) => break,
                        Ok(Err(EngineError::LeaseEnded)) => return Err(NotOurs),
                        Ok(Ok(TagAnswer::Wait) | Err(_)) | Err(_) => tokio::time::sleep(PAUSE).await,
                    }
                }
            }
            let result = JobResult::Image {
                repository: target.repository.clone(),
                digest: digest.clone(),
                tags,
                base: None,
                platforms: Vec::new(),
            };
            self.report(JobReport::Result { result }).await?;
        }
        Ok(())
    }
}
