//! How much projects may have.

use super::{Client, ClientError};
use crate::{QuotaChange, QuotaList};

impl Client {
    /// How much projects may have, and have.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn quotas(&self) -> Result<QuotaList, ClientError> {
        self.get("/api/v1/quotas").await
    }

    /// Sets how much one may have.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn set_quota(&self, change: &QuotaChange) -> Result<(), ClientError> {
        self.wire.send(self.wire.http.put(self.wire.url("/api/v1/quotas")).json(change)).await.map(drop)
    }
}
