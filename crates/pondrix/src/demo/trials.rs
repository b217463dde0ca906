//! The story's points about trying, mending and doing again.

use std::time::{Duration, Instant};

use anyhow::{Context, anyhow};
use pondrix_core::pipeline::{StartKind, TemplateName};
use pondrix_core::run::JobResult;
use pondrix_core::{RunId, State};
use pondrix_standin::garden::{GLASSHOUSE_BASE, PLANT_LABELS};
use pondrix_standin::registry::Behaviour;

use super::checks::{PATIENCE, processes_with, run_of, until};
use super::story::{Told, answers, expect_state, pondrix, pondrix_in};
use super::world::World;

/// The working folder, uncommitted, on the same runners: everything but the rollout.
pub(super) async fn tries(world: &World, told: &mut Told, greeting: &str) -> anyhow::Result<()> {
    let repository = world.repository("visitor-desk");
    repository.write("desk/hours.txt", &"9:00 to 18:00\n".repeat(7))?;
    repository.write("desk/greeting.txt", "Tried at Fernhollow and not committed\n")?;
    let said = pondrix_in(world, repository.folder(), &["try"], "").await?;
    for wanted in ["verify/unit | ok: the greeting names the garden", "takes no runs that try something"] {
        if !said.contains(wanted) {
            return Err(anyhow!("`pondrix try` does not say `{wanted}`:\n{said}"));
        }
    }
    let page = world.client.runs(Some(&"visitor-desk".parse()?), 1, None).await;
    let run = page?.runs.remove(0);
    let own = format!("try-{}-edge", run.number);
    if !world.registry.tags("visitor/desk").contains_key(&own) {
        return Err(anyhow!("the registry has no tag {own}"));
    }
    answers(world, greeting).await?;
    told.say(&format!("`pondrix try` as {}: verified and built, pushed as {own} only, not rolled out", run.run));
    Ok(())
}

/// A matrix over two base images, and files that go from job to job.
pub(super) async fn prints(world: &World, told: &mut Told) -> anyhow::Result<()> {
    let repository = world.repository("plant-labels");
    for (path, text) in PLANT_LABELS {
        repository.write(path, text)?;
    }
    let commit = repository.push("Print the labels on both")?;
    let (run, _) = run_of(&world.client, "plant-labels", &commit).await?;
    let detail = until(&world.client, &run, |run| run.summary.state.is_over()).await?;
    expect_state(&detail, State::Passed)?;
    let jobs: Vec<_> = detail.stages.iter().flat_map(|stage| &stage.jobs).map(|job| job.job.as_str()).collect();
    if jobs != ["verify/labels:shell", "verify/labels:web", "package/pages", "staging/pages", "bind/book"] {
        return Err(anyhow!("the matrix made {}", jobs.join(", ")));
    }
    let into = world.folder.join("book");
    pondrix(world, &["artifact", "fetch", &run.to_string(), "book", "--into", &into.display().to_string()]).await?;
    let book = std::fs::read_to_string(into.join("book.txt")).context("the book")?;
    if book.lines().count() != 9 || !book.contains("printed on web") {
        return Err(anyhow!("the book is not made of the pages that were kept:\n{book}"));
    }
    let log = pondrix(world, &["log", &run.to_string(), "verify/labels:web"]).await?;
    for wanted in ["register> the register is open\n", "9 beds are open\n"] {
        if !log.contains(wanted) {
            return Err(anyhow!("the log of {run} has no line `{}`:\n{log}", wanted.trim_end()));
        }
    }
    told.say(&format!(
        "{run} printed on both base images, with the register as its service; `pondrix artifact fetch {run} book` is bound of what \
         `labels:web` left"
    ));
    Ok(())
}

/// The platform changes its template: a tag that is moved to it is refused, and another one reaches the next run.
pub(super) async fn templates(world: &World, told: &mut Told) -> anyhow::Result<()> {
    let platform = world.repository("glasshouse-base");
    let path = "templates/printed.kdl";
    let text = GLASSHOUSE_BASE.iter().find(|(known, _)| *known == path).map_or("", |(_, text)| text);
    let before = platform.git(&["rev-parse", "HEAD"])?;
    platform.write(path, &text.replace("9 beds are open", "10 beds are open"))?;
    let after = platform.push("One more bed")?;
    names(world, "1", &after).await?;
    let said: serde_json::Value = serde_json::from_str(&pondrix(world, &["start", "plant-labels", "--json"]).await?)?;
    let run: RunId = said["run"].as_str().unwrap_or_default().parse()?;
    let detail = until(&world.client, &run, |run| run.summary.state.is_over()).await?;
    let fault = detail.faults.first().map(|fault| fault.message.clone()).unwrap_or_default();
    if !fault.contains("the tag `1` of glasshouse-base was") {
        return Err(anyhow!("{run} took a template whose tag was moved: {fault}"));
    }
    told.say(&format!("{run} ran nothing: {fault}"));
    names(world, "1", before.trim()).await?;
    names(world, "2", &after).await?;
    let labels = world.repository("plant-labels");
    let file = PLANT_LABELS.iter().find(|(path, _)| *path == "pondrix.kdl").map_or("", |(_, text)| text);
    labels.write("pondrix.kdl", &file.replace("version=\"1\"", "version=\"2\""))?;
    let commit = labels.push("Printed as the glasshouse does now")?;
    let (run, _) = run_of(&world.client, "plant-labels", &commit).await?;
    let detail = until(&world.client, &run, |run| run.summary.state.is_over()).await?;
    expect_state(&detail, State::Passed)?;
    let log = pondrix(world, &["log", &run.to_string(), "verify/labels:web"]).await?;
    if !log.contains("10 beds are open") {
        return Err(anyhow!("{run} does not do what version 2 of its template says:\n{log}"));
    }
    told.say(&format!("{run}, which names version 2, does as that says"));
    Ok(())
}

/// Has a tag of the platform name a commit, and waits until the server sees that.
async fn names(world: &World, tag: &str, commit: &str) -> anyhow::Result<()> {
    world.repository("glasshouse-base").push_tag(tag, commit)?;
    let name = TemplateName::new("printed", "glasshouse-base", "templates", tag)?;
    let since = Instant::now();
    while world.client.template(&name).await.map_or(true, |now| now.commit != commit) {
        if since.elapsed() > PATIENCE {
            return Err(anyhow!("the server does not see that the tag {tag} is {commit}"));
        }
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
    Ok(())
}

/// A secret that is missing stops the run before anything of it runs; a wrong one breaks one job, which
/// alone is done again.
pub(super) async fn mends(world: &World, told: &mut Told) -> anyhow::Result<()> {
    let mark = format!("{}.073", 100_000 + std::process::id());
    let repository = world.repository("plant-labels");
    let text = PLANT_LABELS.iter().find(|(path, _)| *path == "pondrix.kdl").map_or("", |(_, text)| text);
    let text = text.replace(
        "        step \"cat pages",
        "        secret \"PRINTER_KEY\"\n        step name=\"unlock\" \"test \\\"$PRINTER_KEY\\\" = the-right-key\"\n        step \"cat pages",
    );
    repository.write("pondrix.kdl", &text)?;
    let commit = repository.push("Bind with the locked printer")?;
    let (barred, _) = run_of(&world.client, "plant-labels", &commit).await?;
    let detail = until(&world.client, &barred, |run| run.summary.state.is_over()).await?;
    expect_state(&detail, State::Failed)?;
    let begun = detail.stages.iter().flat_map(|stage| &stage.jobs).filter(|job| job.started.is_some()).count();
    let [fault] = &detail.missing[..] else { return Err(anyhow!("the preflight found {:?}", detail.missing)) };
    if begun > 0 || processes_with(&mark) > 0 || fault.fix != "pondrix secret set plant-labels PRINTER_KEY" {
        return Err(anyhow!("{barred} should have been stopped by its preflight: {fault:?}"));
    }
    told.say(&format!("{barred} ran nothing: {}; fix: {}", fault.what, fault.fix));

    set_key(world, "a-wrong-key").await?;
    let failed = again(world, &barred, &[]).await?;
    let detail = until(&world.client, &failed, |run| run.summary.state.is_over()).await?;
    expect_state(&detail, State::Failed)?;
    set_key(world, "the-right-key").await?;
    let mended = again(world, &failed, &[]).await?;
    let detail = until(&world.client, &mended, |run| run.summary.state.is_over()).await?;
    expect_state(&detail, State::Passed)?;
    let jobs = detail.stages.iter().flat_map(|stage| &stage.jobs);
    let done: Vec<_> = jobs.filter(|job| job.started.is_some()).map(|job| job.job.as_str()).collect();
    if done != ["bind/book"] {
        return Err(anyhow!("a rerun of what failed did {} again", done.join(", ")));
    }
    let log = world.client.log(&mended, "bind/book").await?;
    if String::from_utf8_lossy(&log).contains("the-right-key") {
        return Err(anyhow!("the log shows a secret"));
    }
    told.say(&format!("`pondrix rerun {failed}` as {mended}: only bind/book again, with the right key"));
    Ok(())
}

async fn set_key(world: &World, value: &str) -> anyhow::Result<()> {
    pondrix_in(world, &world.folder, &["secret", "set", "plant-labels", "PRINTER_KEY"], value).await.map(|_| ())
}

/// Does a run again; answers the new one.
async fn again(world: &World, run: &RunId, more: &[&str]) -> anyhow::Result<RunId> {
    let name = run.to_string();
    let said = pondrix(world, &[&["rerun", &name, "--json"], more].concat()).await?;
    let said: serde_json::Value = serde_json::from_str(&said)?;
    let run = said["run"].as_str().unwrap_or_default();
    Ok(run.parse()?)
}

/// A change of the base image reaches the applications by itself.
pub(super) async fn follows(world: &World, told: &mut Told) -> anyhow::Result<()> {
    // The story left the desk with hours that fail.
    let desk = world.repository("visitor-desk");
    let commit = desk.push("The hours of the whole week")?;
    let (run, _) = run_of(&world.client, "visitor-desk", &commit).await?;
    let detail = until(&world.client, &run, |run| run.summary.state.is_over()).await?;
    expect_state(&detail, State::Passed)?;
    told.say(&format!("{run} passed: the desk is built on the base as it is"));

    let base = world.repository("glasshouse-base");
    base.write("etc/motd", "Mind the wet paths\n")?;
    let commit = base.push("A word for those who sign in")?;
    let since = Instant::now();
    let (made, _) = run_of(&world.client, "glasshouse-base", &commit).await?;
    let detail = until(&world.client, &made, |run| run.summary.state.is_over()).await?;
    expect_state(&detail, State::Passed)?;
    let mut runs = Vec::new();
    for (project, image) in [("visitor-desk", "visitor/desk"), ("plant-labels", "garden/labels")] {
        let run = started_by_base(world, project).await?;
        let detail = until(&world.client, &run, |run| run.summary.state.is_over()).await?;
        expect_state(&detail, State::Passed)?;
        let image = world.client.image(image).await?.summary;
        let base = image.base.as_deref().unwrap_or_default();
        let wanted = base.split_once('/').and_then(|(_, path)| path.strip_suffix(":1")).unwrap_or_default();
        let now = world.registry.tags(wanted).get("1").map(ToString::to_string);
        if image.run != run.to_string() || image.base_digest != now || image.runs_in != ["staging"] {
            return Err(anyhow!("the newest image of {project} is not built on {base} as it is now: {image:?}"));
        }
        runs.push(run.to_string());
    }
    told.say(&format!(
        "{made} changed the base; {} followed by themselves, and staging runs them {} after the push",
        runs.join(" and "),
        crate::output::length(u64::try_from(since.elapsed().as_millis()).unwrap_or(0))
    ));
    let chain = pondrix(world, &["image", "chain"]).await?;
    let is_current = |line: &str| line.contains("current") || line.starts_with("IMAGE");
    if chain.lines().count() < 5 || !chain.lines().all(is_current) {
        return Err(anyhow!("`pondrix image chain` does not say that all is current:\n{chain}"));
    }
    told.say("`pondrix image chain` says what is built on what:");
    chain.lines().for_each(|line| crate::output::line(&format!("             {line}")));
    Ok(())
}

/// The newest run of a project, once that is one which a base has started.
async fn started_by_base(world: &World, project: &str) -> anyhow::Result<RunId> {
    let name = project.parse()?;
    let since = Instant::now();
    while since.elapsed() < PATIENCE {
        let page = world.client.runs(Some(&name), 1, None).await?;
        if let Some(run) = page.runs.first().filter(|run| run.start == StartKind::BaseMoved) {
            return Ok(run.run.parse()?);
        }
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
    Err(anyhow!("the base started no run of {project}"))
}

/// A registry that would refuse the push at the end stops the run at its beginning.
pub(super) async fn refuses(world: &World, told: &mut Told) -> anyhow::Result<()> {
    world.registry.behave(Behaviour::RefusesPushes("the pond is closed to you".to_owned()));
    let said = pondrix(world, &["start", "visitor-desk", "--json"]).await?;
    let said: serde_json::Value = serde_json::from_str(&said)?;
    let run: RunId = said["run"].as_str().unwrap_or_default().parse()?;
    let detail = until(&world.client, &run, |run| run.summary.state.is_over()).await?;
    world.registry.behave(Behaviour::Good);
    expect_state(&detail, State::Failed)?;
    let fault = detail.missing.first().context("the preflight found nothing")?;
    let made = detail.stages.iter().flat_map(|stage| &stage.jobs).flat_map(|job| &job.results);
    if made.clone().any(|result| matches!(result, JobResult::Image { .. }))
        || !fault.what.contains("the pond is closed")
    {
        return Err(anyhow!("{run} should have been stopped by its preflight: {fault:?}"));
    }
    told.say(&format!("{run} ran nothing: {}", fault.what));
    Ok(())
}
