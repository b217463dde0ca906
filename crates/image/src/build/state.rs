//! What a stage has made so far.

use std::collections::BTreeMap;

use pondrix_core::image::{Digest, Reference};

use super::MOMENT;
use crate::oci::{Config, Descriptor, Platform};

/// Where a shell looks for programs when the image does not say.
const PATH: &str = "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin";
/// What runs lines where SHELL says nothing.
const SHELL: [&str; 2] = ["/bin/sh", "-c"];

/// A stage between two instructions.
#[derive(Clone, Debug)]
pub(super) struct State {
    pub(super) config: Config,
    pub(super) layers: Vec<Descriptor>,
    /// The values of the arguments that were declared.
    pub(super) args: BTreeMap<String, String>,
    /// The image at the bottom, as it is named, with its digest and the number of its layers.
    pub(super) base: Option<(Reference, Digest, usize)>,
    /// The time of what is made, in seconds since 1970.
    pub(super) moment: u64,
}

impl State {
    pub(super) fn empty(platform: &Platform) -> Self {
        Self { config: Config::empty(platform), layers: Vec::new(), args: BTreeMap::new(), base: None, moment: MOMENT }
    }

    /// What runs lines.
    pub(super) fn shell(&self) -> Vec<String> {
        self.config.config.shell.clone().unwrap_or_else(|| SHELL.map(str::to_owned).into())
    }

    /// What a word may name: arguments, and over them the image's own variables. Where the image does not say where
    /// programs are, they are where they usually are.
    pub(super) fn values(&self) -> BTreeMap<String, String> {
        let mut values = self.args.clone();
        values.insert("PATH".to_owned(), PATH.to_owned());
        values.extend(self.config.config.variables());
        values
    }

    /// A path seen from the working folder, with its trailing slash kept.
    pub(super) fn absolute(&self, path: &str) -> String {
        if path.starts_with('/') {
            return path.to_owned();
        }
        let folder = self.config.config.working_dir.trim_end_matches('/');
        format!("{folder}/{}", if matches!(path, "." | "") { "./" } else { path })
    }
}
