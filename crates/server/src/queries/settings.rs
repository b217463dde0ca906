//! What people have set, and who they are.

use pondrix_api::{EnvironmentView, PoolView, SecretView, TokenView};

use super::Queries;
use crate::store::{self, RegistryRow, StoreError};

impl Queries {
    /// The people who have a token, by name.
    pub(crate) async fn people(&self) -> Result<Vec<TokenView>, StoreError> {
        self.records.read(store::people).await
    }

    /// A project's secrets, without their values, by name.
    pub(crate) async fn secrets(&self, project: i64) -> Result<Vec<SecretView>, StoreError> {
        self.records.read(move |c| store::secrets(c, project)).await
    }

    /// All environments, by name.
    pub(crate) async fn environments(&self) -> Result<Vec<EnvironmentView>, StoreError> {
        self.records.read(store::environments).await
    }

    /// All registries that are reached in a way of their own, by host.
    pub(crate) async fn registries(&self) -> Result<Vec<RegistryRow>, StoreError> {
        self.records.read(store::registries).await
    }

    /// The pools that have a limit, by name.
    pub(crate) async fn pools(&self) -> Result<Vec<PoolView>, StoreError> {
        let pools = self.records.read(store::pools).await?;
        Ok(pools.into_iter().map(|(name, limit)| PoolView { name, limit: Some(limit) }).collect())
    }
}
