//! `pondrix whoami`

use std::process::ExitCode;

use clap::Args;

use super::role::place;
use crate::cli::Global;
use crate::failure::Outcome;
use crate::{output, settings};

/// Tell which server the commands talk to, and as whom.
#[derive(Debug, Args)]
pub(crate) struct Whoami {}

impl Whoami {
    pub(crate) async fn run(self, global: &Global) -> Outcome {
        let client = settings::client(global)?;
        let identity = client.whoami().await?;
        if global.json {
            output::json(&identity)?;
        } else {
            output::line(&format!("{} at {} (Pondrix {})", identity.name, client.address(), identity.version));
            if !identity.teams.is_empty() {
                output::line(&format!("  of {}", identity.teams.join(", ")));
            }
            let roles = identity.roles.iter().map(|grant| format!("{} in {}", grant.role, place(&grant.projects)));
            let roles: Vec<_> = roles.collect();
            let may = if roles.is_empty() { "nothing yet".to_owned() } else { roles.join(", ") };
            output::line(&format!("  may do: {may}"));
            if let Some(limit) = &identity.limit {
                let place = place(&limit.projects);
                output::line(&format!("  with this token no more than: {} in {place}", limit.role));
            }
        }
        Ok(ExitCode::SUCCESS)
    }
}
