use std::os::unix::fs::PermissionsExt;

use pondrix_sandbox::IdMap;

use super::*;

fn store() -> (tempfile::TempDir, Store) {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open(folder.path(), IdMap::for_this_process()).unwrap();
    (folder, store)
}

/// As much of the disk as is left may be used.
fn room(limit: u64) -> Room {
    Room { limit, keep_free: Some(0) }
}

/// Makes it so that content was used so many hours ago.
fn used_hours_ago(store: &Store, digest: &Digest, hours: u64) {
    let mark = File::options().write(true).open(store.mark_path(Kind::Blob, digest.hex())).unwrap();
    mark.set_modified(SystemTime::now() - Duration::from_secs(3600 * hours)).unwrap();
}

#[test]
fn what_was_used_least_recently_goes_first_and_only_as_much_as_is_needed() {
    let (_folder, store) = store();
    let add = |letter: u8| store.add_blob(&vec![letter; 100_000]).unwrap();
    let (old, older, new) = (add(1), add(2), add(3));
    used_hours_ago(&store, &old, 5);
    used_hours_ago(&store, &older, 9);
    assert_eq!(store.free_space(room(1 << 20), Path::new("/nowhere")).unwrap(), Freed::default(), "there is room");
    let freed = store.free_space(room(250_000), Path::new("/nowhere")).unwrap();
    assert_eq!((freed.count, freed.bytes), (1, 100_000));
    assert!(!store.has_blob(&older) && store.has_blob(&old) && store.has_blob(&new));
}

#[test]
fn nothing_goes_that_was_used_since_the_oldest_user_began() {
    let (_folder, store) = store();
    let before = store.add_blob(&[1; 100_000]).unwrap();
    used_hours_ago(&store, &before, 5);
    let user = store.in_use();
    let again = store.add_blob(&[2; 100_000]).unwrap();
    used_hours_ago(&store, &again, 6);
    // A running job found it there, and goes on using it.
    assert!(store.has_blob(&again));
    assert_eq!(store.free_space(room(1), Path::new("/nowhere")).unwrap().count, 1);
    assert!(!store.has_blob(&before) && store.has_blob(&again));
    drop(user);
    assert_eq!(store.free_space(room(1), Path::new("/nowhere")).unwrap().count, 1);
}

#[test]
fn a_machine_that_was_started_anew_believes_what_was_on_the_disk_for_certain_and_nothing_else() {
    let (folder, store) = store();
    let old = store.add_blob(b"old").unwrap();
    let layer = crate::digest_of(b"a layer");
    fs::create_dir(store.layer_path(&layer)).unwrap();
    let open = || Store::open(folder.path(), IdMap::for_this_process()).unwrap();
    assert!(open().has_blob(&old), "the same start of the machine");
    store.settle().unwrap();
    // As if that had been some time after, and the next before now.
    let settled = fs::read_to_string(folder.path().join(SETTLED)).unwrap().parse::<u64>().unwrap();
    let restarted = |settled: u64| {
        fs::write(folder.path().join(SETTLED), settled.to_string()).unwrap();
        fs::write(folder.path().join("boot"), "another").unwrap();
        open()
    };
    let store = restarted(settled + 60);
    assert!(store.has_blob(&old) && store.layer_path(&layer).is_dir());
    let store = restarted(settled - 60);
    assert!(!store.has_blob(&old) && !store.layer_path(&layer).exists(), "written since");
    let again = store.add_blob(b"new").unwrap();
    assert!(open().has_blob(&again));
    fs::remove_file(folder.path().join(SETTLED)).unwrap();
    fs::write(folder.path().join("boot"), "another").unwrap();
    assert!(!open().has_blob(&again), "nothing was ever certain");
}

#[test]
fn what_a_killed_process_was_writing_counts_and_goes_at_the_start_of_the_next() {
    let (folder, store) = store();
    let unfinished = folder.path().join("unfinished/broken-off/layer/closed");
    fs::create_dir_all(&unfinished).unwrap();
    fs::write(unfinished.join("file"), vec![7; 300_000]).unwrap();
    fs::set_permissions(&unfinished, fs::Permissions::from_mode(0o555)).unwrap();
    let blob = store.add_blob(&[1; 100_000]).unwrap();
    used_hours_ago(&store, &blob, 5);
    assert_eq!(store.free_space(room(350_000), Path::new("/nowhere")).unwrap().count, 1, "it counts");
    store.forget_unfinished().unwrap();
    assert_eq!(fs::read_dir(folder.path().join("unfinished")).unwrap().count(), 0);
    // A folder that is closed to its owner as well, which root does not mind.
    let closed = folder.path().join("closed");
    fs::create_dir_all(closed.join("in/here")).unwrap();
    for path in ["in/here", "in", ""] {
        fs::set_permissions(closed.join(path), fs::Permissions::from_mode(0o500)).unwrap();
    }
    pondrix_files::remove(&closed).unwrap();
    assert!(!closed.exists());
}

#[test]
fn room_is_made_where_the_disk_is_short_of_it_whatever_the_limit_is() {
    let (folder, store) = store();
    let blob = store.add_blob(&[1; 100_000]).unwrap();
    used_hours_ago(&store, &blob, 5);
    let disk = rustix::fs::statvfs(folder.path()).unwrap();
    let whole = disk.f_blocks * disk.f_frsize;
    let wants = |keep_free| Room { limit: u64::MAX, keep_free: Some(keep_free) };
    assert_eq!(store.free_space(wants(1), Path::new("/nowhere")).unwrap(), Freed::default());
    assert_eq!(store.free_space(wants(whole), Path::new("/nowhere")).unwrap().count, 1);
    // A tenth of it where nothing is said.
    let room = Room { limit: u64::MAX, keep_free: None };
    let free = disk.f_bavail * disk.f_frsize;
    assert_eq!(room.excess(0, &disk), (whole / 10).saturating_sub(free));
}

#[test]
fn records_of_what_instructions_made_count_and_go_like_all_else() {
    let (folder, store) = store();
    for number in 0..100 {
        let key = crate::digest_of(format!("RUN {number}").as_bytes());
        store.remember(&crate::build::Realm::default(), &key, &crate::store::Remembered { layer: None }).unwrap();
    }
    let left = || fs::read_dir(folder.path().join("steps")).unwrap().count();
    let freed = store.free_space(room(100_000), Path::new("/nowhere")).unwrap();
    assert!(freed.count > 50 && left() == 100 - freed.count, "{freed:?}");
}

#[test]
fn what_a_job_was_told_is_there_stays_there_however_many_make_room_at_the_same_time() {
    let (_folder, store) = store();
    let digests: Vec<_> = (0..40_u8).map(|number| store.add_blob(&[number; 5000]).unwrap()).collect();
    for digest in &digests {
        used_hours_ago(&store, digest, 5);
    }
    let begin = std::sync::Barrier::new(6);
    std::thread::scope(|scope| {
        for _ in 0..2 {
            scope.spawn(|| {
                begin.wait();
                store.free_space(room(0), Path::new("/nowhere")).unwrap();
            });
        }
        for _ in 0..4 {
            scope.spawn(|| {
                begin.wait();
                for digest in &digests {
                    let user = store.in_use();
                    if store.has_blob(digest) {
                        store.read_blob(digest).unwrap();
                    }
                    drop(user);
                }
            });
        }
    });
}

#[test]
fn an_unpacked_layer_goes_whole_and_its_size_is_found_out_once() {
    let (folder, store) = store();
    let digest = crate::digest_of(b"a layer");
    fs::create_dir_all(store.layer_path(&digest).join("a/b")).unwrap();
    fs::write(store.layer_path(&digest).join("a/b/c"), vec![7; 50_000]).unwrap();
    assert_eq!(store.free_space(room(1 << 30), Path::new("/nowhere")).unwrap(), Freed::default());
    let mark = folder.path().join(format!("used/layer-{}", digest.hex()));
    assert!(fs::read_to_string(mark).unwrap().parse::<u64>().unwrap() > 50_000);
    assert_eq!(store.free_space(room(1), Path::new("/nowhere")).unwrap().count, 1);
    assert!(!store.layer_path(&digest).exists());
    assert_eq!(fs::read_dir(folder.path().join("unfinished")).unwrap().count(), 0);
}

#[test]
fn caches_count_with_what_they_grew_to_and_go_when_no_build_used_them_for_longest() {
    let (folder, store) = store();
    let caches = folder.path().join("caches");
    let grown = |project: &str, name: &str, hours: u64| {
        let cache = caches.join(project).join(name);
        fs::create_dir_all(&cache).unwrap();
        note_cache(&cache).unwrap();
        fs::write(cache.join("grown"), vec![7; 100_000]).unwrap();
        let mark = File::options().write(true).open(cache_mark(&cache)).unwrap();
        mark.set_modified(SystemTime::now() - Duration::from_secs(3600 * hours)).unwrap();
        cache
    };
    let blob = store.add_blob(&[1; 100_000]).unwrap();
    used_hours_ago(&store, &blob, 2);
    let (old, new) = (grown("desk", "old", 3), grown("labels", "new", 1));
    assert_eq!(store.free_space(room(1 << 20), &caches).unwrap(), Freed::default());
    let freed = store.free_space(room(290_000), &caches).unwrap();
    assert_eq!((freed.count, old.exists(), new.exists(), store.has_blob(&blob)), (1, false, true, true));
    assert!(!cache_mark(&old).exists());
    // It grows: the size of a cache is found out anew after each use.
    note_cache(&new).unwrap();
    fs::write(new.join("more"), vec![7; 500_000]).unwrap();
    let user = store.in_use();
    note_cache(&new).unwrap();
    let freed = store.free_space(room(400_000), &caches).unwrap();
    assert!(new.exists() && freed.bytes < 150_000, "a build has it: {freed:?}");
    drop(user);
    store.free_space(room(400_000), &caches).unwrap();
    assert!(!new.exists());
}
