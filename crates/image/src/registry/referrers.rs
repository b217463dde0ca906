//! Documents that are attached to an image (OCI Distribution 1.1, "Listing Referrers").

use std::collections::{BTreeMap, HashSet};

use pondrix_core::image::{Digest, Reference, Repository};
use reqwest::header::{IF_MATCH, IF_NONE_MATCH};
use reqwest::{Method, StatusCode};
use serde_json::Value;

use super::client::CIRCLE;
use super::fetch::Listeners;
use super::{Registry, RegistryError};
use crate::Store;
use crate::hash::digest_of;
use crate::oci::{Descriptor, Index, Manifest, media};

/// The configuration of a document that is no image (OCI Image specification, "Guidance for an Empty
/// Descriptor").
const EMPTY: &[u8] = b"{}";

/// How often the list under a tag is written that others write at the same time.
const TRIES: usize = 8;
/// As many pages of a list are read, and documents of so many bytes.
const MOST_PAGES: usize = 100;
const LONGEST_ATTACHED: u64 = 256 << 20;

/// Something to attach.
#[derive(Clone, Debug)]
pub struct Attachment<'a> {
    /// What it is.
    pub kind: &'a str,
    /// Its bytes.
    pub bytes: &'a [u8],
    /// Notes.
    pub annotations: BTreeMap<String, String>,
}

/// The tag under which a registry that knows no referrers keeps them (OCI Distribution 1.1, "Referrers Tag
/// Schema").
fn tag_of(subject: &Digest) -> String {
    format!("sha256-{}", subject.hex())
}

impl Registry {
    /// Attaches a document to an image. Answers the digest of the manifest that holds it.
    ///
    /// # Errors
    /// When the registry is silent, or refuses.
    pub async fn attach(
        &self,
        repository: &Repository,
        subject: &Descriptor,
        attachment: &Attachment<'_>,
        store: &Store,
    ) -> Result<Digest, RegistryError> {
        let described = |kind: &str, bytes: &[u8]| Descriptor {
            media_type: kind.to_owned(),
            digest: digest_of(bytes),
            size: bytes.len() as u64,
            platform: None,
            annotations: BTreeMap::new(),
            artifact_type: None,
        };
        let manifest = Manifest {
            schema_version: 2,
            media_type: Some(media::MANIFEST.to_owned()),
            artifact_type: Some(attachment.kind.to_owned()),
            config: described(media::EMPTY, EMPTY),
            layers: vec![described(attachment.kind, attachment.bytes)],
            subject: Some(Descriptor { platform: None, annotations: BTreeMap::new(), ..subject.clone() }),
            annotations: attachment.annotations.clone(),
        };
        for bytes in [EMPTY, attachment.bytes] {
            let digest = store.add_blob(bytes)?;
            if !self.has_blob(repository, &digest).await? {
                self.send_blob(repository, &digest, bytes.len() as u64, None, store).await?;
            }
        }
        let bytes = serde_json::to_vec(&manifest).map_err(|error| self.nonsense("manifest", error.to_string()))?;
        let digest = digest_of(&bytes);
        let knows = self.put_manifest(repository, &digest.to_string(), media::MANIFEST, &bytes).await?;
        if !knows {
            let entry = Descriptor {
                artifact_type: Some(attachment.kind.to_owned()),
                annotations: attachment.annotations.clone(),
                ..described(media::MANIFEST, &bytes)
            };
            self.add_to_tag(repository, &subject.digest, entry).await?;
        }
        Ok(digest)
    }

    /// What is attached to an image.
    ///
    /// # Errors
    /// When the registry is silent, refuses, or answers nonsense.
    pub async fn referrers(&self, repository: &Repository, subject: &Digest) -> Result<Vec<Descriptor>, RegistryError> {
        let doing = format!("say what is attached to {}", subject.short());
        let (mut all, mut read) = (Vec::new(), HashSet::new());
        let mut next = Some(self.at(repository, &format!("referrers/{subject}")));
        while let Some(address) = next {
            let response = self.ask(Method::GET, repository, &address, media::INDEX, &doing).await?;
            if !read.insert(address) {
                return Err(self.nonsense("list of what is attached", CIRCLE));
            }
            if response.status() == StatusCode::NOT_FOUND {
                // It does not know the question; the tag may.
                return Ok(self.under_tag(repository, subject).await?.map_or(Vec::new(), |index| index.manifests));
            }
            let response = self.agreed(response, &doing).await?;
            next = self.next_page(&response);
            let index: Index = serde_json::from_slice(&self.body(response, &doing).await?)
                .map_err(|error| self.nonsense("list of what is attached", error.to_string()))?;
            all.extend(index.manifests);
            if read.len() == MOST_PAGES && next.is_some() {
                return Err(self.nonsense("list of what is attached", format!("more than {MOST_PAGES} pages")));
            }
        }
        Ok(all)
    }

    /// The bytes of a document that was attached, of this kind, if there is one.
    ///
    /// # Errors
    /// As [`Registry::referrers`].
    pub async fn attached(
        &self,
        image: &Reference,
        subject: &Digest,
        kind: &str,
        store: &Store,
    ) -> Result<Option<Vec<u8>>, RegistryError> {
        let repository = &image.repository;
        let all = self.referrers(repository, subject).await?;
        let Some(found) = all.iter().find(|entry| entry.artifact_type.as_deref() == Some(kind)) else {
            return Ok(None);
        };
        let Some(document) = self.document(repository, &found.digest.to_string()).await? else { return Ok(None) };
        let manifest: Manifest =
            serde_json::from_slice(&document.bytes).map_err(|error| self.nonsense("manifest", error.to_string()))?;
        let Some(part) = manifest.layers.first() else { return Ok(None) };
        if part.size > LONGEST_ATTACHED {
            let words = format!("{} MiB long, and at most {} are taken", part.size >> 20, LONGEST_ATTACHED >> 20);
            return Err(self.nonsense("attached document", words));
        }
        self.fetch_blob(repository, &part.digest, part.size, store, Listeners::NONE).await?;
        Ok(Some(store.read_blob(&part.digest)?))
    }

    async fn under_tag(&self, repository: &Repository, subject: &Digest) -> Result<Option<Index>, RegistryError> {
        let Some(document) = self.document(repository, &tag_of(subject)).await? else { return Ok(None) };
        serde_json::from_slice(&document.bytes).map(Some).map_err(|error| self.no_index(subject, &error))
    }

    fn no_index(&self, subject: &Digest, error: &dyn std::fmt::Display) -> RegistryError {
        let words = format!("{error}; nothing of it was replaced. Look what the tag {} names", tag_of(subject));
        self.nonsense("list of what is attached", words)
    }

    /// Adds to what others have put under the tag, whatever they say in it. Others may do the same at this moment: a
    /// registry that knows conditions replaces nothing that we have not seen; of another one is read what became of ours.
    async fn add_to_tag(
        &self,
        repository: &Repository,
        subject: &Digest,
        entry: Descriptor,
    ) -> Result<(), RegistryError> {
        let tag = tag_of(subject);
        let wanted = entry.digest.to_string();
        let entry = serde_json::to_value(entry).map_err(|error| self.no_index(subject, &error))?;
        for _ in 0..TRIES {
            let there = self.document(repository, &tag).await?;
            let (mut index, condition) = match &there {
                Some(document) => {
                    let index = serde_json::from_slice(&document.bytes);
                    let is_now = (IF_MATCH, format!("\"{}\"", document.digest));
                    (index.map_err(|error| self.no_index(subject, &error))?, is_now)
                }
                None => {
                    let empty = serde_json::to_value(Index::default());
                    (empty.map_err(|error| self.no_index(subject, &error))?, (IF_NONE_MATCH, "*".to_owned()))
                }
            };
            let Some(entries) = index.get_mut("manifests").and_then(Value::as_array_mut) else {
                return Err(self.no_index(subject, &"it has no list of manifests"));
            };
            // Either it was there, or it is what was put there last time round.
            if entries.iter().any(|there| there["digest"] == wanted) {
                return Ok(());
            }
            entries.push(entry.clone());
            let kind = index["mediaType"].as_str().unwrap_or(media::INDEX).to_owned();
            let bytes = serde_json::to_vec(&index).map_err(|error| self.no_index(subject, &error))?;
            self.put_manifest_if(repository, &tag, &kind, &bytes, Some(condition)).await?;
        }
        Err(self.nonsense("list of what is attached", format!("others changed it {TRIES} times meanwhile")))
    }
}
