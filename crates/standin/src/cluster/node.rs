//! The machine that runs the pods.

use std::collections::{BTreeMap, HashMap};
use std::fs::File;
use std::path::PathBuf;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use anyhow::anyhow;
use pondrix_core::image::Reference;
use pondrix_core::image::Registries;
use pondrix_files::TemporaryFolder;
use pondrix_image::Store;
use pondrix_image::registry::pull;
use pondrix_sandbox::{Connector, Exit, Launcher, Rootfs, Running, Spec};
use serde_json::{Value, json};
use tokio::task::JoinSet;
use tokio_util::sync::CancellationToken;

use super::controller::{key_of, note, number, text};
use super::objects::{Key, Objects, now};
use super::probe::Probe;

/// How often a running pod is looked at.
const LOOK: Duration = Duration::from_millis(30);
/// How long before an ended container is started again; doubled each time.
const FIRST_PAUSE: Duration = Duration::from_secs(1);
const LONGEST_PAUSE: Duration = Duration::from_secs(60);
const SIGTERM: i32 = 15;
/// Where a shell looks for programs when the image does not say.
const PATH: &str = "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin";

/// Runs pods.
#[derive(Debug)]
pub(super) struct Node {
    objects: Arc<Objects>,
    store: Store,
    registries: Registries,
    launcher: Launcher,
    folder: PathBuf,
    pods: Mutex<HashMap<Key, Arc<Pod>>>,
}

/// A pod that the node has.
#[derive(Debug, Default)]
pub(super) struct Pod {
    connector: Mutex<Option<Connector>>,
    /// Connections that proxies hold open to it.
    pub(super) connections: AtomicUsize,
}

fn locked<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Pod {
    /// A connection to a port inside; the machine's own programs cannot reach it otherwise.
    pub(super) fn connect(&self, port: u16) -> std::io::Result<std::net::TcpStream> {
        let connector = locked(&self.connector).clone();
        connector.ok_or(std::io::ErrorKind::NotConnected)?.connect(port)
    }
}

impl Node {
    pub(super) fn new(
        objects: Arc<Objects>,
        store: Store,
        registries: Registries,
        launcher: Launcher,
        folder: PathBuf,
    ) -> Arc<Self> {
        Arc::new(Self { objects, store, registries, launcher, folder, pods: Mutex::default() })
    }

    pub(super) fn pod(&self, key: &Key) -> Option<Arc<Pod>> {
        locked(&self.pods).get(key).cloned()
    }

    /// Where a pod's output is collected.
    pub(super) fn log_path(&self, key: &Key) -> PathBuf {
        self.folder.join(format!("{}.{}.log", key.namespace, key.name))
    }

    /// Takes every new pod and runs it to its end, until `shutdown`; then ends all.
    pub(super) async fn run(self: Arc<Self>, shutdown: CancellationToken) {
        let mut changes = self.objects.changes();
        let mut tasks = JoinSet::new();
        loop {
            changes.borrow_and_update();
            for object in self.objects.list("pods", "") {
                let key = key_of("pods", &object);
                if locked(&self.pods).contains_key(&key) {
                    continue;
                }
                let pod = Arc::new(Pod::default());
                locked(&self.pods).insert(key.clone(), Arc::clone(&pod));
                let (node, shutdown) = (Arc::clone(&self), shutdown.clone());
                tasks.spawn(async move { node.keep(&key, &object, &pod, &shutdown).await });
            }
            while tasks.try_join_next().is_some() {}
            tokio::select! {
                _ = changes.changed() => {}
                () = shutdown.cancelled() => break,
            }
        }
        while tasks.join_next().await.is_some() {}
    }

    async fn keep(self: &Arc<Self>, key: &Key, object: &Value, pod: &Arc<Pod>, shutdown: &CancellationToken) {
        let mut pause = FIRST_PAUSE;
        let mut restarts = 0;
        while !self.is_leaving(key) && !shutdown.is_cancelled() {
            match self.prepare(key, object).await {
                Err(error) => {
                    let words = format!("{error:#}");
                    note(&self.objects, object, "Pod", "Failed", &words, true);
                    self.tell(
                        key,
                        object,
                        false,
                        restarts,
                        &json!({ "waiting": { "reason": "Failed", "message": words } }),
                    );
                }
                Ok((spec, _scratch)) => {
                    let node = Arc::clone(self);
                    let (own_key, own_object, own_pod, stop) =
                        (key.clone(), object.clone(), Arc::clone(pod), shutdown.clone());
                    let ran = tokio::task::spawn_blocking(move || {
                        node.run_container(&own_key, &own_object, &own_pod, &spec, restarts, &stop)
                    });
                    let end = ran.await.unwrap_or_else(|error| Exit::Failed(error.to_string()));
                    if self.is_leaving(key) || shutdown.is_cancelled() {
                        break;
                    }
                    let message = format!("the container ended: {end:?}");
                    note(&self.objects, object, "Pod", "BackOff", &message, true);
                    let waiting = json!({ "waiting": { "reason": "Restarting", "message": message } });
                    restarts += 1;
                    self.tell(key, object, false, restarts, &waiting);
                }
            }
            let until = Instant::now() + pause;
            while Instant::now() < until && !self.is_leaving(key) && !shutdown.is_cancelled() {
                tokio::time::sleep(LOOK).await;
            }
            pause = (pause * 2).min(LONGEST_PAUSE);
        }
        self.objects.remove(key);
        locked(&self.pods).remove(key);
    }

    fn is_leaving(&self, key: &Key) -> bool {
        self.objects.get(key).is_none_or(|pod| pod.pointer("/metadata/deletionTimestamp").is_some())
    }

    /// Pulls the image and says what to run.
    async fn prepare(&self, key: &Key, object: &Value) -> anyhow::Result<(Spec, TemporaryFolder)> {
        let containers = object.pointer("/spec/containers").and_then(Value::as_array).map_or(&[][..], Vec::as_slice);
        let [container] = containers else {
            return Err(anyhow!("this cluster runs pods of one container; {} has {}", key.name, containers.len()));
        };
        let image = text(container, "/image");
        self.tell(key, object, false, 0, &json!({ "waiting": { "reason": "ContainerCreating", "message": "" } }));
        let reference: Reference = image.parse()?;
        let pulled = pull(&reference, &self.registries, &self.store).await?;
        let layers = self.store.layers(&pulled)?;
        let scratch = TemporaryFolder::new_in(&self.folder)?;
        let run = &pulled.config.config;
        let list = |field: &str| -> Option<Vec<String>> {
            let values = container.get(field)?.as_array()?;
            Some(values.iter().filter_map(|value| value.as_str().map(str::to_owned)).collect())
        };
        let argv = match (list("command"), list("args")) {
            (Some(command), args) => [command, args.unwrap_or_default()].concat(),
            (None, Some(args)) => [run.entrypoint.clone().unwrap_or_default(), args].concat(),
            (None, None) => run.command(),
        };
        let mut env: BTreeMap<_, _> = [("PATH".to_owned(), PATH.to_owned())].into();
        env.extend(run.variables());
        for variable in container["env"].as_array().into_iter().flatten() {
            env.insert(text(variable, "/name").to_owned(), text(variable, "/value").to_owned());
        }
        let folder = if run.working_dir.is_empty() { "/" } else { &run.working_dir };
        let spec = Spec {
            argv,
            env,
            folder: container["workingDir"].as_str().unwrap_or(folder).to_owned(),
            user: run.user.clone(),
            hostname: key.name.clone(),
            ..Spec::new(Rootfs::new(layers, scratch.path().join("root")))
        };
        Ok((spec, scratch))
    }

    fn run_container(
        &self,
        key: &Key,
        object: &Value,
        pod: &Pod,
        spec: &Spec,
        restarts: u64,
        shutdown: &CancellationToken,
    ) -> Exit {
        let log = File::options().create(true).append(true).open(self.log_path(key));
        let started = log.map_err(anyhow::Error::from).and_then(|log| Ok(self.launcher.start(spec, log.into())?));
        let mut running = match started {
            Ok(running) => running,
            Err(error) => return Exit::Failed(format!("{error:#}")),
        };
        *locked(&pod.connector) = Some(running.connector());
        let since = now();
        let state = json!({ "running": { "startedAt": since } });
        let probe = Probe::of(&object["spec"]["containers"][0]);
        let mut ready = None;
        let mut next_probe = Instant::now() + probe.as_ref().map_or(Duration::ZERO, |probe| probe.delay);
        let end = loop {
            if let Some(exit) = running.wait_at_most(LOOK) {
                break exit;
            }
            if self.is_leaving(key) || shutdown.is_cancelled() {
                break self.end(key, object, pod, &mut running, shutdown);
            }
            if Instant::now() >= next_probe {
                let passes = probe.as_ref().is_none_or(|probe| probe.passes(|port| pod.connect(port)));
                next_probe = Instant::now() + probe.as_ref().map_or(Duration::from_secs(3600), |probe| probe.period);
                if ready != Some(passes) {
                    ready = Some(passes);
                    self.tell(key, object, passes, restarts, &state);
                }
            }
        };
        *locked(&pod.connector) = None;
        end
    }

    /// Ends a pod gently: no new connections come, those there are may end, then a signal, then force.
    fn end(&self, key: &Key, object: &Value, pod: &Pod, running: &mut Running, shutdown: &CancellationToken) -> Exit {
        note(&self.objects, object, "Pod", "Killing", &format!("Stopping {}", key.name), false);
        let grace = number(object, "/spec/terminationGracePeriodSeconds", 30);
        let until = Instant::now() + Duration::from_secs(grace);
        while pod.connections.load(Ordering::SeqCst) > 0 && Instant::now() < until && !shutdown.is_cancelled() {
            std::thread::sleep(LOOK);
        }
        running.signal(SIGTERM);
        while Instant::now() < until && !shutdown.is_cancelled() {
            if running.wait_at_most(LOOK).is_some() {
                break;
            }
        }
        running.kill()
    }

    fn tell(&self, key: &Key, object: &Value, ready: bool, restarts: u64, state: &Value) {
        let running = state.get("running").is_some();
        let container = &object["spec"]["containers"][0];
        let yes = |is: bool| if is { "True" } else { "False" };
        self.objects.update(key, |pod| {
            let since = pod.pointer("/status/startTime").cloned().unwrap_or_else(|| json!(now()));
            pod["spec"]["nodeName"] = json!("standin");
            pod["status"] = json!({
                "phase": if running { "Running" } else { "Pending" }, "podIP": "127.0.0.1", "hostIP": "127.0.0.1",
                "startTime": since,
                "conditions": [
                    { "type": "PodScheduled", "status": "True" },
                    { "type": "Initialized", "status": "True" },
                    { "type": "ContainersReady", "status": yes(ready) },
                    { "type": "Ready", "status": yes(ready) },
                ],
                "containerStatuses": [{ "name": container["name"], "image": container["image"], "imageID": container["image"],
                    "ready": ready, "started": running, "restartCount": restarts, "state": state, "lastState": {} }],
            });
        });
    }
}
