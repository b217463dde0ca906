//! The audit, as people ask for it.

use futures_util::{Stream, TryStreamExt};

use super::{Client, ClientError};
use crate::{AuditKeep, AuditPage, AuditProof, AuditWanted};

impl Client {
    /// Entries that are wanted, the newest first, below `before`.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn audit(
        &self,
        wanted: &AuditWanted,
        before: Option<u64>,
        limit: usize,
    ) -> Result<AuditPage, ClientError> {
        let edge = before.map(|before| ("before", before));
        let asked = self.wire.http.get(self.wire.url("/api/v1/audit")).query(wanted).query(&[("limit", limit)]);
        self.wire.json(asked.query(&edge.into_iter().collect::<Vec<_>>())).await
    }

    /// The same, the oldest first, as lines of JSON.
    ///
    /// # Errors
    /// See [`ClientError`]; in the stream when it is cut off.
    pub async fn export_audit(
        &self,
        wanted: &AuditWanted,
    ) -> Result<impl Stream<Item = Result<impl AsRef<[u8]> + use<>, ClientError>>, ClientError> {
        let asked = self.wire.http.get(self.wire.url("/api/v1/audit/export")).query(wanted);
        let response = self.wire.send(asked).await?;
        Ok(response.bytes_stream().map_err(|error| self.wire.unreachable(&error)))
    }

    /// Has the chain of all entries proved.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn prove_audit(&self, at: Option<&str>) -> Result<AuditProof, ClientError> {
        let at = at.map(|at| ("at", at));
        let asked = self.wire.http.get(self.wire.url("/api/v1/audit/proof"));
        self.wire.json(asked.query(&at.into_iter().collect::<Vec<_>>())).await
    }

    /// Says how long entries are kept.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn keep_audit(&self, keep: &AuditKeep) -> Result<(), ClientError> {
        self.wire.send(self.wire.http.put(self.wire.url("/api/v1/audit/keep")).json(keep)).await.map(drop)
    }
}
