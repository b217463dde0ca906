//! COPY and ADD: finding what they name, in the context, in stages, in images, on the Web, in archives, in the
//! recipe itself.

use std::cell::OnceCell;
use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

use pondrix_core::image::Digest;
use pondrix_files::TemporaryFolder;
use pondrix_sandbox::UserError;

use super::below::Below;
use super::copied_files::{FilesError, Item, Layout, Source};
use super::copied_keys::add_to_key;
use super::copy::Copier;
use super::graph::built_stage;
use super::key::Key;
use super::owner::{self, Mode};
use super::stage::StageBuild;
use super::whole::Build;
use super::{BuildError, archives};
use crate::oci::Descriptor;
use crate::recipe::{Copy, CopyWord, Ignore, Instruction, expand_text, is_plain_name};
use crate::rootfs::Layers;
use crate::store::{Remembered, io_error};

/// Below this is, in a key, an archive that stands for what is in it. No file has such a name.
const PACKED: &str = "\0packed";

/// What a COPY or ADD names, and how many names of things that are there led to it.
struct AllFound {
    items: Vec<Item>,
    count: usize,
}

/// Whether files keep their names at a destination.
fn goes_into_folder(to: &str, below: &Below) -> bool {
    to.ends_with('/') || to.ends_with("/.") || below.is_folder(Path::new(to))
}

/// Where files come from.
pub(super) struct Origin {
    place: OriginPlace,
    /// What it is, for people; nothing for the context.
    name: Option<String>,
}

enum OriginPlace {
    Folder([PathBuf; 1]),
    /// Layers, which are unpacked when they are looked into.
    Layers {
        blobs: Vec<Descriptor>,
        ids: Vec<Digest>,
        unpacked: OnceCell<Vec<PathBuf>>,
    },
}

impl Origin {
    fn of_layers(blobs: Vec<Descriptor>, ids: Vec<Digest>, name: String) -> Self {
        Self { place: OriginPlace::Layers { blobs, ids, unpacked: OnceCell::new() }, name: Some(name) }
    }

    pub(super) const fn is_context(&self) -> bool {
        self.name.is_none()
    }

    /// Where the files are on this machine, the lowest layer first.
    pub(super) fn folders(&self, build: &Build<'_>) -> Result<&[PathBuf], BuildError> {
        match &self.place {
            OriginPlace::Folder(folder) => Ok(folder),
            OriginPlace::Layers { blobs, ids, unpacked } => match unpacked.get() {
                Some(unpacked) => Ok(unpacked),
                None => build.unpacked(blobs, ids).map(|paths| unpacked.get_or_init(|| paths).as_slice()),
            },
        }
    }

    /// Adds to a key what is there, where that is known without looking: what a name of it means, and what is behind
    /// that, follows. Answers whether it is known.
    pub(super) fn add_to_key(&self, key: &mut Key) -> bool {
        let OriginPlace::Layers { ids, .. } = &self.place else { return false };
        key.text("layers").number(ids.len() as u64);
        for id in ids {
            key.bytes(&id.bytes());
        }
        true
    }
}

/// The context, as recipes see it.
pub(super) fn context_source<'b>(build: &'b Build<'_>, context: &'b [PathBuf]) -> Source<'b> {
    let (ignore, keeps_times) = (Some(&build.input.ignore), build.input.own_times);
    let (watch, name) = (build.store.watch(), "the context".to_owned());
    Source { layers: Layers(context), watch, ignore, keeps: false, keeps_times, name }
}

/// Whether ADD would mean a repository of git by this.
fn names_repository(name: &str) -> bool {
    let path = name.split(['?', '#']).next().unwrap_or_default();
    let is_of_web = name.starts_with("http://") || name.starts_with("https://");
    let is_of_git = name.starts_with("ssh://") || name.starts_with("git://");
    is_of_git || (name.starts_with("git@") && name.contains(':')) || (is_of_web && path.ends_with(".git"))
}

impl StageBuild<'_> {
    /// What `from` names: an earlier stage, an image, or the context where nothing is named.
    pub(super) fn origin(&self, at: &Instruction, from: Option<&str>) -> Result<Origin, BuildError> {
        let Some(from) = from else {
            return Ok(Origin { place: OriginPlace::Folder([self.build.input.context.clone()]), name: None });
        };
        if let Some(stage) = self.build.input.recipe.stage_named(from, self.number) {
            let state = built_stage(self.build, stage)?;
            let ids = state.config.rootfs.diff_ids;
            return Ok(Origin::of_layers(state.layers, ids, format!("the stage `{from}`")));
        }
        if !from.contains(['/', ':', '@']) {
            let words = format!("there is no stage `{from}` in front of this one");
            let help = "name a stage as FROM … AS NAME names it, or an image as HOST/IMAGE:TAG";
            return Err(self.fault(at, words, Some(help.to_owned())).into());
        }
        let name = self.build.plan.named(self.build.outside, from);
        let name = name.map_err(|(words, help)| BuildError::from(self.fault(at, words, help)))?;
        let image = self.image(at, &name)?;
        let what = format!("the image {}", name.reference);
        Ok(Origin::of_layers(image.manifest.layers, image.config.rootfs.diff_ids, what))
    }

    pub(super) fn source<'o>(&'o self, origin: &'o Origin) -> Result<Source<'o>, BuildError> {
        let folders = origin.folders(self.build)?;
        Ok(match &origin.name {
            None => context_source(self.build, folders),
            Some(name) => {
                let (watch, name) = (self.build.store.watch(), name.clone());
                Source { layers: Layers(folders), watch, ignore: None, keeps: true, keeps_times: true, name }
            }
        })
    }

    pub(super) fn files_fault(&self, at: &Instruction, error: FilesError) -> BuildError {
        match error {
            FilesError::Words(words, help) => self.fault(at, words, help).into(),
            FilesError::Io(path, error) => self.fault(at, format!("{}: {error}", path.display()), None).into(),
        }
    }

    pub(super) fn copy(&mut self, at: &Instruction, copy: &Copy) -> Result<(), BuildError> {
        let to = self.state.absolute(&self.fill(at, &copy.to)?);
        let exclude =
            Ignore::of(&self.fill_all(at, &copy.exclude)?).map_err(|error| self.fault(at, error.to_string(), None))?;
        let fill_maybe = |word: &Option<String>| word.as_ref().map(|word| self.fill(at, word)).transpose();
        let (owner, mode) = (fill_maybe(&copy.owner)?, fill_maybe(&copy.mode)?);
        let mode_read =
            mode.as_deref().map(Mode::read).transpose().map_err(|error| self.fault(at, error.to_string(), None))?;
        let scratch =
            TemporaryFolder::new_in(&self.build.input.scratch).map_err(io_error("make a folder for copies"))?;
        let layout = Layout { exclude: &exclude, parents: copy.parents, to: &to, unpacks: true };
        let origin = self.origin(at, copy.from.as_deref())?;
        // A name means what the image says, whatever the layer depends on: the key has the numbers.
        let owner = owner.map(|owner| self.ids_of(&owner, owner::ids_of)).transpose()?;
        let owner = self.owner(at, owner.transpose())?;
        let below = if copy.link { &[][..] } else { &self.state.config.rootfs.diff_ids };
        let mut key = Key::new("copy", below);
        let owner_text = owner.map(|(user, group)| format!("{user}:{group}"));
        key.text(&to).maybe(owner_text.as_deref()).maybe(mode.as_deref()).number(self.state.moment);
        // What layers have is looked for and read when it is needed; the context's files have to be read to be known.
        let found = if copy.documents.is_empty() && origin.add_to_key(&mut key) {
            key.texts(&self.fill_all(at, &copy.sources)?).texts(&self.fill_all(at, &copy.exclude)?);
            key.number(copy.parents.into());
            None
        } else {
            let packed = Layout { unpacks: false, ..layout };
            let mut found = self.find(at, copy, &origin, &packed, scratch.path())?;
            add_to_key(&mut found.items, &self.build.store, self.build.seen.as_ref(), &mut key)
                .map_err(|error| self.files_fault(at, error))?;
            // What is in an archive follows from the archive.
            let has_archive = found.items.iter().any(|item| item.to.starts_with(PACKED));
            if has_archive { None } else { Some(found) }
        };
        self.step(at, key, |stage| {
            let Some(found) = found else {
                let again = scratch.path().join("again");
                fs::create_dir(&again).map_err(io_error("make a folder for copies"))?;
                let found = stage.find(at, copy, &origin, &layout, &again)?;
                return stage.put(at, copy, found, &to, owner, mode_read);
            };
            stage.put(at, copy, found, &to, owner, mode_read)
        })
    }

    /// Makes a layer of what was found.
    fn put(
        &self,
        at: &Instruction,
        copy: &Copy,
        found: AllFound,
        to: &str,
        owner: Option<(u32, u32)>,
        mode: Option<Mode>,
    ) -> Result<Remembered, BuildError> {
        let below = if copy.link { Below::default() } else { self.below()? };
        let into_folder = goes_into_folder(to, &below);
        let AllFound { mut items, count } = found;
        if !into_folder && !copy.parents {
            if count > 1 {
                let help = Some(format!("write `{}/`", copy.to));
                return Err(self.fault(at, "several files need a folder to go into", help).into());
            }
            items.iter_mut().filter(|item| item.is_named).for_each(|item| item.to = PathBuf::new());
        }
        let copier = Copier::new(&below, self.build.store.ids(), self.state.moment).owned(owner, mode);
        let mut copier = if copy.link { copier.alone() } else { copier };
        let copied = copier.copy(&items, to).and_then(|()| match into_folder {
            true => copier.folder(Path::new(to)).map(drop),
            false => Ok(()),
        });
        copied.map_err(|error| self.files_fault(at, error))?;
        self.pack_tree(&copier.into_tree())
    }

    /// Everything that a COPY or ADD names.
    fn find(
        &self,
        at: &Instruction,
        copy: &Copy,
        origin: &Origin,
        layout: &Layout<'_>,
        scratch: &Path,
    ) -> Result<AllFound, BuildError> {
        let mut items = Vec::new();
        let count = self.find_into(at, copy, origin, layout, scratch, &mut items)?;
        Ok(AllFound { items, count })
    }

    /// Finds what a COPY or ADD names. Answers how many things that are.
    fn find_into(
        &self,
        at: &Instruction,
        copy: &Copy,
        origin: &Origin,
        layout: &Layout<'_>,
        scratch: &Path,
        items: &mut Vec<Item>,
    ) -> Result<usize, BuildError> {
        let source = self.source(origin)?;
        let (mut count, names) = (0, self.fill_all(at, &copy.sources)?);
        for (number, name) in names.iter().enumerate() {
            let scratch = scratch.join(number.to_string());
            let is_address = name.starts_with("http://") || name.starts_with("https://");
            if copy.word == CopyWord::Add && names_repository(name) {
                let words = format!("`{name}` is a repository of git, and no file");
                let help = "have its files in this repository; or fetch it in a RUN, which sees the network where the pipeline file says network \"outbound\"";
                return Err(self.fault(at, words, Some(help.to_owned())).into());
            }
            count += match copy.word {
                CopyWord::Add if is_address => self.find_address(at, copy, name, &scratch, layout, items)?,
                CopyWord::Add if copy.unpack != Some(false) => self.add(at, &source, name, &scratch, layout, items)?,
                _ => source.find(name, layout, items).map_err(|error| self.files_fault(at, error))?,
            };
        }
        for (number, document) in copy.documents.iter().enumerate() {
            // The reader refuses such names; here one would be a file of this machine.
            if !is_plain_name(&document.name) {
                return Err(self.fault(at, format!("`{}` is not a file's name", document.name), None).into());
            }
            let folder = scratch.join(format!("text-{number}"));
            fs::create_dir(&folder).map_err(io_error("make a folder for a text"))?;
            let body = match document.expands {
                true => expand_text(&document.body, &self.state.values(), self.build.input.recipe.escape)
                    .map_err(|error| self.fault(at, error.to_string(), None))?,
                false => document.body.clone(),
            };
            let file = folder.join(&document.name);
            let public = PermissionsExt::from_mode(0o644);
            let written = fs::write(&file, body).and_then(|()| fs::set_permissions(&file, public));
            written.map_err(io_error("write a text of the recipe"))?;
            count += self.find_made(at, &folder, &document.name, false, layout, items)?;
        }
        // A pattern may fit nothing beside something that is there.
        match names.first() {
            Some(name) if count == 0 => Err(self.files_fault(at, source.missing(name))),
            _ => Ok(count),
        }
    }

    /// Whose files are to be; nobody's that there can be no files of.
    pub(super) fn owner(
        &self,
        at: &Instruction,
        owner: Result<Option<(u32, u32)>, UserError>,
    ) -> Result<Option<(u32, u32)>, BuildError> {
        let owner = owner.map_err(|error| self.fault(at, error.to_string(), None))?;
        match owner {
            Some((user, group)) if user.max(group) > owner::HIGHEST => {
                let words = format!("{} is no user or group that files can be of", user.max(group));
                Err(self.fault(at, words, Some(format!("write a number up to {}", owner::HIGHEST))).into())
            }
            owner => Ok(owner),
        }
    }

    /// Finds something in a folder that was made for it.
    fn find_made(
        &self,
        at: &Instruction,
        folder: &Path,
        name: &str,
        keeps: bool,
        layout: &Layout<'_>,
        items: &mut Vec<Item>,
    ) -> Result<usize, BuildError> {
        let layers = [folder.to_owned()];
        let (watch, of) = (self.build.store.watch(), "the download".to_owned());
        let source = Source { layers: Layers(&layers), watch, ignore: None, keeps, keeps_times: keeps, name: of };
        let layout = Layout { parents: false, ..*layout };
        source.find(name, &layout, items).map_err(|error| self.files_fault(at, error))
    }

    /// Fetches what an address names, and finds it.
    fn find_address(
        &self,
        at: &Instruction,
        copy: &Copy,
        address: &str,
        scratch: &Path,
        layout: &Layout<'_>,
        items: &mut Vec<Item>,
    ) -> Result<usize, BuildError> {
        fs::create_dir(scratch).map_err(io_error("make a folder for a download"))?;
        let file = self.download(at, copy, address, scratch, layout)?;
        let path = scratch.join(&file);
        if copy.unpack == Some(true) && archives::is_archive(&path) {
            return self.unpack(at, &path, &scratch.with_extension("unpacked"), layout, items);
        }
        self.find_made(at, scratch, &file, false, layout, items)
    }

    /// Finds files of the context, with archives among what is named unpacked.
    fn add(
        &self,
        at: &Instruction,
        source: &Source<'_>,
        name: &str,
        scratch: &Path,
        layout: &Layout<'_>,
        items: &mut Vec<Item>,
    ) -> Result<usize, BuildError> {
        let mut found = Vec::new();
        let count = source.find(name, layout, &mut found).map_err(|error| self.files_fault(at, error))?;
        for (number, item) in found.into_iter().enumerate() {
            // What is in a folder that was named stays as it is.
            let is_archive = item.is_named && item.data.is_file() && archives::is_archive(&item.real);
            if is_archive && layout.unpacks {
                let folder = scratch.with_extension(format!("archive-{number}"));
                self.unpack(at, &item.real, &folder, layout, items)?;
            } else if is_archive {
                items.push(Item { to: Path::new(PACKED).join(&item.to), ..item });
            } else {
                items.push(item);
            }
        }
        Ok(count)
    }

    /// Unpacks an archive, and finds what was in it.
    fn unpack(
        &self,
        at: &Instruction,
        archive: &Path,
        folder: &Path,
        layout: &Layout<'_>,
        items: &mut Vec<Item>,
    ) -> Result<usize, BuildError> {
        archives::unpack(archive, folder, self.build.store.ids(), self.build.store.watch())
            .map_err(|error| self.fault(at, error.to_string(), None))?;
        self.find_made(at, folder, "/", true, layout, items)?;
        Ok(1)
    }

    /// Fetches what an address names into a folder. Answers its name.
    fn download(
        &self,
        at: &Instruction,
        copy: &Copy,
        address: &str,
        folder: &Path,
        layout: &Layout<'_>,
    ) -> Result<String, BuildError> {
        let path = address.split(['?', '#']).next().unwrap_or_default();
        let name = path.rsplit('/').next().filter(|name| !name.is_empty() && path.matches('/').count() > 2);
        let name = match name {
            Some(name) if name != "." && name != ".." => name.to_owned(),
            _ if !goes_into_folder(layout.to, &if copy.link { Below::default() } else { self.below()? }) => {
                "file".to_owned()
            }
            _ => {
                let words = format!("{address} names no file, and the destination is a folder");
                return Err(self.fault(at, words, Some("name the destination's file".to_owned())).into());
            }
        };
        let file = folder.join(&name);
        self.build.outside.download(address, &file).map_err(|error| self.fault(at, error.to_string(), None))?;
        if let Some(wanted) = &copy.checksum {
            let wanted = self.fill(at, wanted)?;
            let wanted: Digest =
                wanted.parse().map_err(|error| self.fault(at, format!("--checksum: {error}"), None))?;
            let bytes =
                fs::File::open(&file).and_then(crate::hash::digest_of_file).map_err(io_error("read a download"))?;
            if bytes != wanted {
                let words = format!("{address} gave {bytes} where {wanted} is asked for; nothing of it was used");
                return Err(self
                    .fault(at, words, Some("correct --checksum, or find out what changed".to_owned()))
                    .into());
            }
        }
        fs::set_permissions(&file, PermissionsExt::from_mode(0o600)).map_err(io_error("write a download"))?;
        Ok(name)
    }
}
