//! What registries are asked before anything is built on them or pushed to them.

use std::fmt;

use futures_util::FutureExt;
use futures_util::future::BoxFuture;
use pondrix_core::access::Reach;
use pondrix_core::image::{Digest, Reference, Registries, Repository};
use pondrix_image::registry::{Registry, RegistryError};

/// Asks registries, as they are reached.
pub(crate) trait RegistryProbe: fmt::Debug + Send + Sync {
    /// Whether a registry has an image.
    fn has_image<'a>(
        &'a self,
        image: &'a Reference,
        registries: &'a Registries,
    ) -> BoxFuture<'a, Result<bool, RegistryError>>;
    /// Proves that a registry takes images of this repository.
    fn may_push<'a>(
        &'a self,
        repository: &'a Repository,
        registries: &'a Registries,
    ) -> BoxFuture<'a, Result<(), RegistryError>>;
    /// The digest that a name means on machines like this one; nothing when there is no such image.
    fn digest_here<'a>(
        &'a self,
        image: &'a Reference,
        registries: &'a Registries,
    ) -> BoxFuture<'a, Result<Option<Digest>, RegistryError>>;
}

/// Asks the registries themselves. Those that the server does not know, which a pipeline may name, only where they are
/// within this reach.
#[derive(Clone, Debug)]
pub(crate) struct DistributionProbe {
    pub(crate) reach: Reach,
}

impl DistributionProbe {
    fn registry(&self, host: &str, registries: &Registries) -> Result<Registry, RegistryError> {
        Registry::new(host, &Registries { others: Some(self.reach.clone()), ..registries.clone() })
    }
}

impl RegistryProbe for DistributionProbe {
    fn has_image<'a>(
        &'a self,
        image: &'a Reference,
        registries: &'a Registries,
    ) -> BoxFuture<'a, Result<bool, RegistryError>> {
        async move { self.registry(image.repository.host(), registries)?.has_image(image).await }.boxed()
    }

    fn may_push<'a>(
        &'a self,
        repository: &'a Repository,
        registries: &'a Registries,
    ) -> BoxFuture<'a, Result<(), RegistryError>> {
        async move { self.registry(repository.host(), registries)?.may_push(repository).await }.boxed()
    }

    fn digest_here<'a>(
        &'a self,
        image: &'a Reference,
        registries: &'a Registries,
    ) -> BoxFuture<'a, Result<Option<Digest>, RegistryError>> {
        async move { self.registry(image.repository.host(), registries)?.digest_here(image).await }.boxed()
    }
}
