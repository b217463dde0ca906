//! Backups: made while the server serves, and put back.

use std::path::Path;

use futures_util::StreamExt;
use pondrix_api::NewUser;
use pondrix_core::State;
use pondrix_core::access::{Grant, Role};
use pondrix_standin::garden::{REGISTRY, VISITOR_DESK};

use crate::support::{Said, Server, World, one_job, until};

impl World {
    pub(crate) async fn restore(&self, file: &Path, into: &str, more: &[&str]) -> Said {
        let data = self.folder.path().join(into).display().to_string();
        let file = file.display().to_string();
        self.pondrix(&[&["restore", &file, "--data", &data], more].concat()).await
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_backup_made_while_jobs_run_is_put_back_whole_and_does_nothing_twice() {
    let mut world = World::new().await;
    let (desk, _) = world.project("visitor-desk", VISITOR_DESK).await;
    let released = world.run_of("visitor-desk", &desk.push("First").unwrap()).await;
    let before = world.passes(&released).await;
    assert!(world.pondrix_with(&["secret", "set", "visitor-desk", "KEY"], "a long value").0);
    let log = world.log(&released, "verify/unit").await;
    let (_, going_on) = world.run_of_pipeline("gate", &one_job("step \"echo begun; sleep 600\"")).await;
    until("its step to begin", async || world.log(&going_on, "verify/unit").await.contains("begun").then_some(()))
        .await;

    let file = world.folder.path().join("nightly.backup");
    let made = world.pondrix(&["backup", file.to_str().unwrap()]).await;
    assert_eq!(made.status, 0, "{}", made.err);
    assert!(made.out.contains("; proved\n") && made.out.contains("secrets.key"), "{}", made.out);
    let mode = std::os::unix::fs::MetadataExt::mode(&std::fs::metadata(&file).unwrap());
    assert_eq!(mode & 0o777, 0o600, "only its owner reads it");

    // What is not whole, or not what it was, is refused, and leaves nothing.
    let bytes = std::fs::read(&file).unwrap();
    let damaged = world.folder.path().join("damaged");
    for (what, bytes, words) in [
        ("cut off", bytes[..bytes.len() / 2].to_vec(), "cut off"),
        ("nothing", Vec::new(), "cut off"),
        ("something else", b"PK and so on, for a while".to_vec(), "no backup of Pondrix"),
    ] {
        std::fs::write(&damaged, bytes).unwrap();
        let said = world.restore(&damaged, "restored", &[]).await;
        assert!(said.status == 1 && said.err.contains(words), "{what}: {}", said.err);
    }
    let mut flipped = bytes.clone();
    let at = flipped.len() / 2;
    flipped[at] ^= 0xff;
    std::fs::write(&damaged, flipped).unwrap();
    let said = world.restore(&damaged, "restored", &[]).await;
    assert!(said.status == 1, "a flipped bit: {}", said.err);
    let wrong_key = world.folder.path().join("wrong.key");
    std::fs::write(&wrong_key, [7; 32]).unwrap();
    let said = world.restore(&file, "restored", &["--key", wrong_key.to_str().unwrap()]).await;
    assert!(said.err.contains("the key does not open the secrets of this backup"), "{}", said.err);
    assert!(!world.folder.path().join("restored").exists());
    let taken = world.restore(&file, "server", &[]).await;
    assert!(taken.err.contains("has something in it"), "{}", taken.err);

    let closed = world.restore(&file, "closed", &[]).await;
    assert!(closed.out.contains("2 secrets, passwords and kubeconfigs stay closed"), "{}{}", closed.out, closed.err);
    let key = world.folder.path().join("server/secrets.key").display().to_string();
    let restored = world.restore(&file, "restored", &["--key", &key]).await;
    assert!(restored.out.contains("holds 2 projects, 2 runs"), "{}{}", restored.out, restored.err);
    assert!(restored.out.contains(&format!("1 runs went on then, and are stopped when the server starts: {going_on}")));

    // The server of the copy knows all, with the tokens of before, and ends what went on.
    let listen = world.url().trim_start_matches("http://").to_owned();
    world.server.take().unwrap().end();
    world.server = Some(Server::start(&world.folder.path().join("restored"), &listen, "1h").0);
    let after = world.passes(&released).await;
    assert_eq!(serde_json::to_value(&after).unwrap(), serde_json::to_value(&before).unwrap());
    assert_eq!(world.log(&released, "verify/unit").await, log);
    let fetched = world.folder.path().join("fetched").display().to_string();
    let fetch = world.pondrix(&["artifact", "fetch", &released.to_string(), "page", "--into", &fetched]).await;
    assert_eq!(fetch.status, 0, "{}", fetch.err);
    let stopped = world.end_of(&going_on).await;
    assert_eq!(stopped.summary.state, State::Stopped);
    assert_eq!(stopped.stopped_by.as_deref(), Some("restoring the backup"));
    // And goes on from there, with secrets that open.
    let uses = one_job("secret \"KEY\"\n        step \"test \\\"$KEY\\\" = 'a long value'\"");
    desk.write("pondrix.kdl", &uses).unwrap();
    let run = world.run_of("visitor-desk", &desk.push("With a secret").unwrap()).await;
    assert_eq!(run.number, 2);
    world.passes(&run).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_backup_that_the_server_dies_under_is_known_to_be_cut_off_and_leaves_nothing_behind() {
    let mut world = World::new().await;
    // More than what fits between the server and a reader that does not read, and nothing that can be compressed.
    let job = one_job("artifact \"noise\" \"noise\"\n        step \"head -c 40000000 /dev/urandom > noise\"");
    let (_, run) = world.run_of_pipeline("gate", &job).await;
    world.passes(&run).await;
    let data = world.folder.path().join("server");
    let copies = || {
        let entries = std::fs::read_dir(&data).unwrap().flatten();
        entries.filter(|entry| entry.file_name().to_string_lossy().starts_with(".records-copied-for-a-backup-")).count()
    };
    let mut pieces = Box::pin(world.client.backup(false).await.unwrap());
    let mut arrived = pieces.next().await.unwrap().unwrap().as_ref().to_vec();
    assert_eq!(copies(), 1, "the copy of the records is there while the backup is made");
    let listen = world.url().trim_start_matches("http://").to_owned();
    world.server.take().unwrap().kill();
    let mut is_whole = true;
    while let Some(piece) = pieces.next().await {
        match piece {
            Ok(piece) => arrived.extend_from_slice(piece.as_ref()),
            Err(_) => is_whole = false,
        }
    }
    assert!(!is_whole, "whoever reads is told");
    let file = world.folder.path().join("cut.backup");
    std::fs::write(&file, &arrived).unwrap();
    let said = world.restore(&file, "restored", &[]).await;
    assert!(said.status == 1 && said.err.contains("cut off"), "{}", said.err);
    drop(pieces);
    let own = data.join("backup-of-monday.db");
    std::fs::write(&own, "somebody's own").unwrap();
    world.server = Some(Server::start_without_runner(&data, &listen));
    assert_eq!(copies(), 0, "what was left of it is gone");
    assert!(own.exists(), "and nothing else");

    // The command keeps the last good one when the next does not arrive whole, and a good one can be made again.
    let good = world.folder.path().join("good.backup").display().to_string();
    assert_eq!(world.pondrix(&["backup", &good]).await.status, 0);
    let before = std::fs::metadata(&good).unwrap().len();
    let records = world.pondrix(&["backup", &good, "--records-only"]).await;
    assert!(records.out.contains("Left out: 1 contents of artifacts and caches, and all logs"), "{}", records.out);
    assert!(std::fs::metadata(&good).unwrap().len() < before / 10);
    let restored = world.restore(good.as_ref(), "records", &[]).await;
    assert!(restored.out.contains("1 contents of artifacts and caches were left out"), "{}", restored.out);
    world.server.take().unwrap().kill();
    let unreachable = world.pondrix(&["backup", &good]).await;
    assert_eq!(unreachable.status, 3);
    assert!(Path::new(&good).exists());
}

#[tokio::test(flavor = "multi_thread")]
async fn only_who_administers_everything_makes_backups_and_says_what_is_kept_or_removed() {
    let world = World::new().await;
    let roles = vec![Grant::everywhere(Role::Maintain)];
    let made = world.client.add_user(&NewUser { name: "maren".to_owned(), roles, ..NewUser::default() }).await;
    let token = made.unwrap().first.token;
    let file = world.folder.path().join("mine").display().to_string();
    for arguments in [
        &["backup", &file][..],
        &["retention", "set", "--runs", "1d", "--yes"],
        &["environment", "remove", "staging", "--yes"],
    ] {
        let said = world.pondrix(&[arguments, &["--token", &token]].concat()).await;
        assert_eq!(said.status, 4, "{arguments:?}: {}", said.err);
        assert!(
            said.err.contains("this asks for the role `administer` for all projects, which maren has not"),
            "{}",
            said.err
        );
    }
    assert!(!Path::new(&file).exists());
}

#[tokio::test(flavor = "multi_thread")]
async fn the_longest_names_are_names_of_files_and_hosts_too_and_are_in_a_backup() {
    let world = World::new().await;
    let [stage, job, value] = [("s", 63), ("j", 63), ("v", 49)].map(|(letter, count)| letter.repeat(count));
    let pipeline = format!(
        "start commit=\"main\"\nstage \"{stage}\" {{\n job \"{job}\" {{\n matrix {{ n \"{value}\" }}\n container \"{REGISTRY}/base/shell:1\"\n \
         step \"hostname\"\n }}\n}}\n"
    );
    let name: &'static str = "p".repeat(63).leak();
    let (_, run) = world.run_of_pipeline(name, &pipeline).await;
    world.passes(&run).await;
    let key = format!("{stage}/{job}:{value}");
    assert_eq!(world.log(&run, &key).await, format!("{job}\n"), "a host's name has 63 letters");
    let file = world.folder.path().join("long.backup");
    let made = world.pondrix(&["backup", file.to_str().unwrap()]).await;
    assert_eq!(made.status, 0, "{}", made.err);
    let key_file = world.folder.path().join("server/secrets.key").display().to_string();
    let restored = world.restore(&file, "restored", &["--key", &key_file]).await;
    assert_eq!(restored.status, 0, "{}", restored.err);
    let folder = world.folder.path().join("restored/logs").join(name).join("1");
    assert_eq!(std::fs::read_dir(folder).unwrap().count(), 1, "its log is there");
}
