//! Repositories, clusters and registries that a test scripts.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::{Arc, Mutex};
use std::time::Duration;

use futures_util::FutureExt;
use futures_util::future::BoxFuture;
use pondrix_core::Time;
use pondrix_core::file_times::FileTimes;
use pondrix_core::image::{Digest, Reference, Registries, Repository as ImageRepository, Tag};
use pondrix_image::registry::RegistryError;
use serde_json::{Value, json};

use super::Random;
use crate::ports::git::{
    Archive, AttributeFiles, CommitFacts, Difference, GitError, Refs, Repositories, Repository, Signing,
};
use crate::ports::{Cluster, ClusterError, Clusters, Reached, RegistryProbe, title};

/// One repository, whatever its address.
#[derive(Clone, Debug, Default)]
pub(crate) struct ScriptedRepository(Arc<Mutex<Commits>>);

#[derive(Debug, Default)]
struct Commits {
    refs: Refs,
    /// The commits of each branch, the oldest first.
    history: BTreeMap<String, Vec<String>>,
    /// The files of each commit.
    files: BTreeMap<String, BTreeMap<String, String>>,
    count: u64,
    /// How often in a hundred times a question fails.
    trouble: Option<(Random, u64)>,
}

impl ScriptedRepository {
    /// A new commit of a branch, with these files. Answers its id.
    pub(crate) fn commit(&self, branch: &str, files: &[(&str, &str)]) -> String {
        let mut commits = self.0.lock().unwrap();
        commits.count += 1;
        let id = format!("{:040x}", commits.count);
        commits.refs.branches.insert(branch.to_owned(), id.clone());
        commits.history.entry(branch.to_owned()).or_default().push(id.clone());
        let files = files.iter().map(|(path, text)| ((*path).to_owned(), (*text).to_owned())).collect();
        commits.files.insert(id.clone(), files);
        id
    }

    /// A tag on anything.
    pub(crate) fn tag(&self, tag: &str, on: &str) {
        self.0.lock().unwrap().refs.tags.insert(tag.to_owned(), on.to_owned());
    }

    /// From now on, questions fail so often in a hundred times.
    pub(crate) fn trouble(&self, random: &Random, percent: u64) {
        self.0.lock().unwrap().trouble = Some((random.clone(), percent));
    }

    /// The newest commit of a branch.
    pub(crate) fn newest(&self, branch: &str) -> Option<String> {
        self.0.lock().unwrap().refs.branches.get(branch).cloned()
    }

    fn ask<T>(&self, answer: impl FnOnce(&Commits) -> T) -> Result<T, GitError> {
        let commits = self.0.lock().unwrap();
        match &commits.trouble {
            Some((random, percent)) if random.percent(*percent) => Err(GitError::Stalled(120)),
            _ => Ok(answer(&commits)),
        }
    }
}

impl Repositories for ScriptedRepository {
    fn open(&self, _: &str, _: Signing, _: PathBuf) -> Arc<dyn Repository> {
        Arc::new(self.clone())
    }
}

impl Repository for ScriptedRepository {
    fn refs(&self) -> BoxFuture<'_, Result<Refs, GitError>> {
        async { self.ask(|commits| commits.refs.clone()) }.boxed()
    }

    fn default_branch(&self) -> BoxFuture<'_, Result<Option<String>, GitError>> {
        async { Ok(Some("main".to_owned())) }.boxed()
    }

    fn fetch(&self) -> BoxFuture<'_, Result<Refs, GitError>> {
        async { self.ask(|commits| commits.refs.clone()) }.boxed()
    }

    fn tidy(&self) -> BoxFuture<'_, Result<(), GitError>> {
        async { Ok(()) }.boxed()
    }

    fn changed<'a>(&'a self, _: &'a str, _: &'a str) -> BoxFuture<'a, Option<Vec<String>>> {
        async { None }.boxed()
    }

    fn difference<'a>(&'a self, _: &'a str, _: &'a str) -> BoxFuture<'a, Option<Difference>> {
        async { None }.boxed()
    }

    fn commit<'a>(&'a self, start: &'a str) -> BoxFuture<'a, Option<String>> {
        async move { self.0.lock().unwrap().files.contains_key(start).then(|| start.to_owned()) }.boxed()
    }

    fn contains<'a>(&'a self, reference: &'a str, commit: &'a str) -> BoxFuture<'a, Result<bool, GitError>> {
        let commits = self.0.lock().unwrap();
        let of_tag = reference.strip_prefix("refs/tags/").and_then(|tag| commits.refs.tags.get(tag));
        let branch = reference.strip_prefix("refs/heads/").unwrap_or_default();
        let in_branch = commits.history.get(branch).is_some_and(|history| history.iter().any(|one| one == commit));
        let is_in = in_branch || of_tag.is_some_and(|tagged| tagged == commit);
        async move { Ok(is_in) }.boxed()
    }

    fn file<'a>(&'a self, commit: &'a str, path: &'a str) -> BoxFuture<'a, Result<Option<String>, GitError>> {
        async move { self.ask(|commits| commits.files.get(commit).and_then(|files| files.get(path).cloned())) }.boxed()
    }

    fn file_names<'a>(&'a self, commit: &'a str) -> BoxFuture<'a, Result<Vec<String>, GitError>> {
        let names = |commits: &Commits| {
            commits.files.get(commit).map_or_else(Vec::new, |files| files.keys().cloned().collect())
        };
        let names = self.ask(names);
        async move { names }.boxed()
    }

    fn facts<'a>(&'a self, commit: &'a str) -> BoxFuture<'a, Result<CommitFacts, GitError>> {
        let facts = self.ask(|commits| {
            commits.files.get(commit).map(|_| CommitFacts {
                time: Time::from_millis(0),
                author: "Wren".to_owned(),
                title: format!("Commit {}", commit.trim_start_matches('0')),
            })
        });
        async move { facts.and_then(|found| found.ok_or_else(|| GitError::Failed(format!("{commit} is no commit")))) }
            .boxed()
    }

    fn file_times<'a>(&'a self, _: &'a str) -> BoxFuture<'a, Result<FileTimes, GitError>> {
        async { Ok(FileTimes::default()) }.boxed()
    }

    fn archive(&self, _: &str, _: &[String], _: AttributeFiles) -> Result<Archive, GitError> {
        Ok(Archive { bytes: Box::new(tokio::io::empty()), ended: async { true }.boxed() })
    }
}

/// One cluster, for every environment.
#[derive(Clone, Debug, Default)]
pub(crate) struct ScriptedCluster(Arc<Mutex<Objects>>);

#[derive(Debug, Default)]
struct Objects {
    now: BTreeMap<String, Value>,
    /// What was applied or put back, in order: the object's title, and the run that it was noted to come from.
    applied: Vec<(String, String)>,
    trouble: Option<(Random, u64)>,
    /// Errors that come first, one for each question.
    errors: Vec<ClusterError>,
    panics: bool,
}

impl ScriptedCluster {
    /// From now on, questions fail so often in a hundred times.
    pub(crate) fn trouble(&self, random: &Random, percent: u64) {
        self.0.lock().unwrap().trouble = Some((random.clone(), percent));
    }

    /// The next questions are answered so.
    pub(crate) fn fail_with(&self, errors: impl IntoIterator<Item = ClusterError>) {
        self.0.lock().unwrap().errors.extend(errors);
    }

    /// Whoever asks breaks.
    pub(crate) fn break_who_asks(&self) {
        self.0.lock().unwrap().panics = true;
    }

    /// What was applied, in order: the object's title, and the run that it was noted to come from.
    pub(crate) fn applied(&self) -> Vec<(String, String)> {
        self.0.lock().unwrap().applied.clone()
    }

    fn ask<T>(&self, answer: impl FnOnce(&mut Objects) -> T) -> Result<T, ClusterError> {
        let mut objects = self.0.lock().unwrap();
        if objects.panics {
            drop(objects);
            panic!("on purpose");
        }
        if !objects.errors.is_empty() {
            return Err(objects.errors.remove(0));
        }
        match &objects.trouble {
            Some((random, percent)) if random.percent(*percent) => {
                Err(ClusterError::Unanswered { doing: "x".into(), words: "connection reset".into(), is_certain: false })
            }
            _ => Ok(answer(&mut objects)),
        }
    }

    fn put(&self, object: &Value) -> Result<(), ClusterError> {
        self.ask(|objects| {
            let run = object.pointer("/metadata/annotations/pondrix~1run").and_then(Value::as_str).unwrap_or("?");
            objects.applied.push((title(object), run.to_owned()));
            objects.now.insert(title(object), object.clone());
        })
    }
}

impl Clusters for ScriptedCluster {
    fn connect<'a>(&'a self, _: &'a Reached) -> BoxFuture<'a, Result<Arc<dyn Cluster>, ClusterError>> {
        async move {
            let cluster: Arc<dyn Cluster> = Arc::new(self.clone());
            Ok(cluster)
        }
        .boxed()
    }
}

impl Cluster for ScriptedCluster {
    fn answers(&self) -> BoxFuture<'_, Result<(), ClusterError>> {
        async { Ok(()) }.boxed()
    }

    fn now<'a>(&'a self, object: &'a Value) -> BoxFuture<'a, Result<Option<Value>, ClusterError>> {
        async move {
            let found = self.ask(|objects| objects.now.get(&title(object)).cloned())?;
            Ok(found.map(|mut found| {
                // Whatever was applied is ready at once.
                found["metadata"]["generation"] = json!(1);
                found["status"] = json!({
                    "observedGeneration": 1, "replicas": 1, "updatedReplicas": 1, "availableReplicas": 1,
                });
                found
            }))
        }
        .boxed()
    }

    fn apply<'a>(&'a self, object: &'a Value) -> BoxFuture<'a, Result<(), ClusterError>> {
        async move {
            tokio::time::sleep(Duration::from_secs(1)).await;
            self.put(object)
        }
        .boxed()
    }

    fn put_back<'a>(&'a self, before: &'a Value) -> BoxFuture<'a, Result<(), ClusterError>> {
        async move { self.put(before) }.boxed()
    }

    fn changed<'a>(&'a self, _: &'a Value, patience: Duration) -> BoxFuture<'a, Result<(), ClusterError>> {
        async move {
            tokio::time::sleep(patience).await;
            Ok(())
        }
        .boxed()
    }
}

/// One registry, whatever its name: which run's image each tag names.
#[derive(Clone, Debug, Default)]
pub(crate) struct ScriptedRegistry(Arc<Mutex<BTreeMap<String, Vec<String>>>>);

impl ScriptedRegistry {
    /// A tag names an image of this commit from now on.
    pub(crate) fn set(&self, repository: &ImageRepository, tag: &Tag, commit: &str) {
        self.0.lock().unwrap().entry(format!("{repository}:{tag}")).or_default().push(commit.to_owned());
    }

    /// The commits whose images each tag has named, in order.
    pub(crate) fn history(&self) -> BTreeMap<String, Vec<String>> {
        self.0.lock().unwrap().clone()
    }
}

impl RegistryProbe for ScriptedRegistry {
    fn has_image<'a>(&'a self, _: &'a Reference, _: &'a Registries) -> BoxFuture<'a, Result<bool, RegistryError>> {
        async { Ok(true) }.boxed()
    }

    fn may_push<'a>(&'a self, _: &'a ImageRepository, _: &'a Registries) -> BoxFuture<'a, Result<(), RegistryError>> {
        async { Ok(()) }.boxed()
    }

    fn digest_here<'a>(
        &'a self,
        _: &'a Reference,
        _: &'a Registries,
    ) -> BoxFuture<'a, Result<Option<Digest>, RegistryError>> {
        async { Ok(None) }.boxed()
    }
}
