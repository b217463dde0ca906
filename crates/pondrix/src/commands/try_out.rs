//! `pondrix try`

use std::collections::HashSet;
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::time::SystemTime;

use clap::Args;
use pondrix_api::TryRequest;
use pondrix_core::{Size, Time};

use crate::cli::Global;
use crate::failure::{Failure, Outcome};
use crate::shared::inputs::Inputs;
use crate::shared::{follow, run_name};
use crate::{git, output, settings};

/// Run the working folder as it is, uncommitted, on the same runners, and follow it.
///
/// Sent are the files that git knows or does not ignore. Nothing is rolled out to an environment that
/// does not allow it, and images get tags of their own.
#[derive(Debug, Args)]
pub(crate) struct Try {
    /// The project; the one whose repository this is a checkout of, by default.
    #[arg(long, value_name = "PROJECT")]
    project: Option<String>,
    #[command(flatten)]
    inputs: Inputs,
    /// Refuse to send more than this, before it is compressed.
    #[arg(long, default_value = "1GiB", value_name = "SIZE")]
    limit: Size,
    /// Return when the run has begun.
    #[arg(long)]
    detach: bool,
}

impl Try {
    pub(crate) async fn run(self, global: &Global) -> Outcome {
        let client = settings::client(global)?;
        let root = git::root().map_err(|error| Failure::usage(format!("this is no checkout: {error:#}")))?;
        let project = match &self.project {
            Some(name) => name.parse().map_err(|error| Failure::usage(format!("{error}")))?,
            None => run_name::project_here(&client).await?,
        };
        let head = git::head().map_err(|error| Failure::usage(format!("there is no commit yet: {error:#}")))?;
        let changed = git::changed_since("HEAD")?.len();
        let request = TryRequest {
            branch: git::current_branch().unwrap_or_else(|| "detached".to_owned()),
            title: format!("{changed} changed files after {}", &head.commit[..12.min(head.commit.len())]),
            commit: head.commit,
            commit_time: Time::from_millis(head.seconds * 1000),
            author: git::user(),
            inputs: self.inputs.values(),
        };
        let archive = tempfile::NamedTempFile::new()?;
        let (files, unchanged, limit) = (git::files()?, git::unchanged()?, self.limit);
        let (count, bytes) = pack(&root, &files, &unchanged, archive.path(), limit)?;
        if !global.json {
            eprintln!("Trying {count} files ({}) of {}", Size::from_bytes(bytes.max(1)), root.display());
        }
        let run = client.try_files(&project, &request, archive.path()).await?;
        if self.detach {
            if global.json {
                output::json(&run)?;
            } else {
                output::line(&format!("{}  pondrix log '{}' --follow", output::strong(&run.run), run.run));
            }
            return Ok(ExitCode::SUCCESS);
        }
        let id = run.run.parse().map_err(|error| Failure::new(format!("{error}")))?;
        follow::run(&client, &id, global).await
    }
}

/// Packs files, of this moment: to what was built before, they are new. Those that are not changed have no time, and
/// get that of their last commit. Answers how many there are, and how many bytes.
fn pack(
    root: &Path,
    files: &[PathBuf],
    unchanged: &HashSet<PathBuf>,
    into: &Path,
    limit: Size,
) -> Result<(usize, u64), Failure> {
    let now = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).map_or(0, |now| now.as_secs());
    let encoder = zstd::Encoder::new(std::fs::File::create(into)?, 3)?;
    let mut archive = tar::Builder::new(encoder);
    let (mut count, mut bytes) = (0, 0);
    for file in files {
        let path = root.join(file);
        // What git knows and is deleted here, and repositories inside this one, are not sent.
        let Some(data) = path.symlink_metadata().ok().filter(|data| !data.is_dir()) else { continue };
        bytes += if data.is_file() { data.len() } else { 0 };
        if bytes > limit.bytes() {
            let message = format!("these files are more than {limit}: {} is over it", file.display());
            return Err(Failure::usage(message).advise("have git ignore what is not needed, or say --limit SIZE"));
        }
        let mut header = tar::Header::new_gnu();
        header.set_metadata(&data);
        header.set_mtime(if unchanged.contains(file) { 0 } else { now });
        if data.is_symlink() {
            archive.append_link(&mut header, file, std::fs::read_link(&path)?)?;
        } else if data.is_file() {
            archive.append_data(&mut header, file, std::fs::File::open(&path)?)?;
        }
        count += 1;
    }
    archive.into_inner()?.finish()?;
    Ok((count, bytes))
}
