//! The keys that secrets are sealed with.

use super::{Client, ClientError};
use crate::KeysView;

impl Client {
    /// The keys, without themselves.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn keys(&self) -> Result<KeysView, ClientError> {
        self.get("/api/v1/keys").await
    }

    /// Makes another master key.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn rotate_master_key(&self) -> Result<KeysView, ClientError> {
        self.wire.json(self.wire.http.post(self.wire.url("/api/v1/keys/rotate"))).await
    }

    /// Makes another key that signs identities.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn rotate_identity_key(&self) -> Result<KeysView, ClientError> {
        self.wire.json(self.wire.http.post(self.wire.url("/api/v1/keys/identity/rotate"))).await
    }
}
