//! The records, in SQLite.
//!
//! One thread writes; it takes what waits and commits it together, so that many small writes cost one
//! disk flush. Readers have connections of their own and never wait for the writer (WAL).

mod access;
mod artifacts;
mod audit;
mod backup;
mod caches;
mod checkpoint;
mod event_form;
mod images;
mod openid;
mod plans;
mod projects;
mod quotas;
mod records;
mod registries;
mod removal;
mod renamed;
mod retention;
mod rollouts;
mod runners;
mod runs;
mod schedules;
#[cfg(test)]
pub(crate) mod scripted;
mod sealed;
mod secrets;
mod settings;
mod templates;
mod writer;

use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use pondrix_core::Time;
use rusqlite::{Connection, OpenFlags};

pub(crate) use access::{
    Shown, TokenKind, TokenRow, add_user, give_role, has_token, is_administered, password, put_password, put_token,
    remove_roles_in, remove_token, remove_user, replace_token, roles, set_teams, take_role, token, token_used, tokens,
    users,
};
pub(crate) use artifacts::{
    ArtifactRow, all_artifacts, artifact, contents_of_project, put_artifact, put_tests, remove_artifacts, test_history,
    unneeded,
};
pub(crate) use audit::{AuditFilter, audit, audit_end, audit_start, forget_audit, keep_audit, note, token_address};
pub(crate) use backup::{Proof, copy, forget_restored, is_restored, lose_data_keys, prove};
pub(crate) use caches::{CachePlace, CacheRow, find_cache, put_cache, put_step_list, step_list};
pub(crate) use event_form::EncodedEvent;
pub(crate) use images::{Pushed, base_is, base_starts, bases, end_base_start, grant_tag, put_image, rollout_overtaken};
pub(crate) use openid::{OpenIdRow, openid, person_of_subject, put_openid, put_subject, remove_openid};
pub(crate) use projects::{
    Project, ProjectRow, add as add_project, all as projects, by_name as project, default_branch, has_default_branch,
    protected, put_default_branch, put_protected, put_share, refs, see, see_ref, seen_well, shares, was_seen, weight,
};
pub(crate) use quotas::{ALL as ALL_PROJECTS, add_time, artifacts_used, forget_time, put_quota, quota, time_used};
pub(crate) use records::{
    Body as ImageBody, PackedListing, PackedRecord, image, images, listing, newest as newest_images, put_index,
    put_listing, put_record, put_running, put_tags, repositories, tag_changes, tagged, unlisted,
};
pub(crate) use registries::{
    AccountRow, RegistryRow, all as registries, by_host as registry, put as put_registry, remove as remove_registry,
    remove_account,
};
pub(crate) use removal::{
    Running, forget_leftovers, hidden_projects, hide_project, images_outside, leave, leftovers, remove_project,
    remove_run, remove_runs_of, running,
};
pub(crate) use retention::{
    EncodedRule, UsedCache, images_of, is_needed, oldest_end, pasts, put_rule, remove_cache, remove_logs, rules,
    set_logs_packed, used_caches, with_plain_logs,
};
pub(crate) use rollouts::{EncodedObjects, forget_before, keep_before};
pub(crate) use runners::{
    RunnerRow, add_runner, invitation, invitations, put_invitation, remove_invitation, remove_runner,
    replace_runner_token, runner, runners, use_invitation,
};
pub(crate) use runs::{
    EncodedRun, NewRun, RunFilter, RunRow, StoredEvent, StoredLease, SummaryRow, append_event, by_id, changed_after,
    end_lease, events, going_on, id_of, insert_run, leases, newest_event, page, put_lease, put_summary, set_unreadable,
    summary, was_removed,
};
pub(crate) use schedules::{DueSchedule, due, keep_schedules, set_next};
pub(crate) use sealed::{
    SealedValue, SigningKeyRow, all as all_sealed, data_keys, open_hooks, put_credential, put_data_key, put_hook,
    put_signing_key, remove_data_keys, remove_signing_key, rewrap, signing_keys, wrapped_since,
};
pub(crate) use secrets::{
    Owner, SealedSecret, all_shared as shared_secrets, list as secrets, put as put_secret, remove as remove_secret,
    remove_all as remove_secrets, sealed, used as secret_used,
};
pub(crate) use settings::{
    EnvironmentRow, environment, environments, environments_in_files, pause_runner, paused_runners, pools,
    put_environment, put_pool, remove_environment, resume_runner,
};
pub(crate) use templates::{compare as compare_templates, has_templates, pin, pinned, put_has_templates};
use writer::Writer;

use crate::audit::{Change, Note};

/// A change of the database, by one version.
enum Migration {
    /// Of its tables.
    Tables(&'static str),
    /// Of its tables, and then of documents in them.
    Documents(&'static str, fn(&Connection) -> Result<(), StoreError>),
}

use Migration::{Documents, Tables};

/// All of them, in order. One that has landed is never edited.
const MIGRATIONS: [Migration; 31] = [
    Tables(include_str!("migrations/001.sql")),
    Tables(include_str!("migrations/002.sql")),
    Tables(include_str!("migrations/003.sql")),
    Tables(include_str!("migrations/004.sql")),
    Tables(include_str!("migrations/005.sql")),
    Tables(include_str!("migrations/006.sql")),
    Tables(include_str!("migrations/007.sql")),
    Tables(include_str!("migrations/008.sql")),
    Tables(include_str!("migrations/009.sql")),
    Tables(include_str!("migrations/010.sql")),
    Tables(include_str!("migrations/011.sql")),
    Documents(include_str!("migrations/012.sql"), renamed::rewrite),
    Tables(include_str!("migrations/013.sql")),
    Documents(include_str!("migrations/014.sql"), records::note_layers),
    Tables(include_str!("migrations/015.sql")),
    Tables(include_str!("migrations/016.sql")),
    Tables(include_str!("migrations/017.sql")),
    Tables(include_str!("migrations/018.sql")),
    Tables(include_str!("migrations/019.sql")),
    Tables(include_str!("migrations/020.sql")),
    Tables(include_str!("migrations/021.sql")),
    Tables(include_str!("migrations/022.sql")),
    Tables(include_str!("migrations/023.sql")),
    Tables(include_str!("migrations/024.sql")),
    Tables(include_str!("migrations/025.sql")),
    Tables(include_str!("migrations/026.sql")),
    Tables(include_str!("migrations/027.sql")),
    Tables(include_str!("migrations/028.sql")),
    Tables(include_str!("migrations/029.sql")),
    Tables(include_str!("migrations/030.sql")),
    Tables(include_str!("migrations/031.sql")),
];
/// How long is waited for another program that has the database.
const BUSY_TIME: Duration = Duration::from_secs(10);
/// How many questions a connection remembers how to answer: more than there are.
const STATEMENTS_KEPT: usize = 256;
/// How much of the records each reader keeps in memory, in KiB: the upper levels of all indexes of a million runs.
const READER_CACHE: i64 = 8192;
/// How many idle connections are kept for readers.
const READERS_KEPT: usize = 4;

/// Why the records could not be read or written.
#[derive(Debug, thiserror::Error)]
pub(crate) enum StoreError {
    #[error("the records: {0}")]
    Sqlite(#[from] rusqlite::Error),
    #[error("a stored document does not parse: {0}")]
    Document(#[from] serde_json::Error),
    #[error("a stored {what} is of version {found}, and this server knows {known}")]
    DocumentVersion { what: &'static str, found: i64, known: i64 },
    #[error("the records were made by a newer Pondrix (version {found}; this one knows {known}); start that one")]
    Newer { found: i64, known: i64 },
    #[error("the writer of the records has ended")]
    Ended,
    #[error("the records could not be written; nothing was stored")]
    Undone,
    #[error("the records could not be written, and whether this was stored is not known")]
    Unknown,
    #[error("a write to the records broke; it was undone")]
    Panicked,
    #[error("{0} is there already")]
    Exists(String),
    #[error("the copy of the records is not sound: {0}")]
    Copy(String),
    #[error("a value cannot be sealed: {0}")]
    Unsealed(String),
    #[error("an older project {0} is still being removed; try again in a moment")]
    BeingRemoved(String),
}

impl StoreError {
    /// Whether what is stored makes no sense to this server. It makes none later either.
    pub(crate) fn is_unreadable(&self) -> bool {
        use rusqlite::Error::{FromSqlConversionFailure, InvalidColumnType};
        let is_value = |error: &rusqlite::Error| matches!(error, FromSqlConversionFailure(..) | InvalidColumnType(..));
        match self {
            Self::Document(_) | Self::DocumentVersion { .. } => true,
            Self::Sqlite(error) => is_value(error),
            _ => false,
        }
    }

    /// Whether the same may be stored, or read, a little later: a full disk, a busy or cut-off one.
    pub(crate) fn is_transient(&self) -> bool {
        use rusqlite::ErrorCode::{CannotOpen, DatabaseBusy, DatabaseLocked, DiskFull, OutOfMemory, SystemIoFailure};
        match self {
            Self::Sqlite(error) => error.sqlite_error_code().is_some_and(|code| {
                matches!(code, DatabaseBusy | DatabaseLocked | DiskFull | SystemIoFailure | OutOfMemory | CannotOpen)
            }),
            Self::Undone | Self::Unknown => true,
            Self::Document(_)
            | Self::DocumentVersion { .. }
            | Self::Newer { .. }
            | Self::Ended
            | Self::Panicked
            | Self::Exists(_)
            | Self::Unsealed(_)
            | Self::BeingRemoved(_)
            | Self::Copy(_) => false,
        }
    }
}

/// The records.
#[derive(Clone, Debug)]
pub(crate) struct Store {
    place: Place,
}

/// Where they are.
#[derive(Clone, Debug)]
enum Place {
    /// In a file, with a thread that writes, and connections for readers.
    File { path: PathBuf, writer: Writer, readers: Arc<Mutex<Vec<Connection>>> },
    /// In memory, where a test says what fails.
    #[cfg(test)]
    Scripted(scripted::Scripted),
}

fn open(path: &Path, flags: OpenFlags, busy_time: Duration) -> Result<Connection, StoreError> {
    let connection = Connection::open_with_flags(path, flags)?;
    connection.busy_timeout(busy_time)?;
    connection.set_prepared_statement_cache_capacity(STATEMENTS_KEPT);
    connection.pragma_update(None, "foreign_keys", true)?;
    // What is removed is no more to be found in the file, as far as that costs nothing (SQLite, "PRAGMA secure_delete").
    connection.pragma_update(None, "secure_delete", "fast")?;
    Ok(connection)
}

fn migrate(connection: &mut Connection) -> Result<(), StoreError> {
    let found: i64 = connection.pragma_query_value(None, "user_version", |row| row.get(0))?;
    let known = MIGRATIONS.len() as i64;
    if found > known {
        return Err(StoreError::Newer { found, known });
    }
    for (version, migration) in (1..).zip(&MIGRATIONS).skip_while(|(version, _)| *version <= found) {
        let change = connection.transaction()?;
        match migration {
            Tables(sql) => change.execute_batch(sql)?,
            Documents(sql, rewrite) => {
                change.execute_batch(sql)?;
                rewrite(&change)?;
            }
        }
        change.pragma_update(None, "user_version", version)?;
        change.commit()?;
    }
    Ok(())
}

impl Store {
    /// Opens the records, making or changing the database as this version needs it.
    pub(crate) fn open(path: &Path) -> Result<Self, StoreError> {
        Self::open_with(path, BUSY_TIME)
    }

    fn open_with(path: &Path, busy_time: Duration) -> Result<Self, StoreError> {
        let mut connection = open(path, OpenFlags::default(), busy_time)?;
        connection.pragma_update(None, "journal_mode", "wal")?;
        // What is reported as stored survives the end of the machine, and not only that of the process: each
        // commit is flushed to the disk before anybody hears of it (SQLite, "PRAGMA synchronous").
        connection.pragma_update(None, "synchronous", "full")?;
        migrate(&mut connection)?;
        checkpoint::beside(&mut connection, path, busy_time)?;
        let writer = Writer::start(connection)?;
        Ok(Self { place: Place::File { path: path.to_owned(), writer, readers: Arc::default() } })
    }

    /// Writes, and returns when it is stored. The closure's error undoes what the closure did.
    pub(crate) async fn write<T: Send + 'static>(
        &self,
        write: impl FnOnce(&Connection) -> Result<T, StoreError> + Send + 'static,
    ) -> Result<T, StoreError> {
        self.write_and(write, |_| ()).await
    }

    /// As [`Store::write`], and has `publish` called with what was stored, in the order in which it was, before
    /// anything that is stored later is told to anybody.
    pub(crate) async fn write_and<T: Send + 'static>(
        &self,
        write: impl FnOnce(&Connection) -> Result<T, StoreError> + Send + 'static,
        publish: impl FnOnce(&T) + Send + 'static,
    ) -> Result<T, StoreError> {
        let (change, answered) = writer::change(write, publish);
        match &self.place {
            Place::File { writer, .. } => writer.submit(change).await?,
            #[cfg(test)]
            Place::Scripted(scripted) => scripted.write(change),
        }
        answered.await.map_err(|_| StoreError::Ended)?
    }

    /// As [`Store::write_and`], of what a person or a hook asked for: it is stored together with what the audit says of
    /// it, or neither is.
    pub(crate) async fn write_noted_and<T: Change + Send + 'static>(
        &self,
        at: Time,
        write: impl FnOnce(&Connection) -> Result<T, StoreError> + Send + 'static,
        publish: impl FnOnce(&T) + Send + 'static,
    ) -> Result<T, StoreError> {
        let open = Note::current();
        let deed = open.as_ref().and_then(Note::pending);
        let is_noted = deed.is_some();
        let noted = move |connection: &Connection| {
            let made = write(connection)?;
            if let Some(deed) = deed.filter(|_| made.is_made()) {
                note(connection, at, deed)?;
            }
            Ok(made)
        };
        let made = self.write_and(noted, publish).await?;
        if let Some(open) = open.filter(|_| is_noted && made.is_made()) {
            open.stored();
        }
        Ok(made)
    }

    /// As [`Store::write_noted_and`], with nobody to tell.
    pub(crate) async fn write_noted<T: Change + Send + 'static>(
        &self,
        at: Time,
        write: impl FnOnce(&Connection) -> Result<T, StoreError> + Send + 'static,
    ) -> Result<T, StoreError> {
        self.write_noted_and(at, write, |_| ()).await
    }

    /// How many writes wait that no group has taken.
    #[cfg(test)]
    fn waiting(&self) -> usize {
        match &self.place {
            Place::File { writer, .. } => writer.waiting(),
            Place::Scripted(_) => 0,
        }
    }

    /// Reads.
    pub(crate) async fn read<T: Send + 'static>(
        &self,
        question: impl FnOnce(&Connection) -> Result<T, StoreError> + Send + 'static,
    ) -> Result<T, StoreError> {
        let (path, readers) = match &self.place {
            Place::File { path, readers, .. } => (path.clone(), Arc::clone(readers)),
            #[cfg(test)]
            Place::Scripted(scripted) => return scripted.read(question),
        };
        tokio::task::spawn_blocking(move || {
            let kept = || readers.lock().unwrap_or_else(PoisonError::into_inner);
            let idle = kept().pop();
            let connection = match idle {
                Some(connection) => connection,
                None => {
                    let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX;
                    let connection = open(&path, flags, BUSY_TIME)?;
                    connection.pragma_update(None, "cache_size", -READER_CACHE)?;
                    connection
                }
            };
            let answer = question(&connection);
            let mut kept = kept();
            if kept.len() < READERS_KEPT {
                kept.push(connection);
            }
            answer
        })
        .await
        .map_err(|_| StoreError::Ended)?
    }
}

#[cfg(test)]
mod tests;
