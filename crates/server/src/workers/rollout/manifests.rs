//! The manifests of a commit.

use pondrix_api::EnvironmentView;
use pondrix_core::access::RuleBroken;
use pondrix_core::image::{Digest, Repository, Tag};
use pondrix_core::matcher::{Matcher, MatcherError, Reading};
use pondrix_core::object_name::{ObjectName, ObjectNameError};
use pondrix_core::rollout::put_image;
use pondrix_core::work::RunFacts;
use serde_json::{Map, Value};

use crate::domain::{Engine, FilesError, NotAdmitted};
use crate::store::RunRow;

/// Kubernetes objects, in the order of their files' names and in the files' order.
#[derive(Clone, Debug)]
pub(super) struct Manifests(Vec<Value>);

/// Why a commit's manifests cannot be applied.
#[derive(Debug, thiserror::Error)]
pub(super) enum ManifestError {
    #[error(transparent)]
    Files(#[from] FilesError),
    #[error("`{pattern}` is not a pattern: {words}")]
    Pattern { pattern: String, words: String },
    #[error("the commit has no file that fits `{0}`")]
    NoFile(String),
    #[error("{file}: {words}")]
    NotYaml { file: String, words: String },
    #[error("{file}: {error}")]
    Name { file: String, error: ObjectNameError },
    #[error("{file}: {what} of {title} is {found}, and must be a mapping")]
    NotMapping { file: String, title: String, what: &'static str, found: &'static str },
}

impl Manifests {
    /// Objects that are known already.
    pub(super) const fn of(objects: Vec<Value>) -> Self {
        Self(objects)
    }

    /// Reads the objects of every file of the commit that fits one of the patterns.
    pub(super) async fn read(engine: &Engine, row: &RunRow, patterns: &[String]) -> Result<Self, ManifestError> {
        let names = engine.file_names(row).await?;
        let mut objects = Vec::new();
        for pattern in patterns {
            let unfit =
                |error: MatcherError| ManifestError::Pattern { pattern: pattern.clone(), words: error.to_string() };
            let matcher = Matcher::new(pattern, Reading::AsWritten).map_err(unfit)?;
            let mut fitting: Vec<_> = names.iter().filter(|name| matcher.is_match(name)).collect();
            fitting.sort();
            if fitting.is_empty() {
                return Err(ManifestError::NoFile(pattern.clone()));
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

    /// Refuses what is not of the environment: objects of a kind that it does not take, or of another namespace.
    pub(super) fn fit(&self, environment: &EnvironmentView) -> Result<(), NotAdmitted> {
        let text = |object: &Value, pointer: &str| object.pointer(pointer).and_then(Value::as_str).map(str::to_owned);
        for object in &self.0 {
            let (version, kind) = (text(object, "/apiVersion"), text(object, "/kind").unwrap_or_default());
            let (namespace, title) = (text(object, "/metadata/namespace"), crate::ports::title(object));
            let fits = environment.rules.admit_kind(version.as_deref().unwrap_or_default(), &kind);
            let fits = fits.and_then(|()| match namespace.filter(|namespace| *namespace != environment.namespace) {
                Some(other) => Err(RuleBroken {
                    rule: "namespace",
                    words: format!("it is the namespace {}, and {title} says {other}", environment.namespace),
                }),
                None => Ok(()),
            });
            fits.map_err(|broken| NotAdmitted::new(environment, broken))?;
        }
        Ok(())
    }

    /// Notes on every object what it came from.
    pub(super) fn annotate(&mut self, facts: &RunFacts, tag: Option<&Tag>) {
        let notes = [
            ("pondrix/run", Some(facts.id.to_string())),
            ("pondrix/commit", Some(facts.commit.clone())),
            ("pondrix/tag", tag.map(ToString::to_string)),
        ];
        for object in &mut self.0 {
            let metadata = object.get_mut("metadata").and_then(Value::as_object_mut);
            let Some(metadata) = metadata else { continue };
            let annotations = metadata.entry("annotations").or_insert(Value::Null);
            if annotations.is_null() {
                *annotations = Value::Object(Map::new());
            }
            let Some(annotations) = annotations.as_object_mut() else { continue };
            for (key, value) in &notes {
                if let Some(value) = value {
                    annotations.insert((*key).to_owned(), Value::String(value.clone()));
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

/// What a value is, in words.
const fn kind(value: &Value) -> &'static str {
    match value {
        Value::Null => "nothing",
        Value::Bool(_) => "true or false",
        Value::Number(_) => "a number",
        Value::String(_) => "a text",
        Value::Array(_) => "a list",
        Value::Object(_) => "a mapping",
    }
}

fn parse(file: &str, text: &str) -> Result<Vec<Value>, ManifestError> {
    let file = || file.to_owned();
    let unread = |error: serde_saphyr::Error| ManifestError::NotYaml { file: file(), words: error.to_string() };
    let documents: Vec<Value> = serde_saphyr::from_multiple(text).map_err(unread)?;
    let objects: Vec<_> = documents.into_iter().filter(|document| !document.is_null()).collect();
    for object in &objects {
        ObjectName::of(object).map_err(|error| ManifestError::Name { file: file(), error })?;
        for (pointer, what) in
            [("/metadata/annotations", "metadata.annotations"), ("/metadata/labels", "metadata.labels")]
        {
            let found = object.pointer(pointer).filter(|found| !found.is_object() && !found.is_null());
            if let Some(found) = found.map(kind) {
                return Err(ManifestError::NotMapping {
                    file: file(),
                    title: crate::ports::title(object),
                    what,
                    found,
                });
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
        assert_eq!(parse("f", "kind: X\n").unwrap_err().to_string(), "f: an object has no apiVersion");
        assert!(parse("f", "a: [").unwrap_err().to_string().starts_with("f: "));
    }

    #[test]
    fn annotations_that_are_no_mapping_are_a_fault_of_the_file() {
        let object = |annotations: &str| format!("apiVersion: v1\nkind: Service\nmetadata:\n  name: a\n{annotations}");
        let fault = parse("web.yaml", &object("  annotations: x\n")).unwrap_err().to_string();
        assert_eq!(fault, "web.yaml: metadata.annotations of service/a is a text, and must be a mapping");
        let fault = parse("web.yaml", &object("  labels: [a]\n")).unwrap_err().to_string();
        assert_eq!(fault, "web.yaml: metadata.labels of service/a is a list, and must be a mapping");
        for annotations in ["", "  annotations:\n", "  annotations: {}\n", "  annotations: {mine: kept}\n"] {
            let mut manifests = Manifests(parse("web.yaml", &object(annotations)).unwrap());
            let facts = crate::testing::facts("pond#7");
            manifests.annotate(&facts, None);
            let found = manifests.0[0].pointer("/metadata/annotations").unwrap();
            assert_eq!(found["pondrix/run"], "pond#7", "{annotations}");
            assert_eq!(found.get("mine").is_some(), annotations.contains("mine"));
        }
    }
}
