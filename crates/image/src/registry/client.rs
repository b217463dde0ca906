//! What is asked of a registry: documents, blobs, tags, referrers.

use std::collections::{BTreeMap, HashSet};
use std::path::Path;

use futures_util::StreamExt;
use pondrix_core::access::Reach;
use pondrix_core::image::{Digest, Reference, Repository, Tag};
use pondrix_http::innermost;
use reqwest::header::{ACCEPT, CONTENT_TYPE, HeaderName, LOCATION};
use reqwest::{Client, Method, Response, StatusCode, Url};
use serde::Deserialize;
use tokio::io::AsyncWriteExt;

use super::RegistryError;
use super::guard::NotReached;
use super::wire::{Registry, Right, plain_client};
use crate::hash::digest_of;
use crate::oci::media;

/// The most tags of a repository that are listed.
const MOST_TAGS: usize = 200_000;
/// How many are asked for at once.
const PAGE: usize = 1000;

/// A manifest or index as it came.
pub(super) struct Document {
    pub(super) bytes: Vec<u8>,
    pub(super) digest: Digest,
}

/// The kinds of document that a name may mean.
fn document_kinds() -> String {
    [media::MANIFEST, media::INDEX, media::OLD_MANIFEST, media::OLD_INDEX].join(", ")
}

/// Why an address gave nothing.
#[derive(Debug, thiserror::Error)]
#[error("{address}: {words}")]
pub struct DownloadError {
    address: String,
    words: String,
}

/// Writes what an address of the Web gives into a file, at most so many bytes of it. It, and where it leads, are to be
/// within this reach.
///
/// # Errors
/// When nothing answers, or with a refusal, or it is longer, or not reached.
pub async fn download(address: &str, to: &Path, most: u64, reach: Option<&Reach>) -> Result<(), DownloadError> {
    let told = |words: &dyn std::fmt::Display| DownloadError { address: address.to_owned(), words: words.to_string() };
    let url = Url::parse(address).map_err(|error| told(&error))?;
    NotReached::check(&url, reach).map_err(|error| told(&error))?;
    let request = plain_client(reach).map_err(|error| told(&error))?.get(url);
    let response = request.send().await.map_err(|error| told(&innermost(&error)))?;
    if !response.status().is_success() {
        return Err(told(&response.status()));
    }
    let mut file = tokio::fs::File::create(to).await.map_err(|error| told(&error))?;
    let mut count = 0;
    let mut stream = response.bytes_stream();
    while let Some(chunk) = stream.next().await {
        let chunk = chunk.map_err(|error| told(&innermost(&error)))?;
        count += chunk.len() as u64;
        if count > most {
            return Err(told(&format!("longer than {most} bytes")));
        }
        file.write_all(&chunk).await.map_err(|error| told(&error))?;
    }
    file.flush().await.map_err(|error| told(&error))
}

/// What is said of a list whose next page is one that was read already.
pub(super) const CIRCLE: &str = "its pages lead round in a circle";

/// A page of tags (OCI Distribution 1.1, "Content Discovery").
#[derive(Deserialize)]
struct TagPage {
    #[serde(default)]
    tags: Option<Vec<String>>,
}

impl Registry {
    /// A manifest or index by tag or digest, checked against the digest when that was asked for;
    /// nothing when there is none.
    pub(super) async fn document(
        &self,
        repository: &Repository,
        version: &str,
    ) -> Result<Option<Document>, RegistryError> {
        let doing = format!("give {}:{version}", repository.path());
        let response = self.get(repository, &format!("manifests/{version}"), &document_kinds(), &doing).await?;
        if response.status() == StatusCode::NOT_FOUND {
            return Ok(None);
        }
        let bytes = self.body(self.agreed(response, &doing).await?, &doing).await?;
        let digest = digest_of(&bytes);
        match version.parse::<Digest>() {
            Ok(wanted) if wanted != digest => Err(self.wrong(wanted, digest.to_string())),
            _ => Ok(Some(Document { bytes, digest })),
        }
    }

    /// How long an image's manifest is, in bytes; nothing when it is not there.
    ///
    /// # Errors
    /// When the registry is silent, refuses, or gives something else.
    pub async fn manifest_size(&self, repository: &Repository, digest: &Digest) -> Result<Option<u64>, RegistryError> {
        let document = self.document(repository, &digest.to_string()).await?;
        Ok(document.map(|document| document.bytes.len() as u64))
    }

    /// What a tag names, and the commit that this says it was made of; nothing when there is no such tag.
    ///
    /// # Errors
    /// When the registry is silent, or refuses.
    pub async fn revision_of(
        &self,
        repository: &Repository,
        tag: &Tag,
    ) -> Result<Option<(Digest, Option<String>)>, RegistryError> {
        /// A manifest or index, as far as this is asked.
        #[derive(Deserialize)]
        struct Noted {
            #[serde(default)]
            annotations: BTreeMap<String, String>,
        }
        let Some(document) = self.document(repository, tag.as_str()).await? else { return Ok(None) };
        let noted: Option<Noted> = serde_json::from_slice(&document.bytes).ok();
        let revision = noted.and_then(|mut noted| noted.annotations.remove("org.opencontainers.image.revision"));
        Ok(Some((document.digest, revision)))
    }

    pub(super) fn wrong(&self, wanted: Digest, found: String) -> RegistryError {
        RegistryError::WrongDigest { host: self.host().to_owned(), wanted, found }
    }

    /// Whether it answers at all, and takes those who sign in. Answers whether it wanted that.
    ///
    /// # Errors
    /// When it is silent, or refuses.
    pub async fn answers(&self) -> Result<(), RegistryError> {
        let doing = "say that it is a registry";
        let make = |client: &Client| Ok(client.get(self.base()));
        let response = self.send(None, doing, true, make).await?;
        self.agreed(response, doing).await.map(drop)
    }

    /// Proves that images can be pulled from a repository, be it empty.
    ///
    /// # Errors
    /// When the registry is silent, or refuses.
    pub async fn may_pull(&self, repository: &Repository) -> Result<(), RegistryError> {
        let doing = format!("let images be pulled from {}", repository.path());
        let response = self.get(repository, "tags/list?n=1", "", &doing).await?;
        match response.status() {
            // There is nothing in it yet.
            StatusCode::NOT_FOUND => Ok(()),
            _ => self.agreed(response, &doing).await.map(drop),
        }
    }

    /// Proves that an image can be pushed into a repository: begins an upload, and gives it up again.
    ///
    /// # Errors
    /// When the registry is silent, or refuses.
    pub async fn may_push(&self, repository: &Repository) -> Result<(), RegistryError> {
        let doing = format!("let an image be pushed into {}", repository.path());
        let response = self.begin_upload(repository, None, &doing).await?;
        if let Ok(upload) = self.place(&response) {
            // A registry need not know how to give an upload up; it then forgets it by itself.
            let make = |client: &Client| Ok(client.delete(upload.clone()));
            drop(self.send(Some((repository, Right::Push)), &doing, false, make).await);
        }
        Ok(())
    }

    /// Begins an upload; with a blob's digest and a repository that has it, the registry may take it from there.
    pub(super) async fn begin_upload(
        &self,
        repository: &Repository,
        mount: Option<(&Digest, &Repository)>,
        doing: &str,
    ) -> Result<Response, RegistryError> {
        let address = self.at(repository, "blobs/uploads/");
        let make = |client: &Client| {
            let begin = client.post(&address).header("content-length", "0");
            Ok(match mount {
                Some((digest, from)) => {
                    begin.query(&[("mount", &digest.to_string()), ("from", &from.path().to_owned())])
                }
                None => begin,
            })
        };
        // What is taken from another repository has to be seen there.
        let right = mount.map_or(Right::Push, |(_, from)| Right::PushFrom(from));
        // An upload that was begun twice is forgotten once.
        let response = self.send(Some((repository, right)), doing, true, make).await?;
        self.agreed(response, doing).await
    }

    /// Whether the registry has an image.
    ///
    /// # Errors
    /// When the registry is silent, or refuses.
    pub async fn has_image(&self, image: &Reference) -> Result<bool, RegistryError> {
        let doing = format!("say whether it has {}", image.repository.path());
        let address = self.at(&image.repository, &format!("manifests/{}", image.version()));
        self.has(&image.repository, &address, &document_kinds(), &doing).await
    }

    /// Whether there is something at an address.
    async fn has(
        &self,
        repository: &Repository,
        address: &str,
        accept: &str,
        doing: &str,
    ) -> Result<bool, RegistryError> {
        let mut response = self.ask(Method::HEAD, repository, address, accept, doing).await?;
        // Some, or what stands in front of them, only know the question for the thing itself.
        if matches!(response.status(), StatusCode::METHOD_NOT_ALLOWED | StatusCode::FORBIDDEN) {
            response = self.ask(Method::GET, repository, address, accept, doing).await?;
        }
        match response.status() {
            StatusCode::NOT_FOUND => Ok(false),
            _ => self.agreed(response, doing).await.map(|_| true),
        }
    }

    /// Whether the registry has a blob in this repository.
    pub(super) async fn has_blob(&self, repository: &Repository, digest: &Digest) -> Result<bool, RegistryError> {
        let doing = format!("say whether it has {}", digest.short());
        let address = self.at(repository, &format!("blobs/{digest}"));
        self.has(repository, &address, "", &doing).await
    }

    /// The tags of a repository, in the registry's order; none where there is no such repository.
    ///
    /// # Errors
    /// When the registry is silent, refuses, or lists without end.
    pub async fn tags(&self, repository: &Repository) -> Result<Vec<String>, RegistryError> {
        self.tags_by(repository, PAGE).await
    }

    /// The same, so many at once.
    ///
    /// # Errors
    /// As [`Registry::tags`].
    pub async fn tags_by(&self, repository: &Repository, page: usize) -> Result<Vec<String>, RegistryError> {
        let doing = format!("list the tags of {}", repository.path());
        let mut tags = Vec::new();
        let mut next = Some(self.at(repository, &format!("tags/list?n={page}")));
        let mut read = HashSet::new();
        while let Some(address) = next {
            let response = self.ask(Method::GET, repository, &address, "", &doing).await?;
            if !read.insert(address) {
                return Err(self.nonsense("list of tags", CIRCLE));
            }
            if response.status() == StatusCode::NOT_FOUND {
                return Ok(tags);
            }
            let response = self.agreed(response, &doing).await?;
            next = self.next_page(&response);
            let page: TagPage = serde_json::from_slice(&self.body(response, &doing).await?)
                .map_err(|error| self.nonsense("list of tags", error.to_string()))?;
            let page = page.tags.unwrap_or_default();
            if page.is_empty() {
                break;
            }
            tags.extend(page);
            if tags.len() > MOST_TAGS {
                return Err(self.nonsense("list of tags", format!("more than {MOST_TAGS} of them")));
            }
        }
        Ok(tags)
    }

    /// Where an upload goes: `Location` may be relative and may have a query already (OCI
    /// Distribution 1.1, "POST then PUT").
    pub(super) fn place(&self, response: &Response) -> Result<Url, RegistryError> {
        let location = response.headers().get(LOCATION).and_then(|value| value.to_str().ok());
        let location = location.ok_or_else(|| self.nonsense("place for an upload", "no Location header"))?;
        let url = response.url().join(location);
        let url = url.map_err(|error| self.nonsense("place for an upload", error.to_string()))?;
        // What is shown to sign in, and the bytes, go to this registry and not in the open.
        if response.url().scheme() == "https" && url.scheme() != "https" {
            return Err(self.nonsense("place for an upload", format!("{url} has no TLS, and the registry has")));
        }
        Ok(url)
    }

    /// Sets a manifest or index under a tag or its own digest, and checks what the registry made of it. Answers
    /// whether it knows of the manifest's `subject`.
    pub(super) async fn put_manifest(
        &self,
        repository: &Repository,
        version: &str,
        kind: &str,
        bytes: &[u8],
    ) -> Result<bool, RegistryError> {
        let put = self.put_manifest_if(repository, version, kind, bytes, None).await?;
        put.ok_or_else(|| self.nonsense("answer", "a condition failed that nobody made"))
    }

    /// The same where a condition holds: a header and its value (RFC 9110, section 13.1). Nothing where it does not; a
    /// registry that knows no conditions does it always.
    pub(super) async fn put_manifest_if(
        &self,
        repository: &Repository,
        version: &str,
        kind: &str,
        bytes: &[u8],
        condition: Option<(HeaderName, String)>,
    ) -> Result<Option<bool>, RegistryError> {
        let doing = format!("take {}:{version}", repository.path());
        let wanted = digest_of(bytes);
        let address = self.at(repository, &format!("manifests/{version}"));
        let make = |client: &Client| {
            let put = client.put(&address).header(CONTENT_TYPE, kind).header(ACCEPT, "*/*").body(bytes.to_vec());
            Ok(condition.iter().fold(put, |put, (name, value)| put.header(name, value)))
        };
        let response = self.send(Some((repository, Right::Push)), &doing, true, make).await?;
        if response.status() == StatusCode::PRECONDITION_FAILED && condition.is_some() {
            return Ok(None);
        }
        let response = self.agreed(response, &doing).await?;
        let knows_subject = response.headers().contains_key("oci-subject");
        let said = response.headers().get("docker-content-digest").and_then(|value| value.to_str().ok());
        match said {
            Some(said) if said != wanted.to_string() => Err(self.wrong(wanted, said.to_owned())),
            _ => Ok(Some(knows_subject)),
        }
    }
}
