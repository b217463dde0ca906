//! What the records answer to whoever asks over HTTP. Nothing here changes anything: that is done by the
//! [commands](crate::domain).

mod images;
mod runs;
mod settings;

use crate::store::Store;

/// Questions to the records.
#[derive(Clone, Debug)]
pub(crate) struct Queries {
    records: Store,
}

impl Queries {
    pub(crate) fn new(records: Store) -> Self {
        Self { records }
    }
}
