//! Backups that people ask for.

use std::io::{self, Write};
use std::sync::Arc;

use tokio::sync::OwnedRwLockWriteGuard;

use super::{Engine, EngineError};
use crate::backup::Backup;

/// A backup that was begun: for as long as it is there, nothing is removed.
#[derive(Debug)]
pub(crate) struct BegunBackup {
    backup: Backup,
    _stays: OwnedRwLockWriteGuard<()>,
}

impl Engine {
    /// Copies the records, for a backup of them as they are now.
    pub(crate) async fn begin_backup(&self) -> Result<BegunBackup, EngineError> {
        let stays = Arc::clone(&self.upkeep).write_owned().await;
        let (data, made) = (self.data.clone(), self.clock.now());
        let backup = self.store.read(move |c| Backup::begin(&data, c, made)).await?;
        Ok(BegunBackup { backup, _stays: stays })
    }
}

impl BegunBackup {
    /// Writes the archive: with the contents of files and logs, or the records alone.
    pub(crate) fn write(self, is_whole: bool, into: impl Write) -> io::Result<()> {
        self.backup.write(is_whole, into)
    }
}
