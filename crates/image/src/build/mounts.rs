//! What a RUN sees besides the image's files: binds, caches, empty folders, secrets, agents.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

use pondrix_files::TemporaryFolder;
use pondrix_sandbox::{Bind, EmptyFolder, MountPoint, SecretFile, View};
use rustix::fs::{FlockOperation, flock};

use super::caches::{self, CacheUse, Inputs};
use super::copied_files::Item;
use super::copied_keys::{add_to_key, note_contents};
use super::copy::copy_into;
use super::key::Key;
use super::run::HALT_CHECK;
use super::stage::StageBuild;
use super::{BuildError, MOMENT, Secret, SecretKey};
use crate::digest_of;
use crate::garbage::note_cache;
use crate::recipe::{Instruction, Mount, MountKind, is_kernels};
use crate::rootfs::Layers;
use crate::store::io_error;

/// Where secrets are when a mount does not say.
const SECRETS_AT: &str = "/run/secrets";
/// How many caches of one name builds side by side may have that do not share it.
const PRIVATE_CACHES: usize = 64;

/// What a command sees besides the image's files.
#[derive(Default)]
pub(super) struct Shown {
    pub(super) binds: Vec<Bind>,
    pub(super) views: Vec<View>,
    pub(super) empty: Vec<EmptyFolder>,
    pub(super) secrets: Vec<SecretFile>,
    pub(super) env: BTreeMap<String, String>,
    pub(super) points: Vec<MountPoint>,
    /// Locks that are held while the command runs.
    _locks: Vec<File>,
    /// The caches, which it uses as long.
    pub(super) caches: Vec<CacheUse>,
}

impl StageBuild<'_> {
    /// A mount with its options filled in.
    pub(super) fn filled(&self, at: &Instruction, mount: &Mount) -> Result<Mount, BuildError> {
        let options = mount.options.iter().map(|(name, value)| Ok((name.clone(), self.fill(at, value)?)));
        Ok(Mount { kind: mount.kind, options: options.collect::<Result<_, BuildError>>()? })
    }

    /// Adds to a key what a mount says and, of a bind, what it shows. Of a secret a hash of its value that only whoever has
    /// the key for such hashes can compute: what was made with it is of no use to who has another.
    pub(super) fn mount_key(&self, at: &Instruction, mount: &Mount, key: &mut Key) -> Result<(), BuildError> {
        key.text(&format!("{:?}", mount.kind)).texts(mount.options.iter().flat_map(|(name, value)| [name, value]));
        // Whether there is one where none need be.
        match mount.kind {
            MountKind::Secret => {
                let SecretKey(with) = &self.build.input.secret_key;
                let hash = |secret: &Secret| blake3::keyed_hash(with, &secret.0).as_bytes().to_vec();
                let hash = self.build.input.secrets.get(secret_id(mount)).map(hash);
                key.number(hash.is_some().into()).bytes(&hash.unwrap_or_default());
            }
            MountKind::Ssh => drop(key.number(self.build.input.agents.contains_key(agent_id(mount)).into())),
            MountKind::Bind | MountKind::Cache | MountKind::Tmpfs => {}
        }
        if mount.kind != MountKind::Bind {
            return Ok(());
        }
        let origin = self.origin(at, mount.option("from"))?;
        if origin.add_to_key(key) {
            return Ok(());
        }
        let mut items = self.bound(at, mount)?;
        add_to_key(&mut items, &self.build.store, self.build.seen.as_ref(), key)
            .map_err(|error| self.files_fault(at, error))
    }

    /// Makes what the mounts show.
    pub(super) fn show(
        &self,
        at: &Instruction,
        mounts: &[Mount],
        below: &[PathBuf],
        scratch: &Path,
    ) -> Result<Shown, BuildError> {
        let mut shown = Shown::default();
        let caches = self.use_caches(at, mounts, below, &mut shown)?;
        for (number, mount) in mounts.iter().enumerate() {
            let fault = |words: String| BuildError::from(self.fault(at, words, None));
            let place = |named: &str| self.place(at, named, below);
            let number_of = |name: &str, otherwise: u32, radix: u32| self.number_of(at, mount, name, otherwise, radix);
            let mut point = |path: &Path, is_folder: bool| {
                if Layers(below).find(path).is_none() {
                    shown.points.push(MountPoint { path: path.to_owned(), is_folder });
                }
                path.to_string_lossy().into_owned()
            };
            match mount.kind {
                MountKind::Tmpfs => {
                    let target = place(mount.option("target").unwrap_or_default())?;
                    let size = mount.option("size").map(|text| {
                        size(text).ok_or_else(|| {
                            fault(format!("size `{text}` is not a number of bytes: write 67108864, 64m or 1g"))
                        })
                    });
                    let at = point(&target, true);
                    shown.empty.push(EmptyFolder { at, size: size.transpose()? });
                }
                MountKind::Cache => {
                    let target = place(mount.option("target").unwrap_or_default())?;
                    let Some(from) = caches.get(&number).cloned() else { continue };
                    let to = point(&target, true);
                    shown.binds.push(Bind { from, to, read_only: mount.option("ro") == Some("true") });
                }
                MountKind::Bind => {
                    let target = place(mount.option("target").unwrap_or_default())?;
                    let origin = self.origin(at, mount.option("from"))?;
                    let source = self.source(&origin)?;
                    let path = source.one(mount.option("source").unwrap_or("/"));
                    let path = path.map_err(|error| self.files_fault(at, error))?;
                    let found = source.layers.find(&path);
                    let is_folder = found.as_ref().is_some_and(|found| found.is_dir());
                    // One file is shown out of the layer that has it: nothing has to be laid over anything for that.
                    let layer = found.filter(|_| !is_folder && mount.option("rw") != Some("true"));
                    let layer = layer.and_then(|file| source.layers.0.iter().find(|layer| file.starts_with(layer)));
                    if let Some(layer) = layer {
                        let (to, path) = (point(&target, false), path.to_string_lossy().into_owned());
                        shown.views.push(View { layers: vec![layer.clone()], path, to, changes: None });
                        continue;
                    }
                    let layers = match origin.is_context() {
                        true => vec![self.build.seen_context()?],
                        false => source.layers.0.to_vec(),
                    };
                    let changes = (mount.option("rw") == Some("true")).then(|| self.changes(scratch, number));
                    let to = point(&target, is_folder);
                    let path = path.to_string_lossy().into_owned();
                    shown.views.push(View { layers, path, to, changes: changes.transpose()? });
                }
                MountKind::Secret => self.secret(at, mount, &mut shown, &place, &number_of, below)?,
                MountKind::Ssh => {
                    let id = agent_id(mount);
                    let Some(socket) = self.build.input.agents.get(id) else {
                        if mount.option("required") == Some("false") {
                            continue;
                        }
                        let help =
                            format!("write ssh \"{id}\" in the image of the pipeline file, or required=false here");
                        return Err(self
                            .fault(at, format!("no key `{id}` was given to this build"), Some(help))
                            .into());
                    };
                    let target =
                        mount.option("target").map_or_else(|| format!("/run/ssh-agent.{number}"), str::to_owned);
                    let to = point(&place(&target)?, false);
                    shown.env.insert("SSH_AUTH_SOCK".to_owned(), to.clone());
                    shown.binds.push(Bind { from: socket.clone(), to, read_only: false });
                }
            }
        }
        Ok(shown)
    }

    /// Where a mount comes, seen from the working folder and with links followed.
    fn place(&self, at: &Instruction, named: &str, below: &[PathBuf]) -> Result<PathBuf, BuildError> {
        let real = Layers(below).follow(Path::new(&self.state.absolute(named)));
        let real = real.ok_or_else(|| self.fault(at, format!("{named}: links go round in a circle"), None))?;
        if is_kernels(&real) {
            let words = format!("nothing can be mounted at {named}, which is {} in this image", real.display());
            let help = "the root itself and /proc, /sys and /dev are the kernel's: choose another folder".to_owned();
            return Err(self.fault(at, words, Some(help)).into());
        }
        Ok(real)
    }

    /// An option of a mount that is a number, in this radix.
    fn number_of(
        &self,
        at: &Instruction,
        mount: &Mount,
        name: &str,
        otherwise: u32,
        radix: u32,
    ) -> Result<u32, BuildError> {
        let Some(text) = mount.option(name) else { return Ok(otherwise) };
        u32::from_str_radix(text, radix)
            .map_err(|_| self.fault(at, format!("{name} `{text}` is not a number"), None).into())
    }

    /// Begins the use of all caches that are mounted: each one when it may be used, and all in the same order, whichever
    /// command asks for them. Answers their folders, by the places of the mounts.
    fn use_caches(
        &self,
        at: &Instruction,
        mounts: &[Mount],
        below: &[PathBuf],
        shown: &mut Shown,
    ) -> Result<BTreeMap<usize, PathBuf>, BuildError> {
        let mut wanted = Vec::new();
        for (number, mount) in mounts.iter().enumerate().filter(|(_, mount)| mount.kind == MountKind::Cache) {
            let target = self.place(at, mount.option("target").unwrap_or_default(), below)?;
            let id = mount.option("id").map_or_else(|| target.to_string_lossy().into_owned(), str::to_owned);
            wanted.push((id, number, mount));
        }
        wanted.sort_by(|(one, ..), (other, ..)| one.cmp(other));
        let mut folders = BTreeMap::new();
        for (id, number, mount) in wanted {
            let owner = (self.number_of(at, mount, "uid", 0, 10)?, self.number_of(at, mount, "gid", 0, 10)?);
            let mode = self.number_of(at, mount, "mode", 0o755, 8)?;
            let (folder, lock) = self.cache_folder(&id, mount.option("sharing").unwrap_or("shared"))?;
            if !folder.is_dir() {
                self.begin_cache(at, mount, &folder, owner, mode)?;
            }
            shown._locks.extend(lock);
            folders.insert(number, folder.clone());
            // A command that mounts one at two places uses it once.
            if folders.iter().any(|(other, known)| *other != number && *known == folder) {
                continue;
            }
            let mut has_waited = false;
            let mut goes_on = || {
                if !std::mem::replace(&mut has_waited, true) {
                    self.say(&format!("      waits for the cache {id}: a build that sees other files uses it"));
                }
                std::thread::sleep(HALT_CHECK);
                !self.build.is_halted()
            };
            let inputs = self.inputs(at, mounts)?;
            let used = CacheUse::begin(&self.build.store, &folder, inputs, below, &mut goes_on)?;
            let used = used.ok_or(BuildError::Halted)?;
            if used.has_aged {
                self.say(&format!("      cache {id}: what it holds counts as older than what is not as it was"));
            }
            shown.caches.push(used);
        }
        Ok(folders)
    }

    /// What the command sees, but for what is in caches.
    fn inputs(&self, at: &Instruction, mounts: &[Mount]) -> Result<Inputs, BuildError> {
        let of_base = self.state.base.as_ref().map_or(0, |(_, _, layers)| *layers);
        let (base, layers) = self.state.config.rootfs.diff_ids.split_at(of_base);
        let mut inputs = Inputs { base: base.to_vec(), layers: layers.to_vec(), shown: BTreeMap::new() };
        for mount in mounts.iter().filter(|mount| mount.kind == MountKind::Bind) {
            let mut items = self.bound(at, mount)?;
            note_contents(&mut items, self.build.seen.as_ref(), self.build.store.watch())
                .map_err(|error| self.files_fault(at, error))?;
            for item in items.iter().filter(|item| !item.data.is_dir()) {
                let target = Path::new(mount.option("target").unwrap_or_default()).join(&item.to);
                let time = if item.keeps_time { u64::try_from(item.data.mtime()).unwrap_or(0) } else { MOMENT };
                let content = item.content().map_err(|error| self.files_fault(at, error))?;
                let content = digest_of(&content).hex().to_owned();
                inputs.shown.insert(target.to_string_lossy().into_owned(), (content, time));
            }
        }
        Ok(inputs)
    }

    /// What a bind shows.
    fn bound(&self, at: &Instruction, mount: &Mount) -> Result<Vec<Item>, BuildError> {
        let origin = self.origin(at, mount.option("from"))?;
        let source = self.source(&origin)?;
        let mut items: Vec<Item> = Vec::new();
        let shown = source.one(mount.option("source").unwrap_or("/"));
        let read = shown.and_then(|path| source.everything(&path, &mut items));
        read.map(|()| items).map_err(|error| self.files_fault(at, error))
    }

    fn secret(
        &self,
        at: &Instruction,
        mount: &Mount,
        shown: &mut Shown,
        place: &dyn Fn(&str) -> Result<PathBuf, BuildError>,
        number_of: &dyn Fn(&str, u32, u32) -> Result<u32, BuildError>,
        below: &[PathBuf],
    ) -> Result<(), BuildError> {
        let id = secret_id(mount);
        let Some(secret) = self.build.input.secrets.get(id) else {
            if mount.option("required") == Some("false") {
                return Ok(());
            }
            let help = format!("write secret \"{id}\" in the image of the pipeline file, or required=false here");
            return Err(self.fault(at, format!("no secret `{id}` was given to this build"), Some(help)).into());
        };
        if let Some(name) = mount.option("env") {
            let text = String::from_utf8(secret.0.clone());
            let text =
                text.map_err(|_| self.fault(at, format!("the secret `{id}` is not text, which a variable is"), None))?;
            shown.env.insert(name.to_owned(), text);
            if mount.option("target").is_none() {
                return Ok(());
            }
        }
        let target = mount.option("target").map_or_else(|| format!("{SECRETS_AT}/{id}"), str::to_owned);
        let real = place(&target)?;
        if Layers(below).find(&real).is_none() {
            shown.points.push(MountPoint { path: real.clone(), is_folder: false });
        }
        shown.secrets.push(SecretFile {
            at: real.to_string_lossy().into_owned(),
            bytes: secret.0.clone(),
            mode: number_of("mode", 0o400, 8)?,
            owner: (number_of("uid", 0, 10)?, number_of("gid", 0, 10)?),
        });
        Ok(())
    }

    /// The folder of a cache, and the lock on it where it is not shared. It may not be there yet.
    fn cache_folder(&self, id: &str, sharing: &str) -> Result<(PathBuf, Option<File>), BuildError> {
        let caches = &self.build.input.caches;
        fs::create_dir_all(caches).map_err(io_error("make the folder of caches"))?;
        let name = digest_of(id.as_bytes()).hex()[..32].to_owned();
        if sharing == "shared" {
            note_cache(&caches.join(&name)).map_err(io_error("note a cache's use"))?;
            return Ok((caches.join(name), None));
        }
        for number in 0..PRIVATE_CACHES {
            let name = if number == 0 { name.clone() } else { format!("{name}-{number}") };
            let lock = caches.join(format!("{name}.lock"));
            let lock = File::options().create(true).truncate(false).write(true).open(lock);
            let lock = lock.map_err(io_error("lock a cache"))?;
            loop {
                if flock(&lock, FlockOperation::NonBlockingLockExclusive).is_ok() {
                    note_cache(&caches.join(&name)).map_err(io_error("note a cache's use"))?;
                    return Ok((caches.join(name), Some(lock)));
                }
                if sharing == "private" {
                    break;
                }
                if self.build.is_halted() {
                    return Err(BuildError::Halted);
                }
                std::thread::sleep(HALT_CHECK);
            }
        }
        Err(BuildError::Input(format!("{PRIVATE_CACHES} builds have a cache `{id}` of their own already")))
    }

    /// Makes a cache's folder, with the files that it begins with.
    fn begin_cache(
        &self,
        at: &Instruction,
        mount: &Mount,
        folder: &Path,
        owner: (u32, u32),
        mode: u32,
    ) -> Result<(), BuildError> {
        let told = || io_error("make a cache");
        let ids = self.build.store.ids();
        let new = TemporaryFolder::new_in(&self.build.input.caches).map_err(told())?;
        caches::forget(folder);
        if mount.option("from").is_some() || mount.option("source").is_some() {
            let origin = self.origin(at, mount.option("from"))?;
            let source = self.source(&origin)?;
            let mut items = Vec::new();
            let found = source.one(mount.option("source").unwrap_or("/"));
            let copied = found.and_then(|path| source.everything(&path, &mut items)).and_then(|()| {
                items.retain(|item| !item.to.as_os_str().is_empty());
                copy_into(new.path(), &items, &self.build.store, self.state.moment)
            });
            copied.map_err(|error| self.files_fault(at, error))?;
        }
        ids.give(new.path(), owner.0, owner.1).map_err(told())?;
        fs::set_permissions(new.path(), PermissionsExt::from_mode(mode)).map_err(told())?;
        match fs::rename(new.path(), folder) {
            // Another build made it meanwhile; it shares that one.
            Err(_) if folder.is_dir() => Ok(()),
            Err(error) => Err(told()(error).into()),
            Ok(()) => {
                // It has another name now, under which it stays.
                let _ = new.keep();
                Ok(())
            }
        }
    }

    /// A folder for what is changed in a mount, which nobody sees afterwards.
    fn changes(&self, scratch: &Path, number: usize) -> Result<PathBuf, BuildError> {
        let folder = scratch.join(format!("view-{number}"));
        for part in ["", "upper", "work"] {
            let path = folder.join(part);
            let made = fs::create_dir_all(&path).and_then(|()| self.build.store.ids().give(&path, 0, 0));
            made.map_err(io_error("make a folder for a mount"))?;
        }
        Ok(folder)
    }
}

/// The name of the agent that a mount shows.
fn agent_id(mount: &Mount) -> &str {
    mount.option("id").unwrap_or("default")
}

/// The name of the secret that a mount shows: said, or the last part of its target.
fn secret_id(mount: &Mount) -> &str {
    let from_target = || mount.option("target").and_then(|target| target.rsplit('/').next()).unwrap_or_default();
    mount.option("id").unwrap_or_else(from_target)
}

/// A number of bytes, with `k`, `m` or `g` behind it or not.
fn size(text: &str) -> Option<u64> {
    let text = text.to_ascii_lowercase();
    let text = text.trim_end_matches("ib").trim_end_matches('b');
    let (digits, factor) = match text.chars().last()? {
        'k' => (&text[..text.len() - 1], 1 << 10),
        'm' => (&text[..text.len() - 1], 1 << 20),
        'g' => (&text[..text.len() - 1], 1 << 30),
        _ => (text, 1),
    };
    digits.parse::<u64>().ok()?.checked_mul(factor)
}
