//! Watches: a line of JSON for every change.

use std::collections::{HashMap, VecDeque};
use std::sync::Arc;
use std::time::Duration;

use axum::body::Body;
use axum::http::StatusCode;
use axum::http::header::CONTENT_TYPE;
use axum::response::IntoResponse;
use futures_util::stream;
use serde_json::{Value, json};

use super::{Answer, Cluster, Target, fits, status, table};
use crate::cluster::objects::Change;

/// How long a watch lasts when the client does not say.
const USUAL_SECONDS: u64 = 300;

struct Watcher {
    cluster: Arc<Cluster>,
    target: Target,
    query: HashMap<String, String>,
    as_table: bool,
    after: u64,
    queue: VecDeque<Change>,
    until: tokio::time::Instant,
}

impl Watcher {
    fn takes(&self, change: &Change) -> bool {
        change.key.resource == self.target.resource.plural
            && (self.target.namespace.is_empty() || change.key.namespace == self.target.namespace)
            && fits(&change.object, &self.query)
    }

    fn line(&self, change: Change) -> String {
        let object = if self.as_table {
            table::table(self.target.resource, &[change.object], &change.version.to_string(), true)
        } else {
            change.object
        };
        format!("{}\n", json!({ "type": change.kind, "object": object }))
    }

    async fn next(&mut self) -> Option<String> {
        let mut changes = self.cluster.objects.changes();
        loop {
            if let Some(change) = self.queue.pop_front() {
                return Some(self.line(change));
            }
            changes.borrow_and_update();
            let new = self.cluster.objects.changes_after(self.after)?;
            self.after = new.last().map_or(self.after, |change| change.version);
            let fitting: Vec<_> = new.into_iter().filter(|change| self.takes(change)).collect();
            self.queue.extend(fitting);
            if self.queue.is_empty() {
                tokio::select! {
                    changed = changes.changed() => changed.ok()?,
                    () = tokio::time::sleep_until(self.until) => return None,
                    () = self.cluster.shutdown.cancelled() => return None,
                }
            }
        }
    }
}

pub(super) fn watch(cluster: &Arc<Cluster>, target: &Target, query: &HashMap<String, String>, accept: &str) -> Answer {
    let now = cluster.objects.version();
    let told = query.get("resourceVersion").map(String::as_str).unwrap_or_default();
    let after = told.parse().ok().filter(|after| *after > 0);
    if after.is_some_and(|after| cluster.objects.changes_after(after).is_none()) {
        return Err(status(StatusCode::GONE, "Expired", format!("version {told} is too long ago")));
    }
    let seconds = query.get("timeoutSeconds").and_then(|seconds| seconds.parse().ok()).unwrap_or(USUAL_SECONDS);
    let target = Target { namespace: target.namespace.clone(), name: None, part: None, resource: target.resource };
    let mut watcher = Watcher {
        cluster: Arc::clone(cluster),
        query: query.clone(),
        as_table: table::wanted(accept),
        after: after.unwrap_or(now),
        queue: VecDeque::new(),
        until: tokio::time::Instant::now() + Duration::from_secs(seconds),
        target,
    };
    if after.is_none() {
        // Nothing was read before: what is there comes first.
        let there: Vec<Value> = cluster.objects.list(watcher.target.resource.plural, &watcher.target.namespace);
        for object in there.into_iter().filter(|object| fits(object, query)) {
            let key = super::key_of(watcher.target.resource.plural, &object);
            watcher.queue.push_back(Change { version: now, kind: "ADDED", key, object });
        }
    }
    let lines = stream::unfold(watcher, |mut watcher| async move {
        watcher.next().await.map(|line| (Ok::<_, std::io::Error>(line), watcher))
    });
    Ok(([(CONTENT_TYPE, "application/json")], Body::from_stream(lines)).into_response())
}
