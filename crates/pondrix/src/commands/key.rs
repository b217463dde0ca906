//! `pondrix key`

use std::process::ExitCode;

use clap::{Args, Subcommand};
use pondrix_api::KeysView;

use crate::cli::Global;
use crate::failure::Outcome;
use crate::{output, settings};

/// The keys that secrets are sealed with.
///
/// Each project has a data key, and the server one for what is no project's. They are in the records, wrapped with the
/// master key, which is not, nor in backups.
#[derive(Debug, Subcommand)]
pub(crate) enum Key {
    Show(Show),
    Rotate(Rotate),
}

/// Show which master key there is, by its id, where it comes from, and since when.
#[derive(Debug, Args)]
pub(crate) struct Show {}

/// Make another master key, and wrap the data keys with it. No value is sealed anew, and none is lost, whatever happens on
/// the way. Where the master key comes from a command or a credential, have that give another, and start the server with
/// --former-master-key.
#[derive(Debug, Args)]
pub(crate) struct Rotate {
    /// Another key for identities of jobs, instead: it signs from now on, and what those before it signed is believed no
    /// more. Without this another is made every 30 days, and the one before stays good for what it signed.
    #[arg(long)]
    identity: bool,
}

impl Key {
    pub(crate) async fn run(self, global: &Global) -> Outcome {
        let client = settings::client(global)?;
        let keys = match &self {
            Self::Show(_) => client.keys().await?,
            Self::Rotate(Rotate { identity: true }) => client.rotate_identity_key().await?,
            Self::Rotate(_) => client.rotate_master_key().await?,
        };
        if global.json {
            output::json(&keys)?;
            return Ok(ExitCode::SUCCESS);
        }
        let KeysView { master, from, since, data_keys, identity_keys } = &keys;
        let since = since.map_or_else(String::new, |since| format!(", since {}", output::ago(since)));
        let keys = if *data_keys == 1 { "data key is" } else { "data keys are" };
        output::line(&format!("{data_keys} {keys} wrapped with the master key {}{since}", output::strong(master)));
        output::line(&format!("It comes from {}", output::plain(from)));
        output::line(&format!("Identities of jobs are checked with {}", identity_keys.join(", ")));
        if matches!(self, Self::Rotate(Rotate { identity: false })) {
            output::line("Keep a copy of it elsewhere: backups made from now on open with this one only.");
        }
        Ok(ExitCode::SUCCESS)
    }
}
