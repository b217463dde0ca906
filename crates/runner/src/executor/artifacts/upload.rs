//! `artifact`: files of the workspace become contents of the server.

use std::collections::BTreeSet;
use std::fs::File;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

use pondrix_api::{ArtifactFile, Digests, JobReport, NewArtifact};
use pondrix_core::Time;
use pondrix_core::image::Digest;
use pondrix_core::pipeline::Artifact;
use pondrix_core::run::JobResult;

use super::walk::{fitting, is_no_more_than_kept};
use crate::executor::context::JobExecutor;
use crate::executor::error::{Doing, JobError};
use crate::executor::leaks::file_holds_none;

/// Hands a content to the server, unless it has it.
pub(super) fn send(executor: &JobExecutor, content: &Path, digest: &Digest) -> Result<(), JobError> {
    let doing = || digest.short();
    let compressed = tempfile::NamedTempFile::new_in(executor.scratch.path()).doing(doing)?;
    let packed = (|| -> std::io::Result<()> {
        let mut encoder = zstd::Encoder::new(compressed.as_file(), 3)?;
        std::io::copy(&mut executor.watch().reader(File::open(content)?), &mut encoder)?;
        encoder.finish().map(|_| ())
    })();
    packed.doing(doing)?;
    Ok(executor.ask(async |client, assignment| client.send_file(assignment, digest, compressed.path()).await)?)
}

/// Whether the files may be kept, by their lengths: asked before any of them is read.
fn has_room(executor: &JobExecutor, workspace: &Path, paths: &[PathBuf]) -> Result<(), JobError> {
    let mut bytes = 0_u64;
    for path in paths {
        executor.watch().check()?;
        let data = workspace.join(path).symlink_metadata()?;
        bytes = bytes.saturating_add(if data.is_file() { data.len() } else { 0 });
    }
    is_no_more_than_kept(bytes)?;
    let digests = Digests { digests: Vec::new(), bytes };
    executor.ask(async |client, assignment| client.missing(assignment, &digests).await)?;
    Ok(())
}

/// Leaves the files that fit, and says so.
pub(crate) fn upload(executor: &JobExecutor, workspace: &Path, artifact: &Artifact) -> Result<(), JobError> {
    let name = &artifact.name.value;
    let doing = || format!("could not keep the artifact `{name}`");
    let told = |words: &str| Err(JobError::asked(words)).doing(doing);
    let paths = fitting(workspace, &artifact.patterns, executor.watch()).doing(doing)?;
    if paths.is_empty() {
        let patterns = artifact.patterns.join(", ");
        return Err(JobError::Asked(format!("no file fits the artifact `{name}`: {patterns}")));
    }
    has_room(executor, workspace, &paths).doing(doing)?;
    let mut files = Vec::new();
    for relative in paths {
        let path = workspace.join(&relative);
        let Some(shown) = relative.to_str().map(str::to_owned) else {
            return told(&format!("{} is not UTF-8", relative.display()));
        };
        let data = path.symlink_metadata().doing(doing)?;
        if data.is_symlink() {
            let link = std::fs::read_link(&path).doing(doing)?.display().to_string();
            if !artifact.holds_secrets {
                file_holds_none(executor, name, &path, &shown, Some(&link))?;
            }
            let digest = Digest::from_bytes(&[0; 32]);
            files.push(ArtifactFile { path: shown, digest, size: 0, executable: false, link: Some(link) });
        } else if data.is_file() {
            if !artifact.holds_secrets {
                file_holds_none(executor, name, &path, &shown, None)?;
            }
            let executable = data.permissions().mode() & 0o111 != 0;
            let (digest, size) = executor.folder.contents.put(&path, executable).doing(doing)?;
            files.push(ArtifactFile { path: shown, digest, size, executable, link: None });
        }
        // Sockets and pipes are no files that anybody could take.
    }
    let digests: BTreeSet<Digest> =
        files.iter().filter(|file| file.link.is_none()).map(|file| file.digest.clone()).collect();
    let bytes = files.iter().map(|file| file.size).sum::<u64>();
    let digests = Digests { digests: digests.into_iter().collect(), bytes };
    let missing = executor.ask(async |client, assignment| client.missing(assignment, &digests).await).doing(doing)?;
    for digest in &missing.digests {
        let contents = &executor.folder.contents;
        let content = contents.find(digest, false).or_else(|| contents.find(digest, true));
        let Some(content) = content else { return told("a content is gone from the runner") };
        send(executor, &content, digest).doing(doing)?;
    }
    let count = files.len() as u64;
    let seconds = artifact.keep.seconds();
    let request = NewArtifact { name: name.clone(), seconds, files };
    executor.ask(async |client, assignment| client.add_artifact(assignment, &request).await).doing(doing)?;
    executor.log.say(&format!("artifact {name}: {count} files, {bytes} bytes, kept for {}", artifact.keep));
    let until = now().plus_millis(i64::from(seconds) * 1000);
    let result = JobResult::Artifact { name: name.clone(), count, bytes, until };
    executor.report(JobReport::Result { result });
    Ok(())
}

fn now() -> Time {
    let since = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap_or_default();
    Time::from_millis(i64::try_from(since.as_millis()).unwrap_or(i64::MAX))
}
