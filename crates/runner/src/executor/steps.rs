//! A job of commands.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use pondrix_api::{IdentityAnswer, IdentityQuestion, NamedSecret};
use pondrix_core::image::Reference;
use pondrix_core::pipeline::{IdentityUse, SECRET_FOLDER};
use pondrix_core::run::{Outcome, StepEnd};
use pondrix_core::work::StepsWork;
use pondrix_image::Platform;
use pondrix_image::registry::Wanted;
use pondrix_sandbox::{Bind, Exit, Limits, MemoryFolder, Rootfs, Running, Spec};

use super::artifacts;
use super::context::{End, JobExecutor};
use super::disk_space::DiskSpace;
use super::error::{Doing, JobError};
use super::surroundings::{PATH, Surroundings};
use crate::machine::{GROUPS, PROGRAM_FOLDERS, USERS, program_settings};

/// Where the commit's files are inside.
const WORKSPACE: &str = "/workspace";
/// How often a running step looks whether it is to end.
const HALT_CHECK: Duration = Duration::from_millis(25);
/// How long a stopped step may take to end by itself.
const STOP_GRACE: Duration = Duration::from_secs(3);
const SIGTERM: i32 = 15;
const SIGKILL: i32 = 9;

pub(crate) fn carry_out(executor: &JobExecutor, work: &StepsWork) -> End {
    if let Some(words) = executor.limits.and_then(|limits| limits.exceeded_by(&work.limits)) {
        return End::failed(words);
    }
    let (spec, workspace) = match prepare(executor, work) {
        Ok(prepared) => prepared,
        Err(error) => return End::because(&error),
    };
    for artifact in &executor.assignment.artifacts {
        if let Err(error) = artifacts::fetch(executor, &workspace, artifact) {
            return End::because(&error);
        }
    }
    let mut around = match Surroundings::new(executor, work.network, &work.services) {
        Ok(around) => around,
        Err(error) => return End::because(&error),
    };
    let caches: Vec<_> =
        work.caches.iter().filter_map(|cache| artifacts::restore(executor, &workspace, cache)).collect();
    executor.is_prepared();
    let end = run_steps(executor, work, &spec, &mut around);
    drop(around);
    if end.outcome == Outcome::Stopped || executor.is_halted() {
        return end;
    }
    executor.time.begin_leaving();
    let end = leave(executor, work, &workspace, end);
    if end.outcome == Outcome::Passed {
        caches.iter().for_each(|cache| artifacts::save(executor, &workspace, cache));
    }
    end
}

/// Reports, keeps and hands on what the job is asked for. What failed leaves its reports and files too:
/// they may tell why.
fn leave(executor: &JobExecutor, work: &StepsWork, workspace: &Path, end: End) -> End {
    artifacts::test_reports(executor, workspace, &work.test_reports);
    let passed = end.outcome == Outcome::Passed;
    let mut faults = Vec::new();
    for artifact in &work.artifacts {
        faults.extend(artifacts::upload(executor, workspace, artifact).err());
    }
    if passed {
        faults.extend(artifacts::outputs(executor, workspace, &work.outputs).err());
    }
    if faults.is_empty() {
        return end;
    }
    if passed {
        return End::because_all(&faults);
    }
    executor.log.say(&faults.iter().map(ToString::to_string).collect::<Vec<_>>().join("; "));
    end
}

fn run_steps(executor: &JobExecutor, work: &StepsWork, spec: &Spec, around: &mut Surroundings) -> End {
    let mut space = DiskSpace::of_steps(executor, work);
    for (number, step) in work.steps.iter().enumerate() {
        if executor.is_halted() {
            return End { outcome: Outcome::Stopped, reason: None };
        }
        // `-e`: a command of several lines ends at the first that fails.
        let argv = ["/bin/sh", "-e", "-c", &step.command].map(str::to_owned).into();
        let mut spec = Spec { argv, ..spec.clone() };
        if let Err(error) = show_identities(executor, work, &mut spec) {
            return End::because(&error);
        }
        spec.env.extend(step.env.clone());
        if let Some(folder) = &step.folder {
            spec.folder = format!("{WORKSPACE}/{folder}");
        }
        executor.step_started(number);
        let (end, words) = run_step(executor, &spec, step.time, around, &mut space);
        around.look_after(executor);
        if let Some(words) = &words {
            executor.log.say(words);
        }
        executor.step_ended(number, end);
        match end {
            StepEnd::Exit(0) => {}
            StepEnd::Stopped => return End { outcome: Outcome::Stopped, reason: None },
            StepEnd::TimedOut if executor.is_out_of_time() => {
                return End::failed(executor.time_words());
            }
            _ if step.may_fail => executor.log.say(&format!("the step failed ({}), which is allowed", end.words())),
            StepEnd::TimedOut => {
                let limit = step.time.unwrap_or(work.time);
                return End::failed(format!("the step took longer than its limit of {limit}"));
            }
            _ => return End { outcome: Outcome::Failed, reason: None },
        }
    }
    End { outcome: Outcome::Passed, reason: None }
}

/// The place that the steps run in, and their workspace on this machine.
fn prepare(executor: &JobExecutor, work: &StepsWork) -> Result<(Spec, PathBuf), JobError> {
    let root = || match &work.image {
        Some(image) => root_of_image(executor, image),
        None => root_of_machine(executor),
    };
    // Neither needs the other, and both wait for somebody else's answer.
    let (source, root) = std::thread::scope(|scope| {
        let root = scope.spawn(root);
        let source = executor.fetch_source();
        (source, root.join().unwrap_or_else(|_| Err(JobError::asked("the runner broke while it made the job's root"))))
    });
    let (source, (root, shown, mut env)) = (source?, root?);
    env.entry("PATH".to_owned()).or_insert_with(|| PATH.to_owned());
    env.extend(work.env.clone());
    let memory = show_secrets(executor, work, &mut env)?;
    let spec = Spec {
        binds: shown
            .into_iter()
            .chain([Bind { from: source.clone(), to: WORKSPACE.to_owned(), read_only: false }])
            .collect(),
        env,
        // The commit's files belong to root inside, whoever the image would run as.
        folder: WORKSPACE.to_owned(),
        hostname: host_name(executor.assignment.job.job()),
        fresh_tmp: true,
        namespaces: executor.namespaces,
        memory,
        limits: Limits {
            memory: work.limits.memory.map(pondrix_core::Size::bytes),
            processes: work.limits.processes,
            cpu: work.limits.cpu,
            weight: None,
        },
        ..Spec::new(root)
    };
    Ok((spec, source))
}

/// A job's name as that of a host, which has no `:` in it and at most 63 letters (RFC 1123, section 2.1).
fn host_name(job: &str) -> String {
    let name = job.replace(':', "-");
    name[..name.len().min(63)].trim_end_matches(['-', '.']).to_owned()
}

/// A root file system, what else of the machine is shown in it, and variables.
type Root = (Rootfs, Vec<Bind>, BTreeMap<String, String>);

fn root_folder(executor: &JobExecutor) -> PathBuf {
    executor.room().join("root")
}

fn root_of_image(executor: &JobExecutor, image: &Reference) -> Result<Root, JobError> {
    let store = &executor.folder.store;
    let image = executor.pull(image, &Platform::here(), Wanted::Files)?;
    let layers = store.layers(&image)?;
    Ok((Rootfs::new(layers, root_folder(executor)), Vec::new(), image.config.config.variables()))
}

/// The folders of the machine that programs are in, and what of its settings they need, which can only be read; everything
/// else is the job's own.
fn root_of_machine(executor: &JobExecutor) -> Result<Root, JobError> {
    let root = Rootfs::new(Vec::new(), root_folder(executor));
    let doing = || "could not show the machine's programs".to_owned();
    root.prepare_changes(executor.launcher.ids()).doing(doing)?;
    let mut binds = Vec::new();
    for name in PROGRAM_FOLDERS {
        let path = Path::new("/").join(name);
        match std::fs::symlink_metadata(&path) {
            // Where `/bin` is but another name of `/usr/bin`, it is so inside.
            Ok(data) if data.is_symlink() => {
                let target = std::fs::read_link(&path).doing(doing)?;
                std::os::unix::fs::symlink(target, root.folder.join("upper").join(name)).doing(doing)?;
            }
            Ok(data) if data.is_dir() => {
                binds.push(Bind { from: path.clone(), to: path.display().to_string(), read_only: true });
            }
            _ => {}
        }
    }
    for (name, text) in [("passwd", USERS), ("group", GROUPS)] {
        let path = executor.scratch.path().join(name);
        std::fs::write(&path, text).doing(doing)?;
        binds.push(Bind { from: path, to: format!("/etc/{name}"), read_only: true });
    }
    // Links among them lead to what is shown too.
    for path in program_settings() {
        binds.push(Bind { from: path.clone(), to: path.display().to_string(), read_only: true });
    }
    for folder in executor.shown.iter().filter(|folder| folder.exists()) {
        binds.push(Bind { from: folder.clone(), to: folder.display().to_string(), read_only: true });
    }
    let path = std::env::var("PATH").ok().map(|path| ("PATH".to_owned(), path));
    Ok((root, binds, path.into_iter().collect()))
}

/// Puts secrets where the job wants them: into variables, and into files in memory.
fn show_secrets(
    executor: &JobExecutor,
    work: &StepsWork,
    env: &mut BTreeMap<String, String>,
) -> Result<Option<MemoryFolder>, JobError> {
    let mut files = BTreeMap::new();
    for secret in &work.secrets {
        let name = &secret.name.value;
        let value = executor.assignment.secrets.iter().find(|given| given.name == *name);
        let value =
            value.ok_or_else(|| JobError::Asked(format!("the server did not give the secret `{name}`")))?.value.clone();
        match &secret.file {
            None => {
                let text = String::from_utf8(value).ok().filter(|text| !text.contains('\0'));
                let text = text.ok_or_else(|| {
                    let words = "which no variable can hold: have it as a file, with";
                    JobError::Asked(format!(
                        "the secret `{name}` is no text, {words} `secret \"{name}\" file=\"NAME\"`"
                    ))
                })?;
                env.insert(secret.variable.clone(), text);
            }
            Some(file) => {
                env.insert(secret.variable.clone(), format!("{SECRET_FOLDER}/{file}"));
                files.insert(file.clone(), value);
            }
        }
    }
    Ok((!files.is_empty()).then(|| MemoryFolder { at: SECRET_FOLDER.to_owned(), files }))
}

/// Gives a step the tokens that say which job it is: made anew for each, since they are good for a while only.
fn show_identities(executor: &JobExecutor, work: &StepsWork, spec: &mut Spec) -> Result<(), JobError> {
    for IdentityUse { audience, variable, file, .. } in &work.identities {
        let question = IdentityQuestion { audience: audience.value.clone() };
        let answer = executor.ask(async |client, assignment| client.identity(assignment, &question).await);
        let IdentityAnswer { token } =
            answer.doing(|| format!("the identity for {} could not be had", audience.value))?;
        let name = format!("identity for {}", audience.value);
        executor.log.hide_also([NamedSecret { name, value: token.clone().into_bytes() }]);
        let Some(file) = file else {
            spec.env.insert(variable.clone(), token);
            continue;
        };
        spec.env.insert(variable.clone(), format!("{SECRET_FOLDER}/{file}"));
        let empty = || MemoryFolder { at: SECRET_FOLDER.to_owned(), files: BTreeMap::new() };
        spec.memory.get_or_insert_with(empty).files.insert(file.clone(), token.into_bytes());
    }
    Ok(())
}

fn run_step(
    executor: &JobExecutor,
    spec: &Spec,
    time: Option<pondrix_core::Duration>,
    around: &Surroundings,
    space: &mut DiskSpace,
) -> (StepEnd, Option<String>) {
    let started = executor.log.piece().and_then(|piece| Ok((piece.writer()?, piece)));
    let (writer, piece) = match started {
        Ok(started) => started,
        Err(error) => return (StepEnd::NotStarted, Some(format!("could not collect the step's output: {error}"))),
    };
    let end = match around.start(executor, spec, writer) {
        Ok(running) => wait(executor, running, time.map(|time| Instant::now() + time.to_std()), space),
        Err(error) => (StepEnd::NotStarted, Some(error.to_string())),
    };
    piece.finish();
    end
}

/// Waits for the end of a step, which comes at `deadline` at the latest, or with that of the job.
fn wait(
    executor: &JobExecutor,
    mut running: Running,
    deadline: Option<Instant>,
    space: &mut DiskSpace,
) -> (StepEnd, Option<String>) {
    loop {
        if let Some(exit) = running.wait_at_most(HALT_CHECK) {
            let is_hungry = running.was_out_of_memory();
            let words = if is_hungry {
                Some("something of this step was ended: it would have needed more than the job's limit of memory")
            } else if running.was_out_of_processes() {
                Some(
                    "something of this step was not started: it would have been more than the job's limit of processes",
                )
            } else {
                None
            };
            let words = words.map(str::to_owned);
            let words = words.or_else(|| (exit != Exit::Status(0)).then(|| executor.why_full()).flatten());
            return match exit {
                // What the kernel ended was the first process inside, and with it all others.
                Exit::Failed(_) if is_hungry => (StepEnd::Signal(SIGKILL), words),
                Exit::Status(status) => (StepEnd::Exit(status), words),
                Exit::Signal(signal) => (StepEnd::Signal(signal), words),
                Exit::Failed(words) => (StepEnd::NotStarted, Some(words)),
                Exit::Killed => (StepEnd::Stopped, None),
            };
        }
        if executor.is_out_of_time() || deadline.is_some_and(|deadline| Instant::now() >= deadline) {
            running.kill();
            return (StepEnd::TimedOut, None);
        }
        if let Some(words) = space.too_much(executor) {
            running.kill();
            return (StepEnd::Signal(SIGKILL), Some(format!("the step was ended: {words}")));
        }
        if executor.is_halted() {
            running.signal(SIGTERM);
            running.wait_at_most(STOP_GRACE);
            running.kill();
            return (StepEnd::Stopped, None);
        }
    }
}
