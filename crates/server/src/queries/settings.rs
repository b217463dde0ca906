//! What people have set, and who they are.

use pondrix_api::{PoolView, RoleView, UserView};

use super::Queries;
use crate::store::{self, RegistryRow, StoreError};

impl Queries {
    /// All people, by name.
    pub(crate) async fn users(&self) -> Result<Vec<UserView>, StoreError> {
        self.records.read(store::users).await
    }

    /// All roles that were given.
    pub(crate) async fn roles(&self) -> Result<Vec<RoleView>, StoreError> {
        self.records.read(store::roles).await
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
