//! What of its machine a runner shows to jobs with `on-host`.

use std::path::{Path, PathBuf};

/// Where programs and their libraries are.
pub(crate) const PROGRAM_FOLDERS: [&str; 6] = ["bin", "sbin", "lib", "lib32", "lib64", "usr"];
/// What of `/etc` programs need, and holds nothing of anybody's: which program a name means, where libraries are, whose
/// certificates are believed, the time zone, names of ports and of kinds of files, and what languages say of themselves.
const PROGRAM_SETTINGS: [&str; 18] = [
    "alternatives",
    "ca-certificates",
    "ca-certificates.conf",
    "debian_version",
    "ld.so.cache",
    "ld.so.conf",
    "ld.so.conf.d",
    "localtime",
    "mime.types",
    "nsswitch.conf",
    "perl",
    "pki/ca-trust",
    "pki/tls",
    "protocols",
    "python3",
    "services",
    "ssl/certs",
    "ssl/openssl.cnf",
];
/// Beginnings of further names: those have a version in them.
const PROGRAM_SETTINGS_BEGIN: [&str; 2] = ["java-", "python3."];

/// What of `/etc` is shown of this machine.
pub(crate) fn program_settings() -> Vec<PathBuf> {
    let settings = Path::new("/etc");
    let versions = std::fs::read_dir(settings).into_iter().flatten().flatten().map(|entry| entry.file_name());
    let begins = |name: &std::ffi::OsString| {
        let name = name.to_string_lossy();
        PROGRAM_SETTINGS_BEGIN.iter().any(|beginning| name.starts_with(beginning))
    };
    let versions = versions.filter(begins).map(|name| settings.join(name));
    let known = PROGRAM_SETTINGS.iter().map(|name| settings.join(name));
    known.chain(versions).filter(|path| path.exists()).collect()
}

/// Who there is inside (passwd(5), group(5)).
pub(crate) const USERS: &str =
    "root:x:0:0:root:/root:/bin/sh\nnobody:x:65534:65534:nobody:/nonexistent:/usr/sbin/nologin\n";
pub(crate) const GROUPS: &str = "root:x:0:\nnogroup:x:65534:\n";

/// The folder that jobs read a path through, of those that are shown; nothing where it stays the runner's.
#[must_use]
pub fn shown_through(path: &Path, readable: &[PathBuf]) -> Option<PathBuf> {
    let real = |path: &Path| {
        let path = std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
        // What is not there yet will be below what is.
        let there = path.ancestors().find_map(|parent| Some((parent.canonicalize().ok()?, parent)));
        match there {
            Some((real, parent)) => real.join(path.strip_prefix(parent).unwrap_or(Path::new(""))),
            None => path,
        }
    };
    let own = PROGRAM_FOLDERS.iter().map(|name| Path::new("/").join(name));
    let path = real(path);
    own.chain(readable.iter().cloned()).find(|folder| path.starts_with(real(folder)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_below_what_is_shown_is_known_also_behind_links() {
        let folder = tempfile::tempdir().unwrap();
        let (tools, link) = (folder.path().join("tools"), folder.path().join("link"));
        std::fs::create_dir_all(tools.join("runner")).unwrap();
        std::os::unix::fs::symlink(&tools, &link).unwrap();
        let shown = |path: &Path| shown_through(path, std::slice::from_ref(&tools));
        assert_eq!(shown(&tools.join("runner")), Some(tools.clone()));
        assert_eq!(shown(&link.join("runner")), Some(tools.clone()));
        assert_eq!(shown(&link.join("not/there/yet")), Some(tools.clone()));
        assert!(shown(Path::new("/usr/not-there-yet")).is_some());
        assert!(shown(Path::new("/usr/lib")).is_some(), "behind whichever name");
        assert_eq!(shown(folder.path()), None);
    }
}
