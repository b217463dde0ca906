//! Values of secrets in what a job leaves: it fails, unless its pipeline says that they belong there.

use std::fs::File;
use std::path::Path;

use pondrix_core::work::ImageWork;
use pondrix_image::build::Built;
use pondrix_image::layer;
use tar::Archive;

use super::context::JobExecutor;
use super::error::{Doing, JobError};

/// Refuses a file of an artifact that holds one.
pub(crate) fn file_holds_none(
    executor: &JobExecutor,
    artifact: &str,
    path: &Path,
    shown: &str,
) -> Result<(), JobError> {
    let found = File::open(path).and_then(|file| executor.log.masker().find_in(file));
    match found.doing(|| shown.to_owned())? {
        None => Ok(()),
        Some(secret) => Err(JobError::Asked(format!(
            "the artifact `{artifact}` holds the secret {secret}, in {shown}; leave it out, or write \
             holds-secrets=#true where it belongs there"
        ))),
    }
}

/// Refuses layers that hold one: those that were made now, and those that were made before and are found again.
pub(crate) fn layers_hold_none(executor: &JobExecutor, work: &ImageWork, built: &Built) -> Result<(), JobError> {
    if work.holds_secrets || executor.assignment.secrets.is_empty() {
        return Ok(());
    }
    let store = &executor.folder.store;
    for record in &built.made {
        let Some((blob, _)) = &record.made.layer else { continue };
        // What another runner made it has looked at, and this one has nothing of.
        if !store.has_blob(&blob.digest) {
            continue;
        }
        let doing = || format!("{}", blob.digest);
        let file = File::open(store.blob_path(&blob.digest)).doing(doing)?;
        let mut archive = Archive::new(layer::decompressed(file).doing(doing)?);
        for entry in archive.entries().doing(doing)? {
            let mut entry = entry.doing(doing)?;
            let path = String::from_utf8_lossy(&entry.path_bytes()).into_owned();
            if let Some(secret) = executor.log.masker().find_in(&mut entry).doing(doing)? {
                return Err(JobError::Asked(format!(
                    "the image holds the secret {secret}, in /{path}; have the recipe leave it out, or write \
                     `holds-secrets` in the image where it belongs there"
                )));
            }
        }
    }
    Ok(())
}
