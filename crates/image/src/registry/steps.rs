//! What instructions made, kept in a registry for other machines: a manifest under a tag, with the layers and a
//! list of keys.

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
    /// Reads the list under a tag; an empty one where there is none.
    ///
    /// # Errors
    /// When the registry is silent, refuses, or has something else there.
    pub async fn read(
        repository: &Repository,
        tag: &Tag,
        registries: &Registries,
        store: &Store,
    ) -> Result<Self, RegistryError> {
        let registry = Registry::new(repository.host(), registries)?;
        let mut this = Self { registry, repository: repository.clone(), known: BTreeMap::new() };
        let Some(document) = this.registry.document(repository, tag.as_str()).await? else { return Ok(this) };
        let nonsense = |error: serde_json::Error| this.registry.nonsense("list of steps", error.to_string());
        let manifest: Manifest = serde_json::from_slice(&document.bytes).map_err(nonsense)?;
        if manifest.artifact_type.as_deref() != Some(KIND) {
            return Err(this.registry.nonsense("list of steps", format!("{repository}:{tag} is something else")));
        }
        this.registry
            .fetch_blob(repository, &manifest.config.digest, manifest.config.size, store, Listeners::NONE)
            .await?;
        let list: Vec<StepRecord> =
            serde_json::from_slice(&store.read_blob(&manifest.config.digest)?).map_err(nonsense)?;
        this.known = list.into_iter().take(MOST).map(|record| (record.key, record.made)).collect();
        Ok(this)
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
        self.registry.fetch_blob(&self.repository, &layer.digest, layer.size, store, Listeners::NONE).await
    }

    /// Keeps these there, in place of what was.
    ///
    /// # Errors
    /// When the registry is silent, or refuses.
    pub async fn write(&self, tag: &Tag, made: &[StepRecord], store: &Store) -> Result<(), RegistryError> {
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
        let there = registry.document(repository, tag.as_str()).await?;
        if there.is_none_or(|there| there.digest != digest_of(&bytes)) {
            registry.put_manifest(repository, tag.as_str(), media::MANIFEST, &bytes).await?;
        }
        Ok(())
    }
}
