//! Any pipeline, printed as KDL, reads back as itself.

use std::collections::BTreeMap;
use std::fmt::Write as _;

use proptest::collection::{btree_map, btree_set, vec};
use proptest::option;
use proptest::prelude::*;

use crate::pipeline::{
    Approval, Artifact, Axis, BuildSecret, Cache, Condition, Conditions, Fetch, FileSystem, IdentityUse, ImageJob,
    Input, InputKind, Job, JobKind, LayerForm, Limits, Matrix, Needs, Network, OnFailure, Output, Pattern, Pipeline,
    Push, Ready, RequiredResult, Retry, RolloutJob, SecretUse, Service, Spanned, Stage, StartKind, StartRule, Step,
    StepsJob, read,
};
use crate::{Duration, Schedule, Size};

/// A text in quotes (KDL 2, "Quoted String").
fn quoted(text: &str) -> String {
    let mut out = String::from("\"");
    for letter in text.chars() {
        match letter {
            '"' | '\\' => out.extend(['\\', letter]),
            c if c.is_control() || matches!(c, '\u{2028}' | '\u{2029}') => drop(write!(out, "\\u{{{:x}}}", c as u32)),
            c => out.push(c),
        }
    }
    out + "\""
}

fn named(name: &str, value: Option<impl ToString>) -> String {
    value.map(|value| format!(" {name}={}", quoted(&value.to_string()))).unwrap_or_default()
}

/// A name as it stands in front of values: some are no names as they are (KDL 2.0.0, "Identifier String").
fn word(name: &str) -> String {
    if matches!(name, "true" | "false" | "null" | "inf" | "nan") { quoted(name) } else { name.to_owned() }
}

fn list(name: &str, values: &[Spanned<String>]) -> String {
    if values.is_empty() {
        return String::new();
    }
    let values: Vec<_> = values.iter().map(|value| quoted(&value.value)).collect();
    format!("{} {}\n", word(name), values.join(" "))
}

fn pairs<'a>(name: &str, pairs: impl IntoIterator<Item = (&'a String, &'a String)>) -> String {
    let pairs: String = pairs.into_iter().map(|(name, value)| format!(" {}={}", word(name), quoted(value))).collect();
    if pairs.is_empty() { String::new() } else { format!("{name}{pairs}\n") }
}

fn said(word: &str, value: Option<&String>) -> String {
    value.map(|value| format!("{word} {}\n", quoted(value))).unwrap_or_default()
}

fn start(rule: &StartRule) -> String {
    match rule {
        StartRule::Commit { branch, changed } => {
            format!("start commit={}{}\n", quoted(branch.as_str()), named("changed", changed.as_ref()))
        }
        StartRule::BaseMoved => "start base-moved\n".to_owned(),
        StartRule::Tag { tag } => format!("start tag={}\n", quoted(tag.as_str())),
        StartRule::Schedule { schedule, branch } => format!(
            "start schedule={} zone={} branch={}\n",
            quoted(schedule.fields()),
            quoted(schedule.zone()),
            quoted(branch)
        ),
    }
}

fn input(input: &Input) -> String {
    let (kind, inside) = match &input.kind {
        InputKind::Text { longest } => (format!("longest={longest}"), String::new()),
        InputKind::YesNo => ("kind=\"yes-no\"".to_owned(), String::new()),
        InputKind::Number { least, most } => (format!("kind=\"number\" least={least} most={most}"), String::new()),
        InputKind::OneOf(choices) => {
            let choices: Vec<_> = choices.iter().map(|choice| quoted(choice)).collect();
            (String::new(), format!("{{ one-of {} }}", choices.join(" ")))
        }
    };
    let (default, help) = (named("default", input.default.as_ref()), named("help", input.help.as_ref()));
    format!("input {} {kind}{default}{help} {inside}\n", quoted(&input.name.value))
}

fn conditions(conditions: &Conditions, earlier: Option<RequiredResult>) -> String {
    let line = |word: &str, one: &Condition| {
        let (branch, tag) = (named("branch", one.branch.as_ref()), named("tag", one.tag.as_ref()));
        format!("{word}{branch}{tag}{}{}\n", named("start", one.start), named("changed", one.changed.as_ref()))
    };
    let whens = conditions.when.iter().map(|one| line("when", &one.value));
    let unlesses = conditions.unless.iter().map(|one| line("unless", &one.value));
    let earlier = earlier.and_then(|said| RequiredResult::WORDS.iter().find(|(_, earlier)| *earlier == said));
    let earlier = earlier.map(|(word, _)| format!("when result=\"{word}\"\n"));
    whens.chain(unlesses).chain(earlier).collect()
}

fn common(job: &Job) -> String {
    let mut out = list("after", &job.after) + &conditions(&job.conditions, job.required_result);
    if !job.matrix.is_empty() {
        out += "matrix {\n";
        for axis in &job.matrix.axes {
            let values: Vec<_> = axis.values.iter().cloned().map(Spanned::from).collect();
            out += &list(&axis.name.value, &values);
        }
        out += &job.matrix.without.iter().map(|without| pairs("without", without)).collect::<String>();
        out += "}\n";
    }
    if job.retry.times > 0 {
        out += &format!("retry {}{}\n", job.retry.times, if job.retry.only_lost { " only=\"lost\"" } else { "" });
    }
    if job.may_fail {
        out += "may-fail\n";
    }
    out += &said("exclusive", job.exclusive.as_ref());
    if job.needs != Needs::default() {
        let tools: Vec<_> = job.needs.tools.iter().cloned().map(Spanned::from).collect();
        out += &format!("runner{} {{ {} }}\n", named("pool", job.needs.pool.as_ref()), list("tool", &tools));
    }
    out
}

fn step(step: &Step) -> String {
    let may_fail = if step.may_fail { " may-fail=#true" } else { "" };
    let (name, folder, time) =
        (named("name", Some(&step.name)), named("folder", step.folder.as_ref()), named("time", step.time));
    format!("step {}{name}{folder}{time}{may_fail} {{ {} }}\n", quoted(&step.command), pairs("env", &step.env))
}

fn job(job: &Job) -> String {
    let inside = match &job.kind {
        JobKind::Steps(steps) => {
            let written: String = steps.steps.iter().map(step).collect();
            let network = Network::WORDS.iter().find(|(_, one)| *one == steps.network).unwrap().0.to_owned();
            let secret = |one: &SecretUse| {
                let (variable, file) = (named("variable", Some(&one.variable)), named("file", one.file.as_ref()));
                format!("secret {}{variable}{file}\n", quoted(&one.name.value))
            };
            let secrets: String = steps.secrets.iter().map(secret).collect();
            let identity = |one: &IdentityUse| {
                let (variable, file) = (named("variable", Some(&one.variable)), named("file", one.file.as_ref()));
                format!("identity {}{variable}{file} lasts=\"{}\"\n", quoted(&one.audience.value), one.lasts)
            };
            let identities: String = steps.identities.iter().map(identity).collect();
            file_system(&steps.file_system)
                + &pairs("env", &steps.env)
                + &secrets
                + &identities
                + &said("network", Some(&network))
                + &steps.services.iter().map(service).collect::<String>()
                + &files(steps)
                + &limits(steps)
                + &written
        }
        JobKind::Image(image) => {
            let push = |push: &Push| {
                let tags = list("tag", &push.tags) + &list("moving", &push.moving);
                format!("push \"{}\" {{ {tags} }}\n", push.repository)
            };
            let args = image.args.iter().map(|(name, value)| (name, &value.value));
            let more = |word: &str, text: &Option<String>| {
                text.as_ref().map(|text| format!(" {word}={}", quoted(text))).unwrap_or_default()
            };
            let secrets = |word: &str, secrets: &[BuildSecret]| {
                let line =
                    |secret: &BuildSecret| format!("{word} {} id={}\n", quoted(&secret.name.value), quoted(&secret.id));
                secrets.iter().map(line).collect::<String>()
            };
            let network = Network::WORDS.iter().find(|(_, network)| *network == image.network).map(|(word, _)| word);
            let layers = LayerForm::WORDS.iter().find(|(_, form)| Some(*form) == image.layers).map(|(word, _)| word);
            let platforms: Vec<_> = image.platforms.iter().cloned().map(Spanned::from).collect();
            let each = if image.builds_native { " build=\"native\"\n" } else { "\n" };
            format!("recipe {} context={}", quoted(&image.recipe), quoted(&image.context))
                + &more("ignore", &image.ignore)
                + &more("target", &image.target)
                + "\n"
                + &secrets("secret", &image.secrets)
                + &secrets("ssh", &image.keys)
                + &network.map(|word| format!("network \"{word}\"\n")).unwrap_or_default()
                + if image.holds_secrets { "holds-secrets\n" } else { "" }
                + &layers.map(|word| format!("layers \"{word}\"\n")).unwrap_or_default()
                + &list("platform", &platforms).replace('\n', each)
                + &image.cache.as_ref().map(|cache| format!("cache \"{cache}\"\n")).unwrap_or_default()
                + &pairs("arg", args)
                + &limit(image.time)
                + &image.pushes.iter().map(push).collect::<String>()
        }
        JobKind::Rollout(rollout) => {
            let manifests: Vec<_> = rollout.manifests.iter().cloned().map(Spanned::from).collect();
            said("to", Some(&rollout.to.value))
                + &said("image", Some(&rollout.image.value))
                + &list("manifests", &manifests)
                + &format!("limit time=\"{}\"\n", rollout.time)
                + if rollout.on_failure == OnFailure::Restore { "on-failure \"restore\"\n" } else { "" }
        }
    };
    format!("{} {} {{\n{}{inside}}}\n", job.kind.word(), quoted(&job.name.value), common(job))
}

fn file_system(file_system: &FileSystem) -> String {
    match file_system {
        FileSystem::Image(image) => said("container", Some(&image.value)),
        FileSystem::Built(job) => format!("container image={}\n", quoted(&job.value)),
        FileSystem::Host => "on-host\n".to_owned(),
    }
}

fn files(steps: &StepsJob) -> String {
    let mut out = String::new();
    for Fetch { name, from, to } in &steps.fetches {
        let from = named("from", from.as_ref().map(|from| &from.value));
        out += &format!("fetch {}{from}{}\n", quoted(&name.value), named("to", to.as_ref()));
    }
    for Cache { path, key, newest } in &steps.caches {
        let key = named("key", Some(&key.value));
        out += &format!("cache {}{key} {{ {} }}\n", quoted(path), list("newest", newest));
    }
    for Artifact { name, patterns, keep, holds_secrets } in &steps.artifacts {
        let patterns: String = patterns.iter().map(|pattern| format!(" {}", quoted(pattern))).collect();
        let holds = if *holds_secrets { " holds-secrets=#true" } else { "" };
        out += &format!("artifact {}{patterns} keep=\"{keep}\"{holds}\n", quoted(&name.value));
    }
    for Output { name, file } in &steps.outputs {
        out += &format!("output {} file={}\n", quoted(&name.value), quoted(file));
    }
    out + &steps
        .test_reports
        .iter()
        .map(|pattern| format!("test-report junit={}\n", quoted(pattern)))
        .collect::<String>()
}

fn limits(steps: &StepsJob) -> String {
    let Limits { memory, processes, cpu, disk } = steps.limits;
    let processes = processes.map(|count| format!(" processes={count}")).unwrap_or_default();
    let cpu = cpu.map(|cpu| format!(" cpu={}.{:03}", cpu / 1000, cpu % 1000)).unwrap_or_default();
    let (memory, disk) = (named("memory", memory), named("disk", disk));
    format!("limit time=\"{}\"{memory}{disk}{processes}{cpu}\n", steps.time)
}

fn service(service: &Service) -> String {
    let within = named("within", Some(service.within));
    let ready = match &service.ready {
        None => String::new(),
        Some(Ready::Tcp(port)) => format!("ready tcp={port}{within}\n"),
        Some(Ready::Command(command)) => format!("ready {}{within}\n", quoted(command)),
    };
    let (name, image) = (quoted(&service.name.value), quoted(&service.image.value));
    let command = said("run", service.command.as_ref());
    format!("service {name} {image} {{\n{command}{ready}{}}}\n", pairs("env", &service.env))
}

fn limit(time: Duration) -> String {
    format!("limit time=\"{time}\"\n")
}

fn stage(stage: &Stage) -> String {
    let approval = stage.approval.as_ref();
    let approval = approval.map(|one| {
        let (by, within) = (named("by", one.by.as_ref()), named("within", one.within));
        format!("approval {}{by}{within}\n", quoted(&one.question))
    });
    let earlier = (stage.required_result != RequiredResult::default()).then_some(stage.required_result);
    let words = conditions(&stage.conditions, earlier)
        + &pairs("env", &stage.env)
        + &said("exclusive", stage.exclusive.as_ref())
        + &approval.unwrap_or_default();
    let jobs: String = stage.jobs.iter().map(job).collect();
    format!("stage {} {{\n{words}{jobs}}}\n", quoted(&stage.name.value))
}

fn print(pipeline: &Pipeline) -> String {
    let mut out = said("about", pipeline.about.as_ref());
    out += &pipeline.starts.iter().map(start).collect::<String>();
    out += &pipeline.inputs.iter().map(input).collect::<String>();
    out += &pairs("env", &pipeline.env);
    out += if pipeline.supersede { "supersede\n" } else { "" };
    out + &pipeline.stages.iter().map(stage).collect::<String>()
}

fn name() -> impl Strategy<Value = String> {
    "[a-z]([a-z0-9-]{0,6}[a-z0-9])?"
}

fn text() -> impl Strategy<Value = String> {
    "[ -~é\n\t\u{2028}]{1,12}".prop_filter("not blank", |text| !text.trim().is_empty())
}

fn variables() -> impl Strategy<Value = BTreeMap<String, String>> {
    btree_map("[A-BD-OQ-Z][A-Z0-9_]{0,5}", text(), 0..3)
}

fn pattern() -> impl Strategy<Value = Pattern> {
    "[a-z]{1,4}(/\\*|\\*)?".prop_map(|text| Pattern::new(&text).unwrap())
}

fn duration() -> impl Strategy<Value = Duration> {
    (1u32..1_000_000).prop_map(Duration::from_seconds)
}

/// Conditions of one kind only, so that none contradicts another.
fn any_conditions() -> impl Strategy<Value = Conditions> {
    let one = prop_oneof![
        pattern().prop_map(|changed| Condition { changed: Some(changed), ..Condition::default() }),
        Just(Condition { start: Some(StartKind::Try), ..Condition::default() }),
    ];
    vec(one, 0..3)
        .prop_map(|when| Conditions { when: when.into_iter().map(Spanned::from).collect(), unless: Vec::new() })
}

fn any_matrix() -> impl Strategy<Value = Matrix> {
    let axis = btree_set("[a-z0-9]{1,5}", 1..4);
    (btree_map("[a-v][a-z]{0,5}", axis, 0..3), any::<bool>()).prop_map(|(axes, leave_out)| {
        let axes: Vec<_> = axes
            .into_iter()
            .map(|(name, values)| Axis { name: name.into(), values: values.into_iter().collect() })
            .collect();
        let several = axes.first().filter(|axis| leave_out && axis.values.len() > 1);
        let without = several.map(|axis| BTreeMap::from([(axis.name.value.clone(), axis.values[0].clone())]));
        Matrix { axes, without: without.into_iter().collect() }
    })
}

fn any_step() -> impl Strategy<Value = Step> {
    (text(), text(), option::of("[a-z]{1,4}/[a-z]{1,4}"), variables(), option::of(duration()), any::<bool>())
        .prop_map(|(name, command, folder, env, time, may_fail)| Step { name, command, folder, env, time, may_fail })
}

fn any_service() -> impl Strategy<Value = Service> {
    let ready = prop_oneof![(1u16..).prop_map(Ready::Tcp), text().prop_map(Ready::Command)];
    (option::of(text()), variables(), ready, duration()).prop_map(|(command, env, ready, within)| Service {
        command,
        name: String::new().into(),
        image: "x.test/pond:1".to_owned().into(),
        env,
        ready: Some(ready),
        within,
    })
}

fn any_kind() -> impl Strategy<Value = JobKind> {
    let secrets = btree_set("[A-BD-OQ-Z][A-Z]{0,5}", 0..3).prop_map(|names| {
        let one = |(at, name): (usize, String)| SecretUse {
            name: name.into(),
            variable: format!("V{at}"),
            file: (at % 2 == 1).then(|| format!("file-{at}")),
        };
        names.into_iter().enumerate().map(one).collect()
    });
    let artifact = (vec("[a-z]{1,3}(/\\*\\*)?", 1..3), duration());
    let cache = ("[a-z]{1,5}", "[a-z]{1,3}-\\{hash [a-z]{1,3}\\}", vec("[a-z]{1,4}-", 0..3));
    let files =
        (vec(artifact, 0..3), vec(cache, 0..2), vec("[a-z]{1,4}/[a-z]{1,3}", 0..2), vec("out/[a-z]{1,4}", 0..2));
    let limits =
        (option::of(1u64..1 << 40), option::of(1u32..9999), option::of(1u32..64_000), option::of(1u64..1 << 40))
            .prop_map(|(memory, processes, cpu, disk)| Limits {
                memory: memory.map(Size::from_bytes),
                processes,
                cpu,
                disk: disk.map(Size::from_bytes),
            });
    let around = (prop_oneof![Just(Network::None), Just(Network::Outbound)], vec(any_service(), 0..3), any::<bool>());
    let settings = (variables(), secrets, duration(), limits, vec(any_step(), 1..4), around);
    let steps = (settings, files).prop_map(
        |(
            (env, secrets, time, limits, steps, (network, services, may_be_on_host)),
            (artifacts, caches, outputs, test_reports),
        )| {
            let artifact = |(at, (patterns, keep)): (usize, (Vec<String>, Duration))| Artifact {
                name: format!("k{at}").into(),
                holds_secrets: patterns.len() == 2,
                patterns,
                keep,
            };
            let cache = |(path, key, newest): (String, String, Vec<String>)| Cache {
                path,
                key: key.into(),
                newest: newest.into_iter().map(Spanned::from).collect(),
            };
            let output = |(at, file): (usize, String)| Output { name: format!("o{at}").into(), file };
            JobKind::Steps(StepsJob {
                file_system: if services.is_empty() && may_be_on_host {
                    FileSystem::Host
                } else {
                    FileSystem::Image("x.test/base:{commit.short}".to_owned().into())
                },
                steps,
                env,
                network,
                services: services
                    .into_iter()
                    .enumerate()
                    .map(|(at, service)| Service { name: format!("b{at}").into(), ..service })
                    .collect(),
                identities: test_reports
                    .iter()
                    .enumerate()
                    .map(|(at, audience)| IdentityUse {
                        audience: audience.clone().into(),
                        variable: format!("I{at}"),
                        file: (at % 2 == 1).then(|| format!("token-{at}")),
                        lasts: IdentityUse::USUAL,
                    })
                    .collect(),
                secrets,
                fetches: Vec::new(),
                caches: caches.into_iter().map(cache).collect(),
                artifacts: artifacts.into_iter().enumerate().map(artifact).collect(),
                outputs: outputs.into_iter().enumerate().map(output).collect(),
                test_reports,
                time,
                limits,
            })
        },
    );
    let push = vec("[a-z]{1,3}-\\{run\\}", 1..3).prop_map(|tags| Push {
        repository: "x.test/desk".parse().unwrap(),
        moving: tags.iter().cloned().map(Spanned::from).collect(),
        tags: tags.into_iter().map(Spanned::from).collect(),
    });
    let args = btree_map("[A-Z]{1,4}", "[a-z]{0,3}", 0..2);
    let secrets = || {
        btree_map("[a-z]{1,3}", "S[A-Z]{0,3}", 0..2).prop_map(|secrets| {
            secrets.into_iter().map(|(id, name)| BuildSecret { name: name.into(), id }).collect::<Vec<_>>()
        })
    };
    let file = || option::of("[a-z]{1,5}");
    let form = prop::sample::select(vec![None, Some(LayerForm::Gzip), Some(LayerForm::Zstd)]);
    let reach = prop::sample::select(vec![Network::None, Network::Outbound]);
    let platforms = vec(prop::sample::select(vec!["linux/amd64".to_owned(), "linux/arm/v7".to_owned()]), 0..2);
    let cache = option::of(Just("x.test/cache".parse().unwrap()));
    let how = (file(), file(), secrets(), secrets(), reach, form, platforms, cache);
    let image = ("[a-z]{1,5}", "[a-z]{1,5}", args, vec(push, 1..3), duration(), how).prop_map(
        |(recipe, context, args, pushes, time, how)| {
            let args = args.into_iter().map(|(name, value)| (name, value.into())).collect();
            let (ignore, target, secrets, keys, network, layers, platforms, cache) = how;
            JobKind::Image(ImageJob {
                recipe,
                context,
                ignore,
                target,
                builds_native: !platforms.is_empty() && cache.is_some(),
                holds_secrets: cache.is_some(),
                platforms,
                args,
                secrets,
                keys,
                network,
                layers,
                cache,
                pushes,
                time,
            })
        },
    );
    prop_oneof![3 => steps, 1 => image]
}

fn any_job() -> impl Strategy<Value = Job> {
    let retry =
        (0u32..3, any::<bool>()).prop_map(|(times, only_lost)| Retry { times, only_lost: only_lost && times > 0 });
    let needs = (option::of(name()), vec("[a-z]{1,5}", 0..3)).prop_map(|(pool, tools)| Needs {
        pool,
        tools,
        ..Needs::default()
    });
    let required_result = option::of(prop_oneof![Just(RequiredResult::Passed), Just(RequiredResult::Any)]);
    let settings = (any_conditions(), required_result, any_matrix(), retry, any::<bool>(), option::of(name()), needs);
    (any_kind(), settings).prop_map(
        |(kind, (conditions, required_result, matrix, retry, may_fail, exclusive, needs))| {
            // Tags must tell the jobs of a matrix apart.
            let matrix = if matches!(kind, JobKind::Image(_)) { Matrix::default() } else { matrix };
            let (name, after) = (String::new().into(), Vec::new());
            Job { name, after, conditions, required_result, matrix, retry, may_fail, exclusive, needs, kind }
        },
    )
}

fn any_stage() -> impl Strategy<Value = Stage> {
    let approval = option::of((text(), option::of(name()), option::of(duration())))
        .prop_map(|said| said.map(|(question, by, within)| Approval { question, by, within }));
    let jobs = (vec(any_job(), 1..4), vec(any::<bool>(), 4));
    (variables(), approval, jobs, any::<bool>()).prop_map(|(env, approval, (mut jobs, after), last)| {
        let names: Vec<Spanned<String>> = (0..jobs.len()).map(|at| format!("j{at}").into()).collect();
        for (at, job) in jobs.iter_mut().enumerate() {
            job.name = names[at].clone();
            job.after = if after[at] { names[..at].to_vec() } else { Vec::new() };
        }
        let required_result = if last { RequiredResult::Any } else { RequiredResult::Passed };
        let conditions = Conditions::default();
        Stage { name: String::new().into(), conditions, required_result, env, exclusive: None, approval, jobs }
    })
}

fn any_start() -> impl Strategy<Value = StartRule> {
    let schedule = (0u8..60, 0u8..24)
        .prop_map(|(minute, hour)| Schedule::new(&format!("{minute} {hour} * * 1-5"), "Europe/Lisbon").unwrap());
    prop_oneof![
        (pattern(), option::of(pattern())).prop_map(|(branch, changed)| StartRule::Commit { branch, changed }),
        Just(StartRule::BaseMoved),
        pattern().prop_map(|tag| StartRule::Tag { tag }),
        (schedule, name()).prop_map(|(schedule, branch)| StartRule::Schedule { schedule, branch }),
    ]
}

fn any_input() -> impl Strategy<Value = Input> {
    let kind = prop_oneof![
        (12u32..99).prop_map(|longest| InputKind::Text { longest }),
        btree_set(text(), 1..4).prop_map(|choices| InputKind::OneOf(choices.into_iter().collect())),
        Just(InputKind::YesNo),
        (-9i64..0, 0i64..9).prop_map(|(least, most)| InputKind::Number { least, most }),
    ];
    (kind, any::<bool>(), option::of(text())).prop_map(|(kind, has_default, help)| {
        let default = has_default.then(|| match &kind {
            InputKind::Text { .. } => "some".to_owned(),
            InputKind::OneOf(choices) => choices[0].clone(),
            InputKind::YesNo => "no".to_owned(),
            InputKind::Number { least, .. } => least.to_string(),
        });
        Input { name: String::new().into(), kind, default, help }
    })
}

fn any_pipeline() -> impl Strategy<Value = Pipeline> {
    let parts = (vec(any_start(), 0..3), vec(any_input(), 0..3), variables(), any::<bool>(), vec(any_stage(), 1..4));
    (option::of(text()), parts, duration()).prop_map(
        |(about, (starts, mut inputs, env, supersede, mut stages), time)| {
            for (at, input) in inputs.iter_mut().enumerate() {
                input.name = format!("a{at}").into();
            }
            for (at, stage) in stages.iter_mut().enumerate() {
                stage.name = format!("s{at}").into();
                // An image's name is its own in the whole file.
                for job in stage.jobs.iter_mut().filter(|job| matches!(job.kind, JobKind::Image(_))) {
                    let renamed: Spanned<String> = format!("i{at}-{}", job.name.value).into();
                    job.name = renamed;
                }
                let names: Vec<_> = stage.jobs.iter().map(|job| job.name.value.clone()).collect();
                for job in &mut stage.jobs {
                    job.after.retain(|after| names.contains(&after.value));
                }
            }
            let built =
                stages[0].jobs.iter().find(|job| matches!(job.kind, JobKind::Image(_))).map(|job| job.name.clone());
            if let Some(image) = built {
                let kind = JobKind::Rollout(RolloutJob {
                    to: "staging".to_owned().into(),
                    image,
                    manifests: vec!["deploy/*.yaml".to_owned()],
                    time,
                    on_failure: if supersede { OnFailure::Restore } else { OnFailure::Leave },
                });
                let name = "roll".to_owned().into();
                let job = Job { name, after: Vec::new(), kind, ..stages[0].jobs[0].clone() };
                let job = Job { matrix: Matrix::default(), needs: Needs::default(), ..job };
                let name = "last".to_owned().into();
                stages.push(Stage { name, jobs: vec![job], approval: None, ..stages[0].clone() });
            }
            Pipeline { about, starts, inputs, env, supersede, stages }
        },
    )
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]

    #[test]
    fn any_pipeline_printed_as_kdl_reads_back_as_itself(pipeline in any_pipeline()) {
        reads_back(&pipeline)?;
    }
}

fn reads_back(pipeline: &Pipeline) -> Result<(), TestCaseError> {
    let text = print(pipeline);
    let again = read(&text).map_err(|faults| {
        let shown: String = faults.iter().map(|fault| fault.render("pondrix.kdl")).collect();
        TestCaseError::fail(format!("{shown}\n{text}"))
    })?;
    prop_assert_eq!(&again, pipeline, "{}", text);
    let stored = serde_json::to_string(pipeline).unwrap();
    prop_assert_eq!(&serde_json::from_str::<Pipeline>(&stored).unwrap(), pipeline);
    Ok(())
}

#[test]
fn names_that_are_values_elsewhere_read_back_as_names() {
    let text = "stage \"v\" { job \"u\" { container \"x.test/y:1\"; matrix { \"inf\" \"1\" \"2\" }; step \"x\" } }";
    let pipeline = read(text).unwrap();
    assert_eq!(pipeline.stages[0].jobs[0].matrix.axes[0].name.value, "inf");
    reads_back(&pipeline).unwrap();
}
