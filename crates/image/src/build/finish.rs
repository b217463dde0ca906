//! The documents of a built image.

use std::collections::BTreeMap;

use super::stage::time;
use super::state::State;
use super::{BuildError, BuildInput, Built};
use crate::oci::{Descriptor, Manifest, Platform, media};
use crate::{Image, Store, StoreError};

/// The keys for what an image is built on (OCI Image specification, "Pre-Defined Annotation Keys").
const BASE_NAME: &str = "org.opencontainers.image.base.name";
const BASE_DIGEST: &str = "org.opencontainers.image.base.digest";

/// A layer of a base, as a manifest of the specification names it.
fn of_this_manifest(layer: Descriptor) -> Descriptor {
    Descriptor { media_type: media::of_layer(&layer.media_type).to_owned(), ..layer }
}

/// Writes configuration and manifest.
pub(super) fn finish(input: &BuildInput, store: &Store, state: State) -> Result<Built, BuildError> {
    let mut annotations = input.annotations.clone();
    if let Some((name, digest, _)) = &state.base {
        annotations.insert(BASE_NAME.to_owned(), name.to_string());
        annotations.insert(BASE_DIGEST.to_owned(), digest.to_string());
    }
    let mut config = state.config;
    config.created = Some(time(input.moment));
    let labels = config.config.labels.get_or_insert_default();
    for (key, value) in &annotations {
        // The base's own labels of these keys tell of the base.
        let is_of_recipe = input.recipe.stages.iter().flat_map(|stage| &stage.instructions).any(|instruction| {
            matches!(&instruction.action, crate::recipe::Action::Label(pairs) if pairs.iter().any(|(name, _)| name == key))
        });
        if !is_of_recipe || !labels.contains_key(key) {
            labels.insert(key.clone(), value.clone());
        }
    }
    let document = |what: &str, value: serde_json::Result<Vec<u8>>| {
        value.map_err(|source| StoreError::Document { what: what.to_owned(), source })
    };
    let bytes = document("the configuration", serde_json::to_vec(&config))?;
    let manifest = Manifest {
        schema_version: 2,
        media_type: Some(media::MANIFEST.to_owned()),
        config: Descriptor {
            media_type: media::CONFIG.to_owned(),
            digest: store.add_blob(&bytes)?,
            size: bytes.len() as u64,
            platform: None,
            annotations: BTreeMap::new(),
            artifact_type: None,
        },
        artifact_type: None,
        subject: None,
        layers: state.layers.into_iter().map(of_this_manifest).collect(),
        annotations,
    };
    let digest = store.add_blob(&document("the manifest", serde_json::to_vec(&manifest))?)?;
    let base_layers = state.base.as_ref().map_or(0, |(_, _, layers)| *layers);
    let platform =
        Platform { architecture: config.architecture.clone(), os: config.os.clone(), variant: config.variant.clone() };
    let base = state.base.map(|(name, digest, _)| (name, digest));
    Ok(Built {
        image: Image { digest, manifest, config },
        platform,
        base,
        base_layers,
        steps: 0,
        known: 0,
        made: Vec::new(),
    })
}
