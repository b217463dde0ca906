//! `pondrix artifact`

use std::io::Read;
use std::path::{Component, Path, PathBuf};
use std::process::ExitCode;

use clap::{Args, Subcommand};
use pondrix_api::{ArtifactFile, Client, RunDetail};
use pondrix_core::RunId;
use pondrix_core::run::JobResult;
use serde_json::json;

use crate::cli::Global;
use crate::failure::{Failure, Outcome};
use crate::shared::run_name;
use crate::{output, settings};

/// Files that jobs left for later jobs and for people.
#[derive(Debug, Subcommand)]
pub(crate) enum ArtifactCommand {
    List(List),
    Fetch(Fetch),
}

/// List a run's artifacts, or the files of one.
#[derive(Debug, Args)]
pub(crate) struct List {
    /// The run: PROJECT#NUMBER, or #NUMBER in a checkout.
    run: String,
    /// The artifact: its name; or JOB:NAME, or STAGE/JOB:NAME, where several jobs left one of that name.
    name: Option<String>,
}

/// Fetch a run's artifacts, or one of them.
#[derive(Debug, Args)]
pub(crate) struct Fetch {
    /// The run: PROJECT#NUMBER, or #NUMBER in a checkout.
    run: String,
    /// The artifact: its name; or JOB:NAME, or STAGE/JOB:NAME, where several jobs left one of that name. All of
    /// the run's, each into a folder of its name, by default.
    name: Option<String>,
    /// Put the files into this folder, which is made where it is not there.
    #[arg(long, value_name = "FOLDER", default_value = ".")]
    into: PathBuf,
}

/// An artifact of a run.
struct Artifact {
    job: String,
    name: String,
    files: u64,
    bytes: u64,
}

impl Artifact {
    /// Those of a run, in the order of its jobs.
    fn all(detail: &RunDetail) -> Vec<Self> {
        let jobs = detail.stages.iter().flat_map(|stage| &stage.jobs);
        let results = jobs.flat_map(|job| job.results.iter().map(move |result| (job, result)));
        let artifact = |(job, result): (&pondrix_api::JobView, &JobResult)| match result {
            JobResult::Artifact { name, count, bytes, .. } => {
                Some(Self { job: job.job.clone(), name: name.clone(), files: *count, bytes: *bytes })
            }
            _ => None,
        };
        results.filter_map(artifact).collect()
    }

    /// What means it and no other of its run.
    fn full_name(&self) -> String {
        format!("{}:{}", self.job, self.name)
    }

    /// The one that a word means.
    fn meant(run: &RunId, all: Vec<Self>, wanted: &str) -> Result<Self, Failure> {
        let names: Vec<_> = all.iter().map(Self::full_name).collect();
        let fits = |one: &Self| {
            let short = one.job.split_once('/').map_or(one.job.as_str(), |(_, short)| short);
            wanted == one.name || wanted == one.full_name() || wanted == format!("{short}:{}", one.name)
        };
        let mut found: Vec<_> = all.into_iter().filter(fits).collect();
        match found.len() {
            1 => Ok(found.remove(0)),
            0 => {
                let names = if names.is_empty() { "none".to_owned() } else { names.join(", ") };
                Err(Failure::usage(format!("{run} has no artifact `{wanted}`; it has {names}")))
            }
            _ => {
                let names: Vec<_> = found.iter().map(Self::full_name).collect();
                Err(Failure::usage(format!("{run} has more than one artifact `{wanted}`: {}", names.join(", "))))
            }
        }
    }
}

impl ArtifactCommand {
    pub(crate) async fn run(self, global: &Global) -> Outcome {
        let client = settings::client(global)?;
        let (Self::List(List { run, .. }) | Self::Fetch(Fetch { run, .. })) = &self;
        let run = run_name::resolve(&client, run).await?;
        let all = Artifact::all(&client.run(&run).await?);
        match self {
            Self::List(List { name: None, .. }) => list(&run, &all, global)?,
            Self::List(List { name: Some(name), .. }) => {
                list_files(&client, &run, &Artifact::meant(&run, all, &name)?, global).await?;
            }
            Self::Fetch(Fetch { name: Some(name), into, .. }) => {
                let fetched = fetch(&client, &run, &Artifact::meant(&run, all, &name)?, &into, global).await?;
                if global.json {
                    output::json(&[fetched])?;
                }
            }
            Self::Fetch(Fetch { name: None, into, .. }) => {
                if all.is_empty() {
                    return Err(Failure::new(format!("{run} has no artifacts")));
                }
                let mut fetched = Vec::new();
                for one in &all {
                    let is_only = all.iter().filter(|other| other.name == one.name).count() == 1;
                    let of_job = if is_only { into.clone() } else { into.join(one.job.replace('/', "-")) };
                    fetched.push(fetch(&client, &run, one, &of_job.join(&one.name), global).await?);
                }
                if global.json {
                    output::json(&fetched)?;
                }
            }
        }
        Ok(ExitCode::SUCCESS)
    }
}

fn list(run: &RunId, all: &[Artifact], global: &Global) -> Result<(), Failure> {
    if global.json {
        let row = |one: &Artifact| json!({ "job": one.job, "name": one.name, "files": one.files, "bytes": one.bytes });
        return output::json(&all.iter().map(row).collect::<Vec<_>>());
    }
    if all.is_empty() {
        output::line(&format!("{run} has no artifacts"));
        return Ok(());
    }
    let row = |one: &Artifact| vec![one.name.clone(), one.job.clone(), one.files.to_string(), output::bytes(one.bytes)];
    output::table(&["ARTIFACT", "JOB", "FILES", "SIZE"], &all.iter().map(row).collect::<Vec<_>>());
    Ok(())
}

async fn list_files(client: &Client, run: &RunId, artifact: &Artifact, global: &Global) -> Result<(), Failure> {
    let list = client.artifact(run, &artifact.job, &artifact.name).await?;
    if global.json {
        return output::json(&list);
    }
    let row = |file: &ArtifactFile| {
        let link = file.link.as_ref().map(|link| format!(" -> {}", output::plain(link))).unwrap_or_default();
        vec![format!("{}{link}", output::plain(&file.path)), output::bytes(file.size), file.digest.short()]
    };
    output::table(&["FILE", "SIZE", "DIGEST"], &list.files.iter().map(row).collect::<Vec<_>>());
    Ok(())
}

/// Fetches one. Answers where it is, for programs.
async fn fetch(
    client: &Client,
    run: &RunId,
    artifact: &Artifact,
    into: &Path,
    global: &Global,
) -> Result<serde_json::Value, Failure> {
    let Artifact { job, name, files, bytes } = artifact;
    let archive = client.artifact_archive(run, job, name).await?;
    std::fs::create_dir_all(into)?;
    let mut archive = tar::Archive::new(flate2::read::GzDecoder::new(&archive[..]));
    let left_out = unpack(&mut archive, into).map_err(|error| Failure::new(format!("{}: {error}", into.display())))?;
    if !global.json {
        output::line(&format!("{name} of {run} {job} is in {}", into.display()));
        for link in &left_out {
            output::line(&format!("left out, since it leads out of there: {}", output::plain(link)));
        }
    }
    Ok(json!({ "job": job, "name": name, "files": files, "bytes": bytes, "into": into, "left_out": left_out }))
}

/// Puts what a job left into a folder, but links that lead out of it: whoever opens them would open a file of their own, or
/// write to it. Answers those.
fn unpack(archive: &mut tar::Archive<impl Read>, into: &Path) -> std::io::Result<Vec<String>> {
    let mut left_out = Vec::new();
    for entry in archive.entries()? {
        let mut entry = entry?;
        let (path, link) = (entry.path()?.into_owned(), entry.link_name()?.map(std::borrow::Cow::into_owned));
        match link {
            Some(link) if leads_out(&path, &link) => {
                left_out.push(format!("{} -> {}", path.display(), link.display()));
            }
            _ if is_behind_link(into, &path) => left_out.push(path.display().to_string()),
            _ => drop(entry.unpack_in(into)?),
        }
    }
    Ok(left_out)
}

/// Whether a link at a path may lead out of the folder that the path is of: one that goes up behind a name may, whatever it
/// looks like, since that name may be a link too.
fn leads_out(path: &Path, link: &Path) -> bool {
    let folders = path.components().count().saturating_sub(1);
    let up = link.components().take_while(|component| matches!(component, Component::ParentDir | Component::CurDir));
    let up = up.filter(|component| *component == Component::ParentDir).count();
    let mut behind = link.components().skip_while(|component| !matches!(component, Component::Normal(_)));
    link.has_root() || up > folders || behind.any(|component| component == Component::ParentDir)
}

/// Whether a path goes through a link of the folder.
fn is_behind_link(into: &Path, path: &Path) -> bool {
    let parents = path.ancestors().skip(1).filter(|parent| !parent.as_os_str().is_empty());
    parents.into_iter().any(|parent| into.join(parent).is_symlink())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_link_leads_out_that_goes_further_up_than_its_folder_or_begins_at_the_root() {
        let out = |path: &str, link: &str| leads_out(Path::new(path), Path::new(link));
        assert!(out("a", "/etc/passwd") && out("a", "../b") && out("x/a", "../../b") && out("x/a", "y/../../../b"));
        assert!(out("x/a", "./y/../b"), "where y leads is not known");
        assert!(!out("a", "b") && !out("x/a", "../b") && !out("x/y/a", "./../../b/c"));
    }
}
