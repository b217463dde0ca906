//! What the build of an image asks of its runner: images, commands, addresses, a log.

use std::os::fd::OwnedFd;
use std::path::Path;
use std::sync::{Mutex, MutexGuard, PoisonError};

use pondrix_api::StepList;
use pondrix_core::image::{Digest, Reference, Tag};
use pondrix_core::pipeline::Network;
use pondrix_image::build::{Output, Outside, OutsideError, Step, StepRecord};
use pondrix_image::recipe::RunNetwork;
use pondrix_image::registry::{Elsewhere, Wanted, download};
use pondrix_image::{Descriptor, Image, Platform};
use pondrix_sandbox::{self as sandbox, Running, Spec};

use super::context::JobExecutor;
use super::disk_space::DiskSpace;
use super::error::JobError;
use super::surroundings::{NETWORK_FILES, Surroundings};
use crate::bounded::Bounded;
use crate::log::Piece;

/// The most that an ADD takes from an address.
const LONGEST_DOWNLOAD: u64 = 8 << 30;

/// The surroundings of a build.
pub(crate) struct Site<'a> {
    executor: &'a JobExecutor,
    reach: Network,
    around: Mutex<Surroundings>,
    elsewhere: Option<Elsewhere>,
    /// What all commands of the build write.
    space: Mutex<DiskSpace>,
}

impl<'a> Site<'a> {
    pub(crate) fn new(
        executor: &'a JobExecutor,
        reach: Network,
        elsewhere: Option<Elsewhere>,
    ) -> Result<Self, JobError> {
        let around = Mutex::new(Surroundings::new(executor, reach, &[])?);
        let space = DiskSpace::new(executor.most_written(), executor.scratch.path(), []);
        Ok(Self { executor, reach, around, elsewhere, space: Mutex::new(space) })
    }

    fn space(&self) -> MutexGuard<'_, DiskSpace> {
        self.space.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Keeps what was made where other runners find it. That it cannot be kept makes no image another one.
    pub(crate) fn keep(&self, tag: &Tag, made: &[StepRecord]) {
        let Some(elsewhere) = &self.elsewhere else { return };
        let executor = self.executor;
        let written = executor.talk(elsewhere.write(tag, made, &executor.folder.store));
        let told = written.and_then(|list| {
            let list = StepList { repository: elsewhere.repository().clone(), list };
            Ok(executor.ask(async |client, assignment| client.put_step_list(assignment, &list).await)?)
        });
        match told {
            Ok(()) => executor.log.say(&format!("{} steps are cached for other runners", made.len())),
            Err(error) => executor.log.say(&format!("warning: nothing is cached for other runners: {error}")),
        }
    }
}

impl Outside for Site<'_> {
    fn image(&self, name: &Reference, platform: &Platform) -> Result<Image, OutsideError> {
        // What is cached elsewhere is not run here, and most of it never looked into.
        let wanted = if self.elsewhere.is_some() { Wanted::Image } else { Wanted::Files };
        Ok(self.executor.pull(name, platform, wanted)?)
    }

    fn full_name(&self, short: &str) -> Result<Reference, OutsideError> {
        Ok(self.executor.registries().full_name(short)?)
    }

    fn start(&self, spec: &Spec, network: RunNetwork, output: OwnedFd) -> Result<Running, OutsideError> {
        let around = self.around.lock().unwrap_or_else(PoisonError::into_inner);
        let started = match network {
            RunNetwork::Host if self.reach != Network::Host => {
                let words = "this RUN asks for the machine's network, which the image may not have";
                return Err(format!("{words}; write network \"host\" in the image of the pipeline file").into());
            }
            RunNetwork::None => {
                let spec = Spec { network: sandbox::Network::Loopback, ..spec.clone() };
                self.executor.launcher.start(&spec, output)
            }
            RunNetwork::Default | RunNetwork::Host => around.start(self.executor, spec, output),
        };
        Ok(started?)
    }

    fn network(&self) -> &'static str {
        match self.reach {
            Network::None => "none",
            Network::Outbound => "outbound",
            Network::Host => "host",
        }
    }

    fn network_files(&self, network: RunNetwork) -> &'static [&'static str] {
        if network == RunNetwork::None { &[] } else { &NETWORK_FILES }
    }

    fn download(&self, address: &str, to: &Path) -> Result<(), OutsideError> {
        if self.reach == Network::None {
            let words = format!("{address} cannot be reached: this image has no network");
            return Err(format!("{words}; write network \"outbound\" in the image of the pipeline file").into());
        }
        // With the machine's own network, everything that it reaches.
        let reach = (self.reach != Network::Host).then_some(&self.executor.reach);
        Ok(self.executor.talk(download(address, to, LONGEST_DOWNLOAD, reach))?)
    }

    fn elsewhere(&self, key: &Digest) -> Option<Step> {
        let elsewhere = self.elsewhere.as_ref()?;
        match self.executor.talk(elsewhere.step(key, &self.executor.folder.store)) {
            Ok(step) => step,
            Err(error) => {
                self.executor.log.say(&format!("warning: the cache in the registry cannot be read: {error}"));
                None
            }
        }
    }

    fn bring(&self, layer: &Descriptor) -> Result<(), OutsideError> {
        let Some(elsewhere) = &self.elsewhere else { return Err("no cache of other runners is known".into()) };
        Ok(self.executor.talk(elsewhere.bring(layer, &self.executor.folder.store))?)
    }

    fn too_much(&self, folder: &Path) -> Option<String> {
        let mut space = self.space();
        space.count(folder);
        // The usage of all commands counts, including finished layers.
        self.executor.why_full().or_else(|| space.counted(self.executor.watch(), true))
    }

    fn room(&self) -> Option<&Path> {
        self.executor.bounded.as_ref().map(Bounded::path)
    }

    fn has_written(&self, folder: &Path) {
        self.space().count_once_more(folder, self.executor.watch());
    }

    fn say(&self, stage: Option<&str>, line: &str) {
        match stage {
            Some(stage) => self.executor.log.say(&format!("{stage}> {line}")),
            None => self.executor.log.say(line),
        }
    }

    fn output(&self, stage: Option<&str>) -> std::io::Result<Box<dyn Output>> {
        let piece = match stage {
            Some(stage) => self.executor.log.piece_of(stage),
            None => self.executor.log.piece(),
        };
        Ok(Box::new(piece?))
    }

    fn is_halted(&self) -> bool {
        self.executor.is_halted() || self.executor.is_out_of_time()
    }
}

impl Output for Piece {
    fn descriptor(&self) -> std::io::Result<OwnedFd> {
        self.writer()
    }

    fn finish(self: Box<Self>) {
        (*self).finish();
    }
}
