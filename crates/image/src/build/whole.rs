//! A build as a whole: what its stages share.

use std::collections::{BTreeSet, HashMap};
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use pondrix_core::image::Digest;

use super::below::Below;
use super::copy::copy_into;
use super::graph::{Plan, Progress};
use super::seen::Seen;
use super::sources::context_source;
use super::state::State;
use super::{BuildError, BuildInput, Outside};
use crate::Store;
use crate::inventory::Listing;
use crate::layer::tree::{NodeKind, Tree};
use crate::oci::Descriptor;
use crate::store::io_error;

/// A build, as its stages see it.
pub(super) struct Build<'a> {
    pub(super) input: &'a BuildInput,
    pub(super) store: Store,
    pub(super) outside: &'a dyn Outside,
    pub(super) plan: Plan,
    pub(super) progress: Progress,
    /// What was in the context's files when they were read last, where that is remembered.
    pub(super) seen: Option<Seen>,
    /// The context without what is left out, where a mount needs that as a folder.
    seen_context: Mutex<Option<PathBuf>>,
    /// What is known of layers that are not unpacked.
    listings: Mutex<HashMap<Digest, Arc<Listing>>>,
}

impl<'a> Build<'a> {
    pub(super) fn new(
        input: &'a BuildInput,
        store: &Store,
        outside: &'a dyn Outside,
        plan: Plan,
        progress: Progress,
    ) -> Self {
        let seen = input.seen.as_deref().map(Seen::read);
        let (seen_context, listings) = (Mutex::default(), Mutex::default());
        Self { input, store: store.clone(), outside, plan, progress, seen, seen_context, listings }
    }

    pub(super) fn listings(&self) -> MutexGuard<'_, HashMap<Digest, Arc<Listing>>> {
        self.listings.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// What is known of a layer that is not unpacked, where that is all there is to know.
    fn listing(&self, diff_id: &Digest) -> Option<Arc<Listing>> {
        if self.store.has_layer(diff_id) {
            return None;
        }
        if let Some(known) = self.listings().get(diff_id) {
            return Some(Arc::clone(known)).filter(|listing| listing.says_all());
        }
        let known = Arc::new(self.store.known_listing(diff_id)?);
        self.listings().insert(diff_id.clone(), Arc::clone(&known));
        Some(known).filter(|listing| listing.says_all())
    }

    /// The layers of a stage, to make another over them: the highest need not be unpacked for that.
    pub(super) fn below(&self, state: &State) -> Result<Below, BuildError> {
        let ids = &state.config.rootfs.diff_ids;
        let mut listed: Vec<_> = ids.iter().rev().map_while(|diff_id| self.listing(diff_id)).collect();
        listed.reverse();
        let count = ids.len() - listed.len();
        let unpacked = self.unpacked(&state.layers[..count.min(state.layers.len())], &ids[..count])?;
        Ok(Below::new(unpacked, listed))
    }

    /// The folders of this machine that the files of a tree are in.
    pub(super) fn folders_of(&self, tree: &Tree) -> Vec<PathBuf> {
        let mut folders = BTreeSet::from([self.input.context.clone(), self.input.scratch.clone()]);
        for (_, node) in tree.nodes() {
            let NodeKind::File { from, .. } = &node.kind else { continue };
            folders.extend(self.store.layer_around(from));
        }
        folders.into_iter().collect()
    }

    /// The unpacked layers of a stage, the lowest first.
    pub(super) fn paths(&self, state: &State) -> Result<Vec<PathBuf>, BuildError> {
        self.unpacked(&state.layers, &state.config.rootfs.diff_ids)
    }

    /// Layers, unpacked.
    pub(super) fn unpacked(&self, layers: &[Descriptor], diff_ids: &[Digest]) -> Result<Vec<PathBuf>, BuildError> {
        let is_here = |layer: &Descriptor, diff_id: &Digest| {
            self.store.has_layer(diff_id) && self.store.is_pair(&layer.digest, diff_id)
        };
        let missing = layers.iter().zip(diff_ids).filter(|(layer, diff_id)| !is_here(layer, diff_id));
        missing.map(|(layer, _)| layer).try_for_each(|layer| self.bring(layer))?;
        Ok(self.store.unpacked(layers, diff_ids)?)
    }

    /// Makes sure of a layer's blob: what a step of other runners made is brought only when it is needed.
    pub(super) fn bring(&self, layer: &Descriptor) -> Result<(), BuildError> {
        if self.store.has_blob(&layer.digest) {
            return Ok(());
        }
        self.outside.bring(layer).map_err(BuildError::Elsewhere)
    }

    pub(super) fn is_halted(&self) -> bool {
        self.outside.is_halted() || self.progress.has_failed()
    }

    /// The context as recipes see it, as a folder.
    pub(super) fn seen_context(&self) -> Result<PathBuf, BuildError> {
        let input = self.input;
        if input.ignore.is_empty() {
            return Ok(input.context.clone());
        }
        let mut made = self.seen_context.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(folder) = &*made {
            return Ok(folder.clone());
        }
        let folder = input.scratch.join("context-seen");
        fs::create_dir(&folder).map_err(io_error("make a folder for the context"))?;
        self.store.ids().give(&folder, 0, 0).map_err(io_error("make a folder for the context"))?;
        let context = [input.context.clone()];
        let source = context_source(self, &context);
        let mut items = Vec::new();
        let copied = source.everything(Path::new("/"), &mut items).and_then(|()| {
            items.retain(|item| !item.to.as_os_str().is_empty());
            copy_into(&folder, &items, &self.store, super::MOMENT)
        });
        copied.map_err(|error| BuildError::Input(format!("the context cannot be shown: {error:?}")))?;
        Ok(made.insert(folder).clone())
    }
}
