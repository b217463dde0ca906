//! RUN.

use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::time::Duration;

use pondrix_core::pipeline::Fault;
use pondrix_sandbox::{Exit, MountPoint, Rootfs, SCRIPT_AT, Spec};
use rustix::fs::{AtFlags, FileType, Mode, OFlags, ResolveFlags, open, openat2, statat, unlinkat};

use super::key::Key;
use super::mounts::Shown;
use super::stage::StageBuild;
use super::{BuildError, EPOCH};
use crate::layer::{Contents, Of, Times};
use crate::oci::Platform;
use crate::recipe::{Command, Instruction, Run, RunNetwork};
use crate::rootfs::Layers;
use crate::store::io_error;

/// Variables that say how the Web is reached: a RUN sees them where the build is given them, without ARG, and
/// what it makes does not depend on them.
pub(super) const PROXIES: [&str; 5] = ["HTTP_PROXY", "HTTPS_PROXY", "FTP_PROXY", "NO_PROXY", "ALL_PROXY"];
/// Incremented when the same command produces a different layer than in earlier versions. Cached layers are then built again,
/// so that all runners produce the same bytes. 1: without `/etc/hosts` and `/etc/resolv.conf` of the network.
const LAYER_FORM: u64 = 1;
/// How often a running command looks whether the build is to end.
pub(super) const HALT_CHECK: Duration = Duration::from_millis(50);
impl StageBuild<'_> {
    pub(super) fn run(&mut self, at: &Instruction, run: &Run) -> Result<(), BuildError> {
        let (config, here) = (&self.state.config, Platform::here());
        let is_run_by = |platform: &Platform| config.architecture == platform.architecture && config.os == platform.os;
        if !self.build.input.emulated.iter().chain([&here]).any(is_run_by) {
            let words =
                format!("this machine is {here}, and cannot run what is for {}/{}", config.os, config.architecture);
            let help = "write build=\"native\" behind `platform` in the pipeline file, which has it built by a runner of that kind; or, where only files are made, begin the stage with FROM --platform=$BUILDPLATFORM";
            return Err(self.fault(at, words, Some(help.to_owned())).into());
        }
        let mounts = run.mounts.iter().map(|mount| self.filled(at, mount)).collect::<Result<Vec<_>, _>>()?;
        let env = self.run_env();
        let shell = self.state.shell();
        let config = &self.state.config.config;
        let mut key = Key::new("run", &self.state.config.rootfs.diff_ids);
        match &run.command {
            Command::Script(text) => key.text("script").text(text).texts(&shell),
            command => key.text("command").texts(&command.argv(&shell)),
        };
        key.texts(env.iter().flat_map(|(name, value)| [name, value]));
        // The same files may run on several kinds of machine, and ask which it is.
        key.text(&self.state.config.os).text(&self.state.config.architecture);
        key.maybe(self.state.config.variant.as_deref());
        let network = match run.network {
            RunNetwork::None => "none",
            RunNetwork::Default | RunNetwork::Host => self.build.outside.network(),
        };
        key.text(&config.working_dir).text(&config.user).text(network).number(self.state.moment).number(LAYER_FORM);
        for mount in &mounts {
            self.mount_key(at, mount, &mut key)?;
        }
        self.step(at, key, |stage| {
            let below = stage.build.paths(&stage.state)?;
            let scratch = stage.upper_of_command()?;
            let shown = stage.show(at, &mounts, &below, scratch.path())?;
            let contents = stage.execute(at, run, env, shown, below, scratch.path())?;
            stage.pack_folder(&scratch.path().join("upper"), &contents)
        })
    }

    fn run_env(&self) -> BTreeMap<String, String> {
        let mut env = BTreeMap::from([(EPOCH.to_owned(), self.state.moment.to_string())]);
        env.extend(self.state.values());
        env
    }

    fn execute(
        &self,
        at: &Instruction,
        run: &Run,
        env: BTreeMap<String, String>,
        shown: Shown,
        below: Vec<PathBuf>,
        scratch: &Path,
    ) -> Result<Contents, BuildError> {
        let config = &self.state.config.config;
        let mut env = env;
        for name in PROXIES.iter().flat_map(|name| [(*name).to_owned(), name.to_ascii_lowercase()]) {
            if let Some(value) = self.build.input.args.get(&name) {
                env.entry(name).or_insert_with(|| value.clone());
            }
        }
        env.extend(shown.env);
        let mut script = None;
        let argv = match &run.command {
            Command::Script(text) if text.starts_with("#!") => {
                let file = scratch.join("script");
                let written = fs::write(&file, text)
                    .and_then(|()| fs::set_permissions(&file, PermissionsExt::from_mode(0o755)))
                    .and_then(|()| self.build.store.ids().give(&file, 0, 0));
                written.map_err(io_error("write a script"))?;
                script = Some(file);
                vec![SCRIPT_AT.to_owned()]
            }
            command => command.argv(&self.state.shell()),
        };
        let mut points = shown.points;
        points.extend(self.network_points(run.network, &below));
        let root = Rootfs { mount_points: points.clone(), ..Rootfs::new(below.clone(), scratch.to_owned()) };
        let spec = Spec {
            argv,
            env,
            script,
            binds: shown.binds,
            views: shown.views,
            empty: shown.empty,
            secrets: shown.secrets,
            folder: if config.working_dir.is_empty() { "/".to_owned() } else { config.working_dir.clone() },
            user: config.user.clone(),
            hostname: "build".to_owned(),
            ..Spec::new(root)
        };
        // What lay in a cache has the time of an earlier build, and copies of it may have.
        let seconds = || shown.caches.iter().flat_map(|cache| &cache.seconds).copied().collect();
        let of = if shown.caches.is_empty() { Of::All } else { Of::AllAndEarlier(seconds()) };
        let times = Times::from_now(self.state.moment, of);
        let exit = self.wait_for(at, &spec, run.network)?;
        let failed = |words: String, help: Option<String>| Err(BuildError::from(self.fault(at, words, help)));
        match exit {
            Exit::Status(0) => {}
            Exit::Status(status) => {
                let help = match status {
                    127 => Some("the shell found no such program in the image".to_owned()),
                    126 => Some("the program is there, and cannot be run".to_owned()),
                    _ => Some("the lines above are all it said".to_owned()),
                };
                return failed(format!("the command ended with exit status {status}"), help);
            }
            Exit::Signal(signal) => return failed(format!("the command was ended by signal {signal}"), None),
            Exit::Failed(words) => return failed(words, None),
            Exit::Killed => return Err(BuildError::Halted),
        }
        for point in &points {
            forget_mount_point(&scratch.join("upper"), point, &below);
        }
        Ok(Contents::whole(times))
    }

    /// Places for the files of a network that the image does not have: where links lead, so that nothing is made for them
    /// in what becomes a layer.
    fn network_points(&self, network: RunNetwork, below: &[PathBuf]) -> Vec<MountPoint> {
        let files = self.build.outside.network_files(network).iter();
        let real = files.filter_map(|file| Layers(below).follow(Path::new(file)));
        let missing = real.filter(|path| Layers(below).find(path).is_none());
        missing.map(|path| MountPoint { path, is_folder: false }).collect()
    }

    fn wait_for(&self, at: &Instruction, spec: &Spec, network: RunNetwork) -> Result<Exit, BuildError> {
        let output = self.build.outside.output(self.label.as_deref()).map_err(io_error("share the log"))?;
        let descriptor = output.descriptor().map_err(io_error("share the log"))?;
        let started = self.build.outside.start(spec, network, descriptor);
        let mut running = started.map_err(|error| BuildError::from(self.fault(at, error.to_string(), None)))?;
        let written = spec.root.folder.join("upper");
        let exit = loop {
            if let Some(exit) = running.wait_at_most(HALT_CHECK) {
                break Ok(exit);
            }
            if self.build.is_halted() {
                running.kill();
                break Err(BuildError::Halted);
            }
            if let Some(words) = self.build.outside.too_much(&written) {
                running.kill();
                break Err(self.fault(at, format!("the command was ended: {words}"), None).into());
            }
        };
        output.finish();
        self.build.outside.has_written(&written);
        let failed = !matches!(exit, Ok(Exit::Status(0)) | Err(_));
        let words = if failed && running.was_out_of_memory() {
            Some("something of the command was ended: it would have needed more memory than the job may use")
        } else if failed && running.was_out_of_processes() {
            Some("something of the command was not started: the job may not have so many processes at once")
        } else {
            None
        };
        if let Some(words) = words {
            return Err(self.fault(at, words, None).into());
        }
        exit
    }

    pub(super) fn fault(&self, at: &Instruction, words: impl Into<String>, help: Option<String>) -> Fault {
        let words = words.into();
        match &self.trigger {
            // It stands in no file: what is underlined is the FROM that brought it.
            Some(text) => {
                let words = format!("`{text}`, which the base leaves to images built on it: {words}");
                self.build.input.recipe.fault(&self.stage.from, words, help)
            }
            None => self.build.input.recipe.fault(at, words, help),
        }
    }
}

/// Takes a mount point out of the changes, where nothing is in it. The command decided what is in those: the way there is
/// taken by handles, and no link on it is followed.
fn forget_mount_point(upper: &Path, point: &MountPoint, below: &[PathBuf]) {
    if Layers(below).find(&point.path).is_some() {
        return;
    }
    let relative = point.path.strip_prefix("/").unwrap_or(&point.path);
    let (Some(parent), Some(name)) = (relative.parent(), relative.file_name()) else { return };
    let parent = if parent.as_os_str().is_empty() { Path::new(".") } else { parent };
    let handle = OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC;
    let beneath = ResolveFlags::BENEATH | ResolveFlags::NO_SYMLINKS;
    let folder =
        open(upper, handle, Mode::empty()).and_then(|top| openat2(&top, parent, handle, Mode::empty(), beneath));
    let Ok(folder) = folder else { return };
    let Ok(data) = statat(&folder, name, AtFlags::SYMLINK_NOFOLLOW) else { return };
    // Neither removes what has something in it.
    let flags = match FileType::from_raw_mode(data.st_mode) {
        FileType::Directory => AtFlags::REMOVEDIR,
        FileType::RegularFile if data.st_size == 0 => AtFlags::empty(),
        _ => return,
    };
    // What cannot be taken out stays an empty file or folder.
    let _ = unlinkat(&folder, name, flags);
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_mount_point_is_taken_out_of_the_changes_and_no_link_in_them_leads_elsewhere() {
        let folder = tempfile::tempdir().unwrap();
        let (upper, outside) = (folder.path().join("upper"), folder.path().join("outside"));
        for made in [upper.join("kept/empty"), upper.join("kept/full/leaf"), outside.join("empty")] {
            fs::create_dir_all(made).unwrap();
        }
        fs::write(outside.join("file"), "").unwrap();
        fs::write(upper.join("kept/file"), "").unwrap();
        std::os::unix::fs::symlink(&outside, upper.join("link")).unwrap();
        let forget = |path: &str| {
            forget_mount_point(&upper, &MountPoint { path: PathBuf::from(path), is_folder: true }, &[]);
        };
        for path in ["/kept/empty", "/kept/file", "/kept/full", "/link/empty", "/link/file", "/link", "/none/at", "/"] {
            forget(path);
        }
        assert!(!upper.join("kept/empty").exists() && !upper.join("kept/file").exists());
        assert!(upper.join("kept/full/leaf").exists() && upper.join("link").is_symlink());
        assert!(outside.join("empty").exists() && outside.join("file").exists());
        forget("/../outside/empty");
        assert!(outside.join("empty").exists());
    }
}
