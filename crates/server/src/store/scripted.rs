//! Records in memory, without threads, where a test says what fails.

use std::collections::VecDeque;
use std::fmt;
use std::sync::{Arc, Mutex, OnceLock, PoisonError};
use std::time::Duration;

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
    /// It is stored after so long, and what is asked for meanwhile after it.
    Slow(Duration),
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
    /// Writes that wait behind a slow one, and for which opening; nothing while none is under way.
    waiting: Option<VecDeque<(u64, Fate, Change)>>,
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
        let (opening, fate) = match self.opening {
            None => (inner.current, Fate::Stored),
            Some(opening) if opening == inner.current => (opening, (inner.fates)()),
            // Dropped unheard, as by a process that has ended.
            Some(_) => return,
        };
        match (&mut inner.waiting, fate) {
            (Some(waiting), _) => waiting.push_back((opening, fate, change)),
            (none, Fate::Slow(_)) => {
                *none = Some(VecDeque::from([(opening, fate, change)]));
                tokio::spawn(write_what_waits(Arc::clone(&self.inner)));
            }
            (None, _) => inner.write(fate, change),
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

impl Inner {
    fn write(&self, fate: Fate, change: Change) {
        match fate {
            Fate::Stored | Fate::Slow(_) => writer::write_group(&self.connection, &self.gate, change, || None),
            Fate::Fails => change(None)(writer::Verdict::Undone),
            Fate::StoredUnheard => writer::write_unheard(&self.connection, &self.gate, change),
        }
    }

    /// The write whose turn it is. Those of a process that has ended are dropped unheard.
    fn next(&mut self) -> Option<(u64, Fate, Change)> {
        let current = self.current;
        let waiting = self.waiting.as_mut()?;
        while waiting.front().is_some_and(|(opening, ..)| *opening != current) {
            waiting.pop_front();
        }
        let next = waiting.pop_front();
        if next.is_none() {
            self.waiting = None;
        }
        next
    }
}

/// Writes what waits, one after the other, as slowly as each is said to be.
async fn write_what_waits(inner: Arc<Mutex<Inner>>) {
    let locked = || inner.lock().unwrap_or_else(PoisonError::into_inner);
    loop {
        let Some((opening, fate, change)) = locked().next() else { return };
        if let Fate::Slow(time) = fate {
            tokio::time::sleep(time).await;
        }
        let inner = locked();
        if inner.current == opening {
            inner.write(fate, change);
        }
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
        let inner = Inner { connection, gate, fates: Box::new(fates), waiting: None, current: 0 };
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
