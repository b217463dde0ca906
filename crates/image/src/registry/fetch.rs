//! Fetching blobs: what breaks off goes on where it did, and is checked at its end.

use std::io::Write;
use std::time::Duration;

use bytes::Bytes;
use futures_util::StreamExt;
use pondrix_core::image::{Digest, Repository};
use reqwest::header::RANGE;
use reqwest::{Client, Response, StatusCode};
use tokio::io::{AsyncWriteExt, BufWriter};
use tokio::sync::mpsc::Sender;

use super::RegistryError;
use super::wire::{Registry, Right};
use crate::Store;
use crate::hash::Hashing;
use crate::once::Turn;
use crate::store::io_error;

/// How often in a row a blob may break off without a byte of it having come.
const TRIES: u32 = 5;
/// How long to wait before it is asked for again, for each time.
const PAUSE: Duration = Duration::from_millis(100);
/// How many bytes are written at once: each time another thread does it.
const BUFFER: usize = 1 << 20;

/// Who is told of a blob that comes.
pub(super) struct Listeners<'a> {
    /// How many further bytes have come.
    pub(super) count: &'a (dyn Fn(u64) + Sync),
    /// The bytes themselves, as they come. Nothing goes there where the blob is in the store, or somebody else fetches it;
    /// and that they are what the digest says is only known at the end.
    pub(super) bytes: Option<Sender<Bytes>>,
}

impl Listeners<'_> {
    /// Nobody.
    pub(super) const NONE: Listeners<'static> = Listeners { count: &|_| (), bytes: None };
}

/// A blob that comes.
struct Coming<'a> {
    digest: &'a Digest,
    size: u64,
    /// How many bytes have come.
    count: u64,
    hash: Hashing<std::io::Sink>,
    to: BufWriter<tokio::fs::File>,
    listeners: Listeners<'a>,
    doing: String,
}

impl Registry {
    /// Brings a blob into the store, unless it is there.
    pub(super) async fn fetch_blob(
        &self,
        repository: &Repository,
        digest: &Digest,
        size: u64,
        store: &Store,
        listeners: Listeners<'_>,
    ) -> Result<(), RegistryError> {
        let turn = loop {
            if store.has_blob(digest) {
                return Ok(());
            }
            match store.fetch_turn(digest) {
                Turn::Mine(turn) => break turn,
                // Who waits is told how far it is. Where it does not come, the next one tries.
                Turn::Theirs(mut come) => {
                    let mut told = 0;
                    while come.changed().await.is_ok() {
                        let now = *come.borrow_and_update();
                        (listeners.count)(now - told);
                        told = now;
                    }
                }
            }
        };
        let Listeners { count, bytes } = listeners;
        let count = |bytes| {
            turn.advance(bytes);
            count(bytes);
        };
        let io = |error: std::io::Error| io_error("write a blob")(error);
        let file = store.unfinished_file()?;
        let mut coming = Coming {
            digest,
            size,
            count: 0,
            hash: Hashing::new(std::io::sink()),
            to: BufWriter::with_capacity(BUFFER, tokio::fs::File::from_std(file.reopen().map_err(io)?)),
            listeners: Listeners { count: &count, bytes },
            doing: format!("give {} of {}", digest.short(), repository.path()),
        };
        let mut tries = 1;
        while coming.count < size || tries == 1 {
            let before = coming.count;
            let response = self.blob_from(repository, digest, before, &coming.doing).await?;
            let broke = self.take(response, &mut coming).await?;
            tries = if coming.count > before { 2 } else { tries + 1 };
            match broke {
                Some(error) if tries > TRIES => return Err(error),
                // What broke off is gone on with where it did.
                Some(_) => tokio::time::sleep(PAUSE * tries).await,
                None => break,
            }
        }
        coming.to.flush().await.map_err(io)?;
        let (found, ..) = coming.hash.finish();
        if found != *digest {
            return Err(self.wrong(digest.clone(), found.to_string()));
        }
        Ok(store.finish_blob(file, digest)?)
    }

    /// Asks for a blob from a byte on.
    async fn blob_from(
        &self,
        repository: &Repository,
        digest: &Digest,
        from: u64,
        doing: &str,
    ) -> Result<Response, RegistryError> {
        let address = self.at(repository, &format!("blobs/{digest}"));
        let make = |client: &Client| {
            let request = client.get(&address);
            Ok(if from == 0 { request } else { request.header(RANGE, format!("bytes={from}-")) })
        };
        let response = self.send(Some((repository, Right::Pull)), doing, true, make).await?;
        self.agreed(response, doing).await
    }

    /// Takes the bytes of an answer. Answers why it broke off, if it did.
    async fn take(&self, response: Response, coming: &mut Coming<'_>) -> Result<Option<RegistryError>, RegistryError> {
        let io = |error: std::io::Error| io_error("write a blob")(error);
        // Not every registry gives parts.
        let mut skip = if response.status() == StatusCode::PARTIAL_CONTENT { 0 } else { coming.count };
        let mut stream = response.bytes_stream();
        while let Some(chunk) = stream.next().await {
            let chunk = match chunk {
                Ok(chunk) => chunk,
                Err(error) => return Ok(Some(self.silent(&coming.doing)(error))),
            };
            let known = usize::try_from(skip).unwrap_or(usize::MAX).min(chunk.len());
            skip -= known as u64;
            let chunk = chunk.slice(known..);
            coming.count += chunk.len() as u64;
            (coming.listeners.count)(chunk.len() as u64);
            if coming.count > coming.size {
                let words = format!("{} is longer than the {} bytes announced", coming.digest.short(), coming.size);
                return Err(self.nonsense("blob", words));
            }
            coming.hash.write_all(&chunk).map_err(io)?;
            coming.to.write_all(&chunk).await.map_err(io)?;
            // Who does not listen any more has had enough.
            if let Some(bytes) = &coming.listeners.bytes
                && bytes.send(chunk).await.is_err()
            {
                coming.listeners.bytes = None;
            }
        }
        Ok(None)
    }
}
