//! The engine: keeps the runs that go on, applies what happens to them, and has the effects done.
//!
//! What people and runners may make happen are its [commands]: each looks at the run, at who asks, and acts, under
//! one lock.

mod admission;
mod artifacts;
mod assign;
mod audit;
mod backups;
mod caches;
mod commands;
mod decide;
mod detail;
mod environments;
mod following;
mod identities;
mod image_records;
mod keys;
mod known_tokens;
mod leftovers;
mod live;
mod openid;
mod passwords;
mod people;
mod quotas;
mod reading;
mod registries;
mod remembered;
mod removal;
mod reruns;
mod resume;
mod retention;
mod run_sources;
mod runners;
mod secrets;
mod settings;
mod starts;
mod templates;
mod tokens;
mod trust;

use std::collections::{BTreeMap, HashMap};
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, AtomicU64};
use std::sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError};
use std::time::Duration;

use axum::body::Bytes;
use pondrix_api::RunSummary;
use pondrix_core::file_times::FileTimes;
use pondrix_core::image::Registries;
use pondrix_core::run::{Event, Refused};
use pondrix_core::{Recent, RunId, Time};
use tokio::sync::{Notify, RwLock, broadcast, mpsc};
use tracing::warn;

pub(crate) use assign::TakeError;
pub(crate) use audit::own_deed;
use decide::NewLease;
pub(crate) use environments::{NotAdmitted, Standing, own_names};
pub(crate) use following::{Follower, News};
pub(crate) use identities::Speaker;
pub use keys::KeySources;
pub(crate) use keys::unlock;
use known_tokens::KnownTokens;
pub(crate) use leftovers::remove_aside_of_before;
pub(crate) use live::LiveRun;
pub(crate) use openid::{Back, NotBack, Program, Sent};
pub(crate) use passwords::NotSignedIn;
pub(crate) use people::Asker;
pub(crate) use registries::address_of;
use remembered::Remembered;
pub(crate) use run_sources::FilesError;
pub(crate) use secrets::{Found, NotGiven, find as find_secret, named as named_secrets};
pub(crate) use starts::{Builds, StartError, Started, Tried, Tries as TryOutcome, Wanted};
pub(crate) use templates::FoundTemplate;
pub(crate) use tokens::Session;

use crate::archives::ARCHIVES_KEPT;
use crate::backoff::Backoff;
use crate::contents::Files;
use crate::logs::Logs;
use crate::ports::git::Repositories;
use crate::ports::{Clock, Clusters, Ports, RegistryProbe, SecretProviders};
use crate::scheduler::Scheduler;
use crate::seal::Seal;
use crate::store::{Store, StoreError};
use crate::tries::Tries;
use crate::tuning::CurrentTuning;

/// How many changes a slow follower may be behind before it has to look anew.
const CHANGES_KEPT: usize = 1024;

/// Of how many commits the times of all files are kept in memory: of those whose images are being built.
const FILE_TIMES_KEPT: usize = 4;

/// How long is waited before what could not be stored is stored: at first, and at the most.
const STORE_PAUSE: Duration = Duration::from_millis(100);
const LONGEST_STORE_PAUSE: Duration = Duration::from_secs(5);

/// A change that was stored: the event's id, and the run after it.
pub(crate) type StoredChange = (i64, RunSummary);

/// The runs whose needs are to be looked at, in the order in which they began.
pub(crate) type PreflightOrders = mpsc::UnboundedReceiver<Arc<LiveRun>>;

/// The engine.
#[derive(Debug)]
pub(crate) struct Engine {
    pub(crate) store: Store,
    pub(crate) clock: Clock,
    pub(crate) clusters: Arc<dyn Clusters>,
    repositories: Arc<dyn Repositories>,
    pub(crate) probe: Arc<dyn RegistryProbe>,
    /// Who is asked for secrets that are kept elsewhere.
    providers: SecretProviders,
    pub(crate) scheduler: Scheduler,
    pub(crate) seal: Seal,
    /// Where people and programs reach it; known once it listens.
    issuer: OnceLock<String>,
    pub(crate) tries: Tries,
    pub(crate) files: Files,
    pub(crate) logs: Logs,
    /// How long the log of a job may be, in bytes.
    log_limit: u64,
    tuning: CurrentTuning,
    pub(crate) archives: Recent<Bytes>,
    known_tokens: KnownTokens,
    passwords: passwords::Passwords,
    codes: openid::Codes,
    known_addresses: audit::KnownAddresses,
    /// Of the audit: how often whom was refused.
    refusals: Mutex<audit::Refusals>,
    known_registries: Remembered<Registries>,
    pub(crate) data: PathBuf,
    live: Mutex<BTreeMap<RunId, Arc<LiveRun>>>,
    /// Held while a project's copy of its repository is brought up to date: git does not wait for itself.
    fetching: Mutex<HashMap<i64, Arc<tokio::sync::Mutex<()>>>>,
    /// The same while the times of its files are found.
    finding_times: Mutex<HashMap<i64, Arc<tokio::sync::Mutex<()>>>>,
    /// When the files of commits were changed last, of those that were asked for lately.
    file_times: Recent<Arc<FileTimes>>,
    /// How often each project's copy was fetched since the server began.
    fetches: Mutex<HashMap<i64, u64>>,
    /// Whether commits are in branches and tags, of what was asked lately.
    in_ref: Recent<bool>,
    /// Held for writing while a run is stored and becomes live, so that nobody finds it in between and
    /// follows a copy of it that nothing ever happens to.
    admission: RwLock<()>,
    /// Held for reading by what removes the past, and for writing by what needs all of it to stay for a while.
    pub(crate) upkeep: Arc<RwLock<()>>,
    /// Held while what is for several projects is looked at and set: nobody sets what another has just made theirs.
    setting: tokio::sync::Mutex<()>,
    /// Held while projects are removed: one after the other, and each once.
    removing: tokio::sync::Mutex<()>,
    /// When this server began, and how often something was moved aside since: for names that no other server made.
    began: Time,
    moved_aside: AtomicU64,
    /// Told when there may be something to remove before it would be looked for.
    pub(crate) upkeep_wanted: Notify,
    /// Told when a run is over: its logs can be compressed.
    pub(crate) logs_wanted: Notify,
    preflights: mpsc::UnboundedSender<Arc<LiveRun>>,
    changes: broadcast::Sender<StoredChange>,
    /// Whether a run may be stored that is not live.
    may_have_strays: AtomicBool,
}

/// Why something did not happen to a run.
#[derive(Debug, thiserror::Error)]
pub(crate) enum EngineError {
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error(transparent)]
    Refused(#[from] Refused),
    #[error("the log cannot be written: {0}")]
    Log(#[from] std::io::Error),
    /// What was sent cannot be used.
    #[error("{0}")]
    Invalid(String),
    /// Whoever asked may not.
    #[error("{0}")]
    Forbidden(String),
    /// It cannot be, as things stand.
    #[error("{0}")]
    Conflict(String),
    /// The lease holds no more: the job has ended, or was given up.
    #[error("this job has ended, or was given up")]
    LeaseEnded,
    /// The machine has no random numbers, or the value is too long to seal.
    #[error(transparent)]
    Own(#[from] anyhow::Error),
    /// A fault of the server's own.
    #[error("the server broke while it did this")]
    Broke,
}

fn locked<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl EngineError {
    /// Whether the same may succeed a little later.
    pub(crate) fn is_transient(&self) -> bool {
        matches!(self, Self::Store(error) if error.is_transient())
    }
}

impl Engine {
    pub(crate) fn new(
        store: Store,
        ports: Ports,
        seal: Seal,
        data: PathBuf,
        log_limit: u64,
        tuning: CurrentTuning,
    ) -> (Arc<Self>, PreflightOrders) {
        let (preflights, orders) = mpsc::unbounded_channel();
        let engine = Self {
            store,
            clock: ports.clock.clone(),
            clusters: ports.clusters,
            repositories: ports.repositories,
            probe: ports.registries,
            providers: ports.providers,
            scheduler: Scheduler::start(),
            seal,
            issuer: OnceLock::new(),
            tries: Tries::new(data.join("tries")),
            files: Files::new(data.join("files")),
            logs: Logs::new(data.join("logs")),
            log_limit,
            tuning,
            archives: Recent::new(ARCHIVES_KEPT),
            known_tokens: KnownTokens::default(),
            passwords: passwords::Passwords::default(),
            codes: openid::Codes::default(),
            known_addresses: audit::KnownAddresses::default(),
            refusals: Mutex::default(),
            known_registries: Remembered::default(),
            data,
            live: Mutex::default(),
            fetching: Mutex::default(),
            finding_times: Mutex::default(),
            file_times: Recent::new(FILE_TIMES_KEPT),
            fetches: Mutex::default(),
            in_ref: Recent::new(trust::ANSWERS_KEPT),
            admission: RwLock::new(()),
            upkeep: Arc::new(RwLock::new(())),
            setting: tokio::sync::Mutex::default(),
            removing: tokio::sync::Mutex::default(),
            began: ports.clock.now(),
            moved_aside: AtomicU64::new(0),
            upkeep_wanted: Notify::new(),
            logs_wanted: Notify::new(),
            preflights,
            changes: broadcast::channel(CHANGES_KEPT).0,
            may_have_strays: AtomicBool::new(false),
        };
        (Arc::new(engine), orders)
    }

    /// People and programs reach it at this address.
    pub(crate) fn is_reached_at(&self, address: &str) {
        // Said once, by who listens.
        let _ = self.issuer.set(address.trim_end_matches('/').to_owned());
    }

    /// Who signs: the address that people and programs reach it at.
    pub(crate) fn issuer(&self) -> &str {
        self.issuer.get().map_or("", String::as_str)
    }

    /// A run that goes on.
    pub(crate) fn live(&self, run: &RunId) -> Option<Arc<LiveRun>> {
        locked(&self.live).get(run).cloned()
    }

    /// Every run that goes on.
    pub(crate) fn all_live(&self) -> Vec<Arc<LiveRun>> {
        locked(&self.live).values().cloned().collect()
    }

    /// Stores an event of a run, changes the run by it, tells who follows, and has the effects done.
    ///
    /// # Errors
    /// When the event cannot happen now, or cannot be stored; nothing has then changed.
    pub(crate) async fn record(self: &Arc<Self>, live: &Arc<LiveRun>, event: &Event) -> Result<(), EngineError> {
        self.decide(live, None, event.clone(), |_| Ok(())).await
    }

    /// The same, again and again while the records cannot be written: what waits for this event waits for them.
    pub(crate) async fn record_until_stored(
        self: &Arc<Self>,
        live: &Arc<LiveRun>,
        event: &Event,
    ) -> Result<(), EngineError> {
        let mut backoff = Backoff::new(STORE_PAUSE, LONGEST_STORE_PAUSE);
        loop {
            match self.record(live, event).await {
                Err(error) if error.is_transient() => {
                    warn!(run = %live.row.facts.id, %error, "what happened could not be stored yet");
                    backoff.wait().await;
                }
                other => return other,
            }
        }
    }

    /// Every change from now on.
    pub(crate) fn changes(&self) -> broadcast::Receiver<StoredChange> {
        self.changes.subscribe()
    }
}
