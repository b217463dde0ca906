//! Removing files and folders that nothing in the records refers to any more: the write that lets go of them notes them.
//!
//! They are moved aside first, where nobody looks for them. A backup that begins meanwhile waits for that, and not for a
//! walk over everything that is in a folder.

use std::fs;
use std::io::{self, ErrorKind};
use std::path::Path;
use std::sync::atomic::Ordering;

use tracing::warn;

use super::Engine;
use super::retention::paced;
use crate::off_thread::off_thread;
use crate::store::{self, StoreError};

/// How many files and folders are moved before others have their turn.
const PIECE: usize = 64;
/// What the names of the folders begin with that they are moved into.
const ASIDE: &str = "leaving-";

/// Removes a file or a folder. That it is gone already is as good.
fn remove(path: &Path) -> io::Result<()> {
    pondrix_files::remove(path).or_else(|error| if error.kind() == ErrorKind::NotFound { Ok(()) } else { Err(error) })
}

/// Moves a file or a folder aside, as whatever number; removes it at once where it is on another file system. That it is
/// gone already is as good.
fn move_aside(path: &Path, aside: &Path, number: usize) -> io::Result<()> {
    fs::create_dir_all(aside)?;
    match fs::rename(path, aside.join(number.to_string())) {
        Err(error) if error.kind() == ErrorKind::CrossesDevices => remove(path),
        Err(error) if error.kind() == ErrorKind::NotFound => Ok(()),
        moved => moved,
    }
}

/// Removes what was moved aside.
fn remove_aside(aside: &Path) {
    if let Err(error) = remove(aside) {
        warn!(path = %aside.display(), %error, "it could not be removed; it is tried when the server is started again");
    }
}

/// Removes what an earlier server had moved aside, beside whatever else is done.
pub(crate) fn remove_aside_of_before(data: &Path) {
    let all = fs::read_dir(data).into_iter().flatten().flatten();
    let is_aside = |entry: &fs::DirEntry| entry.file_name().to_string_lossy().starts_with(ASIDE);
    let of_before: Vec<_> = all.filter(is_aside).map(|entry| entry.path()).collect();
    if !of_before.is_empty() {
        tokio::task::spawn_blocking(move || of_before.iter().for_each(|aside| remove_aside(aside)));
    }
}

impl Engine {
    /// Removes files and folders that nothing in the records refers to.
    pub(super) async fn remove_leftovers(&self) -> Result<(), StoreError> {
        loop {
            let left = self.store.read(|c| store::leftovers(c, PIECE)).await?;
            if left.is_empty() {
                return Ok(());
            }
            let number = self.moved_aside.fetch_add(1, Ordering::Relaxed);
            let aside = self.data.join(format!("{ASIDE}{}-{number}", self.began.millis()));
            let (data, to) = (self.data.clone(), aside.clone());
            let move_all = move || -> Vec<String> {
                let is_gone = |(number, path): &(usize, String)| {
                    move_aside(&data.join(path), &to, *number)
                        .inspect_err(|error| warn!(path, %error, "it could not be removed; it is tried again"))
                        .is_ok()
                };
                left.into_iter().enumerate().filter(is_gone).map(|(_, path)| path).collect()
            };
            let gone = self.piece(off_thread(move_all)).await;
            paced(off_thread(move || remove_aside(&aside))).await;
            if gone.is_empty() {
                return Ok(());
            }
            self.store.write(move |c| store::forget_leftovers(c, &gone)).await?;
        }
    }
}

#[cfg(test)]
mod tests {
    use std::path::PathBuf;
    use std::time::Duration;

    use super::*;

    fn names(folder: &Path) -> Vec<String> {
        let all = fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().file_name().into_string().unwrap());
        let mut all: Vec<_> = all.collect();
        all.sort();
        all
    }

    #[tokio::test]
    async fn what_goes_is_moved_away_at_once_and_what_an_earlier_server_had_moved_goes_too() {
        let data = tempfile::tempdir().unwrap();
        let place = |name: &str| data.path().join(name);
        for folder in ["logs/pond/1", "leaving-7-0/3", "files"] {
            fs::create_dir_all(place(folder)).unwrap();
            fs::write(place(folder).join("petal"), "petal").unwrap();
        }
        let aside = place("leaving-8-0");
        for (number, path) in ["logs/pond/1", "files/petal", "never/was"].iter().enumerate() {
            move_aside(&place(path), &aside, number).unwrap();
            assert!(!place(path).exists());
        }
        assert_eq!(names(&aside), ["0", "1"]);
        remove_aside(&aside);
        remove_aside_of_before(data.path());
        for _ in 0..6000 {
            if !place("leaving-7-0").exists() {
                break;
            }
            tokio::time::sleep(Duration::from_millis(10)).await;
        }
        assert_eq!(names(data.path()), ["files", "logs"]);
    }

    #[test]
    fn what_is_on_another_file_system_is_removed_where_it_is() {
        // Memory that is shown as files is one on every Linux.
        let other = tempfile::tempdir_in(PathBuf::from("/dev/shm")).unwrap();
        let data = tempfile::tempdir().unwrap();
        for name in ["folder", "file"] {
            let path = other.path().join(name);
            if name == "folder" {
                fs::create_dir_all(path.join("deep")).unwrap();
            } else {
                fs::write(&path, "petal").unwrap();
            }
            move_aside(&path, &data.path().join("leaving-1-0"), 0).unwrap();
            assert!(!path.exists(), "{name}");
        }
    }
}
