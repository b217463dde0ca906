//! The proof, before the first step, that a run can finish: secrets are there, registries have the images
//! that jobs run in and take those that are pushed, environments answer. Everything that is not there is
//! told at once, each with what mends it.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;

use futures_util::future::join_all;
use pondrix_core::State;
use pondrix_core::audit::{AuditResult, Deed};
use pondrix_core::image::{Reference, Registries, Repository};
use pondrix_core::pipeline::{JobKind, Pattern};
use pondrix_core::plan::PlannedJob;
use pondrix_core::run::{Event, PreflightFault};
use pondrix_core::template;
use pondrix_core::work::{Outputs, RunFacts};
use pondrix_image::registry::RegistryError;
use tokio_util::sync::CancellationToken;
use tracing::{error, info};

use super::{guard, rollout};
use crate::domain::{
    Engine, EngineError, Found, LiveRun, NotGiven, PreflightOrders, Speaker, Standing, find_secret, named_secrets,
    own_deed,
};
use crate::ports::RegistryProbe;
use crate::store::StoreError;

/// How long a registry or an environment may take to answer.
const PATIENCE: Duration = Duration::from_secs(10);

/// What a run needs, each with the first job that needs it.
#[derive(Debug, Default)]
struct Needs {
    /// By name, and by the environments that the job's stage goes to.
    secrets: BTreeMap<(String, Vec<String>), String>,
    images: BTreeMap<Reference, String>,
    pushes: BTreeMap<Repository, String>,
    environments: BTreeMap<String, String>,
}

/// Carries out preflights as they are ordered, side by side, until `shutdown`.
pub(crate) async fn carry_out_orders(engine: Arc<Engine>, mut orders: PreflightOrders, shutdown: CancellationToken) {
    loop {
        let live = tokio::select! {
            ordered = orders.recv() => ordered,
            () = shutdown.cancelled() => return,
        };
        let Some(live) = live else { return };
        tokio::spawn(carry_out(Arc::clone(&engine), live));
    }
}

/// Looks at everything, and lets the run begin or fail.
async fn carry_out(engine: Arc<Engine>, live: Arc<LiveRun>) {
    let run = &live.row.facts.id;
    let event = match guard("a preflight", look(&engine, &live)).await {
        Ok(Ok(missing)) if missing.is_empty() => Event::Began,
        Ok(Ok(missing)) => {
            info!(%run, count = missing.len(), "the preflight found faults");
            Event::PreflightFailed { missing }
        }
        Ok(Err(error)) => {
            // What the records cannot tell now is found out by the jobs themselves.
            error!(%run, %error, "the preflight could not be done");
            Event::Began
        }
        Err(broken) => {
            let fix = format!("pondrix rerun '{run}' --all; if it happens again, tell whoever keeps the server");
            Event::PreflightFailed { missing: vec![fault("preflight", broken.to_string(), fix)] }
        }
    };
    match engine.record_until_stored(&live, &event).await {
        // Stopped meanwhile.
        Ok(()) | Err(EngineError::Refused(_)) => {}
        Err(error) => error!(%run, %error, "the run could not begin"),
    }
}

impl Needs {
    fn of(live: &LiveRun, jobs: &[&PlannedJob]) -> Self {
        let mut needs = Self::default();
        for job in jobs {
            let key = || job.key.to_string();
            for name in named_secrets(job) {
                needs.secrets.entry((name.to_owned(), live.environments_of(&job.key))).or_insert_with(key);
            }
            match &job.kind {
                JobKind::Steps(steps) => {
                    // An image that this run pushes under a name of its own is not there yet.
                    let values = live.row.facts.values(job, &Outputs::new());
                    for image in steps.images() {
                        let filled = template::fill(&image.value, &values).ok();
                        if let Some(image) = filled.and_then(|filled| filled.parse().ok()) {
                            needs.images.entry(image).or_insert_with(key);
                        }
                    }
                }
                JobKind::Image(image) => {
                    if let Some(cache) = &image.cache {
                        needs.pushes.entry(cache.clone()).or_insert_with(key);
                    }
                    for push in &image.pushes {
                        needs.pushes.entry(push.repository.clone()).or_insert_with(key);
                    }
                }
                JobKind::Rollout(rollout) => {
                    needs.environments.entry(rollout.to.value.clone()).or_insert_with(key);
                }
            }
        }
        needs.images.retain(|image, _| !needs.pushes.contains_key(&image.repository));
        needs
    }
}

async fn look(engine: &Engine, live: &LiveRun) -> Result<Vec<PreflightFault>, StoreError> {
    let run = live.now();
    // What is left out, or passed in an earlier run, needs nothing.
    let is_to_run = |job: &&PlannedJob| run.job(&job.key).is_some_and(|job| job.state == State::Queued);
    let jobs: Vec<_> = live.row.plan.jobs().filter(is_to_run).collect();
    let needs = Needs::of(live, &jobs);
    let facts = &live.row.facts;
    let registries = engine.registries().await?.of(&facts.id.project);
    let mut faults = quotas(engine, facts, &jobs).await?;
    faults.extend(secrets(engine, facts, needs.secrets).await?);
    let refused = engine.not_admitted(facts, live.row.summary.by.clone(), &needs.environments).await?;
    for fault in &refused {
        let target = jobs.iter().find(|job| job.key.as_str() == fault.job).map(|job| match &job.kind {
            JobKind::Rollout(rollout) => rollout.to.value.clone(),
            _ => String::new(),
        });
        let words = format!("{} of #{}: {}", fault.job, facts.id.number, fault.what);
        let deed = own_deed("rollout begin", target.unwrap_or_default(), Some(facts.id.project.as_str()));
        engine.note_until_stored(Deed { result: AuditResult::Refused, words, ..deed }).await?;
    }
    // Whether it answers does not matter to a run that may not go there.
    let may_go = |job: &String| !refused.iter().any(|fault| fault.job == *job);
    let environments = needs.environments.iter().filter(|(_, job)| may_go(job));
    faults.extend(files(engine, live, &jobs).await?);
    let probe = &*engine.probe;
    let images = needs.images.iter().map(async |(image, job)| {
        let own = signing_in(engine, live, &registries, &image.repository, job).await;
        image_is_there(probe, &own, image, job).await
    });
    let pushes = needs.pushes.iter().map(async |(repository, job)| {
        let own = signing_in(engine, live, &registries, repository, job).await;
        may_push(probe, &own, repository, job).await
    });
    let environments = environments.map(|(name, job)| environment(engine, name, job));
    let (images, pushes, environments) = tokio::join!(join_all(images), join_all(pushes), join_all(environments));
    faults.extend(images.into_iter().chain(pushes).chain(environments).flatten());
    faults.extend(refused);
    let turn = |fault: &PreflightFault| live.row.plan.jobs().position(|job| job.key.as_str() == fault.job);
    faults.sort_by_key(turn);
    Ok(faults)
}

fn fault(job: &str, what: impl Into<String>, fix: impl Into<String>) -> PreflightFault {
    PreflightFault { job: job.to_owned(), what: what.into(), fix: fix.into() }
}

async fn secrets(
    engine: &Engine,
    facts: &RunFacts,
    wanted: BTreeMap<(String, Vec<String>), String>,
) -> Result<Vec<PreflightFault>, StoreError> {
    if wanted.is_empty() {
        return Ok(Vec::new());
    }
    let project = facts.id.project.clone();
    let read = move |c: &rusqlite::Connection| {
        let mut found = Vec::new();
        for ((name, environments), job) in wanted {
            found.push((find_secret(c, &project, &environments, &name)?, name, job));
        }
        Ok((found, Standing::read(c, project.as_str(), None)?))
    };
    let (found, standing) = engine.store.read(read).await?;
    let (project, candidate) = (&facts.id.project, standing.candidate(facts, engine.is_in_ref(facts).await?));
    let mut given = Vec::new();
    let missing = found.into_iter().filter_map(|(found, name, job)| match found {
        Err(NotGiven::None { .. }) => {
            let what = format!("{project} has no secret `{name}`");
            Some(fault(&job, what, format!("pondrix secret set {project} {name}")))
        }
        Err(other) => Some(fault(&job, other.to_string(), format!("pondrix secret list {project}"))),
        Ok(Found { secret, .. }) if secret.protected && !candidate.is_trusted() => {
            let what =
                format!("the secret `{name}` is for runs of protected refs, and this one {}", candidate.carries());
            Some(fault(&job, what, candidate.help()))
        }
        Ok(found) => {
            given.push((found, name, job));
            None
        }
    });
    let mut missing: Vec<PreflightFault> = missing.collect();
    // What is kept elsewhere may be gone from there.
    for (Found { owner, secret }, name, job) in given.into_iter().filter(|(found, ..)| found.secret.provider.is_some())
    {
        if let Err(why) = engine.opened(&name, &owner, &secret).await {
            missing.push(fault(&job, why.to_string(), "have its provider give it, or set it here: pondrix secret set"));
        }
    }
    // What two stages lack for the same reason is told once.
    missing.dedup_by(|a, b| a.what == b.what);
    Ok(missing)
}

/// What a project has all of that its jobs need.
async fn quotas(engine: &Engine, facts: &RunFacts, jobs: &[&PlannedJob]) -> Result<Vec<PreflightFault>, StoreError> {
    let Some(first) = jobs.iter().find(|job| !matches!(job.kind, JobKind::Rollout(_))) else { return Ok(Vec::new()) };
    let project = facts.id.project.as_str();
    let used_up = engine.used_up(&facts.id.project).await?.into_iter();
    Ok(used_up.map(|what| fault(first.key.as_str(), what.words(project), what.help(project))).collect())
}

/// Files that image jobs and rollouts name, and that the commit does not have.
async fn files(engine: &Engine, live: &LiveRun, jobs: &[&PlannedJob]) -> Result<Vec<PreflightFault>, StoreError> {
    if jobs.iter().all(|job| matches!(job.kind, JobKind::Steps(_))) {
        return Ok(Vec::new());
    }
    let names = match engine.file_names(&live.row).await {
        Ok(names) => names,
        Err(error) => {
            return Ok(vec![fault("preflight", error.to_string(), "look at the project: pondrix project list")]);
        }
    };
    let mut faults = Vec::new();
    // What is missing for a part is missing for the whole, and is told once.
    for job in jobs.iter().filter(|job| !live.row.plan.is_part(&job.key)) {
        let mut missing = |what: String, word: &str| {
            faults.push(fault(
                job.key.as_str(),
                what,
                format!("correct `{word}` in the pipeline file, or commit the file"),
            ));
        };
        match &job.kind {
            JobKind::Image(image) => {
                if !names.contains(&image.recipe) {
                    missing(format!("the commit has no file {}, the recipe", image.recipe), "recipe");
                }
                let folder = format!("{}/", image.context);
                if image.context != "." && !names.iter().any(|name| name.starts_with(&folder)) {
                    missing(format!("the commit has no folder {}, the context", image.context), "context");
                }
            }
            JobKind::Rollout(rollout) => {
                let fits = |text: &String, name: &String| Pattern::new(text).is_ok_and(|pattern| pattern.matches(name));
                for text in rollout.manifests.iter().filter(|text| !names.iter().any(|name| fits(text, name))) {
                    missing(format!("the commit has no file that fits `{text}`"), "manifests");
                }
            }
            JobKind::Steps(_) => {}
        }
    }
    Ok(faults)
}

/// Registries as a job reaches them, for a repository: with its identity, where that signs in.
async fn signing_in(
    engine: &Engine,
    live: &LiveRun,
    registries: &Registries,
    repository: &Repository,
    job: &str,
) -> Registries {
    let own = registries.for_repositories([repository]);
    let Some(planned) = live.row.plan.jobs().find(|planned| planned.key.as_str() == job) else { return own };
    let identified = engine.identified(own.clone(), Speaker::Job(live, &planned.key)).await;
    // Without one the registry refuses, and that is told.
    identified.unwrap_or_else(|error| {
        error!(run = %live.row.facts.id, %error, "a job has no identity");
        own.identified(|_| None)
    })
}

async fn image_is_there(
    probe: &dyn RegistryProbe,
    registries: &Registries,
    image: &Reference,
    job: &str,
) -> Option<PreflightFault> {
    let host = image.repository.host();
    match tokio::time::timeout(PATIENCE, probe.has_image(image, registries)).await {
        Ok(Ok(true)) => None,
        Ok(Ok(false)) => Some(fault(
            job,
            format!("the registry {host} has no {image}"),
            "push it there, or correct `container` in the pipeline file",
        )),
        Ok(Err(error)) => {
            let advice = advice_for(&error, host);
            Some(fault(job, error.to_string(), advice))
        }
        Err(_) => Some(fault(job, silent(host), registry_advice(host))),
    }
}

async fn may_push(
    probe: &dyn RegistryProbe,
    registries: &Registries,
    repository: &Repository,
    job: &str,
) -> Option<PreflightFault> {
    let host = repository.host();
    match tokio::time::timeout(PATIENCE, probe.may_push(repository, registries)).await {
        Ok(Ok(())) => None,
        Ok(Err(error @ RegistryError::Refused { .. })) => {
            Some(fault(job, error.to_string(), format!("have {host} allow pushing into {}", repository.path())))
        }
        Ok(Err(error)) => {
            let advice = advice_for(&error, host);
            Some(fault(job, error.to_string(), advice))
        }
        Err(_) => Some(fault(job, silent(host), registry_advice(host))),
    }
}

fn silent(host: &str) -> String {
    format!("the registry {host} did not answer within {} s", PATIENCE.as_secs())
}

fn advice_for(error: &RegistryError, host: &str) -> String {
    match error {
        RegistryError::OtherRealm { realm, .. } => format!("pondrix registry add {host} --signs-in-at {realm}"),
        RegistryError::SignIn { audience: Some(_), .. } => {
            "docs/security.md says what a registry has to know to believe this server".to_owned()
        }
        RegistryError::SignIn { .. } => format!("pondrix registry add {host} --user NAME says who signs in"),
        _ => registry_advice(host),
    }
}

fn registry_advice(host: &str) -> String {
    format!("pondrix registry add {host} --at URL says where it is reached")
}

async fn environment(engine: &Engine, name: &str, job: &str) -> Option<PreflightFault> {
    match tokio::time::timeout(PATIENCE, rollout::reach(engine, name)).await {
        Ok(Ok(())) => None,
        Ok(Err(error)) => {
            Some(fault(job, error.to_string(), format!("pondrix environment set {name} --kubeconfig FILE")))
        }
        Err(_) => {
            let what = format!("the environment `{name}` did not answer within {} s", PATIENCE.as_secs());
            Some(fault(job, what, format!("pondrix environment set {name} --kubeconfig FILE")))
        }
    }
}
