//! Pulling: manifest, configuration and layers into the store.

use std::io::{BufRead, Read};
use std::sync::{Mutex, PoisonError};

use bytes::{Buf, Bytes};
use futures_util::{StreamExt, TryStreamExt};
use pondrix_core::image::{Digest, Reference, Registries, Repository};
use pondrix_core::{ProjectName, Size};

use tokio::sync::mpsc::{self, Receiver, Sender};
use tokio::task::JoinHandle;

use super::fetch::Listeners;
use super::{Registry, RegistryError};
use crate::oci::{Config, Descriptor, Index, Manifest, Platform};
use crate::store::{io_error, layer_name};
use crate::{Image, Store};

/// How many layers are fetched at once.
const AT_ONCE: usize = 3;
/// How many pieces of a layer that comes may wait to be unpacked.
const AHEAD: usize = 64;
/// As many layers as an overlay takes (the names of all must fit into a page of its options).
const MOST_LAYERS: usize = 400;

/// Brings an image into the store, for the platform of this machine. What is there already is not
/// fetched again.
///
/// # Errors
/// When the registry is silent, refuses, or gives something else than it was asked for.
pub async fn pull(reference: &Reference, registries: &Registries, store: &Store) -> Result<Image, RegistryError> {
    pull_for(reference, &Platform::here(), registries, store).await
}

/// What is wanted of an image.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Wanted {
    /// That it is in the store.
    Image,
    /// Its files, too: each layer is unpacked while it comes. That it unpacks to what the image says proves it; the
    /// digest of its blob is looked at before that is given to anybody else.
    Files,
}

/// Brings an image for a platform into the store.
///
/// # Errors
/// As [`pull`].
pub async fn pull_for(
    reference: &Reference,
    platform: &Platform,
    registries: &Registries,
    store: &Store,
) -> Result<Image, RegistryError> {
    let pull = Pull { image: reference, platform, wanted: Wanted::Image, project: None };
    pull_and_tell(pull, registries, store, &|_| ()).await
}

/// What is to be brought into a store.
#[derive(Clone, Copy, Debug)]
pub struct Pull<'a> {
    /// The image.
    pub image: &'a Reference,
    /// The platform that it is for.
    pub platform: &'a Platform,
    /// What of it is wanted.
    pub wanted: Wanted,
    /// The project that it is for: what is in the store for another one it is given only where the registry would give it
    /// that. Nothing where nobody else uses the store.
    pub project: Option<&'a ProjectName>,
}

/// How far the fetching of an image is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Pulling {
    /// How many of its layers were not in the store.
    pub layers: usize,
    /// How many of these have come.
    pub layers_here: usize,
    /// How many bytes these have.
    pub bytes: u64,
    /// How many of them have come.
    pub bytes_here: u64,
}

/// As [`pull_for`], and tells how far it is: when it begins to fetch what is missing, as it comes, and when all of it
/// is there. Where nothing is missing, nothing is told.
///
/// # Errors
/// As [`pull`].
pub async fn pull_and_tell(
    Pull { image: reference, platform, wanted, project }: Pull<'_>,
    registries: &Registries,
    store: &Store,
    tell: &(dyn Fn(Pulling) + Sync),
) -> Result<Image, RegistryError> {
    let host = reference.repository.host();
    let there = reference.digest.as_ref().and_then(|digest| complete(store, digest));
    let there = there.filter(|image| image.parts().all(|part| store.may_have(project, &part)));
    // What a digest names cannot have changed: no need to ask, but for whether this job may see it. It may be here since
    // another one may.
    if let Some(image) = there {
        if registries.by_host.get(host).is_some_and(|access| access.is_private) {
            let registry = Registry::new(host, registries)?;
            if !registry.has_image(reference).await? {
                return Err(missing(&registry, reference));
            }
        }
        return Ok(image);
    }
    let registry = Registry::new(host, registries)?;
    let repository = &reference.repository;
    let mut document =
        registry.document(repository, &reference.version()).await?.ok_or_else(|| missing(&registry, reference))?;
    if let Ok(index) = serde_json::from_slice::<Index>(&document.bytes) {
        let digest = for_platform(&index, platform, reference)?;
        let version = digest.to_string();
        document = registry.document(repository, &version).await?.ok_or_else(|| missing(&registry, reference))?;
    }
    let manifest: Manifest =
        serde_json::from_slice(&document.bytes).map_err(|error| registry.nonsense("manifest", error.to_string()))?;
    if manifest.layers.len() > MOST_LAYERS {
        let words = format!("it has {} layers, more than the {MOST_LAYERS} that can be mounted", manifest.layers.len());
        return Err(registry.nonsense("image that can be run here", words));
    }
    there_is_room(&manifest, reference, store)?;
    let missing = || manifest.layers.iter().filter(|layer| !store.has_blob(&layer.digest));
    let state = Mutex::new(Pulling {
        layers: missing().count(),
        layers_here: 0,
        bytes: missing().map(|layer| layer.size).sum(),
        bytes_here: 0,
    });
    let advance = |layers: usize, bytes: u64| {
        let mut state = state.lock().unwrap_or_else(PoisonError::into_inner);
        state.layers_here += layers;
        state.bytes_here += bytes;
        if state.layers > 0 {
            tell(*state);
        }
    };
    advance(0, 0);
    let come = |bytes| advance(0, bytes);
    let config = &manifest.config;
    let was_given = registry.fetch_blob(repository, &config.digest, config.size, store, Listeners::NONE).await?;
    registry.make_sure(repository, (config, &config.digest), was_given, project, store).await?;
    let config: Config = store.document(&config.digest, "the image's configuration")?;
    let diff_ids = &config.rootfs.diff_ids;
    if manifest.layers.len() != diff_ids.len() {
        return Err(registry.nonsense("image", "its manifest and its configuration count different layers"));
    }
    let bring = async |(layer, diff_id): (&Descriptor, &Digest)| {
        if store.is_doubtful(&layer.digest, diff_id) {
            let (store, digest) = (store.clone(), layer.digest.clone());
            // One that is another is gone then, and fetched.
            drop(tokio::task::spawn_blocking(move || store.prove_blob(&digest)).await);
        }
        let is_new = !store.has_blob(&layer.digest);
        let count: &(dyn Fn(u64) + Sync) = if is_new { &come } else { &|_| () };
        let unpacking = (wanted == Wanted::Files && is_new).then(|| Unpacking::begin(store, diff_id));
        let was_given =
            registry.fetch_blob(repository, &layer.digest, layer.size, store, Listeners { count, unpacking }).await?;
        let content = layer_name(&layer.digest, diff_id);
        registry.make_sure(repository, (layer, &content), was_given, project, store).await?;
        if is_new {
            advance(1, 0);
        }
        // Also where nothing of it is unpacked now: what is known of its files is known by that digest.
        if wanted == Wanted::Files || store.has_layer(diff_id) || store.listing_path(diff_id).exists() {
            // What was in the store, or came through another's hands, and what went wrong a moment ago.
            let (store, layer, diff_id) = (store.clone(), layer.clone(), diff_id.clone());
            let unpacked = tokio::task::spawn_blocking(move || store.unpack_layer(&layer, &diff_id)).await;
            unpacked.map_err(|error| io_error("unpack a layer")(std::io::Error::other(error)))??;
        }
        Ok::<_, RegistryError>(())
    };
    let layers: Vec<_> = manifest.layers.iter().zip(diff_ids).map(bring).collect();
    futures_util::stream::iter(layers).buffer_unordered(AT_ONCE).try_collect::<()>().await?;
    store.add_blob(&document.bytes)?;
    store.let_have(project, &document.digest)?;
    Ok(store.image(&document.digest)?)
}

/// The unpacking of a layer while it comes.
pub(super) struct Unpacking {
    to: Option<Sender<Bytes>>,
    work: JoinHandle<bool>,
    diff_id: Digest,
}

impl Unpacking {
    /// Begins when the first bytes come.
    fn begin(store: &Store, diff_id: &Digest) -> Self {
        let (to, mut from) = mpsc::channel(AHEAD);
        let (store, wanted, diff_id) = (store.clone(), diff_id.clone(), diff_id.clone());
        let work = tokio::task::spawn_blocking(move || {
            let Some(chunk) = from.blocking_recv() else { return false };
            // Whatever goes wrong is met again, and told, by who unpacks what is in the store then.
            store.unpack_from(Arriving { from, chunk }, &wanted).unwrap_or(false)
        });
        Self { to: Some(to), work, diff_id }
    }

    /// Takes the next bytes.
    pub(super) async fn take(&mut self, chunk: Bytes) {
        // Who does not listen any more has had enough.
        if let Some(to) = &self.to
            && to.send(chunk).await.is_err()
        {
            self.to = None;
        }
    }

    /// The layer that what came unpacked to, where it is the one that it should be.
    pub(super) async fn end(self) -> Option<Digest> {
        drop(self.to);
        // A thread that broke has unpacked nothing.
        self.work.await.unwrap_or(false).then_some(self.diff_id)
    }
}

/// What comes, to read on another thread.
struct Arriving {
    from: Receiver<Bytes>,
    chunk: Bytes,
}

impl BufRead for Arriving {
    fn fill_buf(&mut self) -> std::io::Result<&[u8]> {
        while self.chunk.is_empty() {
            match self.from.blocking_recv() {
                Some(chunk) => self.chunk = chunk,
                None => break,
            }
        }
        Ok(&self.chunk)
    }

    fn consume(&mut self, count: usize) {
        self.chunk.advance(count);
    }
}

impl Read for Arriving {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        let count = self.fill_buf()?.read(buffer)?;
        self.consume(count);
        Ok(count)
    }
}

impl Registry {
    /// Makes sure that a project may have a part of an image which this registry did not give just now, as it is in the
    /// store for somebody else: a registry that an administrator added says so, and any other one, which may be anybody's,
    /// has to give it.
    async fn make_sure(
        &self,
        repository: &Repository,
        (part, content): (&Descriptor, &Digest),
        was_given: bool,
        project: Option<&ProjectName>,
        store: &Store,
    ) -> Result<(), RegistryError> {
        if !was_given {
            if store.may_have(project, content) {
                return Ok(());
            }
            let is_said = self.is_added() && self.has_blob(repository, &part.digest).await?;
            if !is_said {
                self.show_blob(repository, &part.digest, part.size, store).await?;
            }
        }
        Ok(store.let_have(project, content)?)
    }

    /// The digest that a name means on machines like this one; nothing when there is no such image.
    ///
    /// # Errors
    /// When the registry is silent, refuses, or has the image for other machines only.
    pub async fn digest_here(&self, reference: &Reference) -> Result<Option<Digest>, RegistryError> {
        let document = self.document(&reference.repository, &reference.version()).await?;
        let Some(document) = document else { return Ok(None) };
        match serde_json::from_slice::<Index>(&document.bytes) {
            Ok(index) => for_platform(&index, &Platform::here(), reference).map(Some),
            Err(_) => Ok(Some(document.digest)),
        }
    }
}

/// An image of the store, if all its parts are there.
fn complete(store: &Store, digest: &Digest) -> Option<Image> {
    let image = store.has_blob(digest).then(|| store.image(digest).ok())??;
    let (layers, diff_ids) = (&image.manifest.layers, &image.config.rootfs.diff_ids);
    let is_doubtful = layers.iter().zip(diff_ids).any(|(layer, diff_id)| store.is_doubtful(&layer.digest, diff_id));
    (!is_doubtful && layers.iter().all(|layer| store.has_blob(&layer.digest))).then_some(image)
}

/// Whether the disk can take what an image says it has, before any of it is fetched.
fn there_is_room(manifest: &Manifest, image: &Reference, store: &Store) -> Result<(), RegistryError> {
    let missing = manifest.layers.iter().filter(|layer| !store.has_blob(&layer.digest));
    let needed = missing.fold(0_u64, |sum, layer| sum.saturating_add(layer.size));
    let disk = rustix::fs::statvfs(store.folder()).map_err(|e| io_error("look at its disk")(e.into()))?;
    let free = disk.f_bavail.saturating_mul(disk.f_frsize);
    if needed > free {
        let [needed, free] = [needed, free].map(Size::from_bytes);
        return Err(RegistryError::NoRoom { image: image.to_string(), needed, free });
    }
    Ok(())
}

fn missing(registry: &Registry, reference: &Reference) -> RegistryError {
    RegistryError::Refused {
        host: registry.host().to_owned(),
        doing: format!("give {}", reference.repository.path()),
        status: 404,
        words: format!("there is no {}", reference.version()),
    }
}

/// The variant of a kind of processor that is meant where none is said.
fn usual_variant(architecture: &str) -> Option<&'static str> {
    match architecture {
        "arm64" => Some("v8"),
        "arm" => Some("v7"),
        "amd64" => Some("v1"),
        _ => None,
    }
}

fn for_platform(index: &Index, wanted: &Platform, reference: &Reference) -> Result<Digest, RegistryError> {
    let of_kind = |platform: &Platform| platform.architecture == wanted.architecture && platform.os == wanted.os;
    let find = |fits: &dyn Fn(&Platform) -> bool| {
        index.manifests.iter().find(|entry| entry.platform.as_ref().is_some_and(|one| of_kind(one) && fits(one)))
    };
    let same = find(&|platform| wanted.variant.is_none() || platform.variant == wanted.variant);
    // One that says no variant is for the usual one.
    let is_usual = wanted.variant.as_deref() == usual_variant(&wanted.architecture);
    let found = same.or_else(|| find(&|platform| is_usual && platform.variant.is_none()));
    found.map(|entry| entry.digest.clone()).ok_or_else(|| {
        let all = index.manifests.iter().filter_map(|entry| entry.platform.as_ref());
        let names: Vec<_> = all.map(Platform::to_string).collect();
        RegistryError::Platform { image: reference.to_string(), wanted: wanted.to_string(), found: names.join(", ") }
    })
}
