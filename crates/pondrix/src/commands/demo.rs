//! `pondrix demo`

use std::path::PathBuf;

use clap::Args;

use crate::demo;
use crate::failure::Outcome;

/// Run everything on this machine with sample data: server, registry, cluster, repositories.
#[derive(Debug, Args)]
pub(crate) struct Demo {
    /// The folder for everything; a fresh temporary one, removed at the end, by default.
    #[arg(long, value_name = "FOLDER")]
    data: Option<PathBuf>,
    /// Play the whole story, check each point, and end.
    #[arg(long)]
    once: bool,
}

impl Demo {
    pub(crate) async fn run(self) -> Outcome {
        demo::run(self.data, self.once).await
    }
}
