//! Every command of docs/quickstart.md, in its order, as somebody would type it.

use std::path::Path;
use std::process::{Command, Stdio};

use pondrix_core::State;
use pondrix_standin::garden::{REGISTRY, Repository, SampleFile, VISITOR_DESK};

use crate::support::{PONDRIX, World, until};

/// The commands of the document, block by block.
fn blocks() -> Vec<String> {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/quickstart.md");
    let text = std::fs::read_to_string(path).unwrap();
    text.split("```sh\n").skip(1).map(|rest| rest.split("```").next().unwrap().to_owned()).collect()
}

/// Somebody at a shell, with a home of his own.
struct Shell<'w> {
    world: &'w World,
    home: tempfile::TempDir,
    folder: std::path::PathBuf,
}

impl Shell<'_> {
    /// Types a block, and what its commands ask for; answers what they print.
    async fn types(&self, block: &str, input: &str) -> String {
        let programs = Path::new(PONDRIX).parent().unwrap().display().to_string();
        let path = format!("{programs}:{}", std::env::var("PATH").unwrap());
        let mut command = Command::new("/bin/sh");
        command
            .args(["-e", "-c", block])
            .current_dir(&self.folder)
            .env("PATH", path)
            .env("HOME", self.home.path())
            .env_remove("XDG_CONFIG_HOME")
            .env_remove("PONDRIX_URL")
            .env_remove("PONDRIX_TOKEN")
            .env("GIT_CONFIG_GLOBAL", self.home.path().join("gitconfig"))
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped());
        let mut child = command.spawn().unwrap();
        std::io::Write::write_all(&mut child.stdin.take().unwrap(), input.as_bytes()).unwrap();
        let ended = tokio::task::spawn_blocking(move || child.wait_with_output().unwrap()).await.unwrap();
        let text = String::from_utf8_lossy(&[ended.stdout, ended.stderr].concat()).into_owned();
        assert!(ended.status.success(), "{block}\n{text}");
        text
    }

    /// The block that comes next, with this world's addresses in place of the document's.
    async fn next(&self, blocks: &mut Vec<String>, first_word: &str, input: &str) -> String {
        let block = blocks.remove(0);
        assert!(block.starts_with(first_word), "the next block is not `{first_word}`: {block}");
        let repository = self.world.folder.path().join("repositories/visitor-desk.git").display().to_string();
        let registry_at = self.world.client.registries().await.unwrap().registries.remove(0).address;
        let block = block
            .replace("http://127.0.0.1:7733", self.world.url())
            .replace(
                "registry add registry.example.test",
                &format!("registry add registry.example.test --at {registry_at}"),
            )
            .replace("registry.example.test", REGISTRY)
            .replace("~/.kube/config", &self.world.kubeconfig.display().to_string())
            .replace("ssh://git@git.example.test/visitor-desk.git", &repository);
        self.types(&block, input).await
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn every_command_of_the_quickstart_works_and_ends_with_the_application_in_the_cluster() {
    // The server of the world stands for the one of the first command, which has the same defaults.
    let world = World::new().await;
    let own = |(path, _): &&SampleFile| *path != "pondrix.kdl" && !path.starts_with("deploy/");
    let files: Vec<SampleFile> = VISITOR_DESK.iter().filter(own).copied().collect();
    let repository = Repository::new(world.folder.path(), "visitor-desk", &files).unwrap();
    repository.push("The desk, without a pipeline").unwrap();
    let home = tempfile::tempdir().unwrap();
    let identity = "[user]\n\tname = Wren\n\temail = wren@fernhollow.test\n[push]\n\tdefault = current\n[init]\n\tdefaultBranch = main\n";
    std::fs::write(home.path().join("gitconfig"), identity).unwrap();
    let mut shell = Shell { world: &world, home, folder: repository.folder().parent().unwrap().to_owned() };
    let mut blocks = blocks();
    assert_eq!(blocks.remove(0), "pondrix serve --data pondrix-data\n");
    shell.next(&mut blocks, "pondrix login", &format!("{}\n", world.token)).await;
    let tested = shell.next(&mut blocks, "pondrix registry add", "no-password-is-needed-here\n").await;
    assert!(tested.contains("push     yes"), "{tested}");
    shell.next(&mut blocks, "pondrix environment set", "").await;
    let drafted = shell.next(&mut blocks, "cd visitor-desk", "").await;
    assert!(drafted.contains("pondrix.kdl is valid") && drafted.contains("deploy/visitor-desk.yaml"), "{drafted}");
    repository.folder().clone_into(&mut shell.folder);
    let tried = shell.next(&mut blocks, "pondrix project add", "").await;
    assert!(tried.contains("visitor-desk#1") && tried.contains("passed"), "{tried}");
    shell.next(&mut blocks, "git add", "").await;
    // The hook is not set in this story: what looks every 30 seconds is told to look now.
    let hook = world.client.projects().await.unwrap().projects.remove(0).hook.unwrap();
    reqwest::Client::new().post(&hook).send().await.unwrap();
    let name = "visitor-desk".parse().unwrap();
    until("the run of the commit", async || {
        (world.client.runs(Some(&name), 9, None).await.ok()?.runs.len() == 2).then_some(())
    })
    .await;
    let shown = shell.next(&mut blocks, "pondrix runs", "").await;
    assert!(shown.contains("staging runs"), "{shown}");
    let page = reqwest::get(format!("http://{}/", world.application)).await.unwrap().text().await.unwrap();
    assert!(page.contains("Fernhollow"), "{page}");
    let rerun = shell.next(&mut blocks, "pondrix secret set", "a-key-for-tickets\n").await;
    assert!(rerun.contains("visitor-desk#3"), "{rerun}");
    world.until(&"visitor-desk#3".parse().unwrap(), |run| run.summary.state == State::Passed).await;
    assert!(blocks.is_empty(), "commands that nobody tried: {blocks:?}");
}
