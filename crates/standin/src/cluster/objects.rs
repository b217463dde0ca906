//! The cluster's objects, their versions, and the history that watches read.

use std::collections::{BTreeMap, HashMap, VecDeque};
use std::sync::{Mutex, MutexGuard, PoisonError};

use jiff::Timestamp;
use serde_json::{Value, json};
use tokio::sync::watch;

/// How many changes are kept for watches that begin in the past.
const HISTORY: usize = 4096;

/// Which object.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(super) struct Key {
    /// The kind's name in addresses, as `deployments`.
    pub(super) resource: String,
    /// The namespace; empty for what has none.
    pub(super) namespace: String,
    pub(super) name: String,
}

/// A change, as watches tell it.
#[derive(Clone, Debug)]
pub(super) struct Change {
    pub(super) version: u64,
    pub(super) kind: &'static str,
    pub(super) key: Key,
    pub(super) object: Value,
}

/// All objects.
#[derive(Debug)]
pub(super) struct Objects {
    inner: Mutex<Inner>,
    version: watch::Sender<u64>,
}

#[derive(Debug, Default)]
struct Inner {
    version: u64,
    objects: BTreeMap<Key, Value>,
    history: VecDeque<Change>,
    /// What each manager applied last, to know what it takes back.
    applied: HashMap<(Key, String), Value>,
}

impl Default for Objects {
    fn default() -> Self {
        Self { inner: Mutex::default(), version: watch::Sender::new(0) }
    }
}

impl Key {
    pub(super) fn new(resource: &str, namespace: &str, name: &str) -> Self {
        Self { resource: resource.to_owned(), namespace: namespace.to_owned(), name: name.to_owned() }
    }
}

/// The moment, as objects tell it.
pub(super) fn now() -> String {
    Timestamp::now().strftime("%Y-%m-%dT%H:%M:%SZ").to_string()
}

impl Objects {
    fn inner(&self) -> MutexGuard<'_, Inner> {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Tells when anything changed.
    pub(super) fn changes(&self) -> watch::Receiver<u64> {
        self.version.subscribe()
    }

    pub(super) fn version(&self) -> u64 {
        self.inner().version
    }

    pub(super) fn get(&self, key: &Key) -> Option<Value> {
        self.inner().objects.get(key).cloned()
    }

    /// The objects of a resource, in one namespace or, where it is empty, in all.
    pub(super) fn list(&self, resource: &str, namespace: &str) -> Vec<Value> {
        let inner = self.inner();
        let fits = |key: &Key| key.resource == resource && (namespace.is_empty() || key.namespace == namespace);
        inner.objects.iter().filter(|(key, _)| fits(key)).map(|(_, object)| object.clone()).collect()
    }

    /// Makes an object; nothing when there is one of this name.
    pub(super) fn create(&self, key: &Key, mut object: Value) -> Option<Value> {
        let mut inner = self.inner();
        if inner.objects.contains_key(key) {
            return None;
        }
        let number = inner.version + 1;
        let metadata = &mut object["metadata"];
        metadata["name"] = json!(key.name);
        if !key.namespace.is_empty() {
            metadata["namespace"] = json!(key.namespace);
        }
        metadata["uid"] = json!(format!("00000000-0000-4000-8000-{number:012}"));
        metadata["creationTimestamp"] = json!(now());
        metadata["generation"] = json!(1);
        Some(inner.put(&self.version, key, object, "ADDED"))
    }

    /// Changes an object; nothing when it is not there. A change that changes nothing is none.
    pub(super) fn update(&self, key: &Key, change: impl FnOnce(&mut Value)) -> Option<Value> {
        let mut inner = self.inner();
        let old = inner.objects.get(key)?.clone();
        let mut new = old.clone();
        change(&mut new);
        if new == old {
            return Some(old);
        }
        if new["spec"] != old["spec"] {
            let generation = old["metadata"]["generation"].as_u64().unwrap_or(1) + 1;
            new["metadata"]["generation"] = json!(generation);
        }
        Some(inner.put(&self.version, key, new, "MODIFIED"))
    }

    /// Removes an object.
    pub(super) fn remove(&self, key: &Key) -> Option<Value> {
        let mut inner = self.inner();
        let object = inner.objects.remove(key)?;
        inner.applied.retain(|(of, _), _| of != key);
        Some(inner.tell(&self.version, key, object, "DELETED"))
    }

    /// What a manager applied last, and what it applies now instead.
    pub(super) fn swap_applied(&self, key: &Key, manager: &str, applied: &Value) -> Option<Value> {
        self.inner().applied.insert((key.clone(), manager.to_owned()), applied.clone())
    }

    /// The changes after a version; nothing when that is too long ago.
    pub(super) fn changes_after(&self, version: u64) -> Option<Vec<Change>> {
        let inner = self.inner();
        let oldest = inner.history.front().map_or(inner.version + 1, |change| change.version);
        if version + 1 < oldest {
            return None;
        }
        Some(inner.history.iter().filter(|change| change.version > version).cloned().collect())
    }
}

impl Inner {
    fn put(&mut self, told: &watch::Sender<u64>, key: &Key, object: Value, kind: &'static str) -> Value {
        let object = self.tell(told, key, object, kind);
        self.objects.insert(key.clone(), object.clone());
        object
    }

    fn tell(&mut self, told: &watch::Sender<u64>, key: &Key, mut object: Value, kind: &'static str) -> Value {
        self.version += 1;
        object["metadata"]["resourceVersion"] = json!(self.version.to_string());
        let change = Change { version: self.version, kind, key: key.clone(), object: object.clone() };
        self.history.push_back(change);
        if self.history.len() > HISTORY {
            self.history.pop_front();
        }
        told.send_replace(self.version);
        object
    }
}
