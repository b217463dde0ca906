//! What people and their programs ask for.

use futures_util::{Stream, TryStreamExt};
use pondrix_core::pipeline::TemplateName;
use pondrix_core::{ProjectName, RunId, State};

use super::events::{self, ServerEvent};
use super::segment::{job_segment, segment};
use super::{ClientError, Wire};
use std::path::Path;

use tokio_util::io::ReaderStream;

use crate::{
    AnswerRequest, ArtifactFiles, EnvironmentChange, EnvironmentList, EnvironmentRemoved, EnvironmentView, FlakyTests,
    FreezeRequest, Identity, ImageChain, ImageDetail, ImageDifference, ImageList, NewProject, PlanRequest, PlanView,
    ProjectChange, ProjectList, ProjectRemoved, ProjectView, RerunRequest, RetentionPreview, RetentionQuestion,
    RetentionRule, RetentionView, RunDetail, RunPage, RunSummary, StartRequest, StopRequest, TemplateText, TryRequest,
};

/// Which runs are wanted: those that are all of what is said.
#[derive(Clone, Debug, Default)]
pub struct RunsWanted {
    /// Of this project.
    pub project: Option<ProjectName>,
    /// That stand so.
    pub state: Option<State>,
    /// Of a commit of this branch.
    pub branch: Option<String>,
    /// Of a commit that this person made; capitals do not matter.
    pub author: Option<String>,
}

impl RunsWanted {
    /// Whether not all are wanted.
    #[must_use]
    pub const fn says_something(&self) -> bool {
        self.project.is_some() || self.state.is_some() || self.branch.is_some() || self.author.is_some()
    }

    /// Whether a run is wanted.
    #[must_use]
    pub fn fits(&self, run: &RunSummary) -> bool {
        self.project.as_ref().is_none_or(|project| project.as_str() == run.project)
            && self.state.is_none_or(|state| state == run.state)
            && self.branch.as_ref().is_none_or(|branch| *branch == run.branch)
            && self.author.as_ref().is_none_or(|author| author.eq_ignore_ascii_case(&run.author))
    }
}

/// The API, with a person's token.
#[derive(Clone, Debug)]
pub struct Client {
    pub(super) wire: Wire,
    address: String,
}

fn run_path(run: &RunId) -> String {
    format!("/api/v1/projects/{}/runs/{}", run.project, run.number)
}

/// A job's key as one part of an address: its slash is written as `~`, which no name has.
fn log_path(run: &RunId, job: &str) -> String {
    format!("{}/jobs/{}/log", run_path(run), job_segment(job))
}

impl Client {
    /// A client for the server at this address.
    #[must_use]
    pub fn new(address: &str, token: &str) -> Self {
        let address = address.trim_end_matches('/').to_owned();
        Self {
            wire: Wire::new(
                {
                    let address = address.clone();
                    move || address.clone()
                },
                token,
            ),
            address,
        }
    }

    /// The server's address.
    #[must_use]
    pub fn address(&self) -> &str {
        &self.address
    }

    pub(super) async fn get<T: serde::de::DeserializeOwned>(&self, path: &str) -> Result<T, ClientError> {
        self.wire.json(self.wire.http.get(self.wire.url(path))).await
    }

    /// Who the token stands for.
    ///
    /// # Errors
    /// See [`ClientError`]; so for all the others.
    pub async fn whoami(&self) -> Result<Identity, ClientError> {
        self.get("/api/v1/whoami").await
    }

    /// All projects.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn projects(&self) -> Result<ProjectList, ClientError> {
        self.get("/api/v1/projects").await
    }

    /// Makes a repository known.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn add_project(&self, project: &NewProject) -> Result<ProjectView, ClientError> {
        self.wire.json(self.wire.http.post(self.wire.url("/api/v1/projects")).json(project)).await
    }

    /// Removes a project with everything of it; answers what stays outside.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn remove_project(&self, project: &ProjectName) -> Result<ProjectRemoved, ClientError> {
        self.wire.json(self.wire.http.delete(self.wire.url(&format!("/api/v1/projects/{project}")))).await
    }

    /// How long the past is kept.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn retention(&self) -> Result<RetentionView, ClientError> {
        self.get("/api/v1/retention").await
    }

    /// Sets how long the past of a project and branch is kept.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn set_retention(&self, rule: &RetentionRule) -> Result<RetentionView, ClientError> {
        self.wire.json(self.wire.http.put(self.wire.url("/api/v1/retention")).json(rule)).await
    }

    /// What would be removed now.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn retention_preview(&self, asked: &RetentionQuestion) -> Result<RetentionPreview, ClientError> {
        self.wire.json(self.wire.http.post(self.wire.url("/api/v1/retention/preview")).json(asked)).await
    }

    /// Removes an environment; answers what goes on running there.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn remove_environment(&self, name: &ProjectName) -> Result<EnvironmentRemoved, ClientError> {
        self.wire.json(self.wire.http.delete(self.wire.url(&format!("/api/v1/environments/{name}")))).await
    }

    /// Runs, the newest first.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn runs(
        &self,
        project: Option<&ProjectName>,
        limit: usize,
        before: Option<&str>,
    ) -> Result<RunPage, ClientError> {
        let wanted = RunsWanted { project: project.cloned(), ..RunsWanted::default() };
        self.find_runs(&wanted, limit, before).await
    }

    /// Those of the runs that are all of what is said, the newest first.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn find_runs(
        &self,
        wanted: &RunsWanted,
        limit: usize,
        before: Option<&str>,
    ) -> Result<RunPage, ClientError> {
        let mut query = vec![("limit", limit.to_string())];
        query.extend(wanted.project.as_ref().map(|project| ("project", project.to_string())));
        query.extend(wanted.state.map(|state| ("state", state.to_string())));
        query.extend(wanted.branch.as_ref().map(|branch| ("branch", branch.clone())));
        query.extend(wanted.author.as_ref().map(|author| ("author", author.clone())));
        query.extend(before.map(|before| ("before", before.to_owned())));
        self.wire.json(self.wire.http.get(self.wire.url("/api/v1/runs")).query(&query)).await
    }

    /// A run, whole.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn run(&self, run: &RunId) -> Result<RunDetail, ClientError> {
        self.get(&run_path(run)).await
    }

    /// Starts a run by hand.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn start(&self, project: &ProjectName, request: &StartRequest) -> Result<RunSummary, ClientError> {
        let url = self.wire.url(&format!("/api/v1/projects/{project}/runs"));
        self.wire.json(self.wire.http.post(url).json(request)).await
    }

    /// Asks to stop a run.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn stop(&self, run: &RunId) -> Result<RunSummary, ClientError> {
        let url = self.wire.url(&format!("{}/stop", run_path(run)));
        self.wire.json(self.wire.http.post(url).json(&StopRequest {})).await
    }

    /// Runs files that are not committed: an archive (tar, compressed with zstd) in a file.
    ///
    /// # Errors
    /// See [`ClientError`]; that the file cannot be read is told as [`ClientError::Nonsense`].
    pub async fn try_files(
        &self,
        project: &ProjectName,
        request: &TryRequest,
        archive: &Path,
    ) -> Result<RunSummary, ClientError> {
        let nonsense = |words: String| ClientError::Nonsense { address: self.address.clone(), words };
        let about = serde_json::to_string(request).map_err(|error| nonsense(error.to_string()))?;
        let unread = |error: std::io::Error| nonsense(format!("{}: {error}", archive.display()));
        let file = tokio::fs::File::open(archive).await.map_err(unread)?;
        let length = file.metadata().await.map_err(unread)?.len();
        let url = self.wire.url(&format!("/api/v1/projects/{project}/tries"));
        let post = self.wire.http.post(url).query(&[("about", about)]).header("content-length", length);
        let body = reqwest::Body::wrap_stream(ReaderStream::with_capacity(file, 256 * 1024));
        self.wire.json(post.header("content-type", "application/zstd").body(body)).await
    }

    /// Does a run again: the same commit and pipeline file.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn rerun(&self, run: &RunId, all: bool) -> Result<RunSummary, ClientError> {
        let url = self.wire.url(&format!("{}/rerun", run_path(run)));
        self.wire.json(self.wire.http.post(url).json(&RerunRequest { all })).await
    }

    /// Answers the approval that a stage of a run waits for.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn answer(&self, run: &RunId, stage: &str, yes: bool) -> Result<RunSummary, ClientError> {
        let url = self.wire.url(&format!("{}/answer", run_path(run)));
        self.wire.json(self.wire.http.post(url).json(&AnswerRequest { stage: stage.to_owned(), yes })).await
    }

    /// What a start would make of a project's pipeline.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn plan(&self, project: &ProjectName, request: &PlanRequest) -> Result<PlanView, ClientError> {
        let url = self.wire.url(&format!("/api/v1/projects/{project}/plan"));
        self.wire.json(self.wire.http.post(url).json(request)).await
    }

    /// Changes a project.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn change_project(&self, project: &str, change: &ProjectChange) -> Result<ProjectView, ClientError> {
        let url = self.wire.url(&format!("/api/v1/projects/{project}"));
        self.wire.json(self.wire.http.patch(url).json(change)).await
    }

    /// A template as it is now.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn template(&self, name: &TemplateName) -> Result<TemplateText, ClientError> {
        let TemplateName { name, project, folder, version } = name;
        let url = self.wire.url("/api/v1/templates");
        let query = [("name", name), ("project", project), ("folder", folder), ("version", version)];
        self.wire.json(self.wire.http.get(url).query(&query)).await
    }

    /// The files of an artifact of a job.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn artifact(&self, run: &RunId, job: &str, name: &str) -> Result<ArtifactFiles, ClientError> {
        self.get(&format!("{}/jobs/{}/artifacts/{}", run_path(run), job_segment(job), segment(name))).await
    }

    /// The same files as an archive (tar, compressed with gzip), whole.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn artifact_archive(&self, run: &RunId, job: &str, name: &str) -> Result<Vec<u8>, ClientError> {
        let path = format!("{}/jobs/{}/artifacts/{}/archive", run_path(run), job_segment(job), segment(name));
        let response = self.wire.send(self.wire.http.get(self.wire.url(&path))).await?;
        response.bytes().await.map(|bytes| bytes.to_vec()).map_err(|error| self.wire.unreachable(&error))
    }

    /// A backup, as it comes. What comes is whole only when its last entry says so.
    ///
    /// # Errors
    /// See [`ClientError`]; an item is one when the rest does not arrive.
    pub async fn backup(
        &self,
        records_only: bool,
    ) -> Result<impl Stream<Item = Result<impl AsRef<[u8]> + use<>, ClientError>>, ClientError> {
        let url = self.wire.url(&format!("/api/v1/backup?records_only={records_only}"));
        let response = self.wire.send(self.wire.http.get(url)).await?;
        Ok(response.bytes_stream().map_err(|error| self.wire.unreachable(&error)))
    }

    /// The tests of a job that are flaky.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn flaky(&self, project: &str, job: &str) -> Result<FlakyTests, ClientError> {
        self.get(&format!("/api/v1/projects/{project}/flaky/{}", job_segment(job))).await
    }

    /// A job's log as it is.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn log(&self, run: &RunId, job: &str) -> Result<Vec<u8>, ClientError> {
        let response = self.wire.send(self.wire.http.get(self.wire.url(&log_path(run, job)))).await?;
        Ok(response.bytes().await.map_err(|error| self.wire.unreachable(&error))?.to_vec())
    }

    /// A job's log from an offset on, as it grows, until the job ends.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn follow_log(
        &self,
        run: &RunId,
        job: &str,
        from: u64,
    ) -> Result<impl Stream<Item = Result<ServerEvent, ClientError>> + use<>, ClientError> {
        self.follow(&format!("{}/stream", log_path(run, job)), &from.to_string()).await
    }

    /// A run, and every change of it, until it is over: see [`FollowedRun`](crate::FollowedRun).
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn follow_run(
        &self,
        run: &RunId,
    ) -> Result<impl Stream<Item = Result<ServerEvent, ClientError>> + use<>, ClientError> {
        self.follow(&format!("{}/stream", run_path(run)), "").await
    }

    /// Every change of every run, after the event of this id, or from now on.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn follow_runs(
        &self,
        after: &str,
    ) -> Result<impl Stream<Item = Result<ServerEvent, ClientError>> + use<>, ClientError> {
        self.follow("/api/v1/runs/stream", after).await
    }

    async fn follow(
        &self,
        path: &str,
        after: &str,
    ) -> Result<impl Stream<Item = Result<ServerEvent, ClientError>> + use<>, ClientError> {
        let mut request = self.wire.http.get(self.wire.url(path)).header("accept", "text/event-stream");
        if !after.is_empty() {
            request = request.header("last-event-id", after);
        }
        let response = self.wire.send(request).await?;
        Ok(events::read(response, self.address.clone()))
    }

    /// All environments.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn environments(&self) -> Result<EnvironmentList, ClientError> {
        self.get("/api/v1/environments").await
    }

    /// Sets an environment.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn set_environment(&self, environment: &EnvironmentChange) -> Result<EnvironmentView, ClientError> {
        self.wire.json(self.wire.http.put(self.wire.url("/api/v1/environments")).json(environment)).await
    }

    /// Has nothing rolled out to an environment for now.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn freeze(&self, environment: &str, freeze: &FreezeRequest) -> Result<EnvironmentView, ClientError> {
        let url =
            self.wire.url(&format!("/api/v1/environments/{environment}/freeze", environment = segment(environment)));
        self.wire.json(self.wire.http.put(url).json(freeze)).await
    }

    /// Has rollouts to an environment begin again.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn thaw(&self, environment: &str) -> Result<EnvironmentView, ClientError> {
        let url =
            self.wire.url(&format!("/api/v1/environments/{environment}/freeze", environment = segment(environment)));
        self.wire.json(self.wire.http.delete(url)).await
    }

    /// Images that runs pushed, the newest first.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn images(&self, repository: Option<&str>, project: Option<&str>) -> Result<ImageList, ClientError> {
        let named = [("repository", repository), ("project", project)];
        let query: Vec<_> = named.iter().filter_map(|(name, value)| Some((name, (*value)?))).collect();
        self.wire.json(self.wire.http.get(self.wire.url("/api/v1/images")).query(&query)).await
    }

    /// An image: `REPOSITORY`, `REPOSITORY:TAG` or `REPOSITORY@DIGEST`.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn image(&self, name: &str) -> Result<ImageDetail, ClientError> {
        self.wire.json(self.wire.http.get(self.wire.url("/api/v1/images/one")).query(&[("name", name)])).await
    }

    /// How two images differ.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn image_difference(&self, one: &str, other: &str) -> Result<ImageDifference, ClientError> {
        let query = [("one", one), ("other", other)];
        self.wire.json(self.wire.http.get(self.wire.url("/api/v1/images/difference")).query(&query)).await
    }

    /// What is built on what.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn image_chain(&self) -> Result<ImageChain, ClientError> {
        self.get("/api/v1/images/chain").await
    }
}
