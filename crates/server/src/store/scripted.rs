//! Records in memory, without threads, where a test says what fails.

use std::fmt;
use std::sync::{Arc, Mutex, OnceLock, PoisonError};

use rusqlite::Connection;

use super::writer::{self, Change, Gate};
use super::{Place, STATEMENTS_KEPT, Store, StoreError, migrate};

/// What happens to a write.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) enum Fate {
    /// It is stored.
    #[default]
    Stored,
    /// It is not stored, and reported as failed.
    Fails,
    /// It is stored, and reported as failed: the answer got lost.
    StoredUnheard,
}

/// Says what happens to the next write.
type Fates = Box<dyn FnMut() -> Fate + Send>;

/// The records, as one server has them open.
#[derive(Clone)]
pub(crate) struct Scripted {
    inner: Arc<Mutex<Inner>>,
    /// Which time they were opened; nothing for the test itself, which always has them.
    opening: Option<u64>,
}

struct Inner {
    connection: Connection,
    gate: Gate,
    fates: Fates,
    /// Which opening may read and write.
    current: u64,
}

impl fmt::Debug for Scripted {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Scripted")
    }
}

impl Scripted {
    pub(super) fn write(&self, change: Change) {
        let inner = &mut *self.inner.lock().unwrap_or_else(PoisonError::into_inner);
        let fate = match self.opening {
            None => Fate::Stored,
            Some(opening) if opening == inner.current => (inner.fates)(),
            // Dropped unheard, as by a process that has ended.
            Some(_) => return,
        };
        match fate {
            Fate::Stored => writer::write_group(&inner.connection, &inner.gate, change, || None),
            Fate::Fails => change(None)(writer::Verdict::Undone),
            Fate::StoredUnheard => writer::write_unheard(&inner.connection, &inner.gate, change),
        }
    }

    pub(super) fn read<T>(&self, question: impl FnOnce(&Connection) -> Result<T, StoreError>) -> Result<T, StoreError> {
        let inner = self.inner.lock().unwrap_or_else(PoisonError::into_inner);
        if self.opening.is_some_and(|opening| opening != inner.current) {
            return Err(StoreError::Ended);
        }
        question(&inner.connection)
    }
}

/// Makes the tables of a database, which are made only once for all tests.
fn copy_of_empty(connection: &mut Connection) {
    static EMPTY: OnceLock<Mutex<Connection>> = OnceLock::new();
    let empty = EMPTY.get_or_init(|| {
        let mut empty = Connection::open_in_memory().unwrap();
        migrate(&mut empty).unwrap();
        Mutex::new(empty)
    });
    let empty = empty.lock().unwrap_or_else(PoisonError::into_inner);
    let backup = rusqlite::backup::Backup::new(&empty, connection).unwrap();
    backup.step(-1).unwrap();
}

/// A connection to records of its own, in memory.
pub(super) fn connection() -> Connection {
    let mut connection = Connection::open_in_memory().unwrap();
    copy_of_empty(&mut connection);
    connection.pragma_update(None, "foreign_keys", true).unwrap();
    connection.set_prepared_statement_cache_capacity(STATEMENTS_KEPT);
    connection
}

impl Store {
    /// Records that end with the test, and fail for servers as `fates` says.
    pub(crate) fn scripted(fates: impl FnMut() -> Fate + Send + 'static) -> Self {
        let mut connection = connection();
        let gate = Gate::install(&mut connection).unwrap();
        let inner = Inner { connection, gate, fates: Box::new(fates), current: 0 };
        Self { place: Place::Scripted(Scripted { inner: Arc::new(Mutex::new(inner)), opening: None }) }
    }

    /// The records as a server opens them that starts now. No earlier one has them any more.
    pub(crate) fn reopened(&self) -> Self {
        let Place::Scripted(scripted) = &self.place else { panic!("these are not scripted") };
        let mut inner = scripted.inner.lock().unwrap_or_else(PoisonError::into_inner);
        inner.current += 1;
        let opening = Some(inner.current);
        Self { place: Place::Scripted(Scripted { inner: Arc::clone(&scripted.inner), opening }) }
    }

    /// No server has them any more.
    pub(crate) fn cut_off(&self) {
        drop(self.reopened());
    }
}
