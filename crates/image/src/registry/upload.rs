//! Sending blobs: in one piece, or in several that go on where the last arrived.

use std::io::Seek;
use std::time::Duration;

use pondrix_core::image::{Digest, Repository};
use reqwest::header::{CONTENT_RANGE, CONTENT_TYPE, LOCATION, RANGE};
use reqwest::{Body, Client, Response, StatusCode, Url};
use tokio::io::AsyncReadExt;

use super::RegistryError;
use super::wire::{Registry, Right, passes};
use crate::Store;
use crate::store::io_error;

/// Blobs up to this size are sent in one piece, longer ones in pieces of it.
const PIECE: u64 = 32 << 20;
/// How much of a file is read at once.
const BUFFER: usize = 256 * 1024;
/// How often a piece is tried that does not arrive.
const TRIES: u32 = 5;
/// How long to wait before the second time; each time after that twice as long.
const PAUSE: Duration = Duration::from_millis(200);

/// An upload under way.
struct Upload {
    place: Url,
    /// How many bytes have arrived.
    there: u64,
}

impl Registry {
    /// Sends a blob of the store, or has the registry take it from another repository of its own.
    /// Answers whether its bytes were sent.
    pub(super) async fn send_blob(
        &self,
        repository: &Repository,
        digest: &Digest,
        size: u64,
        other: Option<&Repository>,
        store: &Store,
    ) -> Result<bool, RegistryError> {
        let doing = format!("take {} into {}", digest.short(), repository.path());
        let mounted = match other {
            Some(other) => match self.begin_upload(repository, Some((digest, other)), &doing).await {
                Ok(response) => Some(response),
                // Who may not look into the other repository may send the bytes all the same.
                Err(RegistryError::Refused { .. } | RegistryError::SignIn { .. }) => None,
                Err(error) => return Err(error),
            },
            None => None,
        };
        let response = match mounted {
            Some(response) => response,
            None => self.begin_upload(repository, None, &doing).await?,
        };
        if response.status() == StatusCode::CREATED {
            return Ok(false);
        }
        let proving = (store.clone(), digest.clone());
        let proved = tokio::task::spawn_blocking(move || proving.0.prove_blob(&proving.1)).await;
        proved.map_err(|error| io_error(format!("look at {digest}"))(error.into()))??;
        let mut upload = Upload { place: self.place(&response)?, there: 0 };
        let mut tries = 1;
        while size > PIECE && upload.there < size {
            let before = upload.there;
            let result = self.send_piece(repository, &mut upload, digest, size, store, &doing).await;
            match result {
                Ok(()) if upload.there > before => tries = 1,
                Ok(()) | Err(RegistryError::Silent { .. }) if tries < TRIES => {
                    tokio::time::sleep(PAUSE * 2_u32.pow(tries - 1)).await;
                    tries += 1;
                    self.find_again(repository, &mut upload, &doing).await?;
                }
                Ok(()) => return Err(self.nonsense("upload", "it takes no more bytes")),
                Err(error) => return Err(error),
            }
        }
        let mut tries = 1;
        loop {
            match self.end_upload(repository, &upload, digest, size, store, &doing).await {
                // One that refuses before it has read everything may close the connection while the rest is sent, and
                // its answer is lost with it; so is one that took everything.
                Err(error) if tries < TRIES && may_pass(&error) => {
                    tokio::time::sleep(PAUSE * 2_u32.pow(tries - 1)).await;
                    tries += 1;
                    if self.has_blob(repository, digest).await? {
                        return Ok(true);
                    }
                    self.find_again(repository, &mut upload, &doing).await?;
                }
                ended => return ended.map(|()| true),
            }
        }
    }

    /// Sends the next piece. What arrived of it is in `upload` afterwards.
    async fn send_piece(
        &self,
        repository: &Repository,
        upload: &mut Upload,
        digest: &Digest,
        size: u64,
        store: &Store,
        doing: &str,
    ) -> Result<(), RegistryError> {
        let end = size.min(upload.there + PIECE);
        let (place, start) = (upload.place.clone(), upload.there);
        let make = |client: &Client| {
            let request = client.patch(place.clone()).header(CONTENT_TYPE, "application/octet-stream");
            let request = request.header(CONTENT_RANGE, format!("{start}-{}", end - 1));
            Ok(request.header("content-length", end - start).body(part(store, digest, start, end)?))
        };
        let response = self.send(Some((repository, Right::Push)), doing, false, make).await?;
        match response.status() {
            // It has another idea of how much arrived.
            StatusCode::RANGE_NOT_SATISFIABLE => Ok(()),
            status if status.is_server_error() => Ok(()),
            _ => {
                let response = self.agreed(response, doing).await?;
                // Where it does not say a new place, the old one is good.
                let place = if response.headers().contains_key(LOCATION) { self.place(&response)? } else { place };
                *upload = Upload { place, there: arrived(&response).unwrap_or(end).min(size) };
                Ok(())
            }
        }
    }

    /// Asks how much of an upload has arrived (OCI Distribution 1.1, "Pushing a blob in chunks"); begins anew
    /// where it is forgotten.
    async fn find_again(&self, repository: &Repository, upload: &mut Upload, doing: &str) -> Result<(), RegistryError> {
        let place = upload.place.clone();
        let make = |client: &Client| Ok(client.get(place.clone()));
        let response = self.send(Some((repository, Right::Push)), doing, true, make).await?;
        if response.status() == StatusCode::NOT_FOUND {
            let response = self.begin_upload(repository, None, doing).await?;
            *upload = Upload { place: self.place(&response)?, there: 0 };
            return Ok(());
        }
        let response = self.agreed(response, doing).await?;
        // Where it does not say a new place, the old one is good.
        let place = self.place(&response).unwrap_or_else(|_| upload.place.clone());
        *upload = Upload { place, there: arrived(&response).unwrap_or(0) };
        Ok(())
    }

    /// Sends what is left, and names the blob.
    async fn end_upload(
        &self,
        repository: &Repository,
        upload: &Upload,
        digest: &Digest,
        size: u64,
        store: &Store,
        doing: &str,
    ) -> Result<(), RegistryError> {
        let mut place = upload.place.clone();
        place.query_pairs_mut().append_pair("digest", &digest.to_string());
        let make = |client: &Client| {
            let request = client.put(place.clone()).header(CONTENT_TYPE, "application/octet-stream");
            let request = request.header("content-length", size - upload.there);
            Ok(request.body(part(store, digest, upload.there, size)?))
        };
        let response = self.send(Some((repository, Right::Push)), doing, false, make).await?;
        self.agreed(response, doing).await.map(drop)
    }
}

/// Whether it may be another answer in a moment.
fn may_pass(error: &RegistryError) -> bool {
    match error {
        RegistryError::Silent { .. } => true,
        RegistryError::Refused { status, .. } => StatusCode::from_u16(*status).is_ok_and(passes),
        _ => false,
    }
}

/// A part of a blob, read while it is sent.
fn part(store: &Store, digest: &Digest, start: u64, end: u64) -> Result<Body, RegistryError> {
    let told = |error: std::io::Error| io_error(format!("read {digest}"))(error);
    let mut file = std::fs::File::open(store.blob_path(digest)).map_err(told)?;
    file.seek(std::io::SeekFrom::Start(start)).map_err(told)?;
    let part = tokio::fs::File::from_std(file).take(end - start);
    Ok(Body::wrap_stream(tokio_util::io::ReaderStream::with_capacity(part, BUFFER)))
}

/// How many bytes have arrived, by the `Range` of an answer: `0-LAST`.
fn arrived(response: &Response) -> Option<u64> {
    let range = response.headers().get(RANGE)?.to_str().ok()?;
    let last: u64 = range.trim_start_matches("bytes=").split_once('-')?.1.parse().ok()?;
    // `0-0` says nothing and one byte alike; nobody sends a single byte.
    Some(if last == 0 { 0 } else { last + 1 })
}
