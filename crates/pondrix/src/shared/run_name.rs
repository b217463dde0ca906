//! Naming a run: `PROJECT#NUMBER`, or `#NUMBER` in a checkout whose remote the server knows.

use pondrix_api::Client;
use pondrix_core::{ProjectName, RunId};

use crate::failure::Failure;
use crate::git;

/// The run that a text names.
pub(crate) async fn resolve(client: &Client, text: &str) -> Result<RunId, Failure> {
    let Some(number) = text.strip_prefix('#') else {
        return text.parse().map_err(|error| Failure::usage(format!("{error}")));
    };
    let project = project_here(client)
        .await
        .map_err(|failure| failure.advise(format!("write the project too: PROJECT#{number}")))?;
    format!("{project}#{number}").parse().map_err(|error| Failure::usage(format!("{error}")))
}

/// The project whose repository this folder is a checkout of.
pub(crate) async fn project_here(client: &Client) -> Result<ProjectName, Failure> {
    let remotes = git::remotes();
    let projects = client.projects().await?.projects;
    let project = projects.into_iter().find(|project| remotes.contains(&project.repository));
    let project =
        project.ok_or_else(|| Failure::usage("this folder is no checkout of a repository that the server knows"))?;
    project.name.parse().map_err(|error| Failure::new(format!("{error}")))
}
