use std::fs;
use std::os::unix::fs::symlink;

use proptest::prelude::*;

use super::*;
use crate::remove::tests::{nest, place};
use crate::usage;

fn paths(root: &Path, order: Order) -> Vec<String> {
    let mut all = Vec::new();
    walk(root, order, &Bounds::KEPT, &Watch::none(), |found| {
        all.push(found.path.display().to_string());
        Ok(())
    })
    .unwrap();
    all
}

#[test]
fn links_are_found_and_not_followed_and_a_folder_comes_before_what_is_in_it() {
    let place = place();
    for folder in ["b/c/d", "a", "b-"] {
        fs::create_dir_all(place.path().join(folder)).unwrap();
    }
    fs::write(place.path().join("b/z"), "lily").unwrap();
    symlink("..", place.path().join("b/c/up")).unwrap();
    assert_eq!(paths(place.path(), Order::Sorted), ["a", "b", "b/c", "b/c/d", "b/c/up", "b/z", "b-"]);
    let mut any = paths(place.path(), Order::Any);
    any.sort();
    assert_eq!(any, ["a", "b", "b-", "b/c", "b/c/d", "b/c/up", "b/z"]);
}

#[test]
fn what_is_kept_has_bounds_and_what_is_counted_may_be_of_any_depth() {
    let place = place();
    let root = place.path().to_owned();
    nest(&root, 100_000);
    let told = |bounds: Bounds, root: &Path| {
        walk(root, Order::Any, &bounds, &Watch::none(), |_| Ok(())).unwrap_err().to_string()
    };
    assert_eq!(told(Bounds::KEPT, &root), format!("more than 512 nested folders, at {}…", &"bed/".repeat(15)));
    let words = told(Bounds { longest_path: 40, ..Bounds::KEPT }, &root);
    assert_eq!(words, format!("a path is longer than 40 bytes, at {}lily", "bed/".repeat(10)));
    let words = told(Bounds { paths: 30, ..Bounds::KEPT }, &root);
    assert!(words.starts_with("all paths are in total longer than 30 bytes, at "), "{words}");
    // On a thread with little stack; every folder takes a block.
    let counted = std::thread::Builder::new().stack_size(96 << 10).spawn(move || {
        let mut count = 0_u32;
        let counted = walk(&root, Order::Sorted, &Bounds::COUNTED, &Watch::none(), |_| {
            count += 1;
            Ok(())
        });
        counted.and_then(|()| Ok((count, usage(&root, &Watch::none())?)))
    });
    let (count, bytes) = counted.unwrap().join().unwrap().unwrap();
    assert!(count == 200_000 && bytes < 100_000 * 8192, "{count} {bytes}");
}

#[test]
fn a_million_files_in_one_folder_are_too_many_or_counted() {
    let place = place();
    let mut of = place.path().join("first");
    for number in 0..1_000_000_u32 {
        if number % 60_000 == 0 {
            of = place.path().join(format!("next-{number}"));
            fs::write(&of, "lily").unwrap();
        }
        fs::hard_link(&of, place.path().join(number.to_string())).unwrap();
    }
    let few = Bounds { entries: 1000, ..Bounds::KEPT };
    let error = walk(place.path(), Order::Sorted, &few, &Watch::none(), |_| Ok(())).unwrap_err();
    assert!(error.to_string().starts_with("there are more than 1000 files, at "), "{error}");
    let bytes = usage(place.path(), &Watch::none()).unwrap();
    assert!(bytes <= 17 * 8192, "a file with several names counts once: {bytes}");
}

#[test]
fn a_walk_that_is_given_up_ends_at_the_next_entry() {
    let place = place();
    for name in ["a", "b", "c"] {
        fs::write(place.path().join(name), "").unwrap();
    }
    let watch = Watch::new(|| Some("the run was stopped".to_owned()));
    let mut found = 0;
    let error = walk(place.path(), Order::Any, &Bounds::KEPT, &watch, |_| {
        found += 1;
        Ok(())
    });
    assert_eq!((error.unwrap_err().to_string().as_str(), found), ("the run was stopped", 0));
}

#[test]
fn a_file_that_was_replaced_is_not_opened() {
    let place = place();
    let at = |name: &str| place.path().join(name);
    fs::write(at("a"), "lily").unwrap();
    fs::write(at("secret"), "rose").unwrap();
    let mut opened = Vec::new();
    walk(place.path(), Order::Sorted, &Bounds::KEPT, &Watch::none(), |found| {
        if found.path == Path::new("a") {
            opened.push(found.open().is_ok());
            fs::remove_file(at("a"))?;
            symlink("secret", at("a"))?;
            opened.push(found.open().is_ok());
            fs::remove_file(at("a"))?;
            rustix::fs::mknodat(CWD, at("a"), FileType::Fifo, Mode::RUSR, 0)?;
            opened.push(found.open().is_ok());
        }
        Ok(())
    })
    .unwrap();
    assert_eq!(opened, [true, false, false]);
}

#[test]
fn a_folder_that_is_moved_away_while_it_is_read_leads_nowhere_else() {
    let place = place();
    let at = |name: &str| place.path().join(name);
    for folder in ["top/a/b/c", "top/a/d", "top/e", "other/secret"] {
        fs::create_dir_all(at(folder)).unwrap();
    }
    let mut found = Vec::new();
    walk(&at("top"), Order::Sorted, &Bounds::KEPT, &Watch::none(), |one| {
        found.push(one.path.display().to_string());
        if one.path == Path::new("a/b/c") {
            fs::rename(at("top/a/b"), at("other/b"))?;
        }
        Ok(())
    })
    .unwrap();
    assert_eq!(found, ["a", "a/b", "a/b/c", "a/d", "e"]);
    fs::rename(at("other/b"), at("top/a/b")).unwrap();
    found.clear();
    walk(&at("top"), Order::Sorted, &Bounds::KEPT, &Watch::none(), |one| {
        found.push(one.path.display().to_string());
        if one.path == Path::new("a/b/c") {
            fs::rename(at("top/a/b"), at("other/b"))?;
            fs::rename(at("top/a"), at("other/a"))?;
        }
        Ok(())
    })
    .unwrap();
    assert_eq!(found, ["a", "a/b", "a/b/c", "e"], "a moved folder is skipped");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]
    #[test]
    fn everything_is_found_once_and_all_goes(
        paths in prop::collection::vec(prop::collection::vec("[a-c]{1,2}", 1..40), 1..30),
    ) {
        let place = place();
        let top = place.path().join("top");
        let mut all = std::collections::BTreeSet::new();
        for parts in &paths {
            let path: std::path::PathBuf = parts.iter().collect();
            fs::create_dir_all(top.join(&path)).unwrap();
            all.extend(path.ancestors().filter(|path| !path.as_os_str().is_empty()).map(Path::to_owned));
        }
        let mut found = Vec::new();
        walk(&top, Order::Sorted, &Bounds::KEPT, &Watch::none(), |one| {
            found.push(one.path.to_owned());
            Ok(())
        }).unwrap();
        prop_assert_eq!(found, all.into_iter().collect::<Vec<_>>());
        crate::remove(&top).unwrap();
        prop_assert_eq!(fs::read_dir(place.path()).unwrap().count(), 0);
    }
}
