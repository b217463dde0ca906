//! One stage: one instruction after the other.

use std::fs::{self, File};
use std::io::BufWriter;
use std::path::Path;
use std::sync::Arc;

use pondrix_core::Time;
use pondrix_files::TemporaryFolder;
use pondrix_sandbox::UserError;
use serde_json::json;

use super::below::Below;
use super::copy::Copier;
use super::graph::{Base, Named, built_stage};
use super::key::Key;
use super::owner::{self, ids_of_command, is_in_numbers};
use super::state::State;
use super::whole::Build;
use super::{BuildError, EPOCH};
use crate::inventory::Listing;
use crate::layer::tree::Tree;
use crate::layer::{self, Contents, Packed};
use crate::oci::{Descriptor, HealthConfig, History, Platform};
use crate::recipe::{Action, Command, Healthcheck, Instruction, Recipe, Stage, expand};
use crate::rootfs::Layers;
use crate::store::{Remembered, io_error};

/// A stage that is being built.
pub(super) struct StageBuild<'b> {
    pub(super) build: &'b Build<'b>,
    pub(super) stage: &'b Stage,
    pub(super) state: State,
    /// What its lines in the log begin with, where there are several stages.
    pub(super) label: Option<String>,
    /// The instruction of the base that is carried out.
    pub(super) trigger: Option<String>,
    pub(super) number: usize,
    /// The instruction that is carried out, by its place in the stage.
    place: usize,
    platform: Platform,
    /// Whether CMD stands in this stage: an ENTRYPOINT then leaves it alone.
    has_cmd: bool,
}

impl<'b> StageBuild<'b> {
    pub(super) fn carry_out(build: &'b Build<'b>, number: usize) -> Result<State, BuildError> {
        let recipe = &build.input.recipe;
        let stage = &recipe.stages[number];
        let label = stage.name.clone().unwrap_or_else(|| format!("stage {number}"));
        let mut this = Self {
            build,
            stage,
            state: State::empty(&build.input.platform),
            label: (build.plan.count() > 1).then_some(label),
            trigger: None,
            number,
            place: 0,
            platform: build.plan.platforms[number].clone(),
            has_cmd: false,
        };
        this.begin()?;
        for (place, instruction) in stage.instructions.iter().enumerate() {
            this.place = place;
            if build.is_halted() {
                return Err(BuildError::Halted);
            }
            this.say_instruction(instruction, "");
            this.instruction(instruction)?;
        }
        Ok(this.state)
    }

    /// Takes over from the base, and does what the base asks of those who do.
    fn begin(&mut self) -> Result<(), BuildError> {
        let base = self.build.plan.bases[self.number].as_ref().map_err(|fault| BuildError::from((**fault).clone()))?;
        let meant = match base {
            Base::Image(name) if self.stage.base.contains('$') => format!(", which is {}", name.reference),
            _ => String::new(),
        };
        self.say_instruction(&self.stage.from, &meant);
        match base {
            Base::Scratch => self.state = State::empty(&self.platform),
            Base::Stage(other) => self.state = built_stage(self.build, *other)?,
            Base::Image(name) => {
                let image = self.image(&self.stage.from, name)?;
                self.state.base = Some((name.reference.clone(), image.digest.clone(), image.manifest.layers.len()));
                self.state.layers = image.manifest.layers;
                self.state.config = image.config;
            }
        }
        let triggers = self.state.config.config.on_build.take().unwrap_or_default();
        for text in triggers {
            self.say(&format!("asked for by the base  {text}"));
            self.trigger = Some(text.clone());
            let read = Recipe::read_trigger(&text).map_err(|faults| {
                let words = faults.first().map_or(String::new(), |fault| fault.message.clone());
                BuildError::from(self.fault(&self.stage.from, words, None))
            })?;
            self.instruction(&read)?;
            self.trigger = None;
        }
        Ok(())
    }

    pub(super) fn image(&self, at: &Instruction, name: &Named) -> Result<crate::Image, BuildError> {
        let Named { reference, is_open } = name;
        let image = self.build.outside.image(reference, &self.platform);
        let help = || is_open.then(|| "name a tag, as in IMAGE:TAG".to_owned());
        let image = image.map_err(|error| BuildError::from(self.fault(at, error.to_string(), help())))?;
        if *is_open {
            // What it is today need not be what it is tomorrow.
            let fixed = reference.repository.at(image.digest.clone());
            self.say(&format!(
                "warning: no tag is named, and {reference} is taken, which is {} now;",
                image.digest.short()
            ));
            self.say(&format!("         write {fixed} to have this one again, or name a tag"));
        }
        Ok(image)
    }

    /// An instruction, behind its place in a form that editors open.
    fn say_instruction(&self, at: &Instruction, more: &str) {
        self.say(&format!("{}:{}  {}{more}", self.build.input.recipe_path, at.line, at.text));
    }

    pub(super) fn say(&self, line: &str) {
        self.build.outside.say(self.label.as_deref(), line);
    }

    /// A word with its variables filled in and its quotes taken away.
    pub(super) fn fill(&self, at: &Instruction, word: &str) -> Result<String, BuildError> {
        let filled = expand(word, &self.state.values(), self.build.input.recipe.escape);
        filled.map_err(|error| self.fault(at, error.to_string(), None).into())
    }

    pub(super) fn fill_all(&self, at: &Instruction, words: &[String]) -> Result<Vec<String>, BuildError> {
        words.iter().map(|word| self.fill(at, word)).collect()
    }

    fn fill_pairs(&self, at: &Instruction, pairs: &[(String, String)]) -> Result<Vec<(String, String)>, BuildError> {
        pairs.iter().map(|(name, value)| Ok((self.fill(at, name)?, self.fill(at, value)?))).collect()
    }

    fn instruction(&mut self, at: &Instruction) -> Result<(), BuildError> {
        match &at.action {
            Action::From => {}
            Action::Arg(args) => self.arguments(at, args)?,
            Action::Env(pairs) => {
                for (name, value) in self.fill_pairs(at, pairs)? {
                    self.state.config.config.set_variable(&name, &value);
                }
            }
            Action::Label(pairs) => {
                let pairs = self.fill_pairs(at, pairs)?;
                self.state.config.config.labels.get_or_insert_default().extend(pairs);
            }
            Action::User(user) => self.state.config.config.user = self.fill(at, user)?,
            Action::StopSignal(signal) => self.state.config.config.stop_signal = Some(self.signal(at, signal)?),
            Action::Maintainer(author) => self.state.config.author = Some(author.clone()),
            Action::Shell(argv) => self.state.config.config.shell = Some(argv.clone()),
            Action::Onbuild(text) => self.state.config.config.on_build.get_or_insert_default().push(text.clone()),
            Action::Expose(ports) => self.expose(at, ports)?,
            Action::Volume(folders) => {
                for folder in self.fill_all(at, folders)? {
                    self.state.config.config.volumes.get_or_insert_default().insert(folder, json!({}));
                }
            }
            Action::Healthcheck(check) => self.state.config.config.healthcheck = Some(self.health(check)),
            Action::Cmd(command) => {
                self.has_cmd = true;
                self.state.config.config.cmd = Some(command.argv(&self.state.shell()));
            }
            Action::Entrypoint(command) => {
                let argv = command.argv(&self.state.shell());
                self.state.config.config.entrypoint = Some(argv).filter(|argv| !argv.is_empty());
                if !self.has_cmd {
                    self.state.config.config.cmd = None;
                }
            }
            Action::Workdir(folder) => return self.workdir(at, folder),
            Action::Copy(copy) => return self.copy(at, copy),
            Action::Run(run) => return self.run(at, run),
        }
        self.note(at, true);
        Ok(())
    }

    fn arguments(&mut self, at: &Instruction, args: &[(String, Option<String>)]) -> Result<(), BuildError> {
        for (name, default) in args {
            let given = self.build.plan.given(self.build.input, name);
            let value = match (given, default) {
                (Some(given), _) => Some(given),
                (None, Some(default)) => Some(self.fill(at, default)?),
                (None, None) => self.build.plan.globals.get(name).cloned(),
            };
            if let Some(value) = value {
                if name == EPOCH {
                    self.state.moment = value.parse().map_err(|_| {
                        self.fault(at, format!("{EPOCH} is `{value}`, and has to be seconds since 1970"), None)
                    })?;
                }
                self.state.args.insert(name.clone(), value);
            }
        }
        Ok(())
    }

    fn signal(&self, at: &Instruction, signal: &str) -> Result<String, BuildError> {
        let signal = self.fill(at, signal)?;
        let sound = signal.parse::<u8>().is_ok_and(|number| (1..=64).contains(&number))
            || signal.strip_prefix("SIG").is_some_and(|name| {
                !name.is_empty() && name.chars().all(|c| c.is_ascii_uppercase() || c.is_ascii_digit() || c == '+')
            });
        let help = || Some("write SIGTERM, SIGQUIT, or a number from 1 to 64".to_owned());
        if sound { Ok(signal) } else { Err(self.fault(at, format!("`{signal}` is not a signal"), help()).into()) }
    }

    fn expose(&mut self, at: &Instruction, ports: &[String]) -> Result<(), BuildError> {
        for word in ports {
            let filled = self.fill(at, word)?;
            for text in filled.split_whitespace() {
                let (range, protocol) = text.split_once('/').unwrap_or((text, "tcp"));
                let (first, last) = range.split_once('-').unwrap_or((range, range));
                let bounds = first.parse::<u16>().ok().zip(last.parse::<u16>().ok());
                let protocol = protocol.to_ascii_lowercase();
                let known = matches!(protocol.as_str(), "tcp" | "udp" | "sctp");
                let Some((first, last)) = bounds.filter(|(first, last)| first <= last && known) else {
                    let help = Some("write 8080, 53/udp or 9000-9002/tcp".to_owned());
                    return Err(self.fault(at, format!("`{text}` is not a port"), help).into());
                };
                for port in first..=last {
                    let ports = self.state.config.config.exposed_ports.get_or_insert_default();
                    ports.insert(format!("{port}/{protocol}"), json!({}));
                }
            }
        }
        Ok(())
    }

    fn health(&self, check: &Healthcheck) -> HealthConfig {
        let Healthcheck::Command(health) = check else {
            return HealthConfig { test: Some(vec!["NONE".to_owned()]), ..HealthConfig::default() };
        };
        let test = match &health.command {
            Command::Exec(argv) => std::iter::once("CMD".to_owned()).chain(argv.iter().cloned()).collect(),
            Command::Shell(line) | Command::Script(line) => vec!["CMD-SHELL".to_owned(), line.clone()],
        };
        let nanoseconds = |span: Option<std::time::Duration>| span.and_then(|span| u64::try_from(span.as_nanos()).ok());
        HealthConfig {
            test: Some(test),
            interval: nanoseconds(health.interval),
            timeout: nanoseconds(health.timeout),
            start_period: nanoseconds(health.start_period),
            start_interval: nanoseconds(health.start_interval),
            retries: health.retries,
        }
    }

    fn workdir(&mut self, at: &Instruction, folder: &str) -> Result<(), BuildError> {
        let folder = self.state.absolute(&self.fill(at, folder)?);
        let folder = tidy(&folder);
        self.state.config.config.working_dir.clone_from(&folder);
        // What is made for a command is its user's.
        let user = self.state.config.config.user.clone();
        let is_made_for_a_user = !user.is_empty() && !self.below()?.is_folder(Path::new(&folder));
        let owner = is_made_for_a_user.then(|| self.ids_of(&user, ids_of_command)).transpose()?;
        let owner = self.owner(at, owner.transpose())?;
        let mut key = Key::new("folder", &self.state.config.rootfs.diff_ids);
        key.text(&folder).number(self.state.moment);
        if let Some((user, group)) = owner {
            key.number(user.into()).number(group.into());
        }
        self.step(at, key, |stage| {
            let below = stage.below()?;
            if below.is_folder(Path::new(&folder)) {
                return Ok(Remembered { layer: None });
            }
            let mut copier = Copier::new(&below, stage.build.store.ids(), stage.state.moment).owned(owner, None);
            copier.folder(Path::new(&folder)).map_err(|error| stage.files_fault(at, error))?;
            stage.pack_tree(&copier.into_tree())
        })
    }

    /// What is below the next layer.
    pub(super) fn below(&self) -> Result<Below, BuildError> {
        self.build.below(&self.state)
    }

    /// The ids of a user or owner, as the image's files say whom a name means.
    pub(super) fn ids_of(
        &self,
        name: &str,
        look_up: impl FnOnce(&str, &Layers<'_>) -> Result<(u32, u32), UserError>,
    ) -> Result<Result<(u32, u32), UserError>, BuildError> {
        let below = if is_in_numbers(name) { Below::default() } else { self.below()? };
        if let Some(unpacked) = below.unpacked_with(owner::FILES) {
            return Ok(look_up(name, &Layers(unpacked)));
        }
        Ok(look_up(name, &Layers(&self.build.paths(&self.state)?)))
    }

    /// Takes a layer from the store, or has it made.
    pub(super) fn step(
        &mut self,
        at: &Instruction,
        mut key: Key,
        make: impl FnOnce(&Self) -> Result<Remembered, BuildError>,
    ) -> Result<(), BuildError> {
        // What is remembered is the layer as it is packed.
        key.text(self.build.input.compression.fingerprint());
        let key = key.digest();
        let store = &self.build.store;
        self.build.progress.count_step();
        let realm = &self.build.input.realm;
        if let Some(known) = store.remembered(realm, &key) {
            self.build.progress.count_known();
            self.say("      from cache");
            self.build.progress.note(&key, &known);
            self.keep(at, known);
            return Ok(());
        }
        if let Some(known) = self.build.outside.elsewhere(&key) {
            self.build.progress.count_known();
            self.say("      from cache in the registry");
            store.remember(realm, &key, &known)?;
            self.build.progress.note(&key, &known);
            self.keep(at, known);
            return Ok(());
        }
        let made = make(self)?;
        store.remember(realm, &key, &made)?;
        self.build.progress.note(&key, &made);
        self.keep(at, made);
        Ok(())
    }

    /// Creates a folder with a subfolder `upper` for the changes of a command, on a file system of limited size if there is
    /// one ([`super::Outside::room`]).
    pub(super) fn upper_of_command(&self) -> Result<TemporaryFolder, BuildError> {
        match self.build.outside.room() {
            Some(room) => self.upper_in(TemporaryFolder::new_in(room).map_err(io_error("make a layer's folder"))?),
            None => self.upper(),
        }
    }

    /// Creates a folder with a subfolder `upper` on the file system of the store.
    fn upper(&self) -> Result<TemporaryFolder, BuildError> {
        self.upper_in(self.build.store.unfinished_folder()?)
    }

    fn upper_in(&self, folder: TemporaryFolder) -> Result<TemporaryFolder, BuildError> {
        let store = &self.build.store;
        let upper = folder.path().join("upper");
        fs::create_dir(&upper).map_err(io_error("make a layer's folder"))?;
        store.ids().give(&upper, 0, 0).map_err(io_error("make a layer's folder"))?;
        Ok(folder)
    }

    /// Makes a layer of a folder, which becomes the unpacked layer.
    pub(super) fn pack_folder(&self, upper: &Path, contents: &Contents) -> Result<Remembered, BuildError> {
        let (store, compression) = (&self.build.store, self.build.input.compression);
        let pack = |to: &File| layer::pack(upper, buffered(to), store.ids(), contents, compression, store.watch());
        let (made, _) = self.pack(|to| Ok((pack(to)?, ())))?;
        // The layer is on another file system than the store. It is unpacked from its blob when needed.
        if let Some((_, diff_id)) = made.layer.as_ref().filter(|_| self.build.outside.room().is_none()) {
            store.finish_layer(upper, diff_id, &contents.left_out())?;
        }
        Ok(made)
    }

    /// Makes a layer of a tree. It is unpacked where something of the recipe needs its files.
    pub(super) fn pack_tree(&self, tree: &Tree) -> Result<Remembered, BuildError> {
        let (store, compression) = (&self.build.store, self.build.input.compression);
        let (made, entries) = self.pack(|to| tree.pack(buffered(to), compression, store.watch()))?;
        let Some((_, diff_id)) = &made.layer else { return Ok(made) };
        let listing = Listing::of_tree(tree, entries, &self.build.folders_of(tree), store.inspector());
        store.keep_listing(diff_id, &listing)?;
        self.build.listings().insert(diff_id.clone(), Arc::new(listing));
        if self.build.plan.needs_files(&self.build.input.recipe, self.number, self.place) {
            let folder = self.upper()?;
            let upper = folder.path().join("upper");
            tree.write(&upper, store.ids(), store.watch()).map_err(io_error("write a layer's files"))?;
            store.finish_layer(&upper, diff_id, &tree.left_out())?;
        }
        Ok(made)
    }

    /// Keeps what `pack` writes as a layer's blob.
    fn pack<T>(&self, pack: impl FnOnce(&File) -> std::io::Result<(Packed, T)>) -> Result<(Remembered, T), BuildError> {
        let store = &self.build.store;
        let file = store.unfinished_file()?;
        let (packed, more) = pack(file.as_file()).map_err(io_error("pack a layer"))?;
        if packed.entries == 0 {
            return Ok((Remembered { layer: None }, more));
        }
        store.finish_blob(file, &packed.digest)?;
        store.note_pair(&packed.digest, &packed.diff_id)?;
        let descriptor = Descriptor {
            media_type: self.build.input.compression.media_type().to_owned(),
            digest: packed.digest,
            size: packed.size,
            platform: None,
            annotations: [].into(),
            artifact_type: None,
        };
        Ok((Remembered { layer: Some((descriptor, packed.diff_id)) }, more))
    }

    fn keep(&mut self, at: &Instruction, made: Remembered) {
        let is_empty = made.layer.is_none();
        if let Some((descriptor, diff_id)) = made.layer {
            self.state.layers.push(descriptor);
            self.state.config.rootfs.diff_ids.push(diff_id);
        }
        self.note(at, is_empty);
    }

    fn note(&mut self, at: &Instruction, empty_layer: bool) {
        let created = Some(time(self.build.input.moment));
        self.state.config.history.push(History {
            created,
            created_by: Some(at.text.clone()),
            empty_layer,
            ..History::default()
        });
    }
}

fn buffered(file: &File) -> BufWriter<&File> {
    BufWriter::with_capacity(256 * 1024, file)
}

/// A moment, in seconds since 1970, as images tell it.
pub(super) fn time(moment: u64) -> String {
    Time::from_millis(i64::try_from(moment).unwrap_or(0) * 1000).to_string()
}

/// An absolute path without `.`, `..` and doubled slashes.
fn tidy(path: &str) -> String {
    let mut parts: Vec<&str> = Vec::new();
    for part in path.split('/') {
        match part {
            "" | "." => {}
            ".." => drop(parts.pop()),
            part => parts.push(part),
        }
    }
    format!("/{}", parts.join("/"))
}
