//! Of repositories that git makes, and what is read of them.

use std::fs;
use std::os::unix::fs::{PermissionsExt, symlink};
use std::path::Path;

use super::super::place::{Place, here};
use super::*;

fn sorted(mut names: Vec<String>) -> Vec<String> {
    names.sort();
    names
}

#[tokio::test]
async fn the_difference_of_two_commits_names_what_changed_whatever_kind_it_is_and_what_went() {
    let place = Place::new().await;
    for path in ["same", "other", "gone", "mode", "turns/into", "link"] {
        place.write(path, path);
    }
    let first = place.commit().await;
    place.write("other", "another");
    fs::remove_file(place.checkout().join("gone")).unwrap();
    fs::set_permissions(place.checkout().join("mode"), PermissionsExt::from_mode(0o755)).unwrap();
    fs::remove_dir_all(place.checkout().join("turns")).unwrap();
    place.write("turns", "a file");
    fs::remove_file(place.checkout().join("link")).unwrap();
    symlink("same", place.checkout().join("link")).unwrap();
    place.write("ne w", "new");
    let second = place.commit().await;
    let found = place.repository.difference(&first, &second).await.unwrap();
    assert_eq!(sorted(found.changed), ["link", "mode", "ne w", "other", "turns"]);
    assert_eq!(sorted(found.removed), ["gone", "turns/into"]);
    let back = place.repository.difference(&second, &first).await.unwrap();
    assert_eq!(sorted(back.changed), ["gone", "link", "mode", "other", "turns/into"]);
    assert_eq!(sorted(back.removed), ["ne w", "turns"]);
    let none = place.repository.difference(&second, &second).await.unwrap();
    assert!(none.changed.is_empty() && none.removed.is_empty());
}

#[tokio::test]
async fn where_a_difference_would_not_be_the_whole_truth_there_is_none() {
    let place = Place::new().await;
    place.write("a.txt", "line\n");
    let first = place.commit().await;
    // Of a commit that nobody knows, and of what is none, and would be an option of git.
    let unknown = "0123456789abcdef0123456789abcdef01234567";
    let evil = format!("--output={}", place.folder.path().join("evil").display());
    for from in [unknown, evil.as_str(), "HEAD~1", "-", ""] {
        assert!(place.repository.difference(from, &first).await.is_none(), "{from}");
    }
    assert!(!place.folder.path().join("evil").exists());
    // Other line ends for files that did not change themselves.
    place.write("deep/.gitattributes", "*.txt eol=crlf\n");
    let second = place.commit().await;
    assert!(place.repository.difference(&first, &second).await.is_none());
    // A name that is no text.
    let name = std::os::unix::ffi::OsStrExt::from_bytes(b"no\xfftext");
    fs::write(place.checkout().join(<std::ffi::OsStr as AsRef<Path>>::as_ref(name)), "x").unwrap();
    let third = place.commit().await;
    assert!(place.repository.difference(&second, &third).await.is_none());
    // So much that all is fetched as easily.
    for number in 0..3000 {
        place.write(&format!("many/{number}-{}", "x".repeat(30)), "");
    }
    let fourth = place.commit().await;
    assert!(place.repository.difference(&third, &fourth).await.is_none());
}

#[tokio::test]
async fn an_archive_of_some_files_has_these_and_takes_their_names_as_they_are() {
    let place = Place::new().await;
    for name in ["*.txt", "a.txt", ":(top)x", "[ab]", "a", "-x", "deep/b"] {
        place.write(name, name);
    }
    let commit = place.commit().await;
    for names in [&["*.txt"][..], &[":(top)x", "[ab]"], &["-x"], &["deep/b"]] {
        let found = place.archive(&commit, names).await;
        let expected: Vec<_> = names.iter().map(|name| ((*name).to_owned(), (*name).to_owned())).collect();
        assert_eq!(found, expected);
    }
    assert_eq!(place.archive(&commit, &[]).await.len(), 7);
    // A commit without such a file has the same archive without a look for them.
    for names in [&["*.txt"][..], &["deep/b", "a"], &[]] {
        let files: Vec<String> = names.iter().map(|name| (*name).to_owned()).collect();
        let (looked, not) = (
            place.archive_bytes(&commit, &files, AttributeFiles::Perhaps).await,
            place.archive_bytes(&commit, &files, AttributeFiles::None).await,
        );
        assert!(looked == not && !looked.is_empty(), "{names:?}");
    }
}

#[tokio::test]
async fn an_archive_has_what_a_checkout_has_whatever_the_repository_says_of_archives() {
    let place = Place::new().await;
    place.write(".gitattributes", "tests export-ignore\nversion export-subst\n*.bat eol=crlf\n");
    place.write("tests/lily", "lily");
    place.write("version", "$Format:%H$");
    place.write("a.bat", "one\ntwo\n");
    let commit = place.commit().await;
    let found = place.archive(&commit, &[]).await;
    let text = |name: &str| found.iter().find(|(known, _)| known == name).map(|(_, text)| text.as_str());
    assert_eq!(text("tests/lily"), Some("lily"));
    assert_eq!(text("version"), Some("$Format:%H$"));
    assert_eq!(text("a.bat"), Some("one\r\ntwo\r\n"));
    // A copy from before this was so is mended by the next fetch.
    fs::write(place.folder.path().join("copy.git/info/attributes"), "* export-ignore\n").unwrap();
    place.repository.fetch().await.unwrap();
    assert_eq!(place.archive(&commit, &[]).await.len(), 4);
}

#[tokio::test]
async fn a_reference_contains_its_commit_and_those_before_it_until_it_names_another() {
    let place = Place::new().await;
    let (first, second) = (place.commit().await, place.commit().await);
    place.git(&["tag", "--annotate", "--message", "The second", "v2"]).await;
    place.git(&["push", "--quiet", &place.repository.address, "v2"]).await;
    place.repository.fetch().await.unwrap();
    let contains = async |reference: &str, commit: &str| place.repository.contains(reference, commit).await.unwrap();
    for commit in [&first, &second] {
        assert!(contains("refs/heads/main", commit).await && contains("refs/tags/v2", commit).await);
    }
    for (reference, commit) in [
        ("refs/heads/mains", first.as_str()),
        ("refs/tags/main", &first),
        ("main", &first),
        ("refs/heads/main", "0000000000000000000000000000000000000000"),
        ("refs/heads/main", "--help"),
        ("refs/heads/main", "HEAD"),
    ] {
        assert!(!contains(reference, commit).await, "{reference} {commit}");
    }
    // A push by force takes the second away: the copy has it still, and the branch has not.
    place.git(&["reset", "--quiet", "--hard", &first]).await;
    place.write("third", "another one");
    let third = place.commit().await;
    assert!(place.repository.commit(&second).await.is_some());
    assert!(contains("refs/heads/main", &third).await && contains("refs/heads/main", &first).await);
    assert!(!contains("refs/heads/main", &second).await && contains("refs/tags/v2", &second).await);
}

#[tokio::test]
async fn branches_and_tags_are_those_of_the_repository_and_a_tag_with_a_message_means_its_commit() {
    let place = Place::new().await;
    place.write("a", "a");
    let commit = place.commit().await;
    place.git(&["tag", "v1"]).await;
    place.git(&["tag", "--annotate", "--message", "The second", "v2"]).await;
    let bare = place.repository.address.clone();
    place.git(&["push", "--quiet", &bare, "--tags", "HEAD:refs/heads/release/1"]).await;
    let refs = place.repository.refs().await.unwrap();
    let told = |all: &std::collections::BTreeMap<String, String>| {
        all.iter().map(|(name, of)| (name.clone(), *of == commit)).collect::<Vec<_>>()
    };
    assert_eq!(told(&refs.branches), [("main".to_owned(), true), ("release/1".to_owned(), true)]);
    assert_eq!(told(&refs.tags), [("v1".to_owned(), true), ("v2".to_owned(), true)]);
    let nowhere = GitRepository::new("/nowhere/at/all", here(), place.folder.path().join("other.git"), 1 << 30);
    assert!(nowhere.refs().await.unwrap_err().to_string().contains("/nowhere/at/all"));
    assert_eq!(place.repository.commit(&commit[..8]).await.as_deref(), Some(commit.as_str()));
    assert_eq!(place.repository.commit("--help").await, None);
    assert_eq!(place.repository.file(&commit, "a").await.unwrap().as_deref(), Some("a"));
    assert_eq!(place.repository.file(&commit, "b").await.unwrap(), None);
    let facts = place.repository.facts(&commit).await.unwrap();
    assert_eq!((facts.author.as_str(), facts.title.as_str()), ("Wren", "More"));
}

#[tokio::test]
async fn a_file_is_read_by_its_path_and_neither_a_folder_nor_a_link_nor_a_long_one_is_taken_for_it() {
    let place = Place::new().await;
    for path in ["plain", "deep/er/file", "-x", "*", "two words", "deep/two\u{e4}"] {
        place.write(path, path);
    }
    symlink("plain", place.checkout().join("link")).unwrap();
    fs::write(place.checkout().join("long"), vec![b'x'; LONGEST_FILE + 1]).unwrap();
    let commit = place.commit().await;
    let read = async |path: &str| place.repository.file(&commit, path).await;
    for path in ["plain", "deep/er/file", "-x", "*", "two words", "deep/two\u{e4}"] {
        assert_eq!(read(path).await.unwrap().as_deref(), Some(path));
    }
    assert_eq!(read("./deep//er/./file").await.unwrap().as_deref(), Some("deep/er/file"));
    for path in ["link", "deep", "deep/er", "plain/x", "none", "deep/none", "", ".", "../plain", "a\nb", "p*"] {
        assert_eq!(read(path).await, Ok(None), "{path}");
    }
    assert_eq!(read("long").await.unwrap_err().to_string(), "long is longer than 8 MiB");
    let nowhere = place.repository.file("0123456789abcdef0123456789abcdef01234567", "plain").await;
    assert_eq!(nowhere, Ok(None));
    place.repository.tidy().await.unwrap();
    assert_eq!(read("plain").await.unwrap().as_deref(), Some("plain"));
}

#[tokio::test]
async fn what_was_fetched_has_the_branches_and_tags_that_the_repository_lists() {
    let place = Place::new().await;
    let none = place.repository.fetch().await.unwrap();
    assert_eq!((none.branches.len(), none.tags.len()), (0, 0));
    place.write("a", "a");
    place.commit().await;
    place.git(&["tag", "light"]).await;
    place.git(&["tag", "--annotate", "--message", "x", "words"]).await;
    place.git(&["tag", "--annotate", "--message", "x", "words-on-words", "words"]).await;
    let bare = place.repository.address.clone();
    place.git(&["push", "--quiet", &bare, "--tags", "HEAD:refs/heads/release/1"]).await;
    let fetched = place.repository.fetch().await.unwrap();
    assert_eq!((fetched.branches.len(), fetched.tags.len()), (2, 3));
    assert_eq!(fetched, place.repository.refs().await.unwrap());
    place.git(&["push", "--quiet", &bare, ":refs/heads/release/1", ":refs/tags/words"]).await;
    let fetched = place.repository.fetch().await.unwrap();
    assert_eq!((fetched.branches.len(), fetched.tags.len()), (1, 2));
    assert_eq!(fetched, place.repository.refs().await.unwrap());
}

#[tokio::test]
async fn a_tag_may_be_on_a_commit_or_on_anything_else() {
    let place = Place::new().await;
    place.write("a", "a");
    let commit = place.commit().await;
    let bare = place.repository.address.clone();
    for (tag, on) in [("light", "HEAD"), ("of-a-file", "HEAD:a"), ("of-a-folder", "HEAD^{tree}")] {
        place.git(&["tag", tag, on]).await;
    }
    for (tag, on) in [("words", "HEAD"), ("words-on-a-file", "HEAD:a")] {
        place.git(&["tag", "--annotate", "--message", "x", tag, on]).await;
    }
    place.git(&["push", "--quiet", &bare, "--tags"]).await;
    place.repository.fetch().await.unwrap();
    let refs = place.repository.refs().await.unwrap();
    let mut on = Vec::new();
    for (tag, named) in &refs.tags {
        on.push((tag.as_str(), place.repository.commit(named).await));
    }
    let some = Some(commit);
    let none = None;
    let expected =
        [("light", &some), ("of-a-file", &none), ("of-a-folder", &none), ("words", &some), ("words-on-a-file", &none)];
    assert_eq!(on, expected.map(|(tag, commit)| (tag, commit.clone())));
}

#[tokio::test]
async fn no_more_of_a_repository_is_taken_than_it_may_be_large() {
    let place = Place::new().await;
    let mut noise = 0x2545_f491_4f6c_dd1d_u64;
    let mut random = || {
        noise ^= noise << 13;
        noise ^= noise >> 7;
        noise ^= noise << 17;
        format!("{noise:016x}")
    };
    // Many kilobytes that cannot be packed into few.
    place.write("large", &(0..20_000).map(|_| random()).collect::<String>());
    let commit = place.commit().await;
    let copy = |name: &str| place.folder.path().join(name);
    let small = GitRepository::new(&place.address(), here(), copy("small.git"), 64 << 10);
    let refused = small.fetch().await.unwrap_err().to_string();
    assert!(refused.contains("it sends more than 64KiB at once"), "{refused}");
    let large = GitRepository::new(&place.address(), here(), copy("large.git"), 1 << 20);
    assert!(large.fetch().await.unwrap().branches.values().any(|known| *known == commit));
}
