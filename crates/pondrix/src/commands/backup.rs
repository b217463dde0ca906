//! `pondrix backup`

use std::fs::File;
use std::io::{BufReader, Write};
use std::path::{Path, PathBuf};
use std::pin::pin;
use std::process::ExitCode;

use clap::Args;
use futures_util::StreamExt;
use pondrix_api::Client;
use pondrix_server::{Checked, check_backup};
use serde_json::json;

use crate::cli::Global;
use crate::failure::{Failure, Outcome};
use crate::{output, settings};

/// Make a backup of the server while it serves: records, logs, artifacts, caches. It is proved before it takes the
/// place of an older one of the same name.
///
/// The key for secrets, `secrets.key` in the server's folder, is not in it: keep a copy of that elsewhere, or nobody
/// can open the secrets of a backup. Repositories are not in it either; they are fetched anew.
#[derive(Debug, Args)]
pub(crate) struct Backup {
    /// The file to make.
    file: PathBuf,
    /// Leave out logs, and the contents of artifacts and caches.
    #[arg(long)]
    records_only: bool,
}

impl Backup {
    pub(crate) async fn run(self, global: &Global) -> Outcome {
        let client = settings::client(global)?;
        let told = |error: std::io::Error| Failure::new(format!("{}: {error}", self.file.display()));
        let folder = self.file.parent().filter(|folder| *folder != Path::new("")).unwrap_or(Path::new("."));
        // Only its owner may read it: it has what people wrote into logs, and the secrets of hooks.
        let mut unfinished = tempfile::NamedTempFile::new_in(folder).map_err(told)?;
        fetch(&client, self.records_only, unfinished.as_file_mut()).await?;
        let path = unfinished.path().to_owned();
        let arrived = move |error: &dyn std::fmt::Display| Failure::new(format!("what arrived: {error}"));
        let check = move || {
            let file = File::open(path).map_err(|error| arrived(&error))?;
            check_backup(BufReader::new(file)).map_err(|error| arrived(&error))
        };
        let checked = tokio::task::spawn_blocking(check).await.map_err(|error| Failure::new(error.to_string()))??;
        unfinished.as_file().sync_all().map_err(told)?;
        unfinished.persist(&self.file).map_err(|error| told(error.error))?;
        self.report(&checked, global)?;
        Ok(ExitCode::SUCCESS)
    }

    fn report(&self, checked: &Checked, global: &Global) -> Result<(), Failure> {
        let Checked { made, files, bytes, missing, left_out, .. } = checked;
        let size = std::fs::metadata(&self.file)?.len();
        if global.json {
            return output::json(&json!({
                "file": self.file, "made": made, "files": files, "bytes": bytes, "size": size, "missing": missing,
                "left_out": left_out,
            }));
        }
        let file = output::strong(&self.file.display().to_string());
        output::line(&format!(
            "{file}: the records and {files} files, {} in {}; proved",
            output::bytes(*bytes),
            output::bytes(size)
        ));
        if *left_out > 0 {
            output::line(&format!("Left out: {left_out} contents of artifacts and caches, and all logs"));
        }
        if !missing.is_empty() {
            output::line(&format!("The server does not have {} contents that its records name", missing.len()));
        }
        output::line(
            "The key for secrets is not in it: keep a copy of secrets.key, from the server's folder, elsewhere.",
        );
        Ok(())
    }
}

async fn fetch(client: &Client, records_only: bool, into: &mut File) -> Result<(), Failure> {
    let pieces = client.backup(records_only).await?;
    let mut pieces = pin!(pieces);
    while let Some(piece) = pieces.next().await {
        let piece = piece.map_err(|error| Failure::from(error).advise("nothing was kept; make it again"))?;
        into.write_all(piece.as_ref())?;
    }
    Ok(())
}
