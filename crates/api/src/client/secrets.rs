//! Secrets: they go in, and never come out here.

use pondrix_core::ProjectName;

use super::segment::segment;
use super::{Client, ClientError};
use crate::{SecretList, SecretValue, SecretView, SharedSecret, SharedSecretName};

impl Client {
    /// A project's secrets, without their values.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn secrets(&self, project: &ProjectName) -> Result<SecretList, ClientError> {
        self.get(&format!("/api/v1/projects/{project}/secrets")).await
    }

    /// Sets a secret.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn set_secret(&self, project: &ProjectName, name: &str, value: &str) -> Result<SecretView, ClientError> {
        self.put_secret(project, name, &SecretValue::new(value.as_bytes().to_vec(), None)).await
    }

    /// Sets a project's secret, and for which runs it is.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn put_secret(
        &self,
        project: &ProjectName,
        name: &str,
        value: &SecretValue,
    ) -> Result<SecretView, ClientError> {
        let url = self.wire.url(&format!("/api/v1/projects/{project}/secrets/{name}", name = segment(name)));
        self.wire.json(self.wire.http.put(url).json(value)).await
    }

    /// Removes a secret.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn remove_secret(&self, project: &ProjectName, name: &str) -> Result<(), ClientError> {
        let url = self.wire.url(&format!("/api/v1/projects/{project}/secrets/{name}", name = segment(name)));
        self.wire.send(self.wire.http.delete(url)).await.map(|_| ())
    }

    /// The secrets that are no project's, without their values.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn shared_secrets(&self) -> Result<SecretList, ClientError> {
        self.get("/api/v1/secrets").await
    }

    /// Sets a secret that is no project's.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn put_shared_secret(&self, secret: &SharedSecret) -> Result<SecretView, ClientError> {
        self.wire.json(self.wire.http.put(self.wire.url("/api/v1/secrets")).json(secret)).await
    }

    /// Removes a secret that is no project's.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn remove_shared_secret(&self, secret: &SharedSecretName) -> Result<(), ClientError> {
        let url = self.wire.url("/api/v1/secrets/remove");
        self.wire.send(self.wire.http.post(url).json(secret)).await.map(drop)
    }
}
