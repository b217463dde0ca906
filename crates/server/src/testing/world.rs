//! One server after the other on the same records, with everything around it.

use std::collections::{BTreeSet, VecDeque};
use std::path::Path;
use std::sync::atomic::{AtomicBool, AtomicI64, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use pondrix_core::{RunId, State, Time};
use tokio::time::Instant;
use tokio_util::sync::CancellationToken;

use super::network::Network;
use super::ports::ScriptedRegistry;
use super::{Random, ScriptedCluster, ScriptedRepository};
use crate::domain::{Engine, LiveRun};
use crate::ports::{Clock, Ports, SecretProviders};
use crate::seal::{KeyOwner, MasterKey, Seal};
use crate::store::scripted::Fate;
use crate::store::{self, EnvironmentRow, Store};
use crate::tuning::Tuning;
use crate::workers::{self, watcher::Watcher};

/// How long a slow disk takes for a write at the most.
const SLOWEST_WRITE: Duration = Duration::from_secs(6);
/// What people's clocks show when a test begins.
const BEGIN: i64 = 1_800_000_000_000;

/// A server that runs.
#[derive(Clone, Debug)]
pub(crate) struct Running {
    pub(crate) engine: Arc<Engine>,
    pub(crate) watcher: Arc<Watcher>,
    shutdown: CancellationToken,
}

impl Running {
    /// Returns when it was killed.
    pub(crate) async fn ended(&self) {
        self.shutdown.cancelled().await;
    }
}

/// Everything.
#[derive(Clone, Debug)]
pub(crate) struct World {
    pub(crate) random: Random,
    pub(crate) repository: ScriptedRepository,
    pub(crate) cluster: ScriptedCluster,
    pub(crate) registry: ScriptedRegistry,
    pub(crate) network: Network,
    store: Store,
    seal: Seal,
    folder: Arc<tempfile::TempDir>,
    clock: Clock,
    /// How far people's clocks have jumped, in milliseconds.
    jump: Arc<AtomicI64>,
    /// How often in a hundred times a write fails, and how often it is stored and not heard of.
    trouble: Arc<Mutex<(u64, u64)>>,
    /// By what a write is slow now and then, where the disk is.
    slow_disk: Arc<Mutex<Option<Random>>>,
    /// How many writes were slow.
    pub(crate) slowed: Arc<AtomicI64>,
    /// What happens to the next writes, whatever the chances.
    scripted: Arc<Mutex<VecDeque<Fate>>>,
    running: Arc<Mutex<Option<Running>>>,
    is_over: Arc<AtomicBool>,
}

impl World {
    /// A world with one project, `pond`, and one environment, `staging`, whose server does not run yet.
    pub(crate) async fn new(seed: u64) -> Self {
        let random = Random::new(seed);
        let trouble: Arc<Mutex<(u64, u64)>> = Arc::default();
        let (chances, chance) = (Arc::clone(&trouble), random.clone());
        let scripted: Arc<Mutex<VecDeque<Fate>>> = Arc::default();
        let next = Arc::clone(&scripted);
        let (slow_disk, slowed): (Arc<Mutex<Option<Random>>>, Arc<AtomicI64>) = Default::default();
        let (slowly, slow) = (Arc::clone(&slow_disk), Arc::clone(&slowed));
        let stored = move || match &*slowly.lock().unwrap() {
            Some(random) if random.percent(20) => {
                slow.fetch_add(1, Ordering::Relaxed);
                Fate::Slow(random.up_to(SLOWEST_WRITE))
            }
            _ => Fate::Stored,
        };
        let store = Store::scripted(move || {
            if let Some(fate) = next.lock().unwrap().pop_front() {
                return fate;
            }
            let (fails, unheard) = *chances.lock().unwrap();
            if fails + unheard == 0 {
                return stored();
            }
            match chance.below(100) {
                drawn if drawn < fails => Fate::Fails,
                drawn if drawn < fails + unheard => Fate::StoredUnheard,
                _ => stored(),
            }
        });
        let begin = Instant::now();
        let jump = Arc::new(AtomicI64::new(0));
        let jumped = Arc::clone(&jump);
        let clock = Clock::scripted(move || {
            let passed = i64::try_from(begin.elapsed().as_millis()).unwrap();
            Time::from_millis(BEGIN + passed + jumped.load(Ordering::Relaxed))
        });
        let now = clock.now();
        // In memory, where the machine has such a place.
        let memory = Path::new("/dev/shm");
        let folder = if memory.is_dir() { tempfile::tempdir_in(memory) } else { tempfile::tempdir() };
        let folder = folder.unwrap();
        let seal = Seal::open(MasterKey::random().unwrap(), &[]).unwrap();
        for (id, owner) in [(1, KeyOwner::Server), (2, KeyOwner::Project(1))] {
            seal.learn(id, seal.new_key(owner).unwrap().0);
        }
        let kubeconfig = seal.seal(KeyOwner::Server, "environment/staging", b"{}").unwrap();
        let made = store.write(move |c| {
            store::add_project(c, &"pond".parse().unwrap(), "somewhere", true, now)?;
            let view = serde_json::from_value(serde_json::json!({
                "name": "staging", "cluster": "https://one.test", "namespace": "default", "rules": { "refs": "any" },
            }));
            store::put_environment(
                c,
                &EnvironmentRow { view: view.unwrap(), kubeconfig: Some(kubeconfig), is_own: false },
            )
        });
        made.await.unwrap();
        Self {
            network: Network::new(&random),
            random,
            repository: ScriptedRepository::default(),
            cluster: ScriptedCluster::default(),
            registry: ScriptedRegistry::default(),
            store,
            seal,
            folder: Arc::new(folder),
            clock,
            jump,
            trouble,
            slow_disk,
            slowed,
            scripted,
            running: Arc::default(),
            is_over: Arc::default(),
        }
    }

    /// Starts a server on the records as they are. Whatever an earlier one still does comes to nothing.
    pub(crate) async fn start(&self) -> Running {
        let store = self.store.reopened();
        let ports = Ports {
            clock: self.clock.clone(),
            clusters: Arc::new(self.cluster.clone()),
            repositories: Arc::new(self.repository.clone()),
            registries: Arc::new(self.registry.clone()),
            providers: SecretProviders::default(),
        };
        let (engine, preflights) =
            Engine::new(store, ports, self.seal.clone(), self.folder.path().to_owned(), 64 << 20, Tuning::for_tests());
        let shutdown = CancellationToken::new();
        let watcher = Watcher::new(Arc::clone(&engine), Tuning::for_tests(), shutdown.clone());
        engine.resume().await.unwrap();
        workers::start(&engine, &watcher, preflights, &shutdown);
        for row in self.store.read(store::projects).await.unwrap() {
            watcher.watch(row.project);
        }
        let running = Running { engine, watcher, shutdown };
        *self.running.lock().unwrap() = Some(running.clone());
        running
    }

    /// Ends the server in the middle of whatever it does.
    pub(crate) fn kill(&self) {
        if let Some(running) = self.running.lock().unwrap().take() {
            running.shutdown.cancel();
            self.store.cut_off();
        }
    }

    /// The server that runs now.
    pub(crate) fn server(&self) -> Option<Running> {
        self.running.lock().unwrap().clone()
    }

    pub(crate) fn engine(&self) -> Arc<Engine> {
        self.server().expect("the server runs").engine
    }

    /// How often in a hundred times a write fails, and how often it is stored and not heard of.
    pub(crate) fn trouble_of_records(&self, fails: u64, unheard: u64) {
        *self.trouble.lock().unwrap() = (fails, unheard);
    }

    /// The disk takes seconds for some writes, or is as it should be.
    pub(crate) fn slow_disk(&self, random: Option<Random>) {
        *self.slow_disk.lock().unwrap() = random;
    }

    /// What happens to the writes that come next.
    pub(crate) fn next_writes(&self, fates: impl IntoIterator<Item = Fate>) {
        self.scripted.lock().unwrap().extend(fates);
    }

    /// People's clocks are set to another time.
    pub(crate) fn jump(&self, millis: i64) {
        self.jump.fetch_add(millis, Ordering::Relaxed);
    }

    /// Tells runners to end.
    pub(crate) fn end(&self) {
        self.is_over.store(true, Ordering::Relaxed);
    }

    pub(crate) fn is_over(&self) -> bool {
        self.is_over.load(Ordering::Relaxed)
    }

    /// The records, whoever has them open.
    pub(crate) fn records(&self) -> Store {
        self.store.clone()
    }

    /// All runs, the oldest first.
    pub(crate) async fn runs(&self) -> Vec<(RunId, State)> {
        let page = self.store.read(|c| store::page(c, &store::RunFilter::default(), None, 10_000)).await.unwrap();
        page.into_iter().rev().map(|(_, run)| (run.run.parse().unwrap(), run.state)).collect()
    }

    /// Waits until a run is as it is asked for.
    pub(crate) async fn until(&self, run: &str, is_so: impl Fn(&LiveRun, &pondrix_core::run::Run) -> bool) {
        let id: RunId = run.parse().unwrap();
        for _ in 0..10_000 {
            if let Ok(Some(live)) = self.engine().find(&id).await {
                let state = live.state.lock().await;
                if is_so(&live, &state.run) {
                    return;
                }
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
        let found = self.engine().find(&id).await.unwrap();
        panic!("{run} never came to it: {:?}", found.map(|live| format!("{:?}", live.state.try_lock().unwrap().run)));
    }

    /// The log of a job, as the server has it.
    pub(crate) fn log(&self, run: &RunId, job: &pondrix_core::JobKey) -> String {
        let log = crate::logs::Logs::new(self.folder.path().join("logs")).log(run, job);
        String::from_utf8(log.read(0, usize::MAX).unwrap()).unwrap()
    }

    /// The names of locks that more than one run, stage or job holds.
    pub(crate) async fn doubly_held(&self) -> Vec<String> {
        let Some(running) = self.server() else { return Vec::new() };
        let held = running.engine.scheduler.holders().await;
        let mut seen = BTreeSet::new();
        let all = held.iter().map(|(run, hold)| (run.project.to_string(), hold.lock.clone()));
        // Twice in one stage of one run is once: the stage holds it for its jobs.
        let mut of_others: BTreeSet<(String, String, String)> = BTreeSet::new();
        for ((run, hold), name) in held.iter().zip(all) {
            let holder =
                hold.job.as_ref().map_or_else(|| format!("{run} {}", hold.stage), |job| format!("{run} {job}"));
            of_others.insert((name.0, name.1, holder));
        }
        of_others
            .into_iter()
            .filter(|(project, lock, _)| !seen.insert((project.clone(), lock.clone())))
            .map(|(_, lock, _)| lock)
            .collect()
    }
}
