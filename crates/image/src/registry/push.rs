//! Pushing: layers first, then the manifest by digest, then a check, then the tags.

use futures_util::StreamExt;
use pondrix_core::image::{Digest, Registries, Repository, Tag};

use super::{Registry, RegistryError};
use crate::hash::digest_of;
use crate::oci::{Descriptor, Index, media};
use crate::{Image, Store};

/// How many layers are sent at once.
const AT_ONCE: usize = 3;

/// What to push where.
#[derive(Clone, Debug)]
pub struct PushRequest<'a> {
    /// The image, in the store.
    pub image: &'a Image,
    /// The repository.
    pub repository: &'a Repository,
    /// Tags that may be pushed once.
    pub tags: &'a [Tag],
    /// Tags that move.
    pub moving: &'a [Tag],
    /// A repository that has the lower layers, which the registry may share when it is its own.
    pub base: Option<&'a Repository>,
}

/// What a push did.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Pushed {
    /// How many layers' bytes were sent.
    pub sent: usize,
    /// How many of those bytes there were.
    pub bytes: u64,
    /// How many layers the registry had already.
    pub there: usize,
    /// The tags that were set.
    pub tags: Vec<Tag>,
}

/// Checks that a tag that may be pushed once names nothing else than this.
async fn tag_is_free(
    registry: &Registry,
    repository: &Repository,
    tag: &Tag,
    digest: &Digest,
) -> Result<(), RegistryError> {
    match registry.document(repository, tag.as_str()).await? {
        Some(document) if *digest != document.digest => Err(RegistryError::TagTaken {
            tag: tag.to_string(),
            repository: repository.to_string(),
            found: document.digest.short(),
        }),
        _ => Ok(()),
    }
}

/// Pushes an image and names it. No tag is set before everything it names is in the registry and has
/// been read back.
///
/// # Errors
/// When the registry is silent or refuses, says another digest than ours, or a tag is taken.
pub async fn push(request: &PushRequest<'_>, registries: &Registries, store: &Store) -> Result<Pushed, RegistryError> {
    push_and_ask(request, registries, store, async |_, _| Ok(true)).await
}

/// The same, and asks before each tag whether it may be set now: `may_set` is given the tag, and whether it is one
/// that moves. A tag that may not is left as it is.
///
/// # Errors
/// As [`push`], and what `may_set` says.
pub async fn push_and_ask(
    request: &PushRequest<'_>,
    registries: &Registries,
    store: &Store,
    may_set: impl AsyncFn(&Tag, bool) -> Result<bool, RegistryError>,
) -> Result<Pushed, RegistryError> {
    let PushRequest { image, repository, .. } = request;
    let registry = Registry::new(repository.host(), registries)?;
    let base = request.base.filter(|base| base.host() == repository.host() && *base != *repository);
    for tag in request.tags {
        tag_is_free(&registry, repository, tag, &image.digest).await?;
    }
    let mut pushed = Pushed::default();
    let send = async |part: &Descriptor| {
        let there = registry.has_blob(repository, &part.digest).await?;
        let sent = !there && registry.send_blob(repository, &part.digest, part.size, base, store).await?;
        Ok::<_, RegistryError>((sent, part.size))
    };
    let parts = image.manifest.layers.iter().chain([&image.manifest.config]).map(send);
    let parts: Vec<_> = parts.collect();
    let mut parts = futures_util::stream::iter(parts).buffer_unordered(AT_ONCE);
    while let Some(part) = parts.next().await {
        match part? {
            (true, size) => {
                pushed.sent += 1;
                pushed.bytes += size;
            }
            (false, _) => pushed.there += 1,
        }
    }
    let bytes = store.read_blob(&image.digest)?;
    let name = Named { registry: &registry, repository, kind: media::MANIFEST, bytes: &bytes };
    pushed.tags = name.put(&image.digest, request.tags, request.moving, may_set).await?;
    Ok(pushed)
}

/// Pushes an index over images that are in the repository already, and names it. Answers its digest, and the tags
/// that were set. `may_set` is that of [`push_and_ask`].
///
/// # Errors
/// As [`push_and_ask`].
pub async fn push_index(
    index: &Index,
    repository: &Repository,
    tags: &[Tag],
    moving: &[Tag],
    registries: &Registries,
    may_set: impl AsyncFn(&Tag, bool) -> Result<bool, RegistryError>,
) -> Result<(Digest, Vec<Tag>), RegistryError> {
    let registry = Registry::new(repository.host(), registries)?;
    let bytes = serde_json::to_vec(index).map_err(|error| registry.nonsense("index", error.to_string()))?;
    let digest = digest_of(&bytes);
    for tag in tags {
        tag_is_free(&registry, repository, tag, &digest).await?;
    }
    let name = Named { registry: &registry, repository, kind: media::INDEX, bytes: &bytes };
    let set = name.put(&digest, tags, moving, may_set).await?;
    Ok((digest, set))
}

/// A document that is to have names.
struct Named<'a> {
    registry: &'a Registry,
    repository: &'a Repository,
    kind: &'a str,
    bytes: &'a [u8],
}

impl Named<'_> {
    /// Sets it under its digest, reads it back, and then sets its tags. Answers those that were set.
    async fn put(
        &self,
        digest: &Digest,
        tags: &[Tag],
        moving: &[Tag],
        may_set: impl AsyncFn(&Tag, bool) -> Result<bool, RegistryError>,
    ) -> Result<Vec<Tag>, RegistryError> {
        let Self { registry, repository, kind, bytes } = self;
        let version = digest.to_string();
        registry.put_manifest(repository, &version, kind, bytes).await?;
        let back = registry.document(repository, &version).await?;
        let found = back.map_or_else(|| "nothing".to_owned(), |document| digest_of(&document.bytes).to_string());
        if found != version {
            return Err(registry.wrong(digest.clone(), found));
        }
        let mut set = Vec::new();
        let all = tags.iter().map(|tag| (tag, false)).chain(moving.iter().map(|tag| (tag, true)));
        for (tag, moves) in all {
            if !moves {
                tag_is_free(registry, repository, tag, digest).await?;
            }
            if may_set(tag, moves).await? {
                registry.put_manifest(repository, tag.as_str(), kind, bytes).await?;
                set.push(tag.clone());
            }
        }
        Ok(set)
    }
}
