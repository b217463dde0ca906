//! `pondrix check`

use std::path::PathBuf;
use std::process::ExitCode;

use clap::Args;
use pondrix_core::pipeline::{self, FILE_NAME, Fault, JobKind, Pipeline, Spanned, Templates};
use serde_json::json;

use crate::cli::Global;
use crate::failure::{Failure, Outcome, USAGE};
use crate::shared::pipeline_file::{print_faults, templates, text};
use crate::shared::run_name;
use crate::{output, settings};

/// Find every fault in a pipeline file.
///
/// Where you are signed in, and this is a checkout of a repository that the server knows, the names of secrets are
/// checked too. Templates that the file uses are fetched from the server.
#[derive(Debug, Args)]
pub(crate) struct Check {
    /// The file, or `-` for standard input.
    #[arg(default_value = FILE_NAME, value_name = "FILE")]
    file: PathBuf,
    /// Ask the server nothing.
    #[arg(long)]
    offline: bool,
}

impl Check {
    pub(crate) async fn run(self, global: &Global) -> Outcome {
        let (name, text) = text(&self.file)?;
        let templates = if self.offline { unasked(&text) } else { templates(global, &text).await };
        let read = match pipeline::read_with(&text, &templates) {
            Ok(pipeline) if !self.offline => {
                let faults = missing_secrets(global, &text, &templates, &pipeline).await;
                if faults.is_empty() { Ok(pipeline) } else { Err(faults) }
            }
            other => other,
        };
        match read {
            Ok(pipeline) => {
                let jobs: Vec<_> =
                    pipeline.jobs().map(|(stage, job)| format!("{}/{}", stage.name.value, job.name.value)).collect();
                if global.json {
                    output::json(&json!({ "file": name, "faults": [], "jobs": jobs }))?;
                } else {
                    let (stages, count) = (pipeline.stages.len(), jobs.len());
                    let plural = |count: usize| if count == 1 { "" } else { "s" };
                    output::line(&format!(
                        "{name} is valid: {stages} stage{}, {count} job{} ({})",
                        plural(stages),
                        plural(count),
                        jobs.join(", ")
                    ));
                }
                Ok(ExitCode::SUCCESS)
            }
            Err(faults) => {
                if global.json {
                    output::json(&json!({ "file": name, "faults": faults, "jobs": [] }))?;
                } else {
                    print_faults(&name, &faults);
                }
                Ok(ExitCode::from(USAGE))
            }
        }
    }
}

/// Says which templates are not looked at.
fn unasked(text: &str) -> Templates {
    for name in pipeline::uses(text) {
        eprintln!("The template {name} was not looked at.");
    }
    Templates::new()
}

/// The secrets that jobs name and the project does not have, as far as a server can be asked.
async fn missing_secrets(global: &Global, text: &str, templates: &Templates, pipeline: &Pipeline) -> Vec<Fault> {
    let named: Vec<_> = pipeline
        .jobs()
        .filter_map(|(_, job)| if let JobKind::Steps(steps) = &job.kind { Some(&steps.secrets) } else { None })
        .flatten()
        .map(|secret| &secret.name)
        .collect();
    if named.is_empty() {
        return Vec::new();
    }
    let there = async {
        let client = settings::client(global)?;
        let project = run_name::project_here(&client).await?;
        Ok::<_, Failure>((client.secrets(&project).await?.secrets, project))
    };
    let (there, project) = match there.await {
        Ok(there) => there,
        Err(failure) => {
            eprintln!("The names of secrets were not checked: {}", failure.message());
            return Vec::new();
        }
    };
    let known: Vec<_> = there.iter().map(|secret| secret.name.as_str()).collect();
    let fault = |name: &&Spanned<String>| {
        let near = pipeline::nearest(&name.value, &known).map(|near| format!("did you mean `{near}`? or "));
        let help = format!("{}set it: pondrix secret set {project} {}", near.unwrap_or_default(), name.value);
        let message = format!("{project} has no secret `{}`", name.value);
        pipeline::fault_at(text, templates, name.span, &message, Some(help))
    };
    named.iter().filter(|name| !known.contains(&name.value.as_str())).map(fault).collect()
}
