//! Registries, as whoever administers the server sets them.

use super::segment::segment;
use super::{Client, ClientError};
use crate::{RegistryChange, RegistryList, RegistryProof, RegistryQuestion, RegistryView};

impl Client {
    /// All registries that are reached in a way of their own.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn registries(&self) -> Result<RegistryList, ClientError> {
        self.get("/api/v1/registries").await
    }

    /// Says how a registry is reached, and who signs in.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn set_registry(&self, change: &RegistryChange) -> Result<RegistryView, ClientError> {
        self.wire.json(self.wire.http.put(self.wire.url("/api/v1/registries")).json(change)).await
    }

    /// Forgets how a registry is reached; of a user that is named, only that they sign in.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn remove_registry(&self, host: &str, user: Option<&str>) -> Result<(), ClientError> {
        let url = self.wire.url(&format!("/api/v1/registries/{host}", host = segment(host)));
        let request = self.wire.http.delete(url).query(&user.map(|user| ("user", user)).as_slice());
        self.wire.send(request).await.map(|_| ())
    }

    /// Proves what a repository allows.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn test_registry(&self, question: &RegistryQuestion) -> Result<RegistryProof, ClientError> {
        self.wire.json(self.wire.http.post(self.wire.url("/api/v1/registries/test")).json(question)).await
    }
}
