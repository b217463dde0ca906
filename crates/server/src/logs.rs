//! The logs of jobs: one file each, appended to at an offset, and followed.

use std::collections::HashMap;
use std::fs::{self, File};
use std::io;
use std::os::unix::fs::FileExt;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use pondrix_core::terminal::final_line;
use pondrix_core::{JobKey, RunId};
use tokio::sync::watch;

/// All logs.
#[derive(Debug)]
pub(crate) struct Logs {
    folder: PathBuf,
    open: Mutex<HashMap<(RunId, JobKey), Arc<OpenLog>>>,
}

/// A log that somebody writes or follows.
#[derive(Debug)]
pub(crate) struct OpenLog {
    path: PathBuf,
    length: watch::Sender<u64>,
    writing: Mutex<()>,
}

fn locked<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Logs {
    pub(crate) fn new(folder: PathBuf) -> Self {
        Self { folder, open: Mutex::default() }
    }

    /// A job's log, whether or not anything is in it.
    pub(crate) fn log(&self, run: &RunId, job: &JobKey) -> Arc<OpenLog> {
        let mut open = locked(&self.open);
        let make = || {
            let name = format!("{}.{}.log", job.stage(), job.job());
            let path = self.folder.join(run.project.as_str()).join(run.number.to_string()).join(name);
            let length = fs::metadata(&path).map_or(0, |data| data.len());
            Arc::new(OpenLog { path, length: watch::Sender::new(length), writing: Mutex::new(()) })
        };
        Arc::clone(open.entry((run.clone(), job.clone())).or_insert_with(make))
    }

    /// The files of the logs of a run.
    pub(crate) fn files(&self, project: &str, number: u64) -> Vec<PathBuf> {
        let folder = self.folder.join(project).join(number.to_string());
        let mut files: Vec<_> =
            fs::read_dir(folder).into_iter().flatten().flatten().map(|entry| entry.path()).collect();
        files.sort();
        files
    }

    /// Forgets the open logs of a run that is over. Who follows one keeps it.
    pub(crate) fn forget(&self, run: &RunId) {
        locked(&self.open).retain(|(of, _), _| of != run);
    }
}

impl OpenLog {
    /// Appends bytes that begin at `offset` in the runner's log. What is there already is not written
    /// again, and nothing is written behind a gap. Answers how long the log is then.
    pub(crate) fn append_at(&self, offset: u64, bytes: &[u8]) -> io::Result<u64> {
        let _writing = locked(&self.writing);
        let length = *self.length.borrow();
        let known = length.checked_sub(offset).and_then(|known| usize::try_from(known).ok());
        let Some(fresh) = known.and_then(|known| bytes.get(known..)).filter(|fresh| !fresh.is_empty()) else {
            return Ok(length);
        };
        if let Some(folder) = self.path.parent() {
            fs::create_dir_all(folder)?;
        }
        let file = File::options().create(true).truncate(false).write(true).open(&self.path)?;
        file.write_all_at(fresh, length)?;
        let length = length + fresh.len() as u64;
        self.length.send_replace(length);
        Ok(length)
    }

    /// As [`OpenLog::append_at`], off the threads that answer people.
    #[cfg(not(test))]
    pub(crate) async fn append(self: Arc<Self>, offset: u64, bytes: Vec<u8>) -> io::Result<u64> {
        tokio::task::spawn_blocking(move || self.append_at(offset, &bytes)).await.map_err(io::Error::other)?
    }

    /// As [`OpenLog::append_at`]: tests in scripted time have one thread.
    #[cfg(test)]
    pub(crate) async fn append(self: Arc<Self>, offset: u64, bytes: Vec<u8>) -> io::Result<u64> {
        self.append_at(offset, &bytes)
    }

    /// Adds a line of the server's own.
    pub(crate) fn say(&self, line: &str) -> io::Result<u64> {
        let length = *self.length.borrow();
        self.append_at(length, format!("{line}\n").as_bytes())
    }

    pub(crate) fn length(&self) -> u64 {
        *self.length.borrow()
    }

    /// Tells when the log grows.
    pub(crate) fn watch(&self) -> watch::Receiver<u64> {
        self.length.subscribe()
    }

    /// At most `most` bytes from an offset on.
    pub(crate) fn read(&self, offset: u64, most: usize) -> io::Result<Vec<u8>> {
        let length = self.length();
        let count = usize::try_from(length.saturating_sub(offset)).unwrap_or(most).min(most);
        let mut bytes = vec![0; count];
        if count > 0 {
            File::open(&self.path)?.read_exact_at(&mut bytes, offset)?;
        }
        Ok(bytes)
    }

    /// The last lines of a part of the log, as a terminal shows them in the end.
    pub(crate) fn last_lines(&self, start: u64, end: Option<u64>, count: usize) -> Vec<String> {
        const MOST: u64 = 64 * 1024;
        let end = end.unwrap_or_else(|| self.length());
        let from = start.max(end.saturating_sub(MOST));
        let bytes = self.read(from, usize::try_from(end.saturating_sub(from)).unwrap_or(0)).unwrap_or_default();
        let text = String::from_utf8_lossy(&bytes);
        let lines: Vec<_> = text.lines().collect();
        lines[lines.len().saturating_sub(count)..].iter().map(|line| final_line(line).into_owned()).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_log_is_neither_doubled_nor_torn_however_often_it_is_sent() {
        let folder = tempfile::tempdir().unwrap();
        let logs = Logs::new(folder.path().to_owned());
        let (run, job) = ("pond#1".parse().unwrap(), JobKey::new("verify", "unit"));
        let log = logs.log(&run, &job);
        assert_eq!(log.append_at(0, b"one\n").unwrap(), 4);
        assert_eq!(log.append_at(0, b"one\n").unwrap(), 4, "sent again");
        assert_eq!(log.append_at(2, b"e\ntwo\n").unwrap(), 8, "overlapping");
        assert_eq!(log.append_at(99, b"far\n").unwrap(), 8, "a gap");
        // Another process of the server finds what was there.
        let again = Logs::new(folder.path().to_owned()).log(&run, &job);
        assert_eq!(again.append_at(8, b"three\n").unwrap(), 14);
        assert_eq!(again.read(0, 100).unwrap(), b"one\ntwo\nthree\n");
        assert_eq!(again.last_lines(4, Some(14), 1), ["three"]);
    }
}
