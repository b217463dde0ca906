//! Runners, as people make them known.

use super::segment::segment;
use super::{Client, ClientError};
use crate::{InvitationMade, NewInvitation, NewRunner, PauseRequest, PoolView, RunnerList, RunnerMade, RunnerView};

impl Client {
    fn runner_url(&self, name: &str, rest: &str) -> String {
        self.wire.url(&format!("/api/v1/runners/{name}{rest}", name = segment(name)))
    }

    /// The runners, and the pools that have a limit.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn runners(&self) -> Result<RunnerList, ClientError> {
        self.get("/api/v1/runners").await
    }

    /// Makes a runner known.
    ///
    /// # Errors
    /// See [`ClientError`]; so for all the others.
    pub async fn add_runner(&self, new: &NewRunner) -> Result<RunnerMade, ClientError> {
        self.wire.json(self.wire.http.post(self.wire.url("/api/v1/runners")).json(new)).await
    }

    /// Gives a runner another token; the one of before is good for an hour more.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn rotate_runner(&self, name: &str) -> Result<RunnerMade, ClientError> {
        self.wire.json(self.wire.http.post(self.runner_url(name, "/rotate"))).await
    }

    /// Forgets a runner, and takes its jobs from it; one that is here only `now`.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn remove_runner(&self, name: &str, now: bool) -> Result<(), ClientError> {
        let asked = self.wire.http.delete(self.runner_url(name, ""));
        self.wire.send(asked.query(&[("now", now)])).await.map(drop)
    }

    /// Makes an invitation.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn invite_runners(&self, new: &NewInvitation) -> Result<InvitationMade, ClientError> {
        self.wire.json(self.wire.http.post(self.wire.url("/api/v1/runners/invitations")).json(new)).await
    }

    /// Takes an invitation back.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn withdraw_invitation(&self, id: i64) -> Result<(), ClientError> {
        let url = self.wire.url(&format!("/api/v1/runners/invitations/{id}"));
        self.wire.send(self.wire.http.delete(url)).await.map(drop)
    }

    /// Sets a pool's limit, or takes it away.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn set_pool(&self, pool: &PoolView) -> Result<PoolView, ClientError> {
        self.wire.json(self.wire.http.put(self.wire.url("/api/v1/pools")).json(pool)).await
    }

    /// Gives a runner no more jobs.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn pause_runner(&self, name: &str, request: &PauseRequest) -> Result<RunnerView, ClientError> {
        self.wire.json(self.wire.http.put(self.runner_url(name, "/pause")).json(request)).await
    }

    /// Gives a runner jobs again.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn resume_runner(&self, name: &str) -> Result<(), ClientError> {
        self.wire.send(self.wire.http.delete(self.runner_url(name, "/pause"))).await.map(drop)
    }
}
