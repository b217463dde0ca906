//! The thread that writes.
//!
//! It takes what waits and commits it together, so that many small writes cost one disk flush. Either all
//! of a group is stored and each of its writes is told so, or nothing of it is: the database itself refuses
//! every commit but the writer's own ([`Gate`]), whatever SQLite undid in between.

use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use rusqlite::Connection;
use tokio::sync::{mpsc, oneshot};
use tracing::error;

use super::StoreError;

/// How many writes may wait before those who want to write wait themselves.
const QUEUE: usize = 256;
/// How many writes are committed together at the most.
const GROUP: usize = 128;

/// One write; it is given nothing to write to where the records cannot be written. Then the way to answer.
pub(super) type Change = Box<dyn FnOnce(Option<&Connection>) -> Settle + Send>;
/// Answers: with the write's own result when the group was committed, with an error when not.
pub(super) type Settle = Box<dyn FnOnce(Verdict) + Send>;

/// What became of a group.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Verdict {
    /// It is stored.
    Committed,
    /// Nothing of it is stored.
    Undone,
    /// Whether it is stored is known only to who reads it.
    Unknown,
}

/// A handle to the thread that writes. The thread ends with its last handle.
#[derive(Clone, Debug)]
pub(super) struct Writer(mpsc::Sender<Change>);

/// Lets a transaction be committed only while its owner says so (`sqlite3_commit_hook`). Without it, a write
/// that follows on a transaction which SQLite has undone by itself (full disk, busy database) would be a
/// transaction of its own, and stored at once although its group is reported as failed.
#[derive(Clone, Debug)]
pub(super) struct Gate(Arc<AtomicBool>);

impl Gate {
    pub(super) fn install(connection: &mut Connection) -> Result<Self, StoreError> {
        let open = Arc::new(AtomicBool::new(false));
        let asked = Arc::clone(&open);
        connection.commit_hook(Some(move || !asked.load(Ordering::Relaxed)))?;
        Ok(Self(open))
    }

    /// Commits the transaction that is open.
    pub(super) fn commit(&self, connection: &Connection) -> rusqlite::Result<()> {
        self.0.store(true, Ordering::Relaxed);
        let committed = run(connection, "COMMIT");
        self.0.store(false, Ordering::Relaxed);
        committed
    }
}

impl Writer {
    pub(super) fn start(mut connection: Connection) -> Result<Self, StoreError> {
        let (sender, receiver) = mpsc::channel(QUEUE);
        let gate = Gate::install(&mut connection)?;
        std::thread::Builder::new()
            .name("records".to_owned())
            .spawn(move || write_groups(&connection, &gate, receiver))
            .expect("a thread can be started when the server starts");
        Ok(Self(sender))
    }

    /// How many changes wait that no group has taken.
    #[cfg(test)]
    pub(super) fn waiting(&self) -> usize {
        self.0.max_capacity() - self.0.capacity()
    }

    pub(super) async fn submit(&self, change: Change) -> Result<(), StoreError> {
        self.0.send(change).await.map_err(|_| StoreError::Ended)
    }
}

/// A write that tells its result, once what became of its group is known, and after `publish` was called with it
/// when it was stored: groups are settled in the order in which they were stored, and so are their writes.
pub(super) fn change<T: Send + 'static>(
    write: impl FnOnce(&Connection) -> Result<T, StoreError> + Send + 'static,
    publish: impl FnOnce(&T) + Send + 'static,
) -> (Change, oneshot::Receiver<Result<T, StoreError>>) {
    let (answer, answered) = oneshot::channel();
    let change: Change = Box::new(move |connection| {
        let result = connection.map_or(Err(StoreError::Undone), |connection| in_savepoint(connection, write));
        Box::new(move |verdict| {
            let result = match (verdict, result) {
                (Verdict::Committed, Ok(value)) => {
                    publish(&value);
                    Ok(value)
                }
                (_, Err(error)) => Err(error),
                (Verdict::Undone, Ok(_)) => Err(StoreError::Undone),
                (Verdict::Unknown, Ok(_)) => Err(StoreError::Unknown),
            };
            let _ = answer.send(result);
        })
    });
    (change, answered)
}

/// A savepoint undoes one write without undoing its neighbours in the group.
fn in_savepoint<T>(
    connection: &Connection,
    change: impl FnOnce(&Connection) -> Result<T, StoreError>,
) -> Result<T, StoreError> {
    run(connection, "SAVEPOINT one")?;
    let result = catch_unwind(AssertUnwindSafe(|| change(connection))).unwrap_or_else(|_| {
        error!("a write to the records panicked; it was undone");
        Err(StoreError::Panicked)
    });
    // Where SQLite has undone the whole transaction, the savepoint is gone with it.
    let undone = if result.is_ok() || connection.is_autocommit() { Ok(()) } else { run(connection, "ROLLBACK TO one") };
    if !connection.is_autocommit()
        && let Err(error) = undone.and_then(|()| run(connection, "RELEASE one"))
    {
        // What is reported as failed must not be stored with its neighbours: the whole group is undone.
        let _ = run(connection, "ROLLBACK");
        return Err(error.into());
    }
    result
}

/// Does what every group does, without reading the words anew each time.
fn run(connection: &Connection, words: &str) -> rusqlite::Result<()> {
    connection.prepare_cached(words)?.execute([]).map(drop)
}

/// Writes changes together; `more` gives the next one of the group, as long as there is one.
pub(super) fn write_group(
    connection: &Connection,
    gate: &Gate,
    first: Change,
    mut more: impl FnMut() -> Option<Change>,
) {
    if let Err(error) = run(connection, "BEGIN IMMEDIATE") {
        error!(%error, "the records cannot be written");
        first(None)(Verdict::Undone);
        return;
    }
    let mut settles = Vec::new();
    let mut next = Some(first);
    while let Some(change) = next {
        settles.push(change(Some(connection)));
        // The transaction is gone: nothing more can join it.
        if connection.is_autocommit() {
            break;
        }
        next = if settles.len() < GROUP { more() } else { None };
    }
    let verdict = if connection.is_autocommit() {
        error!("the records undid a group of writes by themselves");
        Verdict::Undone
    } else {
        match gate.commit(connection) {
            Ok(()) => Verdict::Committed,
            Err(error) => {
                error!(%error, "the records could not be written");
                // A commit that leaves its transaction open has stored nothing.
                let is_open = !connection.is_autocommit();
                match run(connection, "ROLLBACK") {
                    Ok(()) if is_open => Verdict::Undone,
                    _ => Verdict::Unknown,
                }
            }
        }
    };
    for settle in settles {
        settle(verdict);
    }
}

fn write_groups(connection: &Connection, gate: &Gate, mut changes: mpsc::Receiver<Change>) {
    while let Some(first) = changes.blocking_recv() {
        write_group(connection, gate, first, || changes.try_recv().ok());
    }
}

/// Stores a change, and reports it as if that were not known.
#[cfg(test)]
pub(super) fn write_unheard(connection: &Connection, gate: &Gate, change: Change) {
    run(connection, "BEGIN IMMEDIATE").expect("a database in memory is never busy");
    let settle = change(Some(connection));
    gate.commit(connection).expect("a database in memory is never full");
    settle(Verdict::Unknown);
}
