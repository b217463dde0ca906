//! The files that a job works on.

use std::io::BufRead;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};

use pondrix_api::SourceDifference;
use pondrix_image::layer::{self, UnpackError};
use tracing::warn;

use super::context::JobExecutor;
use super::error::{Doing, JobError};
use crate::sources::Claim;

/// What a compressed archive begins with (RFC 8878, section 3.1.1); one of git's does not.
const ZSTD_MAGIC: [u8; 4] = [0x28, 0xb5, 0x2f, 0xfd];

/// How large an archive may be that is kept in memory, in bytes.
const LARGEST_KEPT: u64 = 2 << 20;

/// Whether an archive has its end (POSIX.1-2017, pax, "ustar Interchange Format": two blocks of zeros). One that was
/// cut off between two files is otherwise not told from a whole one.
fn is_whole(archive: &std::fs::File) -> std::io::Result<()> {
    let mut end = [1; 1024];
    let length = archive.metadata()?.len();
    length.checked_sub(1024).map_or(Ok(()), |at| archive.read_exact_at(&mut end, at))?;
    if end == [0; 1024] { Ok(()) } else { Err(std::io::Error::other("what came of them ends too early")) }
}

/// Which times files have.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Times {
    /// Each that of its own last change.
    Own,
    /// All that of the commit.
    OfCommit,
}

/// The files that an image is built from.
pub(crate) struct Source {
    pub(crate) files: PathBuf,
    /// Holds them, where the runner keeps them for the next job.
    pub(crate) claim: Option<Claim>,
}

impl JobExecutor {
    /// The commit's files in a folder of the job's own that root inside the sandbox owns, all of the commit's time: what
    /// a cache brings along was made before.
    pub(crate) fn fetch_source(&self) -> Result<PathBuf, JobError> {
        self.fetch(Times::OfCommit)
    }

    fn fetch(&self, times: Times) -> Result<PathBuf, JobError> {
        let folder = self.room().join("source");
        self.fetch_into(&folder, times, None)?;
        Ok(folder)
    }

    /// The commit's files, each of the time of its own last change, in a folder that is only read: the one that the
    /// runner keeps, where it is free.
    pub(crate) fn keep_source(&self) -> Result<Source, JobError> {
        let facts = &self.assignment.facts;
        let claim = self.folder.sources.claim(&facts.id.project, &facts.commit);
        let kept = claim.map(|claim| self.bring_up_to_date(claim)).transpose()?.flatten();
        Ok(match kept {
            Some(claim) => Source { files: claim.files(), claim: Some(claim) },
            None => Source { files: self.fetch(Times::Own)?, claim: None },
        })
    }

    /// Makes kept files those of the commit; nothing when the job's are no commit's.
    fn bring_up_to_date(&self, mut claim: Claim) -> Result<Option<Claim>, JobError> {
        let doing = || "could not keep the commit's files".to_owned();
        let since = claim.commit();
        let changes = self.ask(async |client, assignment| client.source_changes(assignment, since.as_deref()).await);
        let changes = changes.doing(doing)?;
        if changes.commit.as_ref() != Some(&self.assignment.facts.commit) {
            return Ok(None);
        }
        if claim.is_ready {
            return Ok(Some(claim));
        }
        claim.begin().doing(doing)?;
        let changed = since.zip(changes.difference).map(|(since, difference)| self.change(&claim, &since, &difference));
        match changed {
            Some(Ok(())) => {}
            other => {
                // Whatever is wrong with what is here, it gives way to what is right.
                if let Some(Err(error)) = other {
                    warn!(%error, "the kept files of a project are fetched anew");
                }
                claim.clear().doing(doing)?;
                self.fetch_into(&claim.files(), Times::Own, None)?;
            }
        }
        claim.finish().doing(doing)?;
        if let Err(error) = self.folder.sources.free_space() {
            warn!(%error, "could not remove files of a project");
        }
        Ok(Some(claim))
    }

    /// Makes the files of an earlier commit those of the job's.
    fn change(&self, claim: &Claim, since: &str, difference: &SourceDifference) -> Result<(), JobError> {
        difference.removed.iter().try_for_each(|path| claim.remove(path))?;
        if difference.changed > 0 {
            self.fetch_into(&claim.files(), Times::Own, Some(since))?;
        }
        difference.retimed.iter().try_for_each(|(path, time)| claim.retime(path, *time))?;
        let (changed, removed) = (difference.changed, difference.removed.len());
        self.log
            .say(&format!("the files of commit {since:.12} are kept here: {changed} changed since, {removed} removed"));
        Ok(())
    }

    /// Fetches the commit's files, or those that changed since another, into a folder.
    fn fetch_into(&self, folder: &Path, times: Times, since: Option<&str>) -> Result<(), JobError> {
        let facts = &self.assignment.facts;
        // Files that are tried are no commit's.
        let name =
            (since.is_none() && !facts.is_try).then(|| format!("{} {} {times:?}", facts.id.project, facts.commit));
        let doing = || "could not fetch the commit's files".to_owned();
        if let Some(kept) = name.as_ref().and_then(|name| self.folder.archives.get(name)) {
            return layer::unpack_files(&kept[..], folder, self.launcher.ids()).doing(doing);
        }
        let archive = self.scratch.path().join("source.tar");
        let fetched = self.ask(async |client, assignment| match since {
            Some(since) => client.source_since(assignment, since, &archive).await,
            None => client.source(assignment, times == Times::Own, &archive).await,
        });
        fetched.doing(doing)?;
        let unpacked = std::fs::File::open(&archive).map_err(UnpackError::from).and_then(|file| {
            let mut file = std::io::BufReader::new(file);
            let ids = self.launcher.ids();
            if !file.fill_buf()?.starts_with(&ZSTD_MAGIC) {
                is_whole(file.get_ref())?;
                return layer::unpack_files(file, folder, ids);
            }
            let mut decoder = zstd::Decoder::with_buffer(file)?;
            layer::unpack_files(&mut decoder, folder, ids)?;
            // Behind the last file stands what proves that all of it is there.
            std::io::copy(&mut decoder, &mut std::io::sink())?;
            Ok(())
        });
        unpacked.doing(doing)?;
        let is_small = || std::fs::metadata(&archive).is_ok_and(|data| data.len() <= LARGEST_KEPT);
        if let Some(name) = name.filter(|_| is_small()) {
            let bytes = std::fs::read(&archive).doing(doing)?;
            self.folder.archives.keep(name, bytes.into());
        }
        let _ = std::fs::remove_file(&archive);
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use std::io::Write;

    use super::*;

    #[test]
    fn an_archive_that_was_cut_off_between_two_files_is_not_taken_for_a_whole_one() {
        let mut builder = tar::Builder::new(Vec::new());
        for name in ["lily", "fern"] {
            let mut header = tar::Header::new_gnu();
            header.set_size(512);
            builder.append_data(&mut header, name, &[b'x'; 512][..]).unwrap();
        }
        let bytes = builder.into_inner().unwrap();
        let checked = |bytes: &[u8]| {
            let mut file = tempfile::tempfile().unwrap();
            file.write_all(bytes).unwrap();
            is_whole(&file).is_ok()
        };
        assert!(checked(&bytes));
        // Each file is a head and a block.
        for cut in [0, 512, 1024, 2048, bytes.len() - 512] {
            assert!(!checked(&bytes[..cut]), "{cut}");
        }
    }
}
