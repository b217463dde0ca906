//! What is promised of the records as a whole.

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
    assert!(matches!(&events[0].event, pondrix_core::run::Event::PreflightFailed { missing } if missing[0].fix == "n"));
    assert_eq!((artifact.unwrap()[0].size, shares.len(), pools.len()), (3, 1, 1));
    assert_eq!(registries[0].bare_names.as_deref(), Some("base"));
}

#[tokio::test]
async fn whoever_had_a_token_before_there_were_roles_keeps_what_is_of_projects_and_environments_take_what_they_took() {
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
async fn of_archives_of_before_those_of_the_default_branch_are_trusted_where_nothing_else_is_protected() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("records.db");
    let connection = Connection::open(&path).unwrap();
    for migration in &MIGRATIONS[..16] {
        let (Tables(sql) | Documents(sql, _)) = migration;
        connection.execute_batch(sql).unwrap();
    }
    let inserts = "
        INSERT INTO projects (id, name, repository, hook_secret, added, default_branch, protected) VALUES
            (1, 'desk', 'x', 'y', 1, 'trunk', ''), (2, 'labels', 'x', 'y', 1, 'main', 'release/*'),
            (3, 'beds', 'x', 'y', 1, NULL, '');
        INSERT INTO caches (project, scope, key, digest, size, created, used)
            SELECT p.id, b.value, 'k', zeroblob(32), 1, 1, 1 FROM projects p, json_each('[\"trunk\", \"main\"]') b;";
    connection.execute_batch(inserts).unwrap();
    connection.pragma_update(None, "user_version", 16).unwrap();
    drop(connection);
    let store = Store::open(&path).unwrap();
    let read = store.read(|c| {
        let places = |project| Ok::<_, StoreError>(used_caches(c, project)?.into_iter().map(|cache| cache.place));
        Ok([1, 2, 3].map(|project| places(project).unwrap().filter(|place| place.is_trusted).collect::<Vec<_>>()))
    });
    let trusted = read.await.unwrap();
    assert_eq!(trusted[0].iter().map(|place| place.branch.as_str()).collect::<Vec<_>>(), ["trunk"]);
    assert!(trusted[1].is_empty() && trusted[2].is_empty());
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
                connection
                    .execute("INSERT INTO plans (hash, body) VALUES (?1, '')", [i32::to_be_bytes(number).to_vec()])?;
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

#[tokio::test]
async fn a_change_and_what_the_audit_says_of_it_are_stored_together_or_neither_is() {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open(&folder.path().join("records.db")).unwrap();
    let deed = pondrix_core::audit::Deed {
        who: "wren".to_owned(),
        token: None,
        from: None,
        action: "pool set".to_owned(),
        target: "big".to_owned(),
        project: None,
        result: pondrix_core::audit::AuditResult::Done,
        words: String::new(),
    };
    let at = Time::from_millis(1);
    let set = |limit| {
        let (store, open) = (store.clone(), Note::new(deed.clone()));
        async move {
            let set = open.on(store.write_noted(at, move |c| put_pool(c, "big", Some(limit)))).await;
            (set.is_ok(), open.pending().is_none())
        }
    };
    let stored = async || store.read(|c| Ok((pools(c)?.get("big").copied(), audit_end(c)?.number))).await.unwrap();
    assert_eq!((set(3).await, stored().await), ((true, true), (Some(3), 1)));
    // What the audit does not take is not done.
    let broken = "CREATE TRIGGER full BEFORE INSERT ON audit BEGIN SELECT RAISE(ABORT, 'full'); END";
    store.write(|c| Ok(c.execute_batch(broken)?)).await.unwrap();
    assert_eq!((set(4).await, stored().await), ((false, false), (Some(3), 1)));
    store.write(|c| Ok(c.execute_batch("DROP TRIGGER full")?)).await.unwrap();
    // What fails, and what changes nothing, is not noted as done.
    let open = Note::new(deed.clone());
    let failed = open.on(store.write_noted(at, |_| Err::<(), _>(StoreError::Ended))).await;
    assert!(failed.is_err() && open.pending().is_some());
    assert!(!open.on(store.write_noted(at, |_| Ok(false))).await.unwrap() && open.pending().is_some());
    // And it is noted once, however many writes follow.
    for _ in 0..2 {
        open.on(store.write_noted(at, |_| Ok(true))).await.unwrap();
    }
    assert_eq!(stored().await, (Some(3), 2));
    store.write_noted(at, |_| Ok(true)).await.unwrap();
    assert_eq!(stored().await, (Some(3), 2), "what nobody asked for");
}
