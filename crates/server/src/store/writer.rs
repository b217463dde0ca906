//! The thread that writes.

use std::panic::{AssertUnwindSafe, catch_unwind};

use rusqlite::Connection;
use tokio::sync::{mpsc, oneshot};
use tracing::error;

use super::StoreError;

/// How many writes may wait before those who want to write wait themselves.
const QUEUE: usize = 256;
/// How many writes are committed together at the most.
const GROUP: usize = 128;

/// One write, and the way to answer after the commit.
type Change = Box<dyn FnOnce(&Connection) -> Settle + Send>;
/// Answers: with the write's own result when the group was committed, with an error when not.
type Settle = Box<dyn FnOnce(bool) + Send>;

/// A handle to the thread that writes. The thread ends with its last handle.
#[derive(Clone, Debug)]
pub(super) struct Writer(mpsc::Sender<Change>);

impl Writer {
    pub(super) fn start(connection: Connection) -> Self {
        let (sender, receiver) = mpsc::channel(QUEUE);
        std::thread::Builder::new()
            .name("records".to_owned())
            .spawn(move || write_groups(&connection, receiver))
            .expect("a thread can be started when the server starts");
        Self(sender)
    }

    pub(super) async fn write<T: Send + 'static>(
        &self,
        change: impl FnOnce(&Connection) -> Result<T, StoreError> + Send + 'static,
    ) -> Result<T, StoreError> {
        let (answer, answered) = oneshot::channel();
        let change: Change = Box::new(move |connection| {
            let result = in_savepoint(connection, change);
            Box::new(move |committed| {
                let _ = answer.send(if committed { result } else { Err(StoreError::Ended) });
            })
        });
        self.0.send(change).await.map_err(|_| StoreError::Ended)?;
        answered.await.map_err(|_| StoreError::Ended)?
    }
}

/// A savepoint undoes one write without undoing its neighbours in the group.
fn in_savepoint<T>(
    connection: &Connection,
    change: impl FnOnce(&Connection) -> Result<T, StoreError>,
) -> Result<T, StoreError> {
    connection.execute_batch("SAVEPOINT one")?;
    let result = catch_unwind(AssertUnwindSafe(|| change(connection))).unwrap_or_else(|_| {
        error!("a write to the records panicked; it was undone");
        Err(StoreError::Ended)
    });
    connection.execute_batch(if result.is_ok() { "RELEASE one" } else { "ROLLBACK TO one; RELEASE one" })?;
    result
}

fn write_groups(connection: &Connection, mut changes: mpsc::Receiver<Change>) {
    while let Some(first) = changes.blocking_recv() {
        let begun = connection.execute_batch("BEGIN IMMEDIATE");
        if let Err(error) = &begun {
            error!(%error, "the records cannot be written");
        }
        let mut settles = Vec::new();
        let mut next = Some(first);
        while let Some(change) = next {
            settles.push(change(connection));
            next = if settles.len() < GROUP { changes.try_recv().ok() } else { None };
        }
        let committed = begun.and_then(|()| connection.execute_batch("COMMIT"));
        if let Err(error) = &committed {
            error!(%error, "the records could not be written");
            let _ = connection.execute_batch("ROLLBACK");
        }
        for settle in settles {
            settle(committed.is_ok());
        }
    }
}
