//! Secrets, and the preflight that looks for them.

use std::process::Command;

use pondrix_core::State;
use pondrix_standin::garden::REGISTRY;

use crate::images::found_in;
use crate::someone::Someone;
use crate::support::{PONDRIX, Server, World, one_job};

const VALUE: &str = "s3cret-of-the-lily";

#[tokio::test(flavor = "multi_thread")]
async fn a_secret_reaches_the_job_that_names_it_and_shows_nowhere() {
    let world = World::new().await;
    let lines = "secret \"TICKET_API_KEY\"\n secret \"DEPLOY_KEY\" variable=\"KEY_FILE\" file=\"deploy.key\"\n \
                 step \"test ${#TICKET_API_KEY} = 18; echo the key is $TICKET_API_KEY, encoded $(printf %s $TICKET_API_KEY | base64)\"\n \
                 step \"echo in $KEY_FILE; cat $KEY_FILE\"\n step \"printf s3cret-; sleep 0.3; echo of-the-lily; exit 7\"";
    let (repository, _) = world.project("plant-labels", &[]).await;
    repository.write("pondrix.kdl", &one_job(lines)).unwrap();
    let set = ["secret", "set", "plant-labels", "TICKET_API_KEY"];
    assert!(world.pondrix_with(&set, &format!("{VALUE}\n")).0);
    let set = ["secret", "set", "plant-labels", "DEPLOY_KEY"];
    assert!(world.pondrix_with(&set, "-----BEGIN KEY-----\nwater\n-----END KEY-----\n").0);
    let run = world.run_of("plant-labels", &repository.push("With secrets").unwrap()).await;
    let detail = world.end_of(&run).await;
    assert_eq!(detail.summary.state, State::Failed, "its last step fails on purpose");
    let expected = "the key is (secret TICKET_API_KEY), encoded (secret TICKET_API_KEY)\nin /run/pondrix/deploy.key\n\
                    (secret DEPLOY_KEY)\n(secret TICKET_API_KEY)\n";
    assert_eq!(world.log(&run, "verify/unit").await, expected);
    let listed = world.pondrix(&["secret", "list", "plant-labels"]).await;
    assert!(listed.out.contains("TICKET_API_KEY") && !listed.out.contains(VALUE), "{}", listed.out);
    // Nothing that the server or the runner keeps has it in the clear; whoever looks would see it.
    let looked = || {
        let everything = Command::new("grep").args(["-rlaF", VALUE]).arg(world.folder.path()).output().unwrap();
        String::from_utf8_lossy(&everything.stdout).into_owned()
    };
    assert_eq!(looked(), "");
    let planted = world.folder.path().join("server/planted");
    std::fs::write(&planted, format!("\0\u{1}{VALUE}\n")).unwrap();
    assert_eq!(looked().trim(), planted.display().to_string());
    std::fs::remove_file(planted).unwrap();
    let removed = world.pondrix(&["secret", "remove", "plant-labels", "TICKET_API_KEY"]).await;
    assert_eq!(removed.status, 0, "{}", removed.err);
    let twice = world.pondrix(&["secret", "remove", "plant-labels", "TICKET_API_KEY"]).await;
    assert!(twice.err.contains("see `pondrix secret list plant-labels`"), "{}", twice.err);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_run_whose_needs_are_not_there_says_all_of_them_at_once_and_runs_nothing() {
    let world = World::new().await;
    let lines = "secret \"TICKET_API_KEY\"\n secret \"OTHER_KEY\"\n step \"echo ran\"";
    let more = "stage \"more\" { job \"no-image\" { container \"registry.fernhollow.test/base/none:1\"; step \"true\" } }\n\
                stage \"p\" { image \"desk\" { push \"registry.fernhollow.test/visitor/desk\" { tag \"{run}\" } } }\n\
                stage \"s\" { rollout \"desk\" { to \"moon\"; image \"desk\"; manifests \"deploy/*\" } }\n";
    let (repository, _) = world.project("plant-labels", &[]).await;
    repository.write("pondrix.kdl", &(one_job(lines) + more)).unwrap();
    assert!(world.pondrix_with(&["secret", "set", "plant-labels", "OTHER_KEY"], VALUE).0);
    let run = world.run_of("plant-labels", &repository.push("Nothing is there").unwrap()).await;
    let detail = world.end_of(&run).await;
    assert_eq!(detail.summary.state, State::Failed);
    let shown = world.pondrix(&["show", &run.to_string()]).await;
    for wanted in [
        "Nothing of it ran",
        "verify/unit: plant-labels has no secret `TICKET_API_KEY`",
        "fix: pondrix secret set plant-labels TICKET_API_KEY",
        "more/no-image: the registry registry.fernhollow.test has no registry.fernhollow.test/base/none:1",
        "s/desk: there is no environment `moon`",
    ] {
        assert!(shown.out.contains(wanted), "no `{wanted}` in {}", shown.out);
    }
    let jobs: Vec<_> = detail.missing.iter().map(|fault| fault.job.as_str()).collect();
    assert_eq!(jobs, ["verify/unit", "more/no-image", "p/desk", "s/desk", "s/desk"], "{:?}", detail.missing);
    assert!(world.log(&run, "verify/unit").await.is_empty(), "a step ran");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_cannot_be_a_secret_is_refused_and_a_check_knows_the_names() {
    let world = World::new().await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    for (name, value, words) in [
        ("KEY", "abc", "at least 4 letters"),
        ("A-B", VALUE, "`A-B` cannot be a secret's name"),
        ("CI", VALUE, "`CI` is a name that Pondrix itself uses"),
    ] {
        let (done, said) = world.pondrix_with(&["secret", "set", "plant-labels", name], value);
        assert!(!done && said.contains(words), "{said}");
    }
    assert!(world.pondrix_with(&["secret", "set", "plant-labels", "TICKET_API_KEY"], VALUE).0);
    repository.write("pondrix.kdl", &one_job("secret \"TICKET_API_KYE\"\n step \"true\"")).unwrap();
    let mut command = Command::new(PONDRIX);
    command.arg("check").current_dir(repository.folder());
    command.env("PONDRIX_URL", world.url()).env("PONDRIX_TOKEN", &world.token);
    let said = crate::support::said(command).await;
    assert_eq!(said.status, 2, "{}{}", said.out, said.err);
    assert!(said.out.contains("plant-labels has no secret `TICKET_API_KYE`"), "{}", said.out);
    assert!(
        said.out.contains("did you mean `TICKET_API_KEY`?") && said.out.contains("pondrix.kdl:5:16"),
        "{}",
        said.out
    );
    let mut command = Command::new(PONDRIX);
    command.args(["check", "--offline"]).current_dir(repository.folder());
    assert_eq!(crate::support::said(command).await.status, 0);
}

/// What a job writes of a secret so that its test knows it: hidden it would tell nothing.
fn hash(value: &str) -> String {
    use sha2::Digest as _;
    let digest: [u8; 32] = sha2::Sha256::digest(value).into();
    digest.iter().map(|byte| format!("{byte:02x}")).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_job_gets_the_nearest_value_and_that_of_an_environment_only_in_a_stage_that_goes_there() {
    let world = World::new().await;
    let admin = Someone::with(&world, "admin", &world.token);
    let peek = |name: &str| {
        format!(
            "job \"{name}\" {{\n container \"{REGISTRY}/base/shell:1\"\n secret \"KEY\"\n step \"printf %s $KEY | sha256sum\"\n }}"
        )
    };
    let rolling = crate::environments::rolling_out(&peek("near"));
    let pipeline = format!("{rolling}stage \"after\" {{\n {}\n}}\n", peek("far"));
    let repository = crate::environments::app(&world, &pipeline).await;
    let set = |whom: &str, value: &str| {
        let (set, said) = world.pondrix_with(&["secret", "set", whom, "KEY"], value);
        assert!(set, "{said}");
    };
    let pushed = async |title: &str| {
        let run = world.run_of("plant-labels", &repository.push(title).unwrap()).await;
        world.passes(&run).await;
        let near = world.log(&run, "out/near").await;
        let far = world.log(&run, "after/far").await;
        [near, far].map(|log| log.split_whitespace().next().unwrap_or_default().to_owned())
    };
    set("*", "of-all-projects");
    assert_eq!(pushed("For all").await, [hash("of-all-projects"), hash("of-all-projects")]);
    set("environment:staging", "of-the-staging");
    repository.write("README.md", "2").unwrap();
    assert_eq!(pushed("And an environment").await, [hash("of-the-staging"), hash("of-all-projects")]);
    set("plant-labels", "of-the-project");
    repository.write("README.md", "3").unwrap();
    assert_eq!(pushed("And a project").await, [hash("of-the-staging"), hash("of-the-project")]);
    // Whoever looks sees which there are, for whom, and which run had each last; and no value.
    let listed = admin.pondrix(&["secret", "list", "plant-labels"]).await.out;
    for (whom, used) in [("stages that go to staging", "#3"), ("all projects", "#2"), ("plant-labels", "#3")] {
        let line = listed.lines().find(|line| line.starts_with("KEY") && line.contains(&format!("  {whom}  ")));
        let line = line.unwrap_or_else(|| panic!("{whom}: {listed}"));
        assert!(line.ends_with(&format!("plant-labels{used}")), "{line}");
    }
    assert!(!listed.contains("of-the-staging"), "{listed}");
    let of_staging = admin.pondrix(&["secret", "list", "environment:staging"]).await.out;
    assert!(of_staging.contains("runs of protected refs") && of_staging.lines().count() == 2, "{of_staging}");
    let told = admin.pondrix(&["audit", "list", "--action", "secret give", "--json"]).await.out;
    let given = ["KEY for environment:staging", "KEY for *", "\"KEY\""];
    assert!(given.iter().all(|target| told.contains(target)), "{told}");
    // For protected refs, where nothing else was said; the environment itself takes any here.
    repository.write("pondrix.kdl", &pipeline.replace("start commit=\"**\"", "start commit=\"**\" ")).unwrap();
    let run = crate::environments::push_to(&world, &repository, "plan-b").await;
    let ended = world.end_of(&run).await;
    let told: Vec<_> = ended.missing.iter().map(|missing| format!("{}: {}", missing.job, missing.what)).collect();
    assert_eq!(told.len(), 1, "{told:?}");
    assert!(told[0].starts_with("out/near: the secret `KEY` is for runs of protected refs"), "{told:?}");
    // An environment that is gone has none, and another of its name is another one.
    assert_eq!(admin.pondrix(&["environment", "remove", "staging", "--yes"]).await.status, 0);
    let gone = admin.pondrix(&["secret", "list", "environment:staging"]).await.out;
    assert!(gone.contains("No secrets yet. Set one: pondrix secret set 'environment:staging' NAME"), "{gone}");
    let audit = world.pondrix(&["audit", "list", "--action", "secret set"]).await.out;
    assert!(audit.contains("for protected refs only"), "what is usual for an environment is told, too: {audit}");
    let (set, said) = world.pondrix_with(&["secret", "set", "environment:staging", "KEY"], "of-nothing");
    assert!(!set && said.contains("there is no environment `staging`"), "{said}");
}

#[tokio::test(flavor = "multi_thread")]
async fn secrets_for_several_are_set_by_whoever_may_for_all_projects_and_what_is_not_set_is_told() {
    let world = World::new().await;
    let wren = Someone::new(&world, "wren", &["--role", "maintain", "--project", "plant-labels"]).await;
    let lines = "secret \"KEY\"\n secret \"PRINTER_KEY\"\n step \"true\"";
    let (_, run) = world.run_of_pipeline("plant-labels", &one_job(lines)).await;
    world.end_of(&run).await;
    let set = ["secret", "set", "*", "KEY", "--file", "/etc/hostname"];
    for refused in [&set[..], &["secret", "remove", "*", "KEY"], &["secret", "list", "environment:staging"]] {
        let said = wren.pondrix(refused).await;
        assert!(said.status == 4 && said.err.contains("the role `secrets` for all projects"), "{said:?}");
    }
    assert!(world.pondrix_with(&["secret", "set", "*", "KEY"], "of-all-projects").0);
    let listed = wren.pondrix(&["secret", "list", "plant-labels"]).await.out;
    assert!(listed.contains("all projects"), "{listed}");
    // A run of a project that she may not see has had it, and is not named.
    let (_, hidden) = world.run_of_pipeline("seed-bank", &one_job("secret \"KEY\"\n step \"true\"")).await;
    world.passes(&hidden).await;
    let listed = wren.pondrix(&["secret", "list", "plant-labels"]).await.out;
    assert!(
        !listed.contains("seed-bank") && listed.lines().any(|line| line.starts_with("KEY") && line.contains("now")),
        "{listed}"
    );
    let all = world.pondrix(&["secret", "list", "plant-labels"]).await.out;
    assert!(all.contains("seed-bank#1"), "{all}");
    assert!(listed.ends_with("PRINTER_KEY is not set, and verify/unit of plant-labels#1 names it\n"), "{listed}");
    assert_eq!(world.pondrix(&["secret", "remove", "*", "KEY"]).await.status, 0);
    let twice = world.pondrix(&["secret", "remove", "*", "KEY"]).await;
    assert!(twice.err.contains("there is no secret `KEY` for *; see `pondrix secret list '*'`"), "{twice:?}");
    let odd = world.pondrix(&["secret", "list", "Two Words"]).await;
    assert!(odd.err.contains("write a project's name, `environment:NAME`, or `*` for all projects"), "{odd:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_of_secrets_and_a_folder_of_them_are_imported_after_it_is_said_what_becomes_of_which() {
    let world = World::new().await;
    world.project("plant-labels", &[]).await;
    let file = world.folder.path().join("desk.env");
    std::fs::write(&file, "# of the desk\nTICKET_KEY=opens-every-gate\nGATE_CODE='fern-gate-2046'\n").unwrap();
    let path = file.display().to_string();
    for set in ["GATE_CODE", "RADIO_KEY"] {
        assert!(world.pondrix_with(&["secret", "set", "plant-labels", set], "as-it-was").0);
    }
    let asked = world.pondrix(&["secret", "import", "plant-labels", &path]).await;
    assert_eq!(asked.out, "set       TICKET_KEY\nset anew  GATE_CODE\nstays     RADIO_KEY\n", "{asked:?}");
    assert!(asked.status == 2 && asked.err.contains("say --yes to have it done"), "{asked:?}");
    let names = async || {
        let listed = world.client.secrets(&"plant-labels".parse().unwrap()).await.unwrap().secrets;
        listed.into_iter().map(|secret| secret.name).collect::<Vec<_>>()
    };
    assert_eq!(names().await, ["GATE_CODE", "RADIO_KEY"], "nothing was set");
    let done = world.pondrix(&["secret", "import", "plant-labels", &path, "--yes", "--protected"]).await;
    assert!(done.out.ends_with("2 secrets of plant-labels are set\n"), "{done:?}");
    assert_eq!(names().await, ["GATE_CODE", "RADIO_KEY", "TICKET_KEY"]);
    let folder = world.folder.path().join("keys");
    std::fs::create_dir_all(folder.join("..data")).unwrap();
    std::fs::write(folder.join("DEPLOY_KEY"), "-----BEGIN KEY-----\nwater\n-----END KEY-----\n").unwrap();
    let keys = folder.display().to_string();
    let done = world.pondrix(&["secret", "import", "*", &keys, "--yes"]).await;
    assert!(done.out.ends_with("1 secrets of all projects are set\n"), "{done:?}");
    let run = {
        let line = "secret \"DEPLOY_KEY\" variable=\"KEY\"\n step \"printf %s \\\"$KEY\\\" | sha256sum\"";
        let repository = pondrix_standin::garden::Repository::new(world.folder.path(), "seed-bank", &[]).unwrap();
        let new = pondrix_api::NewProject {
            name: "seed-bank".into(),
            repository: repository.bare.display().to_string(),
            credential: None,
        };
        let project = world.client.add_project(&new).await.unwrap();
        repository.set_hook(project.hook.as_deref()).unwrap();
        repository.write("pondrix.kdl", &one_job(line)).unwrap();
        world.run_of("seed-bank", &repository.push("Keys").unwrap()).await
    };
    world.passes(&run).await;
    let whole = hash("-----BEGIN KEY-----\nwater\n-----END KEY-----\n");
    assert!(world.log(&run, "verify/unit").await.starts_with(&whole), "the value is the file, as it is");
    // What cannot be set is told, all of it at once, and nothing is.
    std::fs::write(&file, "LARK=sings-at-dawn\nopens-every-gate\nTWO WORDS=x\nLARK=again\n").unwrap();
    let faulty = world.pondrix(&["secret", "import", "plant-labels", &path, "--yes"]).await;
    for words in ["line 2: it is no NAME=VALUE", "line 3: ", "line 4: LARK is in line 1 already", "nothing was set"] {
        assert!(faulty.err.contains(words), "{words}: {faulty:?}");
    }
    assert!(
        faulty.status == 2 && !faulty.err.contains("opens-every-gate") && !faulty.err.contains("sings"),
        "{faulty:?}"
    );
    assert!(!names().await.contains(&"LARK".to_owned()));
}

#[tokio::test(flavor = "multi_thread")]
async fn an_artifact_or_a_layer_that_holds_a_secret_fails_its_job_unless_the_pipeline_says_otherwise() {
    let world = World::new().await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    assert!(world.pondrix_with(&["secret", "set", "plant-labels", "KEY"], VALUE).0);
    let recipe = format!(
        "FROM {REGISTRY}/base/shell:1\nRUN --mount=type=secret,id=KEY echo 'in the middle of' \"$(cat /run/secrets/KEY)\" > /kept\n"
    );
    repository.write("image.recipe", &recipe).unwrap();
    let pipeline = |artifact: &str, image: &str| {
        let job = format!(
            "secret \"KEY\"\n step \"mkdir out; echo $KEY | base64 > out/note\"\n artifact \"out\" \"out\"{artifact}"
        );
        let push = format!("push \"{REGISTRY}/garden/labels\" {{ tag \"{{run}}\" }}");
        let package = format!("stage \"package\" {{ image \"labels\" {{ secret \"KEY\"\n {image}\n {push}\n }} }}\n");
        one_job(&job) + &package
    };
    let ended = async |artifact: &str, image: &str| {
        repository.write("pondrix.kdl", &pipeline(artifact, image)).unwrap();
        world.end_of(&world.run_of("plant-labels", &repository.push("Once more").unwrap()).await).await
    };
    let failed = ended("", "").await;
    let failure = failed.failure.unwrap();
    let words = "the artifact `out` holds the secret KEY, in out/note; leave it out, or write holds-secrets=#true";
    assert!(failure.what.contains(words), "{}", failure.what);
    assert_eq!(failed.stages[0].jobs[0].state, State::Failed);
    let failed = ended(" holds-secrets=#true", "").await;
    assert_eq!(failed.stages[0].jobs[0].state, State::Passed);
    let failure = failed.failure.unwrap();
    assert!(failure.what.contains("the image holds the secret KEY, in /kept; have the recipe"), "{}", failure.what);
    assert!(world.registry.tags("garden/labels").is_empty(), "nothing was pushed");
    // What was found before is found again, though the step is not done again.
    assert_eq!(ended(" holds-secrets=#true ", "").await.summary.state, State::Failed);
    assert_eq!(ended(" holds-secrets=#true", "holds-secrets").await.summary.state, State::Passed);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_secret_that_is_kept_elsewhere_is_read_when_a_job_names_it_and_stays_nowhere_here() {
    let mut world = World::new().await;
    let kept = world.folder.path().join("kept");
    let file = kept.join("plant-labels/PRINTER_KEY");
    std::fs::create_dir_all(file.parent().unwrap()).unwrap();
    std::fs::write(&file, VALUE).unwrap();
    let data = world.folder.path().join("server");
    let url = world.server.take().unwrap().kill();
    let providers = [
        "--secret-provider".to_owned(),
        format!("files=folder:{}", kept.display()),
        "--secret-provider".to_owned(),
        "vault=command:test \"$SECRET_NAME\" = GATE && echo \"gate of $SECRET_FOR\"".to_owned(),
    ];
    let providers: Vec<_> = providers.iter().map(String::as_str).collect();
    world.server = Some(Server::start_allowing(&data, url.trim_start_matches("http://"), &providers));
    for (name, from) in [("PRINTER_KEY", "files"), ("GATE", "vault")] {
        let set = world.pondrix(&["secret", "set", "plant-labels", name, "--from", from]).await;
        assert!(set.err.contains("there is no project"), "{}", set.err);
    }
    let job =
        "secret \"PRINTER_KEY\"\n secret \"GATE\"\n step \"echo ${#PRINTER_KEY} ${#GATE}; echo $PRINTER_KEY $GATE\"";
    let (_, barred) = world.run_of_pipeline("plant-labels", &one_job(job)).await;
    assert_eq!(world.end_of(&barred).await.missing.len(), 2);
    for (name, from) in [("PRINTER_KEY", "files"), ("GATE", "vault")] {
        let set = world.pondrix(&["secret", "set", "plant-labels", name, "--from", from]).await;
        assert!(set.out.contains(&format!("read from {from} whenever")), "{}{}", set.out, set.err);
    }
    let other = world.pondrix(&["secret", "set", "plant-labels", "OTHER", "--from", "safe"]).await;
    assert!(other.err.contains("the server has no provider `safe`; it has: files, vault"), "{}", other.err);
    let run = async || {
        let started = world.pondrix(&["start", "plant-labels", "--json"]).await;
        let started: serde_json::Value = serde_json::from_str(&started.out).unwrap();
        started["run"].as_str().unwrap().parse::<pondrix_core::RunId>().unwrap()
    };
    let first = run().await;
    world.passes(&first).await;
    let expected = format!("{} 20\n(secret PRINTER_KEY) (secret GATE)\n", VALUE.len());
    assert_eq!(world.log(&first, "verify/unit").await, expected);
    // What it is now, and not what it was.
    std::fs::write(&file, "a longer one than it was before").unwrap();
    let second = run().await;
    world.passes(&second).await;
    assert!(world.log(&second, "verify/unit").await.starts_with("31 20\n"));
    assert_eq!(found_in(&data, VALUE), Vec::<String>::new());
    std::fs::remove_file(&file).unwrap();
    let third = run().await;
    let barred = &world.end_of(&third).await.missing;
    assert!(barred[0].what.contains("`files` has no file plant-labels/PRINTER_KEY"), "{barred:?}");
    let list = world.pondrix(&["secret", "list", "plant-labels"]).await.out;
    assert!(list.contains("KEPT") && list.contains("vault"), "{list}");
    // With a value of its own it is kept here again.
    assert!(world.pondrix_with(&["secret", "set", "plant-labels", "PRINTER_KEY"], VALUE).0);
    world.passes(&run().await).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn names_links_and_caches_that_hold_a_secret_are_not_left() {
    let world = World::new().await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    assert!(world.pondrix_with(&["secret", "set", "plant-labels", "KEY"], VALUE).0);
    let ended = async |pipeline: String| {
        repository.write("pondrix.kdl", &pipeline).unwrap();
        world.end_of(&world.run_of("plant-labels", &repository.push("Once more").unwrap()).await).await
    };
    for making in ["touch out/$KEY", "ln -s $KEY out/link", "mkdir out/$KEY; touch out/$KEY/leaf"] {
        let job = format!("secret \"KEY\"\n step \"mkdir -p out; {making}\"\n artifact \"out\" \"out\"");
        let failure = ended(one_job(&job)).await.failure.unwrap();
        let words = "the artifact `out` holds the secret KEY, in out/";
        assert!(failure.what.contains(words) && !failure.what.contains(VALUE), "{making}: {}", failure.what);
    }
    for making in ["touch /$KEY", "ln -s $KEY /link"] {
        let recipe = format!("FROM {REGISTRY}/base/shell:1\nRUN --mount=type=secret,id=KEY,env=KEY {making}\n");
        repository.write("image.recipe", &recipe).unwrap();
        let push = format!("push \"{REGISTRY}/garden/labels\" {{ tag \"{{run}}\" }}");
        let pipeline = format!(
            "start commit=\"main\"\nstage \"package\" {{ image \"labels\" {{ secret \"KEY\"\n {push}\n }} }}\n"
        );
        let failure = ended(pipeline).await.failure.unwrap();
        let words = "the image holds the secret KEY, in the name, link, owner or attributes of a file; have the recipe";
        assert!(failure.what.contains(words) && !failure.what.contains(VALUE), "{making}: {}", failure.what);
    }
    assert!(world.registry.tags("garden/labels").is_empty(), "nothing was pushed");
    // A cache is found by runs that do not have the secret: it is not left, and the job goes on.
    let caching = |making: &str, finds: &str| {
        let job = format!("secret \"KEY\"\n cache \"kept\" key=\"{finds}\"\n step \"mkdir -p kept; {making}\"");
        one_job(&job)
    };
    for (number, making) in
        ["echo $KEY | base64 > kept/note", "touch kept/$KEY", "ln -s $KEY kept/link"].iter().enumerate()
    {
        for _ in 0..2 {
            let run = ended(caching(making, &format!("k{number}"))).await;
            assert_eq!(run.summary.state, State::Passed);
            let log = world.log(&run.summary.run.parse().unwrap(), "verify/unit").await;
            assert!(log.contains("nothing under"), "{making}: a cache was left: {log}");
            assert!(log.contains("it holds the secret KEY, in ") && !log.contains(VALUE), "{making}: {log}");
        }
    }
}
