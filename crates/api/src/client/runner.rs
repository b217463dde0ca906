//! What runners ask for.

use std::path::Path;
use std::time::Duration;

use futures_util::StreamExt;
use pondrix_core::ProjectName;
use pondrix_core::image::{Digest, Entry};
use reqwest::StatusCode;
use tokio::io::AsyncWriteExt;
use tokio_util::io::ReaderStream;

use super::{ClientError, Wire};
use crate::{
    AccountAnswer, AccountQuestion, Assignment, Beat, CacheAnswer, CacheEntry, CacheQuestion, Digests, Hello,
    IdentityAnswer, IdentityQuestion, ImageRecord, IndexRecord, JoinRequest, Joined, LayerDigests, LogLength,
    NewArtifact, SourceChanges, StepList, TagAnswer, TagQuestion, TimedReport, Welcome,
};

/// How long the server may take to answer what it answers at once. A connection that is gone without a word would
/// otherwise be waited for as long as the machine's network does.
const ANSWER_TIME: Duration = Duration::from_secs(30);

/// The API, with a runner's token.
#[derive(Clone, Debug)]
pub struct RunnerClient {
    wire: Wire,
}

impl RunnerClient {
    /// A client for the server at an address that is asked for before each request, since it may be
    /// another one when the server starts again.
    #[must_use]
    pub fn new(address: impl Fn() -> String + Send + Sync + 'static, token: &str) -> Self {
        Self { wire: Wire::new(address, token) }
    }

    fn lease_url(&self, assignment: &Assignment, rest: &str) -> String {
        self.wire.url(&format!("/api/v1/runner/leases/{}/{rest}", assignment.lease))
    }

    /// Introduces the runner.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn hello(&self, hello: &Hello) -> Result<Welcome, ClientError> {
        self.wire.json(self.wire.http.post(self.wire.url("/api/v1/runner/hello")).json(hello)).await
    }

    /// Makes this machine a runner; the client's token is an invitation.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn join(&self, request: &JoinRequest) -> Result<Joined, ClientError> {
        self.wire.json(self.wire.http.post(self.wire.url("/api/v1/runner/join")).json(request)).await
    }

    /// The projects that the runner works for.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn projects(&self) -> Result<Vec<ProjectName>, ClientError> {
        let request = self.wire.http.get(self.wire.url("/api/v1/runner/projects"));
        self.wire.json(request.timeout(ANSWER_TIME)).await
    }

    /// Waits a while for a job; nothing when there was none.
    ///
    /// # Errors
    /// See [`ClientError`]; so for all the others.
    pub async fn take(&self) -> Result<Option<Assignment>, ClientError> {
        let request = self.wire.http.post(self.wire.url("/api/v1/runner/take"));
        let response = self.wire.send(request).await?;
        if response.status() == StatusCode::NO_CONTENT {
            return Ok(None);
        }
        let body = response.bytes().await.map_err(|error| self.wire.unreachable(&error))?;
        serde_json::from_slice(&body)
            .map(Some)
            .map_err(|error| ClientError::Nonsense { address: self.wire.address(), words: error.to_string() })
    }

    /// Writes the commit's files into a file, as a tar archive. What stood in the file is lost.
    ///
    /// # Errors
    /// See [`ClientError`]; the file is then not whole. That the file cannot be written is told as
    /// [`ClientError::Nonsense`].
    pub async fn source(&self, assignment: &Assignment, own_times: bool, into: &Path) -> Result<(), ClientError> {
        let request = self.wire.http.get(self.lease_url(assignment, "source"));
        self.write_into(request.query(&[("own_times", own_times)]), into).await
    }

    /// How the commit's files differ from those of another that the runner has, each with the time of its own last
    /// change.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn source_changes(
        &self,
        assignment: &Assignment,
        since: Option<&str>,
    ) -> Result<SourceChanges, ClientError> {
        let request = self.wire.http.get(self.lease_url(assignment, "source/changes"));
        let request = request.query(&[("own_times", true)]);
        self.wire.json(request.query(&since.map(|since| [("since", since)]))).await
    }

    /// As [`RunnerClient::source`], of those files alone that are new or other since a commit, each with the time of its
    /// own last change.
    ///
    /// # Errors
    /// See [`RunnerClient::source`].
    pub async fn source_since(&self, assignment: &Assignment, since: &str, into: &Path) -> Result<(), ClientError> {
        let request = self.wire.http.get(self.lease_url(assignment, "source"));
        self.write_into(request.query(&[("since", since)]).query(&[("own_times", true)]), into).await
    }

    /// Says what happened, in the order in which it did. All of it is taken, or nothing.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn report(&self, assignment: &Assignment, reports: &[TimedReport]) -> Result<(), ClientError> {
        let request = self.wire.http.post(self.lease_url(assignment, "reports")).timeout(ANSWER_TIME);
        self.wire.send(request.json(reports)).await.map(|_| ())
    }

    /// Appends to the job's log at an offset; the answer is how much the server has then, which is
    /// less than the end of these bytes when it misses some from before.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn append_log(&self, assignment: &Assignment, offset: u64, bytes: Vec<u8>) -> Result<u64, ClientError> {
        let request = self.wire.http.put(self.lease_url(assignment, "log")).query(&[("offset", offset)]).body(bytes);
        Ok(self.wire.json::<LogLength>(request.timeout(ANSWER_TIME)).await?.length)
    }

    /// Gives a sign of life, and waits a while for an order.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn beat(&self, assignment: &Assignment) -> Result<Beat, ClientError> {
        self.wire.json(self.wire.http.post(self.lease_url(assignment, "beat"))).await
    }

    /// Asks whether a tag may be set, just before it is.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn may_tag(&self, assignment: &Assignment, question: &TagQuestion) -> Result<TagAnswer, ClientError> {
        let request = self.wire.http.post(self.lease_url(assignment, "tag")).timeout(ANSWER_TIME);
        self.wire.json(request.json(question)).await
    }

    /// Asks who signs in for an image that a recipe names.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn account(
        &self,
        assignment: &Assignment,
        question: &AccountQuestion,
    ) -> Result<AccountAnswer, ClientError> {
        let request = self.wire.http.post(self.lease_url(assignment, "account")).timeout(ANSWER_TIME);
        self.wire.json(request.json(question)).await
    }

    /// A token that says which job it is.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn identity(
        &self,
        assignment: &Assignment,
        question: &IdentityQuestion,
    ) -> Result<IdentityAnswer, ClientError> {
        let request = self.wire.http.post(self.lease_url(assignment, "identity")).timeout(ANSWER_TIME);
        self.wire.json(request.json(question)).await
    }

    /// Which of these contents the server does not have.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn missing(&self, assignment: &Assignment, digests: &Digests) -> Result<Digests, ClientError> {
        self.wire.json(self.wire.http.post(self.lease_url(assignment, "files")).json(digests)).await
    }

    /// Sends a content, compressed with zstd, from a file.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn send_file(&self, assignment: &Assignment, digest: &Digest, file: &Path) -> Result<(), ClientError> {
        let unread = |error: std::io::Error| self.unwritten(file, &error);
        let open = tokio::fs::File::open(file).await.map_err(unread)?;
        let body = reqwest::Body::wrap_stream(ReaderStream::with_capacity(open, 256 * 1024));
        let url = self.lease_url(assignment, &format!("files/{digest}"));
        self.wire.send(self.wire.http.put(url).body(body)).await.map(|_| ())
    }

    /// Writes a content into a file, compressed with zstd.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn fetch_file(&self, assignment: &Assignment, digest: &Digest, into: &Path) -> Result<(), ClientError> {
        let url = self.lease_url(assignment, &format!("files/{digest}"));
        self.write_into(self.wire.http.get(url), into).await
    }

    /// Has files kept whose contents were sent.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn add_artifact(&self, assignment: &Assignment, request: &NewArtifact) -> Result<(), ClientError> {
        self.wire.send(self.wire.http.post(self.lease_url(assignment, "artifacts")).json(request)).await.map(|_| ())
    }

    /// Tells of an image, before it is pushed.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn put_image(&self, assignment: &Assignment, record: &ImageRecord) -> Result<(), ClientError> {
        self.wire.send(self.wire.http.put(self.lease_url(assignment, "image")).json(record)).await.map(|_| ())
    }

    /// Tells of an index of images, before it is pushed.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn put_index(&self, assignment: &Assignment, record: &IndexRecord) -> Result<(), ClientError> {
        self.wire.send(self.wire.http.put(self.lease_url(assignment, "index")).json(record)).await.map(|_| ())
    }

    /// Which of these layers the server does not know the files of.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn unlisted(&self, assignment: &Assignment, layers: &LayerDigests) -> Result<LayerDigests, ClientError> {
        self.wire.json(self.wire.http.post(self.lease_url(assignment, "layers")).json(layers)).await
    }

    /// Tells of the files of a layer.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn put_listing(
        &self,
        assignment: &Assignment,
        layer: &Digest,
        files: &[Entry],
    ) -> Result<(), ClientError> {
        let url = self.lease_url(assignment, &format!("layers/{layer}"));
        self.wire.send(self.wire.http.put(url).json(files)).await.map(|_| ())
    }

    /// Asks for an archive by its keys.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn find_cache(
        &self,
        assignment: &Assignment,
        question: &CacheQuestion,
    ) -> Result<CacheAnswer, ClientError> {
        self.wire.json(self.wire.http.post(self.lease_url(assignment, "cache")).json(question)).await
    }

    /// Has an archive kept whose content was sent.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn put_cache(&self, assignment: &Assignment, entry: &CacheEntry) -> Result<(), ClientError> {
        self.wire.send(self.wire.http.put(self.lease_url(assignment, "cache")).json(entry)).await.map(|_| ())
    }

    /// The host that the server is at, a name or an address, and its port.
    #[must_use]
    pub fn host(&self) -> Option<(String, u16)> {
        let url = reqwest::Url::parse(&self.wire.address()).ok()?;
        Some((url.host_str()?.trim_matches(['[', ']']).to_owned(), url.port_or_known_default()?))
    }

    /// Tells of the list of steps that a job left in a registry.
    ///
    /// # Errors
    /// See [`ClientError`].
    pub async fn put_step_list(&self, assignment: &Assignment, list: &StepList) -> Result<(), ClientError> {
        self.wire.send(self.wire.http.put(self.lease_url(assignment, "steps")).json(list)).await.map(|_| ())
    }

    fn unwritten(&self, file: &Path, error: &std::io::Error) -> ClientError {
        ClientError::Nonsense { address: self.wire.address(), words: format!("{}: {error}", file.display()) }
    }

    async fn write_into(&self, request: reqwest::RequestBuilder, into: &Path) -> Result<(), ClientError> {
        let response = self.wire.send(request).await?;
        let mut file = tokio::fs::File::create(into).await.map_err(|error| self.unwritten(into, &error))?;
        let mut stream = response.bytes_stream();
        while let Some(chunk) = stream.next().await {
            let chunk = chunk.map_err(|error| self.wire.unreachable(&error))?;
            file.write_all(&chunk).await.map_err(|error| self.unwritten(into, &error))?;
        }
        file.flush().await.map_err(|error| self.unwritten(into, &error))
    }
}
