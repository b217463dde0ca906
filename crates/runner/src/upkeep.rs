//! Keeping the runner's folder from growing: what nobody asks for any more goes.

use std::time::{Duration, Instant};

use pondrix_api::RunnerClient;
use pondrix_core::ProjectName;
use tokio::sync::watch;
use tracing::{info, warn};

use crate::config::RunnerConfig;
use crate::folder::Folder;

/// How often is looked.
const PAUSE: Duration = Duration::from_secs(600);
/// How long the images are not looked at again after they were.
const BETWEEN_LOOKS: Duration = Duration::from_secs(1);
/// How long it takes at least until what jobs left is written to the disk for certain, once more.
const BETWEEN_SETTLING: Duration = Duration::from_secs(60);
/// How long records of what instructions made stay, and lists of layers' files, that nobody asks for.
const RECORDS_UNUSED_FOR: Duration = Duration::from_secs(30 * 86_400);

/// Looks now and then, for ever.
pub(crate) async fn keep_up(client: RunnerClient, folder: Folder) {
    loop {
        match client.projects().await {
            Ok(projects) => {
                let folder = folder.clone();
                drop(tokio::task::spawn_blocking(move || tidy(&folder, &projects)).await);
            }
            Err(error) => info!(%error, "the server did not say which projects there are; asked again"),
        }
        tokio::time::sleep(PAUSE).await;
    }
}

/// Makes room among the images, where there are too many, each time that jobs have left something.
pub(crate) async fn keep_small(folder: Folder, current: watch::Receiver<RunnerConfig>) {
    let mut settled = None::<Instant>;
    loop {
        folder.crowded.notified().await;
        let (looking, room) = (folder.clone(), current.borrow().room);
        let is_due = settled.is_none_or(|settled| settled.elapsed() >= BETWEEN_SETTLING);
        let freed = tokio::task::spawn_blocking(move || {
            let freed = looking.store.free_space(room, &looking.all_build_caches())?;
            // What jobs have left is believed after a crash of the machine.
            if is_due { looking.store.settle().map(|()| freed) } else { Ok(freed) }
        });
        let freed = freed.await;
        if is_due {
            settled = Some(Instant::now());
        }
        match freed {
            Ok(Ok(freed)) if freed.count > 0 => info!(freed.count, freed.bytes, "made room among the images"),
            Ok(Ok(_)) => {}
            Ok(Err(error)) => warn!(%error, "the size of the images could not be told"),
            Err(error) => warn!(%error, "making room among the images broke"),
        }
        // Looking at all of it costs something, and many jobs end together.
        tokio::time::sleep(BETWEEN_LOOKS).await;
    }
}

fn tidy(folder: &Folder, projects: &[ProjectName]) {
    // What was left since it was done last.
    if let Err(error) = folder.store.settle() {
        warn!(%error, "the images could not be written to the disk for certain");
    }
    match folder.store.forget_records(RECORDS_UNUSED_FOR) {
        Ok(0) => {}
        Ok(count) => info!(count, "records of what instructions made were forgotten: nobody asked for them"),
        Err(error) => warn!(%error, "records of what instructions made could not be looked at"),
    }
    if let Err(error) = folder.sources.keep_only(projects).and_then(|()| folder.keep_build_caches(projects)) {
        warn!(%error, "what is kept of projects that are gone could not be removed");
    }
}
