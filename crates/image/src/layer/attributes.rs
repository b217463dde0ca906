//! Extended attributes of files (xattr(7)) that belong to a layer.

use std::ffi::{CStr, CString};
use std::io;
use std::path::Path;

use pondrix_sandbox::IdMap;
use rustix::fs::{XattrFlags, lgetxattr, lgetxattr_query, llistxattr, llistxattr_query, lsetxattr};
use rustix::io::Errno;

/// What a program may do that is started by anybody (capabilities(7), "File capabilities").
const CAPABILITY: &[u8] = b"security.capability";
/// Marks that overlayfs keeps for itself.
const OVERLAY: &[u8] = b"user.overlay.";
/// The revision is in the highest byte of the first number, which is little-endian.
const REVISION_AT: usize = 3;
/// Of revision 2, and of revision 3, which adds the root of a user namespace.
const REVISIONS: (u8, u8) = (2, 3);
/// How long an attribute of revision 2 is.
const LENGTH: usize = 20;

fn belongs(name: &[u8]) -> bool {
    name == CAPABILITY || (name.starts_with(b"user.") && !name.starts_with(OVERLAY))
}

/// The attributes of a file, by name, as they stand in a layer.
pub(crate) fn read(path: &Path) -> io::Result<Vec<(CString, Vec<u8>)>> {
    let length = match llistxattr_query(path) {
        Ok(length) => length,
        Err(Errno::NOTSUP) => 0,
        Err(error) => return Err(error.into()),
    };
    // Nearly every file has none.
    if length == 0 {
        return Ok(Vec::new());
    }
    let mut names = vec![0_u8; length];
    let length = llistxattr(path, &mut names[..])?;
    let mut all = Vec::new();
    for name in names[..length].split(|byte| *byte == 0).filter(|name| belongs(name)) {
        let name = CString::new(name)?;
        let mut value = vec![0_u8; lgetxattr_query(path, &name)?];
        let length = lgetxattr(path, &name, &mut value[..])?;
        value.truncate(length);
        if name.as_bytes() == CAPABILITY && value.get(REVISION_AT) == Some(&REVISIONS.1) {
            // The namespace is of this machine and not of the image.
            value[REVISION_AT] = REVISIONS.0;
            value.truncate(LENGTH);
        }
        all.push((name, value));
    }
    all.sort();
    Ok(all)
}

/// Gives a file the attributes of another.
pub(crate) fn copy(from: &Path, to: &Path, ids: IdMap) -> io::Result<()> {
    read(from)?.iter().try_for_each(|(name, value)| write(to, name, value, ids))
}

/// Sets an attribute as it stands in a layer. One that this process may not set is left out: an ordinary user
/// cannot give programs capabilities.
pub(super) fn write(path: &Path, name: &CStr, value: &[u8], ids: IdMap) -> io::Result<()> {
    if !belongs(name.to_bytes()) {
        return Ok(());
    }
    let mut value = value.to_vec();
    if name.to_bytes() == CAPABILITY && value.len() == LENGTH && value[REVISION_AT] == REVISIONS.0 {
        value[REVISION_AT] = REVISIONS.1;
        value.extend(ids.to_machine(0, 0).0.to_le_bytes());
    }
    match lsetxattr(path, name, &value, XattrFlags::empty()) {
        Ok(()) | Err(Errno::PERM | Errno::NOTSUP) => Ok(()),
        Err(error) => Err(error.into()),
    }
}
