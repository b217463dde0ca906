use pondrix_sandbox::IdMap;

use super::*;
use crate::layer::set_time;
use crate::layer::tests::deep::nest;

struct Place {
    folder: tempfile::TempDir,
    store: Store,
}

impl Place {
    fn new() -> Self {
        Self::of(tempfile::tempdir().unwrap())
    }

    /// In memory, if this machine has such a folder: a disk needs a minute for 100,000 folders.
    fn in_memory() -> Self {
        let memory = Path::new("/dev/shm");
        Self::of(if memory.is_dir() { tempfile::tempdir_in(memory) } else { tempfile::tempdir() }.unwrap())
    }

    fn of(folder: tempfile::TempDir) -> Self {
        let store = Store::open(&folder.path().join("store"), IdMap::for_this_process()).unwrap();
        fs::create_dir(folder.path().join("cache")).unwrap();
        Self { folder, store }
    }

    fn cache(&self) -> PathBuf {
        self.folder.path().join("cache")
    }

    fn begin(&self, inputs: &Inputs) -> CacheUse {
        self.begin_if(inputs, &mut || panic!("somebody is in the way")).unwrap()
    }

    fn begin_if(&self, inputs: &Inputs, goes_on: &mut dyn FnMut() -> bool) -> Option<CacheUse> {
        CacheUse::begin(&self.store, &self.cache(), inputs.clone(), &[], goes_on).unwrap()
    }

    /// Uses the cache for a command that makes an object, and answers how old that was before, where it was there.
    fn makes(&self, inputs: &Inputs) -> Option<u64> {
        let used = self.begin(inputs);
        let before = self.object();
        fs::write(self.cache().join("object"), "object").unwrap();
        drop(used);
        before
    }

    fn object(&self) -> Option<u64> {
        let data = fs::metadata(self.cache().join("object")).ok()?;
        Some(data.mtime().cast_unsigned())
    }
}

/// A file with a content, changed at a time.
fn sees(content: &str, time: u64) -> Inputs {
    let shown = [("lily.c".to_owned(), (content.to_owned(), time))].into();
    Inputs { shown, ..Inputs::default() }
}

fn now() -> u64 {
    SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).unwrap().as_secs()
}

#[test]
fn what_changed_and_is_not_newer_makes_all_that_is_there_older_than_it_and_nothing_else_does() {
    let (place, long_ago) = (Place::new(), 1_000_000);
    assert_eq!(place.makes(&sees("1", long_ago)), None);
    // Each use makes the object anew, maybe in another second.
    let keeps = |inputs: &Inputs| {
        let made = place.object();
        place.makes(inputs) == made
    };
    assert!(keeps(&sees("1", long_ago)), "the same");
    assert!(keeps(&sees("1", long_ago + 5)), "only its time is another");
    assert!(keeps(&sees("2", now() + 1000)), "it is newer by itself");
    assert_eq!(place.makes(&sees("3", long_ago)), Some(long_ago - 1));
    assert!(keeps(&Inputs::default()), "it is gone");
    assert_eq!(place.makes(&sees("3", long_ago)), Some(long_ago - 1), "and there again");
    // A base that never was there: its programs and their headers are others.
    let elsewhere = |content: &str| Inputs { base: vec![crate::digest_of(b"base")], ..sees(content, long_ago) };
    assert_eq!(place.makes(&elsewhere("3")), Some(0));
    // From then on both may go on, as long as neither sees another content of what the other one saw.
    let made = place.object();
    assert_eq!(place.makes(&sees("3", long_ago)), made);
    let made = place.object();
    assert_eq!(place.makes(&elsewhere("3")), made);
    assert_eq!(place.makes(&elsewhere("4")), Some(long_ago - 1));
    assert_eq!(place.makes(&sees("3", long_ago)), Some(long_ago - 1), "what the other one made is of 4");
}

#[test]
fn what_a_link_in_a_cache_leads_to_keeps_its_time() {
    let place = Place::new();
    place.makes(&sees("1", 1_000_000));
    let outside = place.folder.path().join("outside");
    fs::create_dir(&outside).unwrap();
    fs::write(outside.join("mine"), "mine").unwrap();
    for (name, to) in [("folder", outside.clone()), ("file", outside.join("mine"))] {
        std::os::unix::fs::symlink(to, place.cache().join(name)).unwrap();
    }
    let times = || [&outside, &outside.join("mine")].map(|path| fs::metadata(path).unwrap().modified().unwrap());
    let before = times();
    assert!(place.begin(&sees("2", 1_000_000)).has_aged);
    assert_eq!(times(), before);
    let link = fs::symlink_metadata(place.cache().join("folder")).unwrap();
    assert_eq!(link.mtime(), 999_999, "the link itself is of the cache");
}

#[test]
fn a_file_that_an_archive_gave_its_time_keeps_it() {
    let place = Place::new();
    place.makes(&sees("1", 1_000_000));
    let packed = place.cache().join("packed");
    fs::write(&packed, "from an archive").unwrap();
    let time = SystemTime::UNIX_EPOCH + Duration::from_secs(1_500_000_000);
    set_time(&packed, time).unwrap();
    assert_eq!(place.makes(&sees("2", 1_000_000)), Some(999_999));
    assert_eq!(fs::metadata(&packed).unwrap().modified().unwrap(), time);
    let object = place.begin(&sees("3", 1_000_000));
    let data = fs::metadata(place.cache().join("object")).unwrap();
    assert_eq!((data.mtime(), data.mtime_nsec()), (999_999, 500_000_000), "no archive gives that");
    drop(object);
}

#[test]
fn after_several_at_once_everything_counts_that_one_of_them_saw() {
    let (place, long_ago) = (Place::new(), 1_000_000);
    // They see nothing that contradicts: one of them does not see the file at all.
    let (one, other) = (place.begin(&sees("1", long_ago)), place.begin(&Inputs::default()));
    drop(one);
    fs::write(place.cache().join("object"), "of either").unwrap();
    drop(other);
    assert_eq!(place.makes(&sees("1", long_ago)), Some(long_ago - 1), "the other one did not see it");
    // From here on it is only one's.
    let made = place.object();
    assert_eq!(place.makes(&sees("1", long_ago)), made);
}

#[test]
fn a_cache_of_a_hundred_thousand_folders_in_each_other_is_made_older_like_any_other() {
    let place = Place::in_memory();
    let innermost = nest(&place.cache(), 100_000);
    // Nothing is known of it: all of it becomes older than anything.
    let used = place.begin(&sees("1", 1_000_000));
    assert!(used.has_aged);
    let lily = rustix::fs::statat(&innermost, "lily", rustix::fs::AtFlags::empty()).unwrap();
    assert_eq!(lily.st_mtime, 0);
    drop(used);
    pondrix_files::remove(&place.cache()).unwrap();
}

#[test]
fn who_sees_another_content_of_the_same_file_waits_for_who_uses_the_cache_or_gives_up() {
    let (place, long_ago) = (Place::new(), 1_000_000);
    let first = place.begin(&sees("1", long_ago));
    let same = place.begin(&sees("1", long_ago));
    let (mut waits, mut using) = (0, Some((first, same)));
    let given_up = place.begin_if(&sees("2", now() + 1000), &mut || {
        waits += 1;
        waits < 3
    });
    assert!(given_up.is_none() && waits == 3);
    let waited = place.begin_if(&sees("2", long_ago), &mut || {
        // While it waits, the others come to their end.
        fs::write(place.cache().join("object"), "of the first").unwrap();
        using.take().is_some()
    });
    assert!(waited.is_some_and(|used| used.has_aged));
    assert_eq!(place.object(), Some(long_ago - 1));
}

#[test]
fn what_a_killed_runner_or_a_damaged_record_left_is_not_taken_for_what_was_there_before() {
    let (place, long_ago) = (Place::new(), 1_000_000);
    place.makes(&sees("1", long_ago));
    std::mem::forget(place.begin(&sees("2", long_ago)));
    fs::write(place.cache().join("object"), "of the second").unwrap();
    let store = Store::open(&place.folder.path().join("store"), IdMap::for_this_process()).unwrap();
    let place = Place { store, ..place };
    assert_eq!(place.makes(&sees("1", long_ago)), Some(long_ago - 1));
    for damaged in ["", "nonsense"] {
        fs::write(record_path(&place.cache()), damaged).unwrap();
        assert_eq!(place.makes(&sees("1", long_ago)), Some(0));
    }
    forget(&place.cache());
    assert_eq!(place.makes(&sees("1", long_ago)), Some(0));
    let layers = Inputs { layers: vec![crate::digest_of(b"gone")], ..sees("1", long_ago) };
    assert_eq!(place.makes(&layers), Some(0), "a layer that is not there may have held anything");
}
