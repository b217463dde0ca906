//! What a runner tells of the images that its jobs pushed. Images of tries are not recorded: nobody but who tried the
//! files is to find them.

use pondrix_api::{ImageRecord, IndexRecord};
use pondrix_core::JobKey;
use pondrix_core::image::{Digest, Entry};

use super::{Engine, EngineError, LiveRun};
use crate::off_thread::off_thread;
use crate::store::{self, PackedListing, PackedRecord};

impl Engine {
    /// Records an image.
    pub(crate) async fn record_image(
        &self,
        live: &LiveRun,
        job: JobKey,
        record: ImageRecord,
    ) -> Result<(), EngineError> {
        if live.row.facts.is_try {
            return Ok(());
        }
        let (run, now) = (live.row.id, self.clock.now());
        let record = off_thread(move || PackedRecord::new(record)).await?;
        Ok(self.store.write(move |records| store::put_record(records, run, &job, &record, now)).await?)
    }

    /// Records the index of images for several platforms.
    pub(crate) async fn record_index(
        &self,
        live: &LiveRun,
        job: JobKey,
        record: IndexRecord,
    ) -> Result<(), EngineError> {
        if live.row.facts.is_try {
            return Ok(());
        }
        let (run, now) = (live.row.id, self.clock.now());
        Ok(self.store.write(move |records| store::put_index(records, run, &job, &record, now)).await?)
    }

    /// Records the files of a layer.
    pub(crate) async fn record_listing(&self, layer: Digest, files: Vec<Entry>) -> Result<(), EngineError> {
        let files = off_thread(move || PackedListing::new(&files)).await?;
        Ok(self.store.write(move |records| store::put_listing(records, &layer, &files)).await?)
    }
}
