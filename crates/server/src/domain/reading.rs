//! Reading what a commit says, so that nothing that stands in it can end the server for good.

use std::fs;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::path::{Path, PathBuf};

use pondrix_core::ProjectName;
use pondrix_core::pipeline::{self, Fault, Span};
use tracing::{error, warn};

/// A file that says which commit's pipeline file is read now. A server that finds one when it begins has ended in
/// the middle of that, whatever it was that ended it.
pub(super) struct Mark(PathBuf);

impl Mark {
    fn path(data: &Path, project: &ProjectName) -> PathBuf {
        data.join("reading").join(project.as_str())
    }

    /// Marks a commit. Answers whether it was marked already.
    fn set(data: &Path, project: &ProjectName, commit: &str) -> (Self, bool) {
        let path = Self::path(data, project);
        let was_set = fs::read_to_string(&path).is_ok_and(|found| found == commit);
        let set = path.parent().map_or(Ok(()), fs::create_dir_all).and_then(|()| fs::write(&path, commit));
        if let Err(error) = set {
            // Without a mark it is read all the same: there is hardly a file that needs one.
            warn!(%project, %error, "it cannot be noted which commit is read");
        }
        (Self(path), was_set)
    }
}

impl Drop for Mark {
    fn drop(&mut self) {
        // There may be none.
        let _ = fs::remove_file(&self.0);
    }
}

fn fault(text: &str, message: &str) -> Vec<Fault> {
    let help = "correct the file and commit; if nothing is wrong with it, tell whoever keeps the server".to_owned();
    vec![Fault::new(text, Span { start: 0, end: 1, file: 0 }, message, Some(help))]
}

/// Has a commit's pipeline file read, by `read`.
///
/// # Errors
/// A fault of the file, when reading it breaks, or has ended the server before.
pub(super) fn guarded<T>(
    data: &Path,
    project: &ProjectName,
    commit: &str,
    text: &str,
    read: impl FnOnce() -> T,
) -> Result<T, Vec<Fault>> {
    let (_mark, was_set) = Mark::set(data, project, commit);
    // Any end of the process in this very moment leaves a mark. A plain file cannot have been why.
    if was_set && !pipeline::is_plain(text) {
        error!(%project, commit, "the server has ended while it read this commit; it is not read again");
        return Err(fault(text, "the server has ended while it read this file, and does not read it again"));
    }
    catch_unwind(AssertUnwindSafe(read)).map_err(|_| {
        error!(%project, commit, "reading a pipeline file broke");
        fault(text, "the server broke while it read this file; its log says why, under this commit")
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_ended_the_server_once_is_not_read_again_in_the_same_way() {
        let folder = tempfile::tempdir().unwrap();
        let project = "pond".parse().unwrap();
        let read = |commit: &str, text: &str| guarded(folder.path(), &project, commit, text, || "read");
        assert_eq!(read("a", "/- x"), Ok("read"));
        assert_eq!(read("a", "/- x"), Ok("read"), "nothing ended in between");
        let (mark, _) = Mark::set(folder.path(), &project, "b");
        // Killed here.
        std::mem::forget(mark);
        assert_eq!(read("c", "/- x"), Ok("read"), "it was another commit");
        let (mark, _) = Mark::set(folder.path(), &project, "b");
        std::mem::forget(mark);
        let faults = read("b", "/- x").unwrap_err();
        assert_eq!(faults[0].message, "the server has ended while it read this file, and does not read it again");
        let (mark, _) = Mark::set(folder.path(), &project, "b");
        std::mem::forget(mark);
        assert_eq!(read("b", "stage \"a\" { }\n"), Ok("read"), "a plain file cannot have been why");
        let broken = guarded(folder.path(), &project, "d", "x", || -> u8 { panic!("on purpose") });
        assert!(broken.unwrap_err()[0].message.starts_with("the server broke while it read this file"));
        assert_eq!(read("d", "/- x"), Ok("read"), "that was no end of the server");
    }
}
