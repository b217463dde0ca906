//! Making a run: stored, and begun.

use std::sync::Arc;
use std::sync::atomic::Ordering;

use pondrix_api::RunSummary;
use pondrix_core::audit::Deed;
use pondrix_core::run::{Event, Run};
use pondrix_core::{State, Time};
use rusqlite::Connection;

use super::environments::{add_gates, own_names};
use super::{Engine, LiveRun, detail, locked, own_deed};
use crate::audit::Note;
use crate::store::{self, EncodedEvent, EncodedRun, NewRun, StoreError};

/// A run that is to be made, with all of it that takes long to make where there are thousands of jobs.
#[derive(Debug)]
struct Made {
    new: EncodedRun,
    /// What it carries over from an earlier run.
    carried: Vec<EncodedEvent>,
    /// What that makes of it.
    run: Run,
}

impl Made {
    fn new(
        connection: &Connection,
        project: i64,
        mut new: NewRun,
        carried: Vec<Event>,
        now: Time,
    ) -> Result<Self, StoreError> {
        let own = own_names(connection, new.by.as_deref(), &new.author)?;
        add_gates(&mut new.plan, &store::environments(connection)?, &own);
        let mut run = Run::new(&new.plan);
        if !new.faults.is_empty() {
            run.state = State::Failed;
        }
        let fitting = carried.into_iter().filter(|event| run.apply(event, now).is_ok());
        let carried = fitting.map(EncodedEvent::new).collect::<Result<_, _>>()?;
        Ok(Self { new: EncodedRun::new(connection, project, new)?, carried, run })
    }

    /// Stores it. Answers its id and what lists show of it.
    fn store(&self, connection: &Connection, project: i64, now: Time) -> Result<(i64, RunSummary), StoreError> {
        let id = store::insert_run(connection, project, &self.new, now)?;
        for event in &self.carried {
            store::append_event(connection, id, event, now)?;
        }
        if !self.carried.is_empty() {
            store::put_summary(connection, id, &detail::summary_row(&self.run))?;
        }
        Ok((id, store::summary(connection, id)?.ok_or(StoreError::Ended)?))
    }
}

/// What the audit says of a run that is stored: that somebody asked for it, or that the server saw a reason.
fn started(asked: Option<Deed>, run: &RunSummary) -> Deed {
    let target = format!("#{}", run.number);
    match asked {
        Some(asked) => Deed { target, ..asked },
        None => {
            let of = run.tag.as_ref().map_or_else(|| format!("branch {}", run.branch), |tag| format!("tag {tag}"));
            let words = format!("{of} at {}, by {}", run.commit.get(..12).unwrap_or(&run.commit), run.start.word());
            Deed { words, ..own_deed("run start", target, Some(&run.project)) }
        }
    }
}

impl Engine {
    /// Stores a run with what it carries over from an earlier one and with what `also` writes, and begins it when its
    /// pipeline file has no fault.
    pub(super) async fn admit(
        self: &Arc<Self>,
        project: i64,
        new: NewRun,
        carried: Vec<Event>,
        also: impl FnOnce(&Connection) -> Result<(), StoreError> + Send + 'static,
    ) -> Result<RunSummary, StoreError> {
        let now = self.clock.now();
        let made = self.store.read(move |c| Made::new(c, project, new, carried, now)).await?;
        let engine = Arc::clone(self);
        let note = Note::current();
        let asked = note.as_ref().and_then(Note::pending);
        // What is stored begins, even when whoever asked stops waiting.
        let admitted = tokio::spawn(async move {
            let admission = engine.admission.write().await;
            let write = move |connection: &Connection| {
                also(connection)?;
                let (id, summary) = made.store(connection, project, now)?;
                store::note(connection, now, started(asked, &summary))?;
                Ok((id, summary, made))
            };
            let stored = engine.store.write(write).await.and_then(|(id, summary, made)| {
                let Made { new, carried, run } = made;
                Ok(LiveRun::new(new.into_row(id, summary)?, run, carried.len() as u64))
            });
            if stored.is_err() {
                // It may be stored all the same.
                engine.may_have_strays.store(true, Ordering::Relaxed);
            }
            let live = stored?;
            if let Some(note) = note {
                note.stored();
            }
            let summary = live.row.summary.clone();
            if live.row.faults.is_empty() {
                let live = Arc::new(live);
                locked(&engine.live).insert(live.row.facts.id.clone(), Arc::clone(&live));
                drop(admission);
                tokio::spawn(async move { engine.begin(&live).await });
            } else {
                // Nothing will happen to it, so nothing else tells its followers.
                let _ = engine.changes.send((0, summary.clone()));
            }
            Ok::<_, StoreError>(summary)
        });
        admitted.await.map_err(|_| StoreError::Ended)?
    }
}
