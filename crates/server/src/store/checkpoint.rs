//! Bringing what the write-ahead log holds into the database (SQLite, "Write-Ahead Logging", section 2.2), beside the
//! thread that writes: it flushes the disk several times, and no write is to wait for that.

use std::os::raw::c_int;
use std::path::Path;
use std::sync::mpsc::sync_channel;
use std::time::Duration;

use rusqlite::{Connection, OpenFlags};
use tracing::warn;

use super::{StoreError, open};

/// After how many more pages in the log it is worth doing; as many as SQLite itself thinks.
const WORTH_IT: c_int = 1_000;
/// From how many pages on the thread that writes does it itself. While it writes without a pause nobody else comes to the
/// end of the log, which then grows; this bounds it to 64 MiB.
const MOST: c_int = 16_000;

/// Has it done for what `writer` writes, on a thread that ends with it.
pub(super) fn beside(writer: &mut Connection, path: &Path, busy_time: Duration) -> Result<(), StoreError> {
    let own = open(path, OpenFlags::default(), busy_time)?;
    // What it brings into the database is flushed before the log is written from its start again.
    own.pragma_update(None, "synchronous", "full")?;
    let (wake, woken) = sync_channel(1);
    std::thread::Builder::new()
        .name("checkpoint".to_owned())
        .spawn(move || {
            while let Ok(()) = woken.recv() {
                if let Err(error) = own.query_row("PRAGMA wal_checkpoint(PASSIVE)", [], |_| Ok(())) {
                    // It is done again after as many pages more.
                    warn!(%error, "the log of the records could not be brought into the database");
                }
            }
        })
        .expect("a thread can be started when the server starts");
    let mut done_at = 0;
    // What it answers would be told of the commit, which is stored whatever becomes of this.
    writer.wal_hook(Some(move |log: &mut rusqlite::hooks::Wal, pages: c_int| {
        if pages < done_at {
            // The log is written from its start again.
            done_at = 0;
        }
        if pages >= MOST {
            if let Err(error) = log.checkpoint() {
                warn!(%error, "the log of the records could not be brought into the database");
            }
        } else if pages >= done_at + WORTH_IT {
            done_at = pages;
            // One that is at work comes to this too, or is woken next time.
            let _ = wake.try_send(());
        }
        Ok(())
    }))?;
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The pages of the log, and how many of them are in the database.
    fn state(connection: &Connection) -> (i64, i64) {
        connection.query_row("PRAGMA wal_checkpoint(NOOP)", [], |row| Ok((row.get(1)?, row.get(2)?))).unwrap()
    }

    #[test]
    fn the_log_comes_into_the_database_beside_the_writer_and_begins_anew_before_it_is_long() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("records.db");
        let connect = || open(&path, OpenFlags::default(), Duration::from_secs(60)).unwrap();
        let mut writer = connect();
        writer.pragma_update(None, "journal_mode", "wal").unwrap();
        writer.execute_batch("CREATE TABLE petals (body BLOB)").unwrap();
        beside(&mut writer, &path, Duration::from_secs(60)).unwrap();
        let write = |pages: i64| {
            writer.execute("INSERT INTO petals VALUES (zeroblob(?1))", [pages * 4096]).unwrap();
        };
        for _ in 0..12 {
            write(100);
        }
        let looks = connect();
        // A look may be in the way just when it would come (both take the lock of checkpoints); the next write has it
        // come then. When all of it has come, the next write begins the log anew.
        let has_come = |(pages, there): (i64, i64)| there >= i64::from(WORTH_IT) || pages < i64::from(WORTH_IT);
        let mut small = 0;
        while !has_come(state(&looks)) && small < 6_000 {
            write(1);
            small += 1;
            std::thread::sleep(Duration::from_millis(10));
        }
        assert!(has_come(state(&looks)), "{:?}", state(&looks));
        // Far more than the bound in all, and nobody reads: the log begins anew, again and again.
        for _ in 0..40 {
            write(1_000);
        }
        let (pages, _) = state(&looks);
        assert!(pages <= i64::from(MOST) + 1_200, "{pages}");
        let count: i64 = looks.query_row("SELECT count(*) FROM petals", [], |row| row.get(0)).unwrap();
        assert_eq!(count, 52 + small);
    }
}
