//! Registries as jobs and the server itself reach them.

use std::sync::Arc;

use pondrix_core::image::{Access, Registries, SignIn};
use pondrix_core::work::Work;
use rusqlite::Connection;
use tracing::error;

use super::Engine;
use crate::audit::Change;
use crate::store::{self, RegistryRow, StoreError};

impl Engine {
    /// All registries, with what signs in at them. It stays in the server, and with the runner for as long as a
    /// job of its needs it.
    pub(crate) async fn registries(&self) -> Result<Arc<Registries>, StoreError> {
        match self.known_registries.get() {
            Ok(known) => Ok(known),
            Err(before) => {
                let rows = self.store.read(store::registries).await?;
                let by_host = rows.into_iter().map(|row| (row.host.clone(), self.access(row))).collect();
                Ok(self.known_registries.keep(Registries { by_host, others: None }, before))
            }
        }
    }

    /// Changes what the records say of registries; what was known of them is known no more, also where nobody knows
    /// whether it was stored.
    pub(super) async fn change_registries<T: Change + Send + 'static>(
        &self,
        change: impl FnOnce(&Connection) -> Result<T, StoreError> + Send + 'static,
    ) -> Result<T, StoreError> {
        let known = self.known_registries.clone();
        let changed = self.store.write_noted_and(self.clock.now(), change, move |_| known.forget()).await;
        if changed.is_err() {
            self.known_registries.forget();
        }
        changed
    }

    /// How a registry is reached that is kept so.
    pub(crate) fn access(&self, row: RegistryRow) -> Access {
        let sign_in = row.user.zip(row.password).and_then(|(user, sealed)| {
            let opened = self.seal.unseal(&place(&row.host), &sealed);
            // Without it the registry refuses, and says so.
            let opened = opened.inspect_err(|error| error!(host = row.host, %error, "a registry's password is lost"));
            opened.ok().map(|password| SignIn { user, password })
        });
        let layers = row.layers.and_then(|word| serde_json::from_value(serde_json::Value::String(word)).ok());
        Access { address: row.address, sign_in, certificates: row.certificates, layers, bare_names: row.bare_names }
    }

    /// The registries that a job needs: those of its images. What a recipe is built on only the recipe says.
    pub(super) fn registries_for(all: &Registries, work: &Work) -> Registries {
        match work {
            Work::Steps(work) => {
                let images = work.image.iter().chain(work.services.iter().map(|service| &service.image));
                all.only(images.map(|image| &image.repository))
            }
            Work::Image(_) => all.clone(),
        }
    }
}

/// The place that a registry's password is sealed for. No project's secret has a place like it.
pub(super) fn place(host: &str) -> String {
    format!("registry {host}")
}
