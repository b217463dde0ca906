//! What instructions made, kept in a registry for other machines: a manifest with the layers and a list of keys. It has a
//! tag, so that the registry keeps it; it is read by its digest, which whoever builds knows of somebody they believe: a
//! list says what an image becomes, and others may push to the repository too.

use std::collections::BTreeMap;

use pondrix_core::image::{Digest, Registries, Repository, Tag};

use super::fetch::Listeners;
use super::{Registry, RegistryError};
use crate::Store;
use crate::build::{Step, StepRecord};
use crate::hash::digest_of;
use crate::oci::{Descriptor, Manifest, media};

/// What the manifest is, and its list.
const KIND: &str = "application/vnd.pondrix.steps.v1+json";
/// The most keys that are taken from one list.
const MOST: usize = 10_000;

/// What instructions made elsewhere, in a repository.
#[derive(Debug)]
pub struct Elsewhere {
    registry: Registry,
    repository: Repository,
    known: BTreeMap<Digest, Step>,
}

impl Elsewhere {
    /// Reads these lists. What an earlier one says counts; one that is gone says nothing.
    ///
    /// # Errors
    /// When the registry is silent, refuses, or has something else there.
    pub async fn read(
        repository: &Repository,
        lists: &[Digest],
        registries: &Registries,
        store: &Store,
    ) -> Result<Self, RegistryError> {
        let registry = Registry::new(repository.host(), registries)?;
        let mut this = Self { registry, repository: repository.clone(), known: BTreeMap::new() };
        for digest in lists {
            for StepRecord { key, made } in this.list(digest, store).await? {
                this.known.entry(key).or_insert(made);
            }
        }
        Ok(this)
    }

    async fn list(&self, digest: &Digest, store: &Store) -> Result<Vec<StepRecord>, RegistryError> {
        let (registry, repository) = (&self.registry, &self.repository);
        let Some(document) = registry.document(repository, &digest.to_string()).await? else { return Ok(Vec::new()) };
        let nonsense = |error: serde_json::Error| registry.nonsense("list of steps", error.to_string());
        let Manifest { config, .. } = serde_json::from_slice(&document.bytes).map_err(nonsense)?;
        registry.fetch_blob(repository, &config.digest, config.size, store, Listeners::NONE).await?;
        let mut list: Vec<StepRecord> = serde_json::from_slice(&store.read_blob(&config.digest)?).map_err(nonsense)?;
        list.truncate(MOST);
        Ok(list)
    }

    /// Where that is.
    #[must_use]
    pub const fn repository(&self) -> &Repository {
        &self.repository
    }

    /// How many keys are known.
    #[must_use]
    pub fn count(&self) -> usize {
        self.known.len()
    }

    /// What the instruction with this key made, if its layer is there still, or in the store.
    ///
    /// # Errors
    /// When the registry is silent, or refuses.
    pub async fn step(&self, key: &Digest, store: &Store) -> Result<Option<Step>, RegistryError> {
        let Some(step) = self.known.get(key) else { return Ok(None) };
        if let Some((layer, _)) = &step.layer
            && !store.has_blob(&layer.digest)
            && !self.registry.has_blob(&self.repository, &layer.digest).await?
        {
            return Ok(None);
        }
        Ok(Some(step.clone()))
    }

    /// Brings a layer into the store.
    ///
    /// # Errors
    /// When the registry is silent, refuses, or gives other bytes.
    pub async fn bring(&self, layer: &Descriptor, store: &Store) -> Result<(), RegistryError> {
        self.registry.fetch_blob(&self.repository, &layer.digest, layer.size, store, Listeners::NONE).await.map(drop)
    }

    /// Keeps these there, in place of what was. Answers the digest of their list.
    ///
    /// # Errors
    /// When the registry is silent, or refuses.
    pub async fn write(&self, tag: &Tag, made: &[StepRecord], store: &Store) -> Result<Digest, RegistryError> {
        let (registry, repository) = (&self.registry, &self.repository);
        let nonsense = |error: serde_json::Error| registry.nonsense("list of steps", error.to_string());
        let list = serde_json::to_vec(made).map_err(nonsense)?;
        let config = Descriptor {
            media_type: KIND.to_owned(),
            digest: store.add_blob(&list)?,
            size: list.len() as u64,
            platform: None,
            annotations: BTreeMap::new(),
            artifact_type: None,
        };
        let mut layers: Vec<Descriptor> = Vec::new();
        for (layer, _) in made.iter().filter_map(|record| record.made.layer.as_ref()) {
            if !layers.iter().any(|known| known.digest == layer.digest) {
                layers.push(layer.clone());
            }
        }
        for part in layers.iter().chain([&config]) {
            if !registry.has_blob(repository, &part.digest).await? {
                registry.send_blob(repository, &part.digest, part.size, None, store).await?;
            }
        }
        let manifest = Manifest {
            schema_version: 2,
            media_type: Some(media::MANIFEST.to_owned()),
            artifact_type: Some(KIND.to_owned()),
            config,
            layers,
            subject: None,
            annotations: BTreeMap::new(),
        };
        let bytes = serde_json::to_vec(&manifest).map_err(nonsense)?;
        let digest = digest_of(&bytes);
        let there = registry.document(repository, tag.as_str()).await?;
        if there.is_none_or(|there| there.digest != digest) {
            registry.put_manifest(repository, tag.as_str(), media::MANIFEST, &bytes).await?;
        }
        Ok(digest)
    }
}
