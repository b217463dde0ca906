//! `pondrix draft`

use std::path::Path;
use std::process::ExitCode;

use clap::Args;
use pondrix_core::draft::{self, Found, Repository};
use pondrix_core::pipeline::{self, FILE_NAME};

use super::check;
use crate::cli::Global;
use crate::failure::{Failure, Outcome};
use crate::{git, output};

/// Write a first pipeline file for this repository, from what is in it.
#[derive(Debug, Args)]
pub(crate) struct Draft {
    /// The registry that images are pushed to and base images are in.
    #[arg(long, default_value = "registry.example.test", value_name = "HOST")]
    registry: String,
    /// Print it instead of writing the file.
    #[arg(long)]
    print: bool,
}

/// As much of a file as is read to know what it is.
const LONGEST: u64 = 64 * 1024;

fn beginning(path: &Path) -> String {
    use std::io::Read as _;
    let mut bytes = Vec::new();
    let is_file = path.symlink_metadata().is_ok_and(|data| data.is_file());
    if is_file && let Ok(file) = std::fs::File::open(path) {
        let _ = file.take(LONGEST).read_to_end(&mut bytes);
    }
    String::from_utf8(bytes).unwrap_or_default()
}

impl Draft {
    pub(crate) fn run(self, global: &Global) -> Outcome {
        let root = git::root().map_err(|words| Failure::usage(format!("this is no checkout: {words}")))?;
        let file = root.join(FILE_NAME);
        if !self.print && file.exists() {
            let message = format!("{} is there already, and is not touched", file.display());
            return Err(Failure::usage(message).advise("look at a draft with: pondrix draft --print"));
        }
        let paths = git::files().map_err(Failure::new)?;
        let found = paths
            .iter()
            .filter_map(|path| Some(Found { path: path.to_str()?.to_owned(), text: beginning(&root.join(path)) }));
        let name = root.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
        let repository = Repository {
            name,
            branch: git::current_branch().unwrap_or_else(|| "main".to_owned()),
            registry: self.registry,
            files: found.collect(),
        };
        let text = draft::draft(&repository);
        if let Err(faults) = pipeline::read(&text) {
            // A registry's name is the only thing here that can be wrong.
            check::print_faults(FILE_NAME, &faults);
            return Err(Failure::usage("no draft can be made with these"));
        }
        if self.print {
            if global.json {
                output::json(&serde_json::json!({ "file": FILE_NAME, "text": text }))?;
            } else {
                output::line(text.trim_end());
            }
            return Ok(ExitCode::SUCCESS);
        }
        std::fs::write(&file, &text).map_err(|error| Failure::new(format!("{}: {error}", file.display())))?;
        if global.json {
            output::json(&serde_json::json!({ "file": file, "text": text }))?;
        } else {
            output::line(&format!("Wrote {}. Read it, change it, then: pondrix check, pondrix try", file.display()));
        }
        Ok(ExitCode::SUCCESS)
    }
}
