//! The keys that secrets are sealed with: another master key, ends half-way, keys from elsewhere, what is in no file.

use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::process::Command;

use pondrix_core::State;
use pondrix_standin::garden::VISITOR_DESK;
use serde_json::Value;
use sha2::{Digest, Sha256};

use crate::images::found_in;
use crate::support::{PONDRIX, Server, World, one_job};

const VALUE: &str = "s3cret-of-the-lily";
const TOKEN: &str = "glasshouse-4711-token";
const LINES: &str = "secret \"KEY\"\n step \"echo it is $KEY\"";

/// Runs a pipeline that names the secret, and looks whether it got it.
async fn the_secret_is_there(world: &World) {
    let started = world.pondrix(&["start", "desk", "--follow"]).await;
    assert_eq!(started.status, 0, "{}{}", started.out, started.err);
    assert!(started.out.contains("it is (secret KEY)"), "{}", started.out);
}

/// A world with a project that names a secret which is set.
async fn world_with_a_secret() -> World {
    let world = World::new().await;
    let (repository, _) = world.project("desk", &[]).await;
    assert!(world.pondrix_with(&["secret", "set", "desk", "KEY"], VALUE).0);
    repository.write("pondrix.kdl", &one_job(LINES)).unwrap();
    let run = world.run_of("desk", &repository.push("Names a secret").unwrap()).await;
    world.passes(&run).await;
    world
}

fn master(world: &World) -> Vec<u8> {
    std::fs::read(world.folder.path().join("server/secrets.key")).unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn another_master_key_loses_nothing_also_where_the_server_is_killed_while_it_is_made() {
    let mut world = world_with_a_secret().await;
    let (data, listen) = (world.folder.path().join("server"), world.url().trim_start_matches("http://").to_owned());
    let (shown, before) = (world.pondrix(&["key", "show"]).await.out, master(&world));
    let rotated = world.pondrix(&["key", "rotate"]).await;
    assert!(rotated.out.contains("Keep a copy of it elsewhere"), "{}{}", rotated.out, rotated.err);
    assert!(shown.starts_with("2 data keys are wrapped with the master key "), "{shown}");
    let first_line = |text: &str| text.lines().next().unwrap().to_owned();
    assert_ne!(first_line(&shown), first_line(&rotated.out));
    assert_ne!(before, master(&world));
    the_secret_is_there(&world).await;
    let audit = world.pondrix(&["audit", "list", "--action", "key rotate"]).await.out;
    assert!(audit.contains("in place of"), "{audit}");
    // One change after the other, and killed in the middle of one of them.
    for number in 1..=12 {
        let (told, mut made) = tokio::sync::mpsc::channel(64);
        let client = world.client.clone();
        let asking = tokio::spawn(async move {
            while let Ok(keys) = client.rotate_master_key().await {
                told.send(keys.master).await.unwrap();
            }
        });
        for _ in 0..number {
            made.recv().await.unwrap();
        }
        world.server.take().unwrap().kill();
        asking.await.unwrap();
        world.server = Some(Server::start(&data, &listen, "1h").0);
        assert!(!data.join("secrets.key.next").exists(), "{number}");
    }
    the_secret_is_there(&world).await;
    assert_eq!(std::fs::metadata(data.join("secrets.key")).unwrap().permissions().mode() & 0o777, 0o600);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_master_key_comes_from_a_command_or_a_credential_and_the_former_gives_way() {
    let mut world = world_with_a_secret().await;
    let (data, listen) = (world.folder.path().join("server"), world.url().trim_start_matches("http://").to_owned());
    let keeper = world.folder.path().join("keeper");
    std::fs::write(&keeper, format!("{}\n", "5a".repeat(32))).unwrap();
    let command = format!("command:cat {}", keeper.display());
    let former = data.join("secrets.key").display().to_string();
    world.server.take().unwrap().end();
    // Another key is refused, and the words say what to do.
    let refused = Command::new(PONDRIX)
        .args(["serve", "--listen", &listen, "--master-key", &command, "--data"])
        .arg(&data)
        .output()
        .unwrap();
    let words = String::from_utf8_lossy(&refused.stderr);
    assert!(!refused.status.success() && words.contains("--former-master-key"), "{words}");
    let both = ["--master-key", &command, "--former-master-key", &former];
    world.server = Some(Server::start_allowing(&data, &listen, &both));
    the_secret_is_there(&world).await;
    world.server.take().unwrap().end();
    std::fs::remove_file(data.join("secrets.key")).unwrap();
    world.server = Some(Server::start_allowing(&data, &listen, &["--master-key", &command]));
    the_secret_is_there(&world).await;
    assert!(world.pondrix(&["key", "show"]).await.out.contains("It comes from the command `cat "));
    let rotated = world.pondrix(&["key", "rotate"]).await;
    assert!(rotated.status != 0 && rotated.err.contains("have that give another"), "{}", rotated.err);
    // A backup opens with it, and with nothing else.
    let file = world.folder.path().join("nightly.backup");
    assert_eq!(world.pondrix(&["backup", file.to_str().unwrap()]).await.status, 0);
    let wrong = world.restore(&file, "wrong", &["--key", "command:echo no"]).await;
    assert!(wrong.err.contains("does not open the secrets"), "{}", wrong.err);
    let restored = world.restore(&file, "restored", &["--key", &command]).await;
    assert!(restored.status == 0 && !restored.out.contains("stay closed"), "{}{}", restored.out, restored.err);
    assert!(!world.folder.path().join("restored/secrets.key").exists(), "it stays where it is kept");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_secret_may_be_any_bytes_in_a_file_and_only_text_in_a_variable() {
    let world = World::new().await;
    let (repository, _) = world.project("desk", &[]).await;
    let bytes: Vec<u8> = (0..64 * 1024_u32).map(|at| (at.wrapping_mul(2_654_435_761) >> 13) as u8).collect();
    let file = world.folder.path().join("keystore");
    std::fs::write(&file, &bytes).unwrap();
    let set =
        async |file: &Path| world.pondrix(&["secret", "set", "desk", "STORE", "--file", file.to_str().unwrap()]).await;
    assert_eq!(set(&file).await.status, 0);
    let longer = world.folder.path().join("longer");
    std::fs::write(&longer, [bytes.as_slice(), b"x"].concat()).unwrap();
    let refused = set(&longer).await;
    assert!(refused.err.contains("a secret has at most 64 KiB"), "{}", refused.err);
    let in_file = "secret \"STORE\" file=\"store\"\n step \"sha256sum < $STORE; base64 $STORE\"";
    repository.write("pondrix.kdl", &one_job(in_file)).unwrap();
    let run = world.run_of("desk", &repository.push("In a file").unwrap()).await;
    world.passes(&run).await;
    let log = world.log(&run, "verify/unit").await;
    let expected: String = Sha256::digest(&bytes).iter().map(|byte| format!("{byte:02x}")).collect();
    assert_eq!(log, format!("{expected}  -\n(secret STORE)==\n"));
    repository.write("pondrix.kdl", &one_job("secret \"STORE\"\n step \"true\"")).unwrap();
    let run = world.run_of("desk", &repository.push("In a variable").unwrap()).await;
    let ended = world.end_of(&run).await;
    assert_eq!(ended.summary.state, State::Failed);
    let failure = ended.failure.unwrap();
    assert!(failure.what.contains("have it as a file, with `secret \"STORE\" file=\"NAME\"`"), "{}", failure.what);
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_secret_is_in_any_file_of_the_server_or_its_runner() {
    let world = world_with_a_secret().await;
    let (desk, _) = world.project("visitor-desk", VISITOR_DESK).await;
    world.passes(&world.run_of("visitor-desk", &desk.push("First").unwrap()).await).await;
    assert!(world.pondrix_with(&["registry", "add", "lake.fernhollow.test", "--user", "ines"], "heron-feather-9").0);
    assert!(world.pondrix_with(&["secret", "set", "*", "SHARED"], "dragonfly-4711").0);
    let projects = world.client.projects().await.unwrap().projects;
    let hook = projects.iter().find(|one| one.name == "desk").unwrap().hook_secret.clone().unwrap();
    let mut kubeconfig: Value = serde_json::from_slice(&std::fs::read(&world.kubeconfig).unwrap()).unwrap();
    kubeconfig["users"][0]["user"]["token"] = TOKEN.into();
    let file = world.folder.path().join("with-a-token");
    std::fs::write(&file, kubeconfig.to_string()).unwrap();
    let set = ["environment", "set", "staging", "--kubeconfig", file.to_str().unwrap()];
    assert_eq!(world.pondrix(&set).await.status, 0);
    let planted = [VALUE.to_owned(), "heron-feather-9".to_owned(), "dragonfly-4711".to_owned(), hook, TOKEN.to_owned()];
    for secret in &planted {
        assert_eq!(found_in(&world.folder.path().join("server"), secret), Vec::<String>::new(), "{secret}");
    }
}
