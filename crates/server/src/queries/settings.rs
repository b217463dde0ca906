//! What people have set, and who they are.

use pondrix_api::{EnvironmentView, PoolView, SecretView, TokenView};
use pondrix_core::Time;

use super::Queries;
use crate::access;
use crate::store::{self, RegistryRow, Shown, StoreError};

impl Queries {
    /// Who shows a token that is good now.
    pub(crate) async fn shown(&self, token: &str, now: Time) -> Result<Option<Shown>, StoreError> {
        let hash = access::hash(token);
        self.records.read(move |c| store::token(c, &hash, now)).await
    }

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
