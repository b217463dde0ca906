//! Values of secrets in what a job leaves: in contents, names, link targets, attributes and header records. The job fails,
//! unless its pipeline says that they belong there.

use std::fs::File;
use std::io::{self, Read};
use std::path::Path;

use pondrix_core::mask::Masker;
use pondrix_core::work::ImageWork;
use pondrix_image::build::Built;
use pondrix_image::layer;
use tar::{Archive, EntryType};

use super::context::JobExecutor;
use super::error::{Doing, JobError};

/// Refuses a file of an artifact that holds one: `shown` is its name, and `link` where it leads.
pub(crate) fn file_holds_none(
    executor: &JobExecutor,
    artifact: &str,
    path: &Path,
    shown: &str,
    link: Option<&str>,
) -> Result<(), JobError> {
    // A message must not repeat the value.
    let hidden = || executor.log.hide(shown);
    let masker = executor.log.masker();
    let found = match link {
        Some(target) => masker.find_in_bytes(target.as_bytes()),
        None => File::open(path).and_then(|file| masker.find_in(executor.watch().reader(file))).doing(hidden)?,
    };
    match found.or_else(|| masker.find_in_bytes(shown.as_bytes())) {
        None => Ok(()),
        Some(secret) => Err(JobError::Asked(format!(
            "the artifact `{artifact}` holds the secret {secret}, in {}; leave it out, or write \
             holds-secrets=#true where it belongs there",
            hidden()
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
        let plain = executor.watch().reader(layer::decompressed(file).doing(doing)?);
        let found = find_in_archive(&executor.log.masker(), plain).doing(doing)?;
        if let Some((secret, place)) = found {
            return Err(JobError::Asked(format!(
                "the image holds the secret {secret}, in {place}; have the recipe leave it out, or write \
                 `holds-secrets` in the image where it belongs there"
            )));
        }
    }
    Ok(())
}

/// The secret that an archive holds, and where: in the content of an entry, or in what is said about it.
pub(super) fn find_in_archive(masker: &Masker, archive: impl Read) -> io::Result<Option<(String, String)>> {
    let about = || "the name, link, owner or attributes of a file".to_owned();
    // Raw: long names, link targets and attributes are entries of their own then, with contents (POSIX.1-2017, "pax").
    for entry in Archive::new(archive).entries()?.raw(true) {
        let mut entry = entry?;
        let (path, header) = (entry.path_bytes().into_owned(), entry.header());
        let link = header.link_name_bytes().unwrap_or_default();
        let owners = [header.username_bytes(), header.groupname_bytes()].map(Option::unwrap_or_default);
        let words = [&path[..], &link, owners[0], owners[1]];
        if let Some(secret) = words.into_iter().find_map(|words| masker.find_in_bytes(words)) {
            return Ok(Some((secret, about())));
        }
        let is_file = matches!(header.entry_type(), EntryType::Regular | EntryType::Continuous);
        if let Some(secret) = masker.find_in(&mut entry)? {
            let place = if is_file { format!("/{}", String::from_utf8_lossy(&path)) } else { about() };
            return Ok(Some((secret, place)));
        }
    }
    Ok(None)
}

#[cfg(test)]
mod tests {
    use tar::{Builder, Header};

    use super::*;

    const VALUE: &str = "opens-every-gate";

    /// An archive of one entry, as a program that is told what to write makes it.
    fn archive(add: impl FnOnce(&mut Builder<Vec<u8>>, Header) -> io::Result<()>) -> Vec<u8> {
        let mut builder = Builder::new(Vec::new());
        let mut header = Header::new_ustar();
        header.set_size(0);
        header.set_entry_type(EntryType::Regular);
        header.set_cksum();
        add(&mut builder, header).unwrap();
        builder.into_inner().unwrap()
    }

    #[test]
    fn a_secret_is_found_in_every_part_of_an_archive_and_not_told_in_the_place() {
        let masker = Masker::new([("KEY", VALUE.as_bytes())]);
        let long = format!("{}/{VALUE}", "bed".repeat(60));
        let content = VALUE.as_bytes();
        let all: [(&str, Vec<u8>); 8] = [
            (
                "content",
                archive(|to, mut header| {
                    header.set_size(content.len() as u64);
                    to.append_data(&mut header, "bed/note", content)
                }),
            ),
            ("name", archive(|to, mut header| to.append_data(&mut header, format!("bed/{VALUE}"), io::empty()))),
            ("long name", archive(|to, mut header| to.append_data(&mut header, &long, io::empty()))),
            (
                "link",
                archive(|to, mut header| {
                    header.set_entry_type(EntryType::Symlink);
                    to.append_link(&mut header, "bed/link", VALUE)
                }),
            ),
            (
                "long link",
                archive(|to, _| {
                    let mut header = Header::new_gnu();
                    header.set_size(0);
                    header.set_entry_type(EntryType::Symlink);
                    to.append_link(&mut header, "bed/link", &long)
                }),
            ),
            (
                "owner",
                archive(|to, mut header| {
                    header.set_username(VALUE)?;
                    to.append_data(&mut header, "bed/note", io::empty())
                }),
            ),
            (
                "attribute",
                archive(|to, mut header| {
                    to.append_pax_extensions([("SCHILY.xattr.user.note", content)])?;
                    to.append_data(&mut header, "bed/note", io::empty())
                }),
            ),
            (
                "name of an attribute",
                archive(|to, mut header| {
                    let name = format!("SCHILY.xattr.user.{VALUE}");
                    to.append_pax_extensions([(name.as_str(), &b"1"[..])])?;
                    to.append_data(&mut header, "bed/note", io::empty())
                }),
            ),
        ];
        for (part, archive) in all {
            let (secret, place) = find_in_archive(&masker, &archive[..]).unwrap().unwrap_or_else(|| panic!("{part}"));
            assert!(secret == "KEY" && !place.contains(VALUE), "{part}: {place}");
            assert_eq!(place == "/bed/note", part == "content", "{part}: {place}");
        }
        let plain = archive(|to, mut header| to.append_data(&mut header, "bed/note", io::empty()));
        assert_eq!(find_in_archive(&masker, &plain[..]).unwrap(), None);
    }
}
