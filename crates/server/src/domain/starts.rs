//! From a commit to a run.

use std::collections::{BTreeMap, HashSet};
use std::fmt;
use std::sync::Arc;

use pondrix_api::{EnvironmentView, PlanView, RunSummary};
use pondrix_core::file_times::FileTimes;
use pondrix_core::pipeline::{self, JobKind, Pipeline, StartKind, StartRule, Templates};
use pondrix_core::plan::{self, Plan, Start};
use pondrix_core::run::{Event, PreflightFault};
use pondrix_core::work::{ImageWork, Outputs, RunFacts};
use pondrix_core::{ProjectName, RunId, Schedule, Time};
use rusqlite::Connection;
use sha2::{Digest, Sha256};
use tracing::{error, info};

use super::reading;
use super::templates::Found;
use super::{Engine, LiveRun, locked};
use crate::ports::git::{CommitFacts, GitError, Refs, Repository};
use crate::store::{self, DueSchedule, NewRun, Project, StoreError};
use crate::tries::TryError;

/// What is to be looked at.
#[derive(Clone, Debug)]
pub(crate) struct Wanted {
    /// Why.
    pub(crate) kind: StartKind,
    /// The branch; empty for a tag.
    pub(crate) branch: String,
    /// The tag.
    pub(crate) tag: Option<String>,
    /// The commit.
    pub(crate) commit: String,
    /// What was said to each `ask`.
    pub(crate) inputs: BTreeMap<String, String>,
    /// The commit that the branch had before, where that is known.
    pub(crate) before: Option<String>,
    /// The files that changed since, where that is known.
    pub(crate) changed: Option<Vec<String>>,
    /// The schedule that wants it.
    pub(crate) schedule: Option<DueSchedule>,
    /// Who wants it, where somebody does.
    pub(crate) by: Option<String>,
}

impl fmt::Display for Wanted {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let (kind, name) = self.tag.as_ref().map_or(("branch", &self.branch), |tag| ("tag", tag));
        write!(f, "{kind} {name} at {}", self.commit.get(..12).unwrap_or(&self.commit))
    }
}

/// Files that are not committed, to be tried.
#[derive(Clone, Debug)]
pub(crate) struct Tried {
    /// Where they are.
    pub(crate) files: String,
    /// When the commit that they come after was made, and what they are.
    pub(crate) commit: CommitFacts,
}

/// What came of a commit.
#[derive(Debug)]
pub(crate) enum Started {
    /// A run.
    Run(Box<RunSummary>),
    /// No run, and why.
    Nothing(String),
}

/// What came of files that were to be tried.
#[derive(Debug)]
pub(crate) enum Tries {
    /// A run.
    Run(Box<RunSummary>),
    /// Their pipeline file is faulty.
    Faulty(Vec<pipeline::Fault>),
    /// No run, and why.
    Nothing(String),
}

/// Why a commit could not be looked at.
#[derive(Debug, thiserror::Error)]
pub(crate) enum StartError {
    #[error(transparent)]
    Git(#[from] GitError),
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// What starts that were noticed together would build, so that none is built twice.
pub(crate) type Builds = HashSet<[u8; 32]>;

/// What a commit's pipeline file says to a start.
enum Decision {
    Run(Plan, BTreeMap<String, String>, Vec<Schedule>),
    Faulty(Vec<pipeline::Fault>),
    Nothing(String, Vec<Schedule>),
}

impl Wanted {
    /// The newest commit of a branch.
    pub(crate) fn branch(kind: StartKind, branch: &str, commit: &str) -> Self {
        let (branch, commit) = (branch.to_owned(), commit.to_owned());
        Self {
            kind,
            branch,
            tag: None,
            commit,
            inputs: BTreeMap::new(),
            before: None,
            changed: None,
            schedule: None,
            by: None,
        }
    }

    /// The commit of a tag.
    pub(crate) fn tag(kind: StartKind, tag: &str, commit: &str) -> Self {
        Self { tag: Some(tag.to_owned()), ..Self::branch(kind, "", commit) }
    }

    fn start(&self) -> Start {
        Start {
            kind: self.kind,
            branch: self.branch.clone(),
            tag: self.tag.clone(),
            changed: self.changed.clone(),
            inputs: self.inputs.clone(),
        }
    }

    /// What is known of a run of it before it has a number.
    fn facts(&self, project: &ProjectName, inputs: BTreeMap<String, String>, commit_time: Time) -> RunFacts {
        RunFacts {
            id: RunId { project: project.clone(), number: 1 },
            commit: self.commit.clone(),
            branch: self.branch.clone(),
            tag: self.tag.clone(),
            commit_time,
            start: self.kind,
            inputs,
            is_try: self.kind == StartKind::Try,
            // It is being made: what holds now, holds for it.
            was_trusted: true,
        }
    }

    /// The same before its inputs are known.
    fn facts_so_far(&self, project: &ProjectName) -> RunFacts {
        self.facts(project, BTreeMap::new(), Time::default())
    }

    /// The branch or tag and the commit, for people.
    fn title(&self) -> String {
        let name = self.tag.as_ref().map_or_else(|| self.branch.clone(), |tag| format!("tag {tag}"));
        format!("{name} at {}", self.commit.get(..12).unwrap_or(&self.commit))
    }

    fn decide(&self, text: Option<&str>, templates: &Templates) -> Decision {
        let Some(text) = text else {
            return Decision::Nothing(format!("{} has no {}", self.title(), pipeline::FILE_NAME), Vec::new());
        };
        let pipeline = match pipeline::read_with(text, templates) {
            Ok(pipeline) => pipeline,
            Err(faults) => return Decision::Faulty(faults),
        };
        let clocks = schedules(&pipeline, &self.branch);
        let nothing = |why: String| Decision::Nothing(format!("{}: {why}", self.title()), clocks.clone());
        if matches!(self.kind, StartKind::Commit | StartKind::Schedule | StartKind::BaseMoved)
            && let Err(why) = plan::check_start(&pipeline, &self.start())
        {
            return nothing(why.to_string());
        }
        let inputs = match plan::inputs(&pipeline.inputs, &self.inputs) {
            Ok(inputs) => inputs,
            Err(faults) => return nothing(faults.to_string()),
        };
        let plan = Plan::new(&pipeline, &Start { inputs: inputs.clone(), ..self.start() });
        match plan.nothing_to_do() {
            Some(why) => nothing(why),
            None => Decision::Run(plan, inputs, clocks),
        }
    }
}

/// The schedules for a branch in its own pipeline file.
fn schedules(pipeline: &Pipeline, branch: &str) -> Vec<Schedule> {
    let of_branch = |rule: &StartRule| match rule {
        StartRule::Schedule { schedule, branch: of } if of == branch => Some(schedule.clone()),
        _ => None,
    };
    pipeline.starts.iter().filter_map(of_branch).collect()
}

/// What a plan builds of a commit, whatever the run is called.
fn build_of(
    project: &Project,
    is_trusted: bool,
    wanted: &Wanted,
    plan: &Plan,
    inputs: &BTreeMap<String, String>,
    commit: &CommitFacts,
) -> [u8; 32] {
    let facts = wanted.facts(&project.name, inputs.clone(), commit.time);
    // What is pushed under other names is another build.
    let images = plan.jobs().map(|job| match &job.kind {
        JobKind::Image(image) => ImageWork::new(job, image, &facts, "", is_trusted, &Outputs::new()).ok(),
        JobKind::Steps(_) | JobKind::Rollout(_) => None,
    });
    let all = (&wanted.commit, plan, images.collect::<Vec<_>>());
    Sha256::digest(serde_json::to_vec(&all).unwrap_or_default()).into()
}

impl Engine {
    /// Gives files that are not committed the times that they have in their commit, where they are as they are there.
    pub(crate) async fn retime(
        &self,
        project: &Project,
        files: &str,
        commit: &str,
        of_commit: Time,
    ) -> Result<(), TryError> {
        let repository = self.repository(project);
        // One that was not pushed, this server does not know.
        let times = match repository.commit(commit).await {
            Some(commit) => self.file_times(project.id, &*repository, &commit).await.ok(),
            None => None,
        };
        self.tries.retime(files, times, u64::try_from(of_commit.millis() / 1000).unwrap_or(0)).await
    }

    /// Runs files that are not committed. Rollouts to environments that take no such runs are left out.
    pub(crate) async fn try_out(
        self: &Arc<Self>,
        project: &Project,
        wanted: Wanted,
        tried: Tried,
    ) -> Result<Tries, StoreError> {
        let text = match self.tries.file(&tried.files, pipeline::FILE_NAME).await {
            Ok(text) => text,
            Err(error) => return Ok(Tries::Nothing(error.to_string())),
        };
        let taker = self.taker(&project.name, &wanted.facts_so_far(&project.name), true).await?;
        let found = self.templates(text.as_deref().map(pipeline::uses).unwrap_or_default(), &taker).await?;
        let (mut plan, inputs) = match wanted.decide(text.as_deref(), &found.templates) {
            Decision::Run(plan, inputs, _) => (plan, inputs),
            Decision::Faulty(faults) => return Ok(Tries::Faulty(faults)),
            Decision::Nothing(why, _) => return Ok(Tries::Nothing(why)),
        };
        let environments = self.environments().await?;
        let takes = |name: &str| {
            let tries = |one: &EnvironmentView| one.rules.starts.contains(&StartKind::Try);
            environments.iter().all(|one| one.name != name || tries(one))
        };
        plan.leave_out_rollouts(takes, |name| format!("the environment `{name}` takes no runs that try something"));
        if let Some(why) = plan.nothing_to_do() {
            return Ok(Tries::Nothing(why));
        }
        let new = NewRun {
            start: StartKind::Try,
            branch: wanted.branch,
            tag: None,
            inputs,
            commit: wanted.commit,
            commit_time: tried.commit.time,
            title: tried.commit.title,
            author: tried.commit.author,
            plan,
            faults: Vec::new(),
            templates: found.uses,
            rerun_of: None,
            files: Some(tried.files),
            by: wanted.by,
            was_trusted: false,
        };
        Ok(Tries::Run(Box::new(self.admit(project.id, new, Vec::new(), |_| Ok(())).await?)))
    }

    /// Brings the copy of a project's repository up to date.
    pub(crate) async fn fetch(&self, project: &Project) -> Result<Refs, GitError> {
        let turn = Arc::clone(locked(&self.fetching).entry(project.id).or_default());
        let _only_one = turn.lock().await;
        let fetched = self.repository(project).fetch().await;
        // One that failed may have changed something, too.
        *locked(&self.fetches).entry(project.id).or_default() += 1;
        fetched
    }

    /// When each file of a commit was changed last.
    pub(crate) async fn file_times(
        &self,
        project: i64,
        repository: &dyn Repository,
        commit: &str,
    ) -> Result<Arc<FileTimes>, GitError> {
        // Who asks at the same time waits for the answer to the first.
        let turn = Arc::clone(locked(&self.finding_times).entry(project).or_default());
        let _only_one = turn.lock().await;
        let name = format!("{project} {commit}");
        if let Some(known) = self.file_times.get(&name) {
            return Ok(known);
        }
        let times = Arc::new(repository.file_times(commit).await?);
        self.file_times.keep(name, Arc::clone(&times));
        Ok(times)
    }

    /// Looks at a commit, which the copy of the repository has, and makes a run of it when its pipeline
    /// wants one, or when somebody starts it by hand. That the branch was seen there, and the run, are
    /// stored together: neither is lost, neither happens twice.
    pub(crate) async fn start(
        self: &Arc<Self>,
        project: &Project,
        mut wanted: Wanted,
        builds: &mut Builds,
    ) -> Result<Started, StartError> {
        let repository = self.repository(project);
        let file = repository.file(&wanted.commit, pipeline::FILE_NAME);
        let changed = async {
            match &wanted.before {
                Some(before) => repository.changed(before, &wanted.commit).await,
                None => None,
            }
        };
        let facts = wanted.facts_so_far(&project.name);
        let taker = self.taker(&project.name, &facts, true);
        let (text, commit, changed, taker) = tokio::join!(file, repository.facts(&wanted.commit), changed, taker);
        let taker = taker?;
        let (text, commit) = (text.map(Ok).or_else(unread)?, commit?);
        wanted.changed = changed;
        let read =
            |text: &str| reading::guarded(&self.data, &project.name, &wanted.commit, text, || pipeline::uses(text));
        let was_trusted = taker.is_trusted;
        let (found, mut decision) = match text.clone().and_then(|text| text.as_deref().map(read).transpose()) {
            Err(faults) => (Found::default(), Decision::Faulty(faults)),
            Ok(uses) => {
                let found = self.templates(uses.unwrap_or_default(), &taker).await?;
                let text = text.unwrap_or_default();
                let decide = || wanted.decide(text.as_deref(), &found.templates);
                let whole = text.as_deref().unwrap_or_default();
                let decided = reading::guarded(&self.data, &project.name, &wanted.commit, whole, decide);
                (found.clone(), decided.unwrap_or_else(Decision::Faulty))
            }
        };
        if let Decision::Run(plan, inputs, clocks) = &decision
            && wanted.kind == StartKind::Commit
            && !builds.insert(build_of(project, was_trusted, &wanted, plan, inputs, &commit))
        {
            let why = format!("{} would build what another start of the same push builds", wanted.title());
            decision = Decision::Nothing(why, clocks.clone());
        }
        let (plan, inputs, faults, clocks) = match decision {
            Decision::Nothing(why, clocks) => {
                let (id, now) = (project.id, self.clock.now());
                self.store.write(move |c| noticed(c, id, &wanted, Some(&clocks), now)).await?;
                return Ok(Started::Nothing(why));
            }
            Decision::Faulty(faults) => (Plan::default(), BTreeMap::new(), faults, None),
            Decision::Run(plan, inputs, clocks) => (plan, inputs, Vec::new(), Some(clocks)),
        };
        let new = NewRun {
            start: wanted.kind,
            branch: wanted.branch.clone(),
            tag: wanted.tag.clone(),
            inputs,
            commit: wanted.commit.clone(),
            commit_time: commit.time,
            title: commit.title,
            author: commit.author,
            plan,
            faults,
            templates: found.uses,
            rerun_of: None,
            files: None,
            by: wanted.by.clone(),
            was_trusted,
        };
        let (id, now) = (project.id, self.clock.now());
        let seen = move |connection: &Connection| noticed(connection, id, &wanted, clocks.as_deref(), now);
        Ok(Started::Run(Box::new(self.admit(id, new, Vec::new(), seen).await?)))
    }

    /// What a start would make of a commit, which the copy of the repository has.
    pub(crate) async fn plan(&self, project: &Project, wanted: &Wanted) -> Result<PlanView, StartError> {
        let text = self.repository(project).file(&wanted.commit, pipeline::FILE_NAME).await?;
        let taker = self.taker(&project.name, &wanted.facts_so_far(&project.name), false).await?;
        let uses = text.as_deref().map(pipeline::uses).unwrap_or_default();
        let Found { templates, .. } = self.templates(uses, &taker).await?;
        Ok(match wanted.decide(text.as_deref(), &templates) {
            Decision::Run(plan, inputs, _) => {
                let refused = self.refused(project, wanted, inputs, &plan).await?;
                PlanView { refused, ..PlanView::new(&plan, None) }
            }
            Decision::Faulty(faults) => PlanView::faulty(faults),
            Decision::Nothing(why, _) => {
                // What is left out, and why, is what is asked for.
                let read = text.and_then(|text| pipeline::read_with(&text, &templates).ok()).unwrap_or_default();
                PlanView::new(&Plan::new(&read, &wanted.start()), Some(why))
            }
        })
    }

    /// The rollouts of a plan that the environments would not let through.
    async fn refused(
        &self,
        project: &Project,
        wanted: &Wanted,
        inputs: BTreeMap<String, String>,
        plan: &Plan,
    ) -> Result<Vec<PreflightFault>, StoreError> {
        let facts = wanted.facts(&project.name, inputs, Time::from_millis(0));
        let by =
            wanted.by.clone().filter(|_| matches!(wanted.kind, StartKind::Manual | StartKind::Try | StartKind::Rerun));
        let goes = plan.jobs().filter(|job| job.left_out.is_none()).filter_map(|job| match &job.kind {
            JobKind::Rollout(rollout) => Some((rollout.to.value.clone(), job.key.to_string())),
            _ => None,
        });
        self.not_admitted(&facts, by, &goes.collect()).await
    }

    /// Keeps the schedules of a branch that is seen for the first time.
    pub(crate) async fn keep_schedules(&self, project: &Project, branch: &str, commit: &str) -> Result<(), StartError> {
        let text = self.repository(project).file(commit, pipeline::FILE_NAME).await?;
        let read = text.and_then(|text| {
            let read = || pipeline::read(&text).ok();
            reading::guarded(&self.data, &project.name, commit, &text, read).ok().flatten()
        });
        let clocks = read.map(|pipeline| schedules(&pipeline, branch)).unwrap_or_default();
        if !clocks.is_empty() {
            let (id, branch, now) = (project.id, branch.to_owned(), self.clock.now());
            self.store.write(move |c| store::keep_schedules(c, id, &branch, &clocks, now)).await?;
        }
        Ok(())
    }

    /// Stops the older runs of a run's branch, when its pipeline says that it takes their place.
    pub(super) async fn supersede(self: &Arc<Self>, live: &LiveRun) {
        let facts = &live.row.facts;
        if !live.row.plan.supersede || facts.start != StartKind::Commit {
            return;
        }
        let older: Vec<_> = {
            let all = locked(&self.live);
            let is_older = |other: &&Arc<LiveRun>| {
                let other = &other.row.facts;
                other.start == StartKind::Commit
                    && (&other.id.project, &other.branch, &other.tag) == (&facts.id.project, &facts.branch, &facts.tag)
                    && other.id.number < facts.id.number
            };
            all.values().filter(is_older).cloned().collect()
        };
        for other in older {
            let by = format!("a newer commit ({})", facts.id);
            match self.record(&other, &Event::StopAsked { by }).await {
                Ok(()) => info!(run = %other.row.facts.id, newer = %facts.id, "superseded"),
                // It is over, or was stopped before.
                Err(super::EngineError::Refused(_)) => {}
                Err(error) => error!(run = %other.row.facts.id, %error, "an older run could not be stopped"),
            }
        }
    }
}

/// A pipeline file that the repository does not give, however often it is asked: what it says is a fault of the
/// commit. Everything else may be well a little later.
fn unread<T>(error: GitError) -> Result<Result<T, Vec<pipeline::Fault>>, GitError> {
    match error {
        GitError::Failed(words) => {
            let span = pipeline::Span { start: 0, end: 1, file: 0 };
            let help = Some("correct the file and commit".to_owned());
            Ok(Err(vec![pipeline::Fault::new("", span, format!("the file cannot be read: {words}"), help)]))
        }
        error => Err(error),
    }
}

/// Remembers that a start was looked at.
fn noticed(
    connection: &Connection,
    project: i64,
    wanted: &Wanted,
    clocks: Option<&[Schedule]>,
    now: Time,
) -> Result<(), StoreError> {
    if wanted.kind == StartKind::Commit {
        match &wanted.tag {
            Some(tag) => store::see_ref(connection, project, true, tag, Some(&wanted.commit))?,
            None => {
                store::see_ref(connection, project, false, &wanted.branch, Some(&wanted.commit))?;
                if let Some(clocks) = clocks {
                    store::keep_schedules(connection, project, &wanted.branch, clocks, now)?;
                }
            }
        }
    }
    if wanted.kind == StartKind::BaseMoved {
        store::end_base_start(connection, project, &wanted.branch)?;
    }
    if let Some(due) = &wanted.schedule {
        store::set_next(connection, due, now)?;
    }
    Ok(())
}
