//! A build without a runner: nothing that a command runs can be reached by a network.

use std::fs::File;
use std::io::Write;
use std::os::fd::OwnedFd;
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};

use pondrix_core::image::{Digest, Reference, Registries};
use pondrix_sandbox::{Launcher, Network, Running, Spec};
use tokio::runtime::Handle;

use super::{Output, Outside, OutsideError, Step};
use crate::oci::{Descriptor, Platform};
use crate::recipe::RunNetwork;
use crate::registry::pull_for;
use crate::{Image, Store};

/// Pulls images from registries, starts commands without a network, and writes the log into a file.
#[derive(Debug)]
pub struct Alone {
    /// How registries are reached.
    pub registries: Registries,
    /// Where images go.
    pub store: Store,
    /// What starts commands.
    pub launcher: Launcher,
    /// What waits for registries.
    pub handle: Handle,
    /// Where the log goes; open for appending.
    pub log: File,
    /// Set to end the build.
    pub halted: AtomicBool,
}

struct ToFile(File);

impl Output for ToFile {
    fn descriptor(&self) -> std::io::Result<OwnedFd> {
        Ok(self.0.try_clone()?.into())
    }

    fn finish(self: Box<Self>) {}
}

impl Outside for Alone {
    fn image(&self, name: &Reference, platform: &Platform) -> Result<Image, OutsideError> {
        Ok(self.handle.block_on(pull_for(name, platform, &self.registries, &self.store))?)
    }

    fn full_name(&self, short: &str) -> Result<Reference, OutsideError> {
        Ok(self.registries.full_name(short)?)
    }

    fn start(&self, spec: &Spec, network: RunNetwork, output: OwnedFd) -> Result<Running, OutsideError> {
        if network == RunNetwork::Host {
            return Err("this build has no network".into());
        }
        let spec = Spec { network: Network::Loopback, ..spec.clone() };
        Ok(self.launcher.start(&spec, output)?)
    }

    fn network(&self) -> &'static str {
        "none"
    }

    fn network_files(&self, _: RunNetwork) -> &'static [&'static str] {
        &[]
    }

    fn download(&self, address: &str, _: &Path) -> Result<(), OutsideError> {
        Err(format!("{address} cannot be reached: this build has no network").into())
    }

    fn elsewhere(&self, _: &Digest) -> Option<Step> {
        None
    }

    fn bring(&self, layer: &Descriptor) -> Result<(), OutsideError> {
        Err(format!("{} is not here, and nobody else is asked", layer.digest.short()).into())
    }

    fn say(&self, stage: Option<&str>, line: &str) {
        let lead = stage.map(|stage| format!("{stage}> ")).unwrap_or_default();
        // In one piece: another stage's line may come in between two. A log that cannot be written does not make
        // the image another one.
        drop((&self.log).write_all(format!("{lead}{line}\n").as_bytes()));
    }

    fn output(&self, _: Option<&str>) -> std::io::Result<Box<dyn Output>> {
        Ok(Box::new(ToFile(self.log.try_clone()?)))
    }

    fn too_much(&self, _folder: &Path) -> Option<String> {
        None
    }

    fn has_written(&self, _folder: &Path) {}

    fn is_halted(&self) -> bool {
        self.halted.load(Ordering::Relaxed)
    }
}
