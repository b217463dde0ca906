//! Fetching blobs: what breaks off goes on where it did, and is checked at its end.

use std::fs::File;
use std::io::{self, IoSlice, Write};
use std::time::Duration;

use bytes::Bytes;
use futures_util::StreamExt;
use pondrix_core::image::{Digest, Repository};
use reqwest::header::RANGE;
use reqwest::{Client, Response, StatusCode};
use tempfile::NamedTempFile;
use tokio::sync::mpsc::{self, Sender};
use tokio::task::JoinHandle;

use super::RegistryError;
use super::pull::Unpacking;
use super::wire::{Registry, Right};
use crate::Store;
use crate::hash::{Hashing, digest_of_file};
use crate::once::Turn;
use crate::store::io_error;

/// How often in a row a blob may break off without a byte of it having come.
const TRIES: u32 = 5;
/// How long to wait before it is asked for again, for each time.
const PAUSE: Duration = Duration::from_millis(100);
/// How many pieces of a blob may wait to be written.
const AHEAD: usize = 64;
/// How many bytes are written at once.
const AT_ONCE: usize = 1 << 20;

/// Who is told of a blob that comes.
pub(super) struct Listeners<'a> {
    /// How many further bytes have come.
    pub(super) count: &'a (dyn Fn(u64) + Sync),
    /// Who unpacks the blob while it comes. Nothing goes there where the blob is in the store, or somebody else fetches
    /// it.
    pub(super) unpacking: Option<Unpacking>,
}

impl Listeners<'_> {
    /// Nobody.
    pub(super) const NONE: Listeners<'static> = Listeners { count: &|_| (), unpacking: None };
}

/// A blob that comes.
struct Coming<'a> {
    digest: &'a Digest,
    size: u64,
    /// How many bytes have come.
    count: u64,
    /// Nothing where it is unpacked while it comes: what it unpacks to proves it, and hashing is most of the work.
    hash: Option<Hashing<io::Sink>>,
    to: Writing,
    tell: &'a (dyn Fn(u64) + Sync),
    unpacking: Option<Unpacking>,
    doing: String,
}

/// The writing of a file, on a thread of its own: what has come is not copied once more, and waits for no disk.
struct Writing {
    to: Sender<Bytes>,
    work: JoinHandle<io::Result<()>>,
}

impl Writing {
    fn begin(mut file: File) -> Self {
        let (to, mut from) = mpsc::channel::<Bytes>(AHEAD);
        let work = tokio::task::spawn_blocking(move || {
            let (mut chunks, mut length) = (Vec::new(), 0);
            while let Some(chunk) = from.blocking_recv() {
                length += chunk.len();
                chunks.push(chunk);
                if length >= AT_ONCE {
                    write_all(&mut file, &mut chunks)?;
                    length = 0;
                }
            }
            write_all(&mut file, &mut chunks)
        });
        Self { to, work }
    }

    /// Writes the next bytes; answers whether what came before could be written.
    async fn take(&self, chunk: Bytes) -> bool {
        self.to.send(chunk).await.is_ok()
    }

    async fn end(self) -> io::Result<()> {
        drop(self.to);
        self.work.await.unwrap_or_else(|error| Err(error.into()))
    }
}

/// Writes pieces one after the other, in as few calls as the system takes, and empties the list.
fn write_all(file: &mut File, chunks: &mut Vec<Bytes>) -> io::Result<()> {
    let mut slices: Vec<_> = chunks.iter().map(|chunk| IoSlice::new(chunk)).collect();
    let mut rest = slices.as_mut_slice();
    // An empty piece is no end.
    IoSlice::advance_slices(&mut rest, 0);
    while !rest.is_empty() {
        match file.write_vectored(rest) {
            Ok(0) => return Err(io::ErrorKind::WriteZero.into()),
            Ok(count) => IoSlice::advance_slices(&mut rest, count),
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            Err(error) => return Err(error),
        }
    }
    chunks.clear();
    Ok(())
}

impl Registry {
    /// Brings a blob into the store, unless it is there. Answers whether this registry gave it now: it may have been
    /// somebody else's.
    pub(super) async fn fetch_blob(
        &self,
        repository: &Repository,
        digest: &Digest,
        size: u64,
        store: &Store,
        listeners: Listeners<'_>,
    ) -> Result<bool, RegistryError> {
        let turn = loop {
            if store.has_blob(digest) {
                return Ok(false);
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
        let Listeners { count, unpacking } = listeners;
        let tell = |bytes| {
            turn.advance(bytes);
            count(bytes);
        };
        let (file, unpacked) = self.take_blob(repository, digest, size, store, &tell, unpacking).await?;
        match unpacked {
            Some(diff_id) => store.finish_unproved_blob(file, digest, &diff_id)?,
            None => store.finish_blob(file, digest)?,
        }
        Ok(true)
    }

    /// Has a blob shown that is in the store: who can give it may have it.
    pub(super) async fn show_blob(
        &self,
        repository: &Repository,
        digest: &Digest,
        size: u64,
        store: &Store,
    ) -> Result<(), RegistryError> {
        self.take_blob(repository, digest, size, store, &|_| (), None).await.map(drop)
    }

    /// Takes a blob into a file of the store's that has no name yet. It is the right one, or unpacked to what is answered.
    async fn take_blob(
        &self,
        repository: &Repository,
        digest: &Digest,
        size: u64,
        store: &Store,
        tell: &(dyn Fn(u64) + Sync),
        unpacking: Option<Unpacking>,
    ) -> Result<(NamedTempFile, Option<Digest>), RegistryError> {
        let io = |error: io::Error| io_error("write a blob")(error);
        let file = store.unfinished_file()?;
        let mut coming = Coming {
            digest,
            size,
            count: 0,
            hash: unpacking.is_none().then(|| Hashing::new(io::sink())),
            to: Writing::begin(file.reopen().map_err(io)?),
            tell,
            unpacking,
            doing: format!("give {} of {}", digest.short(), repository.path()),
        };
        let came = self.take_all(repository, &mut coming).await;
        // It has its files in the store, which are to be whole or gone by the time that this answers.
        let unpacked = match coming.unpacking {
            Some(unpacking) => unpacking.end().await,
            None => None,
        };
        // Of a file that cannot be written this knows why.
        coming.to.end().await.map_err(io)?;
        came?;
        if let Some(diff_id) = unpacked.filter(|_| coming.count == size) {
            return Ok((file, Some(diff_id)));
        }
        let (file, found) = match coming.hash {
            Some(hash) => (file, hash.finish().0),
            None => {
                let hashing = move || digest_of_file(file.reopen()?).map(|found| (file, found));
                tokio::task::spawn_blocking(hashing).await.unwrap_or_else(|error| Err(error.into())).map_err(io)?
            }
        };
        if found != *digest {
            return Err(self.wrong(digest.clone(), found.to_string()));
        }
        Ok((file, None))
    }

    /// Takes all of a blob, in one go or several.
    async fn take_all(&self, repository: &Repository, coming: &mut Coming<'_>) -> Result<(), RegistryError> {
        let mut tries = 1;
        while coming.count < coming.size || tries == 1 {
            let before = coming.count;
            let response = self.blob_from(repository, coming.digest, before, &coming.doing).await?;
            let broke = self.take(response, coming).await?;
            tries = if coming.count > before { 2 } else { tries + 1 };
            match broke {
                Some(error) if tries > TRIES => return Err(error),
                // What broke off is gone on with where it did.
                Some(_) => tokio::time::sleep(PAUSE * tries).await,
                None => break,
            }
        }
        Ok(())
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
        let io = |error: io::Error| io_error("write a blob")(error);
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
            (coming.tell)(chunk.len() as u64);
            if coming.count > coming.size {
                let words = format!("{} is longer than the {} bytes announced", coming.digest.short(), coming.size);
                return Err(self.nonsense("blob", words));
            }
            if let Some(hash) = &mut coming.hash {
                hash.write_all(&chunk).map_err(io)?;
            }
            if let Some(unpacking) = &mut coming.unpacking {
                unpacking.take(chunk.clone()).await;
            }
            if !coming.to.take(chunk).await {
                return Err(io(io::Error::other("its writer has ended")).into());
            }
        }
        Ok(None)
    }
}
