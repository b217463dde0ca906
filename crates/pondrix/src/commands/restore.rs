//! `pondrix restore`

use std::path::PathBuf;
use std::process::ExitCode;

use clap::Args;
use pondrix_server::{MasterSource, Restored, restore};
use serde_json::json;

use crate::cli::Global;
use crate::failure::{Failure, Outcome};
use crate::output;

/// Put a backup into a new folder, for `pondrix serve --data`, and prove it: every file is what it was, the records
/// are sound, every run can be read. Runs that went on when it was made are stopped when the server starts.
#[derive(Debug, Args)]
pub(crate) struct Restore {
    /// The backup.
    file: PathBuf,
    /// The folder: one that is empty, or not there yet.
    #[arg(long, value_name = "FOLDER")]
    data: PathBuf,
    /// The master key: `secrets.key` of the server whose backup this is, or where else it comes from (`credential:NAME`,
    /// `command:LINE`). Without it all secrets, and passwords of registries, are to be set again.
    #[arg(long, value_name = "FROM")]
    key: Option<MasterSource>,
}

impl Restore {
    pub(crate) fn run(self, global: &Global) -> Outcome {
        let restored = restore(&self.file, &self.data, self.key.as_ref())
            .map_err(|error| Failure::new(format!("{}: {error}", self.file.display())))?;
        self.report(&restored, global)?;
        Ok(ExitCode::SUCCESS)
    }

    fn report(&self, restored: &Restored, global: &Global) -> Result<(), Failure> {
        let Restored { checked, projects, runs, going_on, unreadable, sealed } = restored;
        if global.json {
            return output::json(&json!({
                "data": self.data, "made": checked.made, "projects": projects, "runs": runs, "files": checked.files,
                "bytes": checked.bytes, "going_on": going_on, "unreadable": unreadable, "sealed": sealed,
                "missing": checked.missing, "left_out": checked.left_out,
            }));
        }
        let data = self.data.display();
        output::line(&format!(
            "{} holds {projects} projects, {runs} runs and {} files, as they were {}; all of it is proved",
            output::strong(&data.to_string()),
            checked.files,
            output::ago(checked.made),
        ));
        let note = |count: usize, words: &str| {
            if count > 0 {
                output::line(&format!("  {count} {words}"));
            }
        };
        note(
            going_on.len(),
            &format!("runs went on then, and are stopped when the server starts: {}", going_on.join(", ")),
        );
        note(unreadable.len(), &format!("runs could not be read then either: {}", unreadable.join(", ")));
        note(
            *sealed,
            "secrets, passwords and kubeconfigs stay closed without their key: give --key, or set them again",
        );
        note(checked.missing.len(), "contents were missing when it was made");
        note(checked.left_out, "contents of artifacts and caches were left out of it, and all logs");
        output::line(&format!("Start it: pondrix serve --data {data}"));
        output::line("The tokens of people and runners are the same.");
        Ok(())
    }
}
