//! `pondrix files`

use std::path::PathBuf;
use std::process::ExitCode;

use clap::Args;
use pondrix_api::RunDetail;
use pondrix_core::run::Product;

use super::run_name;
use crate::cli::Global;
use crate::failure::{Failure, Outcome};
use crate::{output, settings};

/// List the files that a run's jobs kept, or fetch them.
#[derive(Debug, Args)]
pub(crate) struct Files {
    /// The run: PROJECT#NUMBER, or #NUMBER in a checkout.
    run: String,
    /// The name that they were kept under; or JOB:NAME, or STAGE/JOB:NAME, where several jobs kept one.
    name: Option<String>,
    /// Put them into this folder, which is made.
    #[arg(long, value_name = "FOLDER", requires = "name")]
    into: Option<PathBuf>,
}

/// What jobs kept: the job, the name, how many files, how many bytes.
fn kept(detail: &RunDetail) -> Vec<(String, String, u64, u64)> {
    let jobs = detail.stages.iter().flat_map(|stage| &stage.jobs);
    let of_job = |job: &pondrix_api::JobView| {
        let job_name = job.job.clone();
        job.products
            .iter()
            .filter_map(move |product| match product {
                Product::Files { name, count, bytes, .. } => Some((job_name.clone(), name.clone(), *count, *bytes)),
                _ => None,
            })
            .collect::<Vec<_>>()
    };
    jobs.flat_map(of_job).collect()
}

impl Files {
    pub(crate) async fn run(self, global: &Global) -> Outcome {
        let client = settings::client(global)?;
        let run = run_name::resolve(&client, &self.run).await?;
        let all = kept(&client.run(&run).await?);
        let Some(wanted) = &self.name else {
            if global.json {
                let row = |(job, name, count, bytes): &(String, String, u64, u64)| serde_json::json!({ "job": job, "name": name, "files": count, "bytes": bytes });
                output::json(&all.iter().map(row).collect::<Vec<_>>())?;
            } else if all.is_empty() {
                output::line(&format!("{run} kept no files"));
            } else {
                let row = |(job, name, count, bytes): &(String, String, u64, u64)| {
                    vec![name.clone(), job.clone(), count.to_string(), output::bytes(*bytes)]
                };
                output::table(&["NAME", "KEPT BY", "FILES", "SIZE"], &all.iter().map(row).collect::<Vec<_>>());
            }
            return Ok(ExitCode::SUCCESS);
        };
        let fits = |(job, name, ..): &&(String, String, u64, u64)| {
            let short = job.split_once('/').map_or(job.as_str(), |(_, short)| short);
            *wanted == *name || *wanted == format!("{job}:{name}") || *wanted == format!("{short}:{name}")
        };
        let found: Vec<_> = all.iter().filter(fits).collect();
        let [(job, name, ..)] = found[..] else {
            let names: Vec<_> = all.iter().map(|(job, name, ..)| format!("{job}:{name}")).collect();
            let names = if names.is_empty() { "nothing".to_owned() } else { names.join(", ") };
            let what = if found.is_empty() { "did not keep" } else { "kept more than one" };
            return Err(Failure::usage(format!("{run} {what} `{wanted}`; it kept {names}")));
        };
        match self.into {
            None => {
                let files = client.kept(&run, job, name).await?;
                if global.json {
                    output::json(&files)?;
                } else {
                    let row = |file: &pondrix_api::KeptFile| {
                        let link = file.link.as_ref().map(|link| format!(" -> {link}")).unwrap_or_default();
                        vec![
                            format!("{}{link}", output::plain(&file.path)),
                            output::bytes(file.size),
                            file.digest.short(),
                        ]
                    };
                    output::table(&["FILE", "SIZE", "DIGEST"], &files.files.iter().map(row).collect::<Vec<_>>());
                }
            }
            Some(into) => {
                let archive = client.kept_archive(&run, job, name).await?;
                std::fs::create_dir_all(&into)?;
                let mut archive = tar::Archive::new(flate2::read::GzDecoder::new(&archive[..]));
                archive.unpack(&into).map_err(|error| Failure::new(format!("{}: {error}", into.display())))?;
                if !global.json {
                    output::line(&format!("{name} of {run} {job} is in {}", into.display()));
                }
            }
        }
        Ok(ExitCode::SUCCESS)
    }
}
