//! The records, in SQLite.
//!
//! One thread writes; it takes what waits and commits it together, so that many small writes cost one
//! disk flush. Readers have connections of their own and never wait for the writer (WAL).

mod access;
mod artifacts;
mod backup;
mod checkpoint;
mod event_form;
mod images;
mod plans;
mod projects;
mod records;
mod registries;
mod removal;
mod renamed;
mod retention;
mod rollouts;
mod runs;
mod schedules;
#[cfg(test)]
pub(crate) mod scripted;
mod secrets;
mod settings;
mod templates;
mod writer;

use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use rusqlite::{Connection, OpenFlags};

pub(crate) use access::{
    Shown, TokenKind, TokenRow, add_user, end_token, give_role, has_token, is_administered, put_token, remove_roles_in,
    remove_token, remove_user, roles, set_teams, take_role, token, token_used, tokens, users,
};
pub(crate) use artifacts::{
    ArtifactRow, CacheRow, all_artifacts, artifact, find_cache, put_artifact, put_cache, put_tests, remove_artifacts,
    test_history, unneeded,
};
pub(crate) use backup::{Proof, copy, forget_restored, is_restored, prove};
pub(crate) use event_form::EncodedEvent;
pub(crate) use images::{Pushed, base_is, base_starts, bases, end_base_start, grant_tag, put_image, rollout_overtaken};
pub(crate) use projects::{
    Project, ProjectRow, add as add_project, all as projects, by_name as project, has_default_branch, protected,
    put_default_branch, put_protected, put_share, refs, see, see_ref, seen_well, shares, was_seen,
};
pub(crate) use records::{
    Body as ImageBody, PackedListing, PackedRecord, image, images, listing, newest as newest_images, put_index,
    put_listing, put_record, put_running, put_tags, repositories, tag_changes, tagged, unlisted,
};
pub(crate) use registries::{
    RegistryRow, all as registries, by_host as registry, put as put_registry, remove as remove_registry,
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
pub(crate) use runs::{
    EncodedRun, NewRun, RunFilter, RunRow, StoredEvent, StoredLease, SummaryRow, append_event, by_id, changed_after,
    end_lease, events, going_on, id_of, insert_run, leases, newest_event, page, put_lease, put_summary, set_unreadable,
    summary, was_removed,
};
pub(crate) use schedules::{DueSchedule, due, keep_schedules, set_next};
pub(crate) use secrets::{SealedSecret, list as secrets, put as put_secret, remove as remove_secret, sealed};
pub(crate) use settings::{
    EnvironmentRow, environment, environments, environments_in_files, pause_runner, paused_runners, pools,
    put_environment, put_pool, remove_environment, resume_runner,
};
pub(crate) use templates::{compare as compare_templates, has_templates, put_has_templates};
use writer::Writer;

/// A change of the database, by one version.
enum Migration {
    /// Of its tables.
    Tables(&'static str),
    /// Of its tables, and then of documents in them.
    Documents(&'static str, fn(&Connection) -> Result<(), StoreError>),
}

use Migration::{Documents, Tables};

/// All of them, in order. One that has landed is never edited.
const MIGRATIONS: [Migration; 15] = [
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
mod tests {
    use super::*;

    #[test]
    fn records_of_a_newer_version_are_refused_and_left_alone() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("records.db");
        drop(Store::open(&path).unwrap());
        let connection = Connection::open(&path).unwrap();
        connection.pragma_update(None, "user_version", 99).unwrap();
        drop(connection);
        assert!(matches!(Store::open(&path), Err(StoreError::Newer { found: 99, .. })));
    }

    #[tokio::test]
    async fn records_of_before_are_read_after_their_words_have_changed() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("records.db");
        let connection = Connection::open(&path).unwrap();
        for migration in &MIGRATIONS[..11] {
            let (Tables(sql) | Documents(sql, _)) = migration;
            connection.execute_batch(sql).unwrap();
        }
        let inserts = r#"
            INSERT INTO projects (id, name, repository, hook_secret, added, cap) VALUES (1, 'desk', 'x', 'y', 1, 3);
            INSERT INTO pools VALUES ('big', 7);
            INSERT INTO registries (host, short_names) VALUES ('x.test', 'base');
            INSERT INTO plans VALUES (5, x'00', '{"supersede":true,"stages":[]}');
            INSERT INTO runs (id, project, number, start, branch, commit_id, commit_time, title, author, pipeline,
                              faults, state, created, plan)
                VALUES (9, 1, 1, 'hand', 'main', 'c', 1, 't', 'a', 'null', '[]', 'failed', 1, 5);
            INSERT INTO events (run, at, version, body)
                VALUES (9, 1, 1, '{"event":"barred","faults":[{"job":"a/b","what":"w","next":"n"}]}');
            INSERT INTO keeps (id, run, job, name, made, until) VALUES (2, 9, 'a/b', 'site', 1, 2);
            INSERT INTO kept_files VALUES (2, 'index', zeroblob(32), 3, 0, NULL);
        "#;
        connection.execute_batch(inserts).unwrap();
        connection.pragma_update(None, "user_version", 11).unwrap();
        drop(connection);
        let store = Store::open(&path).unwrap();
        let read = store.read(|c| {
            let artifact = artifact(c, 9, &pondrix_core::JobKey::new("a", "b"), "site")?;
            Ok((by_id(c, 9)?, events(c, 9)?, artifact, shares(c)?, pools(c)?, registries(c)?))
        });
        let (run, events, artifact, shares, pools, registries) = read.await.unwrap();
        let run = run.unwrap();
        assert_eq!((run.facts.start.word(), run.plan.supersede), ("manual", true));
        assert!(
            matches!(&events[0].event, pondrix_core::run::Event::PreflightFailed { missing } if missing[0].fix == "n")
        );
        assert_eq!((artifact.unwrap()[0].size, shares.len(), pools.len()), (3, 1, 1));
        assert_eq!(registries[0].bare_names.as_deref(), Some("base"));
    }

    #[tokio::test]
    async fn whoever_had_a_token_before_there_were_roles_keeps_what_is_of_projects_and_environments_take_what_they_took()
     {
        use pondrix_core::access::{Need, Refs};
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("records.db");
        let connection = Connection::open(&path).unwrap();
        for migration in &MIGRATIONS[..14] {
            let (Tables(sql) | Documents(sql, _)) = migration;
            connection.execute_batch(sql).unwrap();
        }
        let inserts = "
            INSERT INTO tokens (hash, kind, name, created, groups) VALUES
                (zeroblob(32), 'admin', 'admin', 1, ''), (randomblob(32), 'admin', 'odile', 2, 'keepers garden');
            INSERT INTO tokens (hash, kind, name, created) VALUES (x'07', 'runner', 'runner', 1);
            INSERT INTO tokens (hash, kind, name, created, expires) VALUES (x'08', 'session', 'odile', 3, 9000);
            INSERT INTO environments (name, kubeconfig, namespace, address, takes_tries)
                VALUES ('staging', '/etc/staging', 's', NULL, 0), ('try-out', '/etc/try', 't', 'http://x', 1);";
        connection.execute_batch(inserts).unwrap();
        connection.pragma_update(None, "user_version", 14).unwrap();
        drop(connection);
        let store = Store::open(&path).unwrap();
        let now = pondrix_core::Time::from_millis(10);
        let read = store.read(move |c| {
            let admin = token(c, &[0; 32], now)?;
            Ok((admin, users(c)?, roles(c)?, tokens(c, None, now)?, environments(c)?, environments_in_files(c)?))
        });
        let (admin, users, roles, tokens, environments, in_files) = read.await.unwrap();
        let admin = admin.unwrap();
        assert!(admin.name == "admin" && admin.rights.allow(Need::Administer, None));
        assert_eq!(users.iter().map(|user| user.name.as_str()).collect::<Vec<_>>(), ["admin", "odile"]);
        assert_eq!(users[1].teams, ["keepers", "garden"]);
        let given: Vec<_> = roles.iter().map(|role| format!("{} {} {}", role.to, role.role, role.projects)).collect();
        assert_eq!(given, ["admin administer *", "odile maintain *"]);
        assert_eq!(tokens.len(), 2, "neither runners nor browsers are people");
        let starts = |at: usize| environments[at].view.rules.starts.len();
        assert!(environments.iter().all(|one| one.view.rules.refs == Refs::Any && one.view.cluster.is_none()));
        assert_eq!((starts(0), starts(1)), (0, 6), "the second took tries");
        assert_eq!(in_files[0], ("staging".to_owned(), "/etc/staging".to_owned()));
    }

    #[tokio::test]
    async fn a_write_that_fails_or_panics_undoes_itself_and_no_other() {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open(&folder.path().join("records.db")).unwrap();
        let put = |name: &'static str| {
            move |connection: &Connection| {
                connection.execute("INSERT INTO settings VALUES (?1, '')", [name])?;
                Ok(())
            }
        };
        let panics = store.write::<()>(|connection| {
            connection.execute("INSERT INTO settings VALUES ('lost', '')", [])?;
            panic!("on purpose")
        });
        let (good, bad, better) = tokio::join!(store.write(put("a")), panics, store.write(put("b")));
        assert!(good.is_ok() && matches!(bad, Err(StoreError::Panicked)) && better.is_ok());
        let twice = store.write(put("a")).await;
        assert!(twice.is_err());
        let names = store
            .read(|connection| {
                let mut statement = connection.prepare("SELECT name FROM settings ORDER BY name")?;
                Ok(statement.query_map([], |row| row.get::<_, String>(0))?.collect::<Result<Vec<_>, _>>()?)
            })
            .await;
        assert_eq!(names.unwrap(), ["a", "b"]);
    }

    fn put(name: &'static str) -> impl FnOnce(&Connection) -> Result<(), StoreError> + Send + 'static {
        move |connection| {
            connection.execute("INSERT INTO settings VALUES (?1, '')", [name])?;
            Ok(())
        }
    }

    async fn names(store: &Store) -> Vec<String> {
        let names = store.read(|connection| {
            let mut statement = connection.prepare("SELECT name FROM settings ORDER BY name")?;
            Ok(statement.query_map([], |row| row.get::<_, String>(0))?.collect::<Result<Vec<_>, _>>()?)
        });
        names.await.unwrap()
    }

    #[tokio::test]
    async fn a_write_that_cannot_begin_is_reported_as_failed_and_leaves_nothing() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("records.db");
        let store = Store::open_with(&path, Duration::ZERO).unwrap();
        let other = Connection::open(&path).unwrap();
        other.execute_batch("BEGIN IMMEDIATE").unwrap();
        // Who lets go between the begin of the group and its first write is who made this one be stored.
        let refused = store.write(move |connection| {
            drop(other);
            put("late")(connection)
        });
        assert!(matches!(refused.await, Err(StoreError::Undone)));
        assert!(StoreError::Undone.is_transient());
        store.write(put("next")).await.unwrap();
        assert_eq!(names(&store).await, ["next"]);
    }

    #[tokio::test]
    async fn a_group_that_sqlite_undid_in_its_middle_is_reported_as_failed_and_leaves_nothing() {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open(&folder.path().join("records.db")).unwrap();
        // One write that waits for the others to be queued, so that they are of its group.
        let (go, wait) = std::sync::mpsc::channel::<()>();
        let first = store.write(move |connection| {
            put("before")(connection)?;
            wait.recv().ok();
            Ok(())
        });
        let undoing = store.write(|connection| {
            // As a full disk does it: the whole transaction is undone, and whoever made it goes on.
            let _ = connection.execute("INSERT OR ROLLBACK INTO settings VALUES ('before', '')", []);
            put("within")(connection)
        });
        let after = store.write(put("after"));
        let queued = async {
            while store.waiting() < 2 {
                tokio::task::yield_now().await;
            }
            go.send(()).unwrap();
        };
        let (first, undoing, after, ()) = tokio::join!(first, undoing, after, queued);
        assert!(matches!(first, Err(StoreError::Undone)), "{first:?}");
        assert!(undoing.is_err(), "{undoing:?}");
        assert!(after.is_ok(), "{after:?}: it is of the next group");
        assert_eq!(names(&store).await, ["after"]);
    }

    #[tokio::test(flavor = "multi_thread", worker_threads = 4)]
    async fn what_is_stored_is_told_in_the_order_in_which_it_is_whoever_waits_for_it() {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open(&folder.path().join("records.db")).unwrap();
        let told: Arc<Mutex<Vec<i64>>> = Arc::default();
        let writes = (0..500).map(|number| {
            let (store, told) = (store.clone(), Arc::clone(&told));
            tokio::spawn(async move {
                let insert = move |connection: &Connection| {
                    connection.execute(
                        "INSERT INTO plans (hash, body) VALUES (?1, '')",
                        [i32::to_be_bytes(number).to_vec()],
                    )?;
                    Ok(connection.last_insert_rowid())
                };
                store.write_and(insert, move |id| told.lock().unwrap().push(*id)).await
            })
        });
        for write in writes.collect::<Vec<_>>() {
            write.await.unwrap().unwrap();
        }
        assert_eq!(*told.lock().unwrap(), (1..=500).collect::<Vec<i64>>());
    }
}
