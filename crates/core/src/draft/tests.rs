//! Drafts of repositories of all kinds.

use proptest::prelude::*;

use super::*;
use crate::pipeline;

fn repository(files: &[(&str, &str)]) -> Repository {
    Repository {
        name: "Visitor Desk".into(),
        branch: "main".into(),
        registry: "registry.fernhollow.test".into(),
        environment: "staging".into(),
        bare_names: None,
        files: files.iter().map(|(path, text)| Found { path: (*path).into(), text: (*text).into() }).collect(),
    }
}

fn jobs(draft: &Draft) -> Vec<String> {
    let pipeline = pipeline::read(&draft.pipeline).unwrap_or_else(|faults| panic!("{faults:#?}\n{}", draft.pipeline));
    pipeline.jobs().map(|(stage, job)| format!("{}/{}", stage.name.value, job.name.value)).collect()
}

#[test]
fn what_is_found_becomes_stages_in_their_order() {
    let manifest = "apiVersion: apps/v1\nkind: Deployment\n";
    let draft = draft(&repository(&[
        ("test.sh", "#!/bin/sh\n"),
        ("package.json", r#"{"scripts": {"test": "x"}}"#),
        ("build/container", "FROM a.test/base:1\n"),
        ("deploy/desk.yaml", manifest),
    ]));
    assert_eq!(jobs(&draft), ["verify/test", "verify/node", "package/visitor-desk", "staging/visitor-desk"]);
    for wanted in [
        "recipe \"build/container\" context=\"build\"",
        "manifests \"deploy/*.yaml\"",
        "container \"a.test/base:1\"",
        "step \"npm install\"",
        "step \"npm test\"",
        "tag \"{commit.short}-{run}\"",
    ] {
        assert!(draft.pipeline.contains(wanted), "{}", draft.pipeline);
    }
    assert!(!draft.pipeline.contains("npm run lint"), "{}", draft.pipeline);
    assert_eq!(draft.manifests, None, "it has its own");
}

#[test]
fn the_file_that_leaves_things_out_of_a_context_is_known_by_what_is_in_it() {
    let recipe = ("build/container", "FROM a.test/base:1\n");
    let drafted = |files: &[(&str, &str)]| {
        let text = draft(&repository(&[&[recipe], files].concat())).pipeline;
        pipeline::read(&text).unwrap_or_else(|faults| panic!("{faults:#?}\n{text}"));
        text
    };
    let usual = ("build/.lilyignore", "# not for images\n.git\nnode_modules\n*.log\n");
    let others = [(".fernignore", ".git\n"), ("build/.gitignore", ".git\n"), ("build/.mossignore", "*.min.js\ndist\n")];
    let text = drafted(&[others[0], others[1], others[2], usual]);
    assert!(text.contains("recipe \"build/container\" context=\"build\" ignore=\"build/.lilyignore\""), "{text}");
    for (telling, is_known) in [("**/.git/", true), ("container", true), (".lilyignore", true), ("dist", false)] {
        let text = drafted(&[("build/.lilyignore", telling)]);
        assert_eq!(text.contains("ignore="), is_known, "{telling}: {text}");
    }
    assert!(!drafted(&others).contains("ignore="), "those are others'");
    let own = ("build/container.ignore", "*.log\n");
    assert!(!drafted(&[usual, own]).contains("ignore="), "it has the one that is read by itself");
}

#[test]
fn the_usual_entry_points_of_tests_are_known() {
    let steps = |files: &[(&str, &str)]| {
        let draft = draft(&repository(files));
        let pipeline = pipeline::read(&draft.pipeline).unwrap();
        let of_job = |job: &pipeline::Job| match &job.kind {
            pipeline::JobKind::Steps(steps) => steps.steps.iter().map(|step| step.command.clone()).collect::<Vec<_>>(),
            _ => Vec::new(),
        };
        pipeline.jobs().flat_map(|(_, job)| of_job(job)).collect::<Vec<_>>().join(" && ")
    };
    for (files, expected) in [
        (
            &[("requirements.txt", "flask\n"), ("tests/test_hours.py", "import unittest\n")][..],
            "python3 -m pip install -r requirements.txt && python3 -m unittest discover -s tests",
        ),
        (
            &[("requirements.txt", "flask\npytest\n"), ("tests/test_hours.py", "def test_a(): pass\n")],
            "python3 -m pip install -r requirements.txt && python3 -m pytest",
        ),
        (
            &[("setup.cfg", "[metadata]\n"), ("tests/__init__.py", ""), ("tests/test_a.py", "")],
            "python3 -m pip install . && python3 -m unittest discover -s tests -t .",
        ),
        (
            &[("pyproject.toml", "[tool.pytest.ini_options]\n"), ("test_a.py", "")],
            "python3 -m pip install . && python3 -m pip install pytest && python3 -m pytest",
        ),
        (
            &[
                ("requirements.txt", "flask\n"),
                ("tests/test_hours.py", "import app\n\ndef test_a():\n    assert app\n"),
            ],
            "python3 -m pip install -r requirements.txt && python3 -m pip install pytest && python3 -m pytest",
        ),
        (&[("requirements.txt", "flask\n"), ("app.py", "")], "echo 'no tests yet'"),
        (
            &[("package.json", r#"{"scripts":{"test":"echo \\"Error: no test specified\\" && exit 1"}}"#)],
            "echo 'no tests yet'",
        ),
        (
            &[("package.json", r#"{"scripts":{"test":"t","lint":"l"}}"#), ("package-lock.json", "{}")],
            "npm ci && npm run lint && npm test",
        ),
        (&[("Cargo.toml", ""), ("Cargo.lock", "")], "cargo fmt --check && cargo test --locked"),
        (&[("go.mod", "")], "go vet ./... && go test ./..."),
        (&[("Makefile", ".PHONY: test\nx := 1\ntest: build\n\tgo test\n"), ("go.mod", "")], "make test"),
        (&[("Makefile", "test := 1\nbuild:\n\ttest\n")], "echo 'no tests yet'"),
        (&[("scripts/test.sh", "#!/bin/sh\n")], "./scripts/test.sh"),
        (&[("mvnw", "#!/bin/sh\n"), ("pom.xml", "")], "./mvnw --batch-mode verify"),
        (&[("gradlew", "#!/bin/sh\n")], "./gradlew check"),
    ] {
        assert_eq!(steps(files), expected, "{files:?}");
    }
}

#[test]
fn tests_run_where_the_recipe_builds_and_what_fetches_asks_for_a_network_and_says_why() {
    let python = [("requirements.txt", "flask\n"), ("tests/test_hours.py", "")];
    let with = |recipe: &'static str, bare: Option<&str>| {
        let files = [&python[..], &[("recipe", recipe)]].concat();
        draft(&Repository { bare_names: bare.map(str::to_owned), ..repository(&files) })
    };
    let full = with("FROM a.test/python:3\nRUN pip install -r requirements.txt\nEXPOSE 8000\n", None);
    assert_eq!(jobs(&full), ["verify/python", "package/visitor-desk", "staging/visitor-desk"]);
    for wanted in [
        "container \"a.test/python:3\"",
        "// The steps fetch packages from elsewhere; a job has no network where it asks for none.\n        network \"outbound\"",
        "// Its `pip` fetches from elsewhere; a build has no network where it asks for none.\n        network \"outbound\"",
    ] {
        assert!(full.pipeline.contains(wanted), "{}", full.pipeline);
    }
    let bare = with("FROM python:3\n", None);
    assert_eq!(jobs(&bare), ["package/visitor-desk", "verify/python", "staging/visitor-desk"]);
    assert!(bare.pipeline.contains("container image=\"visitor-desk\""), "{}", bare.pipeline);
    let known = with("FROM python:3\n", Some("mirror.test/library"));
    assert!(known.pipeline.contains("container \"mirror.test/library/python:3\""), "{}", known.pipeline);
    for unusable in ["FROM :/:\n", "FROM a.test/Python:3\n", "FROM a.test/python\n"] {
        let built = with(unusable, None);
        assert!(built.pipeline.contains("container image=\"visitor-desk\""), "{}", built.pipeline);
    }
    let none = draft(&repository(&python));
    assert!(none.pipeline.contains("on-host\n        runner { tool \"python3\" }"), "{}", none.pipeline);
}

#[test]
fn manifests_are_written_where_there_are_none_with_probes_on_the_port_that_the_recipe_exposes() {
    let draft_of = |recipe: &str| draft(&repository(&[("recipe", recipe)]));
    let listens = draft_of("FROM a.test/b:1\nEXPOSE 8000/tcp\n");
    let (path, text) = listens.manifests.clone().unwrap();
    assert_eq!(path, "deploy/visitor-desk.yaml");
    assert!(listens.pipeline.contains("manifests \"deploy/visitor-desk.yaml\""), "{}", listens.pipeline);
    for wanted in [
        "kind: Deployment",
        "image: visitor-desk\n",
        "containerPort: 8000",
        "readinessProbe",
        "kind: Service",
        "name: visitor-desk",
    ] {
        assert!(text.contains(wanted), "no {wanted} in\n{text}");
    }
    let silent = draft_of("FROM a.test/b:1\n").manifests.unwrap().1;
    assert!(!silent.contains("Probe:") && !silent.contains("kind: Service"), "{silent}");
}

#[test]
fn an_empty_repository_gets_a_file_that_works() {
    assert_eq!(jobs(&draft(&repository(&[]))), ["verify/test"]);
}

proptest! {
    #[test]
    fn a_draft_passes_the_check_whatever_is_in_the_repository(
        name in "\\PC{0,70}", branch in "[a-zA-Z0-9/_.\"-]{1,20}", environment in "[a-z]([a-z0-9-]{0,9}[a-z0-9])?",
        paths in prop::collection::vec("[a-z\"\\\\ \n\u{2028}]{1,6}(/[a-z]{1,4})?", 0..4),
        base in "[a-z./:$\"{}-]{1,12}", has_manifests in any::<bool>(),
    ) {
        let text = "apiVersion: v1\nkind: Deployment\n";
        let recipe = format!("FROM {base}\nRUN apt-get x\nEXPOSE 80\n");
        let mut files: Vec<_> = paths.iter().map(|path| Found { path: path.clone(), text: recipe.clone() }).collect();
        if has_manifests {
            files.extend(paths.iter().map(|path| Found { path: format!("{path}.yaml"), text: text.into() }));
        }
        files.extend(paths.iter().map(|path| Found { path: format!("{path}/test_x.py"), text: String::new() }));
        for path in ["Cargo.toml", "package.json", "pyproject.toml", "go.mod", "test.sh"] {
            files.push(Found { path: path.into(), text: "#!".into() });
        }
        let registry = "registry.test".to_owned();
        let repository = Repository { name, branch, registry, environment, bare_names: None, files };
        let draft = draft(&repository);
        let faults = pipeline::read(&draft.pipeline).err();
        prop_assert!(faults.is_none(), "{:#?}\n{}", faults, draft.pipeline);
    }
}
