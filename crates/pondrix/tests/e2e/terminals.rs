//! Nothing that the server or a runner starts has the terminal of the person who started them.

use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::process::{Child, Command, Stdio};

use pondrix_standin::garden::REGISTRY;
use rustix::process::{Pid, Signal, kill_process};

use crate::support::{PONDRIX, World, family, one_job, until};

/// A server on a terminal of its own, as one that a person started. Dropped, it is ended.
struct OnTerminal(Child);

impl OnTerminal {
    fn start(data: &Path, address: &str, path: &str) -> Self {
        let serve = format!(
            "exec env PATH={path} {PONDRIX} serve --keep-free 1B --look-every 1h --slots 2 --listen {address} --data {}",
            data.display()
        );
        // It makes a terminal, and has the command in its foreground (script(1)).
        let mut script = Command::new("script");
        script.args(["-qefc", &serve, "/dev/null"]).stdin(Stdio::piped()).stdout(Stdio::null()).stderr(Stdio::null());
        Self(script.spawn().unwrap())
    }

    /// Itself and all that it started: command line, and the number of its controlling terminal, 0 for none (proc(5),
    /// `/proc/pid/stat`, field 7).
    fn processes(&self) -> Vec<(String, i64)> {
        let facts = |pid: u32| {
            let line = std::fs::read(format!("/proc/{pid}/cmdline")).ok()?;
            let stat = std::fs::read_to_string(format!("/proc/{pid}/stat")).ok()?;
            let terminal = stat.rsplit_once(')')?.1.split_whitespace().nth(4)?.parse().ok()?;
            Some((String::from_utf8_lossy(&line).replace('\0', " "), terminal))
        };
        family(self.0.id()).into_iter().filter_map(|(pid, _)| facts(pid)).collect()
    }
}

impl Drop for OnTerminal {
    fn drop(&mut self) {
        for (pid, _) in family(self.0.id()).into_iter().rev() {
            if let Some(pid) = Pid::from_raw(pid.cast_signed()) {
                let _ = kill_process(pid, Signal::TERM);
            }
        }
        let _ = self.0.wait();
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn runners_jobs_git_and_agents_have_no_terminal_though_their_server_has_one() {
    let mut world = World::new().await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    let address = world.url().trim_start_matches("http://").to_owned();
    world.server.take().unwrap().end();
    // Each of these notes whether it could open the terminal, and goes on as what it stands for.
    let tools = tempfile::tempdir().unwrap();
    let noted = tools.path().join("noted");
    std::fs::write(&noted, "").unwrap();
    // Agents are other users than the server.
    std::fs::set_permissions(tools.path(), PermissionsExt::from_mode(0o755)).unwrap();
    std::fs::set_permissions(&noted, PermissionsExt::from_mode(0o666)).unwrap();
    for name in ["git", "ssh-agent", "ssh-add", "pasta"] {
        let note = format!(
            "if (: < /dev/tty) 2> /dev/null; then echo {name} has one; else echo {name} has none; fi >> {}",
            noted.display()
        );
        let file = tools.path().join(name);
        std::fs::write(&file, format!("#!/bin/sh\n{note}\nPATH=${{PATH#*:}} exec {name} \"$@\"\n")).unwrap();
        std::fs::set_permissions(&file, PermissionsExt::from_mode(0o755)).unwrap();
    }
    let path = format!("{}:{}", tools.path().display(), std::env::var("PATH").unwrap());
    let server = OnTerminal::start(&world.folder.path().join("server"), &address, &path);
    until("the server", async || world.client.runs(None, 1, None).await.ok().map(drop)).await;
    let mark = format!("{}.7117", 100_000 + std::process::id());
    let key = world.folder.path().join("key");
    let made = Command::new("ssh-keygen").args(["-q", "-t", "ed25519", "-N", "", "-f"]).arg(&key).status();
    assert!(made.unwrap().success());
    let secret = std::fs::read_to_string(&key).unwrap();
    assert!(world.pondrix_with(&["secret", "set", "plant-labels", "DEPLOY", "--unprotected"], &secret).0);
    let image = format!(
        "stage \"package\" {{ image \"labels\" {{ ssh \"DEPLOY\"\n push \"{REGISTRY}/garden/labels\" {{ tag \"{{run}}\" }} }} }}\n"
    );
    let tries = "if (: < /dev/tty) 2> /dev/null; then echo typed; fi";
    let recipe = format!("FROM {REGISTRY}/base/shell:1\nRUN --mount=type=ssh {tries}; echo built\n");
    repository.write("image.recipe", &recipe).unwrap();
    let job = one_job(&format!("network \"outbound\"\nstep \"{tries}; echo tried; sleep {mark}\""));
    repository.write("pondrix.kdl", &(job + &image)).unwrap();
    let run = world.run_of("plant-labels", &repository.push("On a terminal").unwrap()).await;
    until("the step", async || server.processes().iter().any(|(line, _)| line.contains(&mark)).then_some(())).await;
    let processes = server.processes();
    let of = |word: &str| processes.iter().filter(|(line, _)| line.contains(word)).collect::<Vec<_>>();
    assert!(of(" serve ").iter().any(|(_, terminal)| *terminal != 0), "the server is on a terminal: {processes:?}");
    for word in ["runner join", "--enter-sandbox", &mark] {
        assert!(!of(word).is_empty() && of(word).iter().all(|(_, terminal)| *terminal == 0), "{word}: {processes:?}");
    }
    // What else there is of it has one only where it is what the person started.
    let others = processes.iter().filter(|(line, terminal)| *terminal != 0 && !line.contains(" serve "));
    assert_eq!(others.count(), 0, "{processes:?}");
    for (pid, _) in family(server.0.id()) {
        let line = std::fs::read(format!("/proc/{pid}/cmdline")).unwrap_or_default();
        if String::from_utf8_lossy(&line) == format!("sleep\0{mark}\0") {
            kill_process(Pid::from_raw(pid.cast_signed()).unwrap(), Signal::KILL).unwrap();
        }
    }
    let ended = world.end_of(&run).await;
    let log = world.log(&run, "verify/unit").await;
    assert!(log.contains("tried") && !log.contains("typed"), "{log} {:?}", ended.failure);
    // The image, of which the signed-in agent is a part.
    repository.write("pondrix.kdl", &format!("start commit=\"main\"\n{image}")).unwrap();
    let run = world.run_of("plant-labels", &repository.push("An image").unwrap()).await;
    world.passes(&run).await;
    let log = world.log(&run, "package/labels").await;
    assert!(log.contains("built\n") && !log.contains("typed\n"), "{log}");
    let noted = std::fs::read_to_string(noted).unwrap();
    for name in ["git", "ssh-agent", "ssh-add"] {
        assert!(noted.contains(&format!("{name} has none")), "{name} was not started: {noted}");
    }
    assert!(!noted.contains("has one"), "{noted}");
}
