//! The logs of jobs: one file each, appended to at an offset, and followed. When a run is over its logs are
//! [compressed](packed), and read as before.

mod packed;

use std::collections::HashMap;
use std::fs::{self, File};
use std::io;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, Weak};

use pondrix_core::terminal::final_line;
use pondrix_core::{JobKey, ProjectName, RunId};
use tokio::sync::watch;

use crate::off_thread::off_thread;
use packed::Packed;

/// All logs.
#[derive(Debug)]
pub(crate) struct Logs {
    folder: PathBuf,
    /// Those that somebody has.
    open: Mutex<HashMap<(RunId, JobKey), Weak<OpenLog>>>,
}

/// A log that somebody writes or follows.
#[derive(Debug)]
pub(crate) struct OpenLog {
    /// Where it is while it may grow.
    path: PathBuf,
    /// Where it is when it is compressed.
    packed: PathBuf,
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
        let key = (run.clone(), job.clone());
        if let Some(log) = open.get(&key).and_then(Weak::upgrade) {
            return log;
        }
        if open.len() >= OPEN_KEPT {
            open.retain(|_, log| log.strong_count() > 0);
        }
        let path = self.folder_of(run.project.as_str(), run.number).join(format!("{}.{}.log", job.stage(), job.job()));
        let log = Arc::new(OpenLog::open(path));
        open.insert(key, Arc::downgrade(&log));
        log
    }

    fn folder_of(&self, project: &str, number: u64) -> PathBuf {
        self.folder.join(project).join(number.to_string())
    }

    /// Compresses the logs of a run that is over, beside them: nobody writes them any more. [`Compressed::put`] puts them
    /// in their place.
    pub(crate) fn compress(&self, run: &RunId) -> io::Result<Vec<Compressed>> {
        let is_plain = |path: &PathBuf| path.extension().is_some_and(|extension| extension == "log");
        let compress = |plain: PathBuf| {
            let unfinished = plain.with_extension(UNFINISHED);
            let mut file = File::create(&unfinished)?;
            packed::pack(File::open(&plain)?, &mut file)?;
            file.sync_all()?;
            Ok(Compressed { packed: plain.with_extension(PACKED), unfinished, plain })
        };
        self.files(run.project.as_str(), run.number).into_iter().filter(is_plain).map(compress).collect()
    }

    /// The folder of all logs of a project.
    pub(crate) fn folder_of_project(&self, project: &ProjectName) -> PathBuf {
        self.folder.join(project.as_str())
    }

    /// The files of the logs of a run.
    pub(crate) fn files(&self, project: &str, number: u64) -> Vec<PathBuf> {
        let folder = self.folder_of(project, number);
        let all = fs::read_dir(folder).into_iter().flatten().flatten().map(|entry| entry.path());
        let is_whole = |path: &PathBuf| !path.as_os_str().as_encoded_bytes().ends_with(UNFINISHED.as_bytes());
        let mut files: Vec<_> = all.filter(is_whole).collect();
        files.sort();
        files
    }
}

/// How many bytes the logs in the folder of a project take.
pub(crate) fn taken_by(folder: &Path) -> u64 {
    let runs = fs::read_dir(folder).into_iter().flatten().flatten();
    let files = runs.flat_map(|run| fs::read_dir(run.path()).into_iter().flatten().flatten());
    files.filter_map(|file| file.metadata().ok()).map(|data| data.len()).sum()
}

/// A log that is compressed, and not in its place yet.
#[derive(Debug)]
pub(crate) struct Compressed {
    plain: PathBuf,
    unfinished: PathBuf,
    packed: PathBuf,
}

impl Compressed {
    /// Puts it in the place of the plain one.
    pub(crate) fn put(self) -> io::Result<()> {
        fs::rename(self.unfinished, self.packed)?;
        fs::remove_file(self.plain)
    }
}

/// How many logs may be noted as open before those are forgotten that nobody has any more.
const OPEN_KEPT: usize = 256;
/// What the names of compressed logs end with, and of those that are not compressed to their end.
const PACKED: &str = "log.zst";
const UNFINISHED: &str = "log.zst.new";

impl OpenLog {
    fn open(path: PathBuf) -> Self {
        let packed = path.with_extension(PACKED);
        let length = match fs::metadata(&path) {
            Ok(data) => data.len(),
            Err(_) => Packed::open(&packed).map_or(0, |packed| packed.length()),
        };
        Self { path, packed, length: watch::Sender::new(length), writing: Mutex::new(()) }
    }

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
        // One that is compressed has had its end: it does not begin anew.
        let file = File::options().create(length == 0).truncate(false).write(true).open(&self.path)?;
        file.write_all_at(fresh, length)?;
        let length = length + fresh.len() as u64;
        self.length.send_replace(length);
        Ok(length)
    }

    /// As [`OpenLog::append_at`], off the threads that answer people.
    pub(crate) async fn append(self: Arc<Self>, offset: u64, bytes: Vec<u8>) -> io::Result<u64> {
        off_thread(move || self.append_at(offset, &bytes)).await
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
        if count == 0 {
            return Ok(bytes);
        }
        match File::open(&self.path) {
            Ok(file) => file.read_exact_at(&mut bytes, offset)?,
            Err(error) if error.kind() == io::ErrorKind::NotFound => {
                return Packed::open(&self.packed)?.read(offset, count);
            }
            Err(error) => return Err(error),
        }
        Ok(bytes)
    }

    /// As [`OpenLog::read`], off the threads that answer people.
    pub(crate) async fn read_off(self: &Arc<Self>, offset: u64, most: usize) -> io::Result<Vec<u8>> {
        let log = Arc::clone(self);
        off_thread(move || log.read(offset, most)).await
    }

    /// The last lines of a part of the log, as a terminal shows them in the end.
    pub(crate) async fn last_lines(self: &Arc<Self>, start: u64, end: Option<u64>, count: usize) -> Vec<String> {
        const MOST: u64 = 64 * 1024;
        let end = end.unwrap_or_else(|| self.length());
        let from = start.max(end.saturating_sub(MOST));
        let most = usize::try_from(end.saturating_sub(from)).unwrap_or(0);
        let bytes = self.read_off(from, most).await.unwrap_or_default();
        let text = String::from_utf8_lossy(&bytes);
        let lines: Vec<_> = text.lines().collect();
        lines[lines.len().saturating_sub(count)..].iter().map(|line| final_line(line).into_owned()).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn a_log_is_neither_doubled_nor_torn_however_often_it_is_sent() {
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
        assert_eq!(again.last_lines(4, Some(14), 1).await, ["three"]);
    }

    #[tokio::test]
    async fn a_log_that_is_compressed_is_read_as_before_also_by_who_has_it_open_and_takes_nothing_more() {
        let folder = tempfile::tempdir().unwrap();
        let logs = Logs::new(folder.path().to_owned());
        let (run, job) = ("pond#1".parse().unwrap(), JobKey::new("verify", "unit"));
        let text = "a line\n".repeat(100_000);
        let open = logs.log(&run, &job);
        open.append_at(0, text.as_bytes()).unwrap();
        let compressed = logs.compress(&run).unwrap();
        assert_eq!(logs.files("pond", 1).len(), 1, "what is not in its place is not there");
        compressed.into_iter().for_each(|log| log.put().unwrap());
        let files: Vec<_> = logs.files("pond", 1).iter().map(|path| path.file_name().unwrap().to_owned()).collect();
        assert_eq!(files, ["verify.unit.log.zst"]);
        let anew = Logs::new(folder.path().to_owned()).log(&run, &job);
        for log in [open, anew] {
            assert_eq!(log.length(), text.len() as u64);
            assert_eq!(log.read(0, usize::MAX).unwrap(), text.as_bytes());
            assert_eq!(log.read(text.len() as u64 - 5, 99).unwrap(), b"line\n");
            assert_eq!(log.last_lines(0, None, 1).await, ["a line"]);
            assert!(log.append_at(text.len() as u64, b"late\n").is_err());
        }
        assert!(logs.compress(&run).unwrap().is_empty(), "twice is once");
        assert_eq!(logs.files("pond", 1).len(), 1);
    }
}
