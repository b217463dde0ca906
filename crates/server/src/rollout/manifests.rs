//! The manifests of a commit.

use globset::GlobBuilder;
use pondrix_core::image::{Digest, Repository, Tag};
use pondrix_core::rollout::put_image;
use pondrix_core::work::RunFacts;
use serde_json::{Value, json};

use crate::engine::Engine;
use crate::store::RunRow;

/// Kubernetes objects, in the order of their files' names and in the files' order.
#[derive(Clone, Debug)]
pub(super) struct Manifests(Vec<Value>);

impl Manifests {
    /// Objects that are known already.
    pub(super) const fn of(objects: Vec<Value>) -> Self {
        Self(objects)
    }

    /// Reads the objects of every file of the commit that fits one of the patterns.
    pub(super) async fn read(engine: &Engine, row: &RunRow, patterns: &[String]) -> Result<Self, String> {
        let names = engine.file_names(row).await?;
        let mut objects = Vec::new();
        for pattern in patterns {
            let glob = GlobBuilder::new(pattern).literal_separator(true).build();
            let glob = glob.map_err(|error| format!("`{pattern}` is not a pattern: {error}"))?.compile_matcher();
            let mut fitting: Vec<_> = names.iter().filter(|name| glob.is_match(name)).collect();
            fitting.sort();
            if fitting.is_empty() {
                return Err(format!("the commit has no file that fits `{pattern}`"));
            }
            for file in fitting {
                let text = engine.file(row, file).await?;
                objects.extend(parse(file, &text.unwrap_or_default())?);
            }
        }
        Ok(Self(objects))
    }

    /// See [`put_image`]; answers how many containers were changed.
    pub(super) fn put_image(&mut self, job: &str, repository: &Repository, digest: &Digest) -> usize {
        self.0.iter_mut().map(|object| put_image(object, job, repository, digest)).sum()
    }

    /// Notes on every object what it came from.
    pub(super) fn annotate(&mut self, facts: &RunFacts, tag: Option<&Tag>) {
        for object in &mut self.0 {
            let notes = [
                ("pondrix/run", Some(facts.id.to_string())),
                ("pondrix/commit", Some(facts.commit.clone())),
                ("pondrix/tag", tag.map(ToString::to_string)),
            ];
            for (key, value) in notes {
                if let Some(value) = value {
                    object["metadata"]["annotations"][key] = json!(value);
                }
            }
        }
    }

    pub(super) fn objects(&self) -> &[Value] {
        &self.0
    }

    pub(super) fn deployments(&self) -> impl Iterator<Item = &Value> {
        self.0.iter().filter(|object| object["kind"] == "Deployment")
    }
}

fn parse(file: &str, text: &str) -> Result<Vec<Value>, String> {
    let documents: Vec<Value> = serde_saphyr::from_multiple(text).map_err(|error| format!("{file}: {error}"))?;
    let objects: Vec<_> = documents.into_iter().filter(|document| !document.is_null()).collect();
    for object in &objects {
        for needed in ["/apiVersion", "/kind", "/metadata/name"] {
            if object.pointer(needed).and_then(Value::as_str).is_none() {
                return Err(format!("{file}: an object has no {}", needed[1..].replace('/', ".")));
            }
        }
    }
    Ok(objects)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_of_several_objects_is_read_in_its_order() {
        let text = "apiVersion: v1\nkind: Service\nmetadata: {name: a}\n---\napiVersion: apps/v1\nkind: Deployment\nmetadata: {name: b}\n";
        let kinds: Vec<_> = parse("f", text).unwrap().iter().map(|object| object["kind"].clone()).collect();
        assert_eq!(kinds, ["Service", "Deployment"]);
        assert_eq!(parse("f", "kind: X\n").unwrap_err(), "f: an object has no apiVersion");
        assert!(parse("f", "a: [").unwrap_err().starts_with("f: "));
    }
}
