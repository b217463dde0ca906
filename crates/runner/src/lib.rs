//! A runner: takes jobs from the server, does them in the sandbox, reports.
//!
//! It pulls: nothing connects to it. It holds no credential for repositories and gets each commit's
//! files from the server. When the server is away it goes on with what it has, and delivers
//! reports and logs when the server is back; both can be repeated without harm.

mod bounded;
mod check;
mod config;
mod contact;
mod contents;
mod executor;
mod folder;
mod job;
mod log;
mod machine;
mod reports;
mod sources;
mod stuck;
mod tools;
mod upkeep;

use std::path::Path;
use std::sync::Arc;
use std::time::{Duration, Instant};

use pondrix_api::{ClientError, Hello, RunnerClient, Welcome};
use pondrix_image::Platform;
use pondrix_sandbox::{Launcher, Places, check_machine, disk_shares};
use tokio::sync::{oneshot, watch};
use tokio::task::{JoinHandle, JoinSet};
use tokio_util::sync::CancellationToken;
use tracing::{info, warn};

pub use check::{Check, CheckOutcome, UnfitMachine, check_all, require};
pub use config::{JobLimits, NoLimits, RunnerConfig, ServerAddress, limits_are_usable};
pub use folder::FolderTaken;
pub use machine::shown_through;

use crate::check::check_optional;
use crate::folder::Folder;
use crate::job::JobContext;
use crate::stuck::StuckPlaces;

/// How long to wait before asking a server again that did not answer.
const PAUSE: Duration = Duration::from_millis(300);
/// How often is said that places are stuck.
const STUCK_PAUSE: Duration = Duration::from_secs(10);
/// The status of the answer to a runner that is not known.
const INTRODUCE_YOURSELF: u16 = 409;
/// The status of the answer to a token that is not good.
const UNAUTHORIZED: u16 = 401;

/// Runs until `shutdown`, until the last job ends after `drain`, or until the server has been away for longer than the configuration
/// allows. Jobs that run then are ended.
///
/// Each job runs with the configuration at its start. Limits of jobs, networks, resolvers and the room
/// for images may change while the runner runs; other fields are read once.
///
/// # Errors
/// When the machine cannot run sandboxes, or another runner has the data folder ([`FolderTaken`]).
pub async fn run(
    current: watch::Receiver<RunnerConfig>,
    drain: CancellationToken,
    shutdown: CancellationToken,
) -> anyhow::Result<()> {
    let config = current.borrow().clone();
    if let Some(through) = shown_through(&config.data, &config.shown) {
        let (data, through) = (config.data.display(), through.display());
        anyhow::bail!(
            "{data} cannot be the runner's folder: jobs with `on-host` read all of {through}; choose another: --data FOLDER"
        );
    }
    let launcher = Launcher::new();
    let folder = Folder::open(&config.data, launcher.ids())?;
    let launcher = launcher.sharing(folder.frame())?;
    if config.limits.is_none() {
        warn!("jobs run without limits: one may take all memory and processes of this machine");
    }
    require(&folder.jobs(), config.limits.is_some())?;
    let disk_shares = config.limits.and_then(|_| disk_shares(folder.path()).ok());
    let launcher = launcher.with_disk_shares(disk_shares);
    let check = folder.scratch()?;
    let places = places(&launcher, &folder, check.path(), config.slots.max(1));
    drop(check);
    warn_of_limitations(&folder);
    let server = config.server.clone();
    // Where the server did not say yet where it is, nothing answers either.
    let client = RunnerClient::new(move || server.resolve().unwrap_or_default(), &config.token);
    let path = std::env::var("PATH").unwrap_or_default();
    let hello = Hello {
        slots: config.slots.max(1),
        stuck: 0,
        tools: tools::programs(&path),
        host_network: config.host_network,
        platforms: config.emulated.iter().chain([&Platform::here()]).map(Platform::to_string).collect(),
        version: env!("CARGO_PKG_VERSION").to_owned(),
        instance: format!("{}-{:?}", std::process::id(), std::time::SystemTime::now()),
    };
    // A server that still thinks of the jobs of an earlier process learns that they are lost. One that is
    // away asks for this when it is back.
    match client.hello(&hello).await {
        Ok(Welcome { runner, pool }) => info!(name = runner, pool, slots = config.slots, "ready for jobs"),
        Err(error) if is_unknown(&error) => return Err(error.into()),
        Err(error) => info!(%error, "could not introduce itself yet"),
    }
    let introduction = Arc::new(Introduction { hello, stuck: StuckPlaces::new() });
    let mut slots = JoinSet::new();
    for slot in 0..config.slots.max(1) {
        let (client, current) = (client.clone(), current.clone());
        let end = End { drain: drain.clone(), shutdown: shutdown.clone() };
        let ids = places.as_ref().and_then(|places| places.ids.get(slot));
        let launcher = ids.map_or_else(|| launcher.clone(), |ids| launcher.apart(*ids, folder.path().to_owned()));
        let (folder, introduction) = (folder.clone(), Arc::clone(&introduction));
        slots.spawn(async move {
            slot_loop(slot, &client, &introduction, &current, &folder, &launcher, &end).await;
        });
    }
    let upkeep = [
        tokio::spawn(upkeep::keep_small(folder.clone(), current)),
        tokio::spawn(upkeep::keep_up(client.clone(), folder)),
        tokio::spawn(async move { introduction.tell_changes(&client).await }),
    ];
    while slots.join_next().await.is_some() {}
    upkeep.iter().for_each(tokio::task::JoinHandle::abort);
    Ok(())
}

/// How a runner ends.
struct End {
    /// After the jobs that it has.
    drain: CancellationToken,
    /// At once.
    shutdown: CancellationToken,
}

/// What the runner says of itself.
struct Introduction {
    hello: Hello,
    stuck: StuckPlaces,
}

impl Introduction {
    /// What is to be said now.
    fn now(&self) -> Hello {
        Hello { stuck: *self.stuck.subscribe().borrow(), ..self.hello.clone() }
    }

    /// Says it anew when places are stuck, or are no more; and again and again as long as some are, since they do not ask
    /// for jobs, and a runner whose places are all stuck would be taken for gone.
    async fn tell_changes(&self, client: &RunnerClient) {
        let mut stuck = self.stuck.subscribe();
        loop {
            let some_are = *stuck.borrow_and_update() > 0;
            tokio::select! {
                _ = stuck.changed() => {}
                () = tokio::time::sleep(STUCK_PAUSE), if some_are => {}
            }
            match client.hello(&self.now()).await {
                Ok(_) => {}
                Err(error) => warn!(%error, "the server was not told of places that are stuck"),
            }
        }
    }
}

/// Ids of the machine for each place, where this machine allows that.
fn places(launcher: &Launcher, folder: &Folder, scratch: &Path, slots: usize) -> Option<Places> {
    if !launcher.ids().is_range() {
        // An ordinary user has one id, and so have all jobs.
        return None;
    }
    let taken = Places::take(slots).map_err(|error| error.to_string());
    let checked = taken.and_then(|places| {
        let first = places.ids.first().copied().ok_or("none are free")?;
        let launcher = launcher.apart(first, folder.path().to_owned());
        check_machine(&launcher, scratch).map_err(|error| error.to_string())?;
        Ok(places)
    });
    checked.inspect_err(|why| warn!(why, "jobs that run at the same time share a range of user ids")).ok()
}

/// Logs what does not work on this machine, while the first jobs already run.
fn warn_of_limitations(folder: &Folder) {
    // A runner that is killed during these tests may leave a mounted file system.
    let folder = folder.jobs();
    tokio::task::spawn_blocking(move || {
        let checks = check_optional(&folder).unwrap_or_default();
        for check in checks.into_iter().filter(|check| check.outcome != CheckOutcome::Passed) {
            warn!(check = check.name, fix = check.fix, "{}", check.found);
        }
    });
}

/// Whether the server says that the token is not good: it was removed, or another took its place.
fn is_unknown(error: &ClientError) -> bool {
    matches!(error, ClientError::Problem(problem) if problem.status == UNAUTHORIZED)
}

async fn slot_loop(
    slot: usize,
    client: &RunnerClient,
    introduction: &Introduction,
    current: &watch::Receiver<RunnerConfig>,
    folder: &Folder,
    launcher: &Launcher,
    End { drain, shutdown }: &End,
) {
    let mut last_answer = Instant::now();
    let mut delivery = tokio::spawn(async {});
    while !drain.is_cancelled() {
        let taken = tokio::select! {
            taken = client.take() => taken,
            // A job that was on its way is offered again.
            () = drain.cancelled() => break,
            () = shutdown.cancelled() => break,
        };
        match taken {
            Ok(assignment) => {
                if let Some(assignment) = assignment {
                    let run = assignment.facts.id.to_string();
                    info!(slot, run, job = %assignment.job, "took a job");
                    let (place, free) = oneshot::channel();
                    let config = current.borrow().clone();
                    let job = JobContext::new(client, config, folder, launcher, assignment, &introduction.stuck);
                    let mut next = tokio::spawn(job.carry_out(shutdown.clone(), place));
                    // It is given back by being dropped.
                    drop(free.await);
                    // One job is told of while the next is done, and no more than one.
                    std::mem::swap(&mut delivery, &mut next);
                    delivered(next).await;
                }
                last_answer = Instant::now();
            }
            // It has not heard of us, or was started again and has forgotten.
            Err(ClientError::Problem(problem)) if problem.status == INTRODUCE_YOURSELF => {
                if let Err(error) = client.hello(&introduction.now()).await {
                    warn!(%error, "could not introduce itself");
                    tokio::time::sleep(PAUSE).await;
                }
            }
            Err(error) if is_unknown(&error) => {
                warn!(%error, "the server does not know this runner any more; leaving");
                shutdown.cancel();
                break;
            }
            Err(error) => {
                if current.borrow().alone_for.is_some_and(|limit| last_answer.elapsed() > limit) {
                    info!("the server has been away for too long; leaving");
                    shutdown.cancel();
                    break;
                }
                if !error.is_transient() {
                    warn!(%error, "could not take a job");
                }
                tokio::select! {
                    () = tokio::time::sleep(error.pause(PAUSE)) => {}
                    () = shutdown.cancelled() => break,
                }
            }
        }
    }
    delivered(delivery).await;
}

/// Waits until everything about a job has been delivered.
async fn delivered(delivery: JoinHandle<()>) {
    if let Err(error) = delivery.await {
        warn!(%error, "what was to be told of a job was not told");
    }
}
