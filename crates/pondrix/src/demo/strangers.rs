//! The part of the story about people who share the server and do not know each other.

use std::process::Stdio;

use anyhow::{Context, anyhow};
use pondrix_core::State;
use pondrix_standin::garden::REGISTRY;

use super::checks::{run_of, until};
use super::story::{Told, expect_state, pondrix_in};
use super::world::World;

/// What somebody's command says, and whether it was allowed (exit status 4 is that it was not).
async fn said_to(world: &World, person: &str, arguments: &[&str]) -> anyhow::Result<(bool, String)> {
    let token = world.people.get(person).with_context(|| format!("{person} has no token"))?;
    let mut command = tokio::process::Command::new(std::env::current_exe()?);
    command.args(arguments).env("PONDRIX_URL", &world.server_address).env("PONDRIX_TOKEN", token);
    let output = command.current_dir(&world.folder).stdin(Stdio::null()).output().await?;
    let text = [output.stdout, output.stderr].concat();
    match output.status.code() {
        Some(status @ (0 | 4)) => Ok((status == 0, String::from_utf8_lossy(&text).into_owned())),
        other => Err(anyhow!("pondrix {}: {other:?}: {}", arguments.join(" "), String::from_utf8_lossy(&text))),
    }
}

/// People see the projects that they were given, and may do there what they were given.
pub(super) async fn shares(world: &World, told: &mut Told) -> anyhow::Result<()> {
    let (_, listed) = said_to(world, "wren", &["project", "list"]).await?;
    if !listed.contains("plant-labels") || listed.contains("visitor-desk") {
        return Err(anyhow!("wren sees:\n{listed}"));
    }
    let (may, words) = said_to(world, "wren", &["secret", "remove", "plant-labels", "PRINTER_KEY"]).await?;
    let words = words.lines().next().unwrap_or_default().trim_start_matches("pondrix: ").to_owned();
    if may || !words.contains("the role `secrets` in plant-labels, which wren has not") {
        return Err(anyhow!("wren, who may run plant-labels, is told: {words}"));
    }
    told.say(&format!("wren sees plant-labels and no other project, and may run it and no more: {words}"));
    Ok(())
}

/// A branch that edits its own pipeline file comes neither to production nor to a protected secret.
pub(super) async fn guards(world: &World, told: &mut Told) -> anyhow::Result<()> {
    let repository = world.repository("visitor-desk");
    let pipeline = std::fs::read_to_string(repository.folder().join("pondrix.kdl"))?;
    let set = ["secret", "set", "visitor-desk", "TICKET_KEY", "--protected"];
    pondrix_in(world, &world.folder, &set, "opens-every-gate").await?;
    let own = format!(
        "\nstage \"production\" {{\n    rollout \"desk\" {{ to \"production\"; image \"desk\"; manifests \"deploy/*.yaml\" }}\n}}\n\
         stage \"peek\" {{\n    job \"peek\" {{\n        container \"{REGISTRY}/base/shell:1\"\n        secret \"TICKET_KEY\"\n        \
         step \"true\"\n    }}\n}}\n"
    );
    let anywhere = pipeline.replace("start commit=\"main\"", "start commit=\"**\"");
    repository.write("pondrix.kdl", &format!("{anywhere}{own}"))?;
    let commit = repository.push_to("shortcut", "Straight to the visitors")?;
    let (run, _) = run_of(&world.client, "visitor-desk", &commit).await?;
    let detail = until(&world.client, &run, |run| run.summary.state.is_over()).await?;
    expect_state(&detail, State::Failed)?;
    for (job, words, tells) in [
        (
            "production/desk",
            "it takes protected refs only, and this run carries the branch `shortcut`",
            "a stage for production",
        ),
        ("peek/peek", "the secret `TICKET_KEY` is for runs of protected refs", "a protected secret"),
    ] {
        let fault = detail.missing.iter().find(|fault| fault.job == job);
        let what = fault.map(|fault| fault.what.clone()).unwrap_or_default();
        if !what.contains(words) {
            return Err(anyhow!("{run} was refused because: {what}"));
        }
        told.say(&format!("{run}, of a branch that gave itself {tells}, ran nothing: {what}"));
    }
    Ok(())
}
