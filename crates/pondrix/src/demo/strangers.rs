//! The part of the story about people who share the server and do not know each other.

use std::process::Stdio;

use anyhow::{Context, anyhow};
use pondrix_api::AuditWanted;
use pondrix_core::State;
use pondrix_core::audit::AuditResult;
use pondrix_runner::limits_are_usable;
use pondrix_sandbox::WithoutTerminal as _;
use pondrix_standin::garden::REGISTRY;

use super::checks::{run_of, until};
use super::story::{Told, expect_state, pondrix_in};
use super::world::World;

/// What somebody's command says, and whether it was allowed (exit status 4 is that it was not).
async fn said_to(world: &World, person: &str, arguments: &[&str]) -> anyhow::Result<(bool, String)> {
    let token = world.people.get(person).with_context(|| format!("{person} has no token"))?;
    let mut command = tokio::process::Command::new(std::env::current_exe()?);
    command.as_std_mut().without_terminal();
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

/// A job that prints a secret prints its name, and one that wants more memory than it may have is cut off; both are told.
pub(super) async fn bounds(world: &World, told: &mut Told) -> anyhow::Result<()> {
    const CODE: &str = "fern-gate-2046";
    let repository = world.repository("visitor-desk");
    pondrix_in(world, &world.folder, &["secret", "set", "visitor-desk", "GATE_CODE"], CODE).await?;
    let may_limit = limits_are_usable().is_ok();
    let job = |name: &str, lines: &str| {
        format!("    job \"{name}\" {{\n        container \"{REGISTRY}/base/shell:1\"\n{lines}    }}\n")
    };
    let leak = job("leak", "        secret \"GATE_CODE\"\n        step \"echo the gate opens with $GATE_CODE\"\n");
    let greedy = "        limit memory=\"48MiB\"\n        step \"head -c 400000000 /dev/zero > /tmp/held\"\n";
    let greedy = if may_limit { job("greedy", greedy) } else { String::new() };
    repository.write("pondrix.kdl", &format!("start commit=\"**\"\nstage \"hungry\" {{\n{leak}{greedy}}}\n"))?;
    let commit = repository.push_to("hungry", "Too much of everything")?;
    let (run, _) = run_of(&world.client, "visitor-desk", &commit).await?;
    let detail = until(&world.client, &run, |run| run.summary.state.is_over()).await?;
    expect_state(&detail, if may_limit { State::Failed } else { State::Passed })?;
    let log = world.client.log(&run, "hungry/leak").await?;
    let log = String::from_utf8_lossy(&log).into_owned();
    let line = log.lines().find(|line| line.starts_with("the gate opens with ")).unwrap_or_default();
    if log.contains(CODE) || line.is_empty() {
        return Err(anyhow!("the log of {run} says:\n{log}"));
    }
    told.say(&format!("{run} printed a secret, and its log says: {line}"));
    if may_limit {
        let log = world.client.log(&run, "hungry/greedy").await?;
        let log = String::from_utf8_lossy(&log).into_owned();
        let words = log.lines().find(|line| line.contains("more than the job's limit of memory"));
        let words = words.ok_or_else(|| anyhow!("the log of {run} says:\n{log}"))?;
        told.say(&format!("its job that wanted 400 MB and may have 48 MiB was cut off: {words}"));
    }
    Ok(())
}

/// A registry takes the identity of one project's jobs, and nobody's password is kept for that.
pub(super) fn identifies(world: &World, told: &mut Told) -> anyhow::Result<()> {
    let seen = world.registry.identities_seen();
    let pushed = seen.iter().rev().find(|said| said["job"] == "package/pages");
    let said = pushed.ok_or_else(|| anyhow!("the registry was shown no job's identity: {seen:?}"))?;
    let text = |name: &str| said[name].as_str().unwrap_or_default().to_owned();
    if text("project") != "plant-labels" || text("aud") != REGISTRY || said["protected"] != true {
        return Err(anyhow!("the registry was shown: {said}"));
    }
    told.say(&format!(
        "{}#{} pushed into garden/ with the identity of its job {} ({}), signed by the server: no password for that is kept",
        text("project"),
        said["run"],
        text("job"),
        text("sub")
    ));
    Ok(())
}

/// Who did what is written down, what was refused as well, and nobody changes it unseen.
pub(super) async fn remembers(world: &World, told: &mut Told) -> anyhow::Result<()> {
    let wanted = AuditWanted { result: Some(AuditResult::Refused.word().to_owned()), ..AuditWanted::default() };
    let refused = world.client.audit(&wanted, None, 100).await?.entries;
    let has = |who: &str, action: &str, target: &str| {
        refused.iter().any(|one| (one.who.as_str(), one.action.as_str(), one.target.as_str()) == (who, action, target))
    };
    if !has("wren", "secret remove", "PRINTER_KEY") || !has("the server", "rollout begin", "production") {
        return Err(anyhow!("the audit says of what was refused: {refused:?}"));
    }
    let proof = world.client.prove_audit(None).await?;
    if let Some(broken) = proof.broken {
        return Err(anyhow!("the audit: {broken}"));
    }
    let (entries, refused) = (proof.entries, refused.len());
    told.say(&format!(
        "the audit has all of that: {entries} entries, {refused} of them refusals, none changed or missing"
    ));
    Ok(())
}
