//! A first pipeline file for a repository, from what is in it.

use std::fmt::Write as _;

use crate::id::is_plain_name;

/// A file of a repository, with as much of its text as is needed to know what it is.
#[derive(Clone, Debug)]
pub struct Found {
    /// Its path.
    pub path: String,
    /// Its text; empty for what is no text, or too long.
    pub text: String,
}

/// What a draft is made of.
#[derive(Clone, Debug)]
pub struct Repository {
    /// Its name.
    pub name: String,
    /// The branch that it is developed on.
    pub branch: String,
    /// The host of the registry that images are pushed to.
    pub registry: String,
    /// Its files.
    pub files: Vec<Found>,
}

/// The instructions that a recipe may begin with, behind its comments.
const FIRST_INSTRUCTIONS: [&str; 2] = ["FROM", "ARG"];
/// Names that test scripts have.
const TEST_SCRIPTS: [&str; 6] = ["test.sh", "run-tests.sh", "tests.sh", "check.sh", "scripts/test", "scripts/test.sh"];

/// Commands that test a repository, and the image that has what they need.
struct Tests {
    name: &'static str,
    why: String,
    image: &'static str,
    steps: Vec<String>,
}

impl Repository {
    fn file(&self, path: &str) -> Option<&Found> {
        self.files.iter().find(|file| file.path == path)
    }

    /// The container recipe nearest to the root, known by its content whatever its name.
    fn recipe(&self) -> Option<&Found> {
        let depth = |file: &&Found| (file.path.matches('/').count(), file.path.len());
        self.files.iter().filter(|file| is_recipe(&file.text)).min_by_key(depth)
    }

    /// The folders with Kubernetes manifests that run something.
    fn manifests(&self) -> Option<String> {
        let is_manifest = |file: &&Found| {
            let named = file.path.ends_with(".yaml") || file.path.ends_with(".yml");
            let kinds = ["Deployment", "StatefulSet", "DaemonSet"];
            let runs = |line: &str| kinds.iter().any(|kind| line.trim_end() == format!("kind: {kind}"));
            named && file.text.lines().any(|line| line.starts_with("apiVersion:")) && file.text.lines().any(runs)
        };
        let found = self.files.iter().find(is_manifest)?;
        let ending = found.path.rsplit('.').next().unwrap_or("yaml");
        Some(match found.path.rsplit_once('/') {
            Some((folder, _)) => format!("{folder}/*.{ending}"),
            None => found.path.clone(),
        })
    }

    fn tests(&self) -> Vec<Tests> {
        let mut tests = Vec::new();
        let script = TEST_SCRIPTS.iter().find(|path| self.file(path).is_some());
        if let Some(path) = script {
            let steps = vec![format!("./{path}")];
            tests.push(Tests { name: "test", why: format!("{path} is there"), image: "base/shell:1", steps });
        }
        if self.file("Cargo.toml").is_some() {
            let steps = ["cargo fmt --check", "cargo test --locked"].map(str::to_owned).into();
            tests.push(Tests { name: "rust", why: "Cargo.toml is there".into(), image: "base/rust:1", steps });
        }
        if let Some(file) = self.file("package.json") {
            let document = serde_json::from_str::<serde_json::Value>(&file.text).unwrap_or_default();
            let scripts = ["lint", "test"].into_iter().filter(|name| document["scripts"][name].is_string());
            let install = if self.file("package-lock.json").is_some() { "npm ci" } else { "npm install" };
            let mut steps = vec![install.to_owned()];
            steps.extend(scripts.map(|name| format!("npm run {name}")));
            tests.push(Tests { name: "node", why: "package.json is there".into(), image: "base/node:20", steps });
        }
        if self.file("pyproject.toml").is_some() {
            let steps = ["pip install .", "python -m unittest discover"].map(str::to_owned).into();
            tests.push(Tests { name: "python", why: "pyproject.toml is there".into(), image: "base/python:3", steps });
        }
        if self.file("go.mod").is_some() {
            let steps = ["go vet ./...", "go test ./..."].map(str::to_owned).into();
            tests.push(Tests { name: "go", why: "go.mod is there".into(), image: "base/go:1", steps });
        }
        tests
    }
}

/// Whether a text is a container recipe: its first instruction says so.
#[must_use]
pub fn is_recipe(text: &str) -> bool {
    let mut lines = text.lines().map(str::trim).filter(|line| !line.is_empty() && !line.starts_with('#'));
    let instruction = |line: &str| line.split_whitespace().next().unwrap_or("").to_ascii_uppercase();
    let first = lines.next().map(instruction).unwrap_or_default();
    let has_from = text.lines().any(|line| {
        let mut words = line.split_whitespace();
        words.next().is_some_and(|word| word.eq_ignore_ascii_case("FROM"))
            && words.next().is_some_and(|image| !image.ends_with([';', ',', '"']) && image != "(")
            // `from x import y` is Python, `from x select` no recipe either.
            && words.next().is_none_or(|word| word.eq_ignore_ascii_case("AS"))
    });
    FIRST_INSTRUCTIONS.contains(&first.as_str()) && has_from
}

/// A text in quotes (KDL 2, "Quoted String"), on one line whatever is in it.
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

/// A name that may stand in a pipeline file, as near as can be to this one.
fn name(text: &str) -> String {
    let letter = |c: char| if c.is_ascii_alphanumeric() { c.to_ascii_lowercase() } else { '-' };
    let name: String = text.chars().map(letter).take(63).collect();
    let name = name.trim_matches('-');
    if is_plain_name(name) { name.to_owned() } else { "app".to_owned() }
}

/// A first pipeline file. It passes the check whatever the repository has in it.
#[must_use]
pub fn draft(repository: &Repository) -> String {
    let Repository { branch, registry, .. } = repository;
    let app = name(&repository.name);
    let mut out = String::new();
    let _ =
        writeln!(out, "// A first draft, from what is in the repository. Change it as you like; then: pondrix check");
    let _ = writeln!(out, "about {}\n", quoted(&format!("Test and release {}", repository.name)));
    let _ = writeln!(out, "// Every commit to this branch starts a run. More branches: start commit=\"release/*\"");
    let _ = writeln!(out, "start commit={}\n", quoted(branch));
    let tests = repository.tests();
    let _ = writeln!(out, "stage \"verify\" {{");
    for test in &tests {
        let _ = writeln!(out, "    // {}. The image has to have what the steps need.", test.why);
        let _ = writeln!(out, "    job {} {{", quoted(test.name));
        let _ = writeln!(out, "        container {}", quoted(&format!("{registry}/{}", test.image)));
        let _ = writeln!(out, "        limit time=\"15m\"");
        for step in &test.steps {
            let _ = writeln!(out, "        step {}", quoted(step));
        }
        let _ = writeln!(out, "    }}");
    }
    if tests.is_empty() {
        let _ = writeln!(out, "    // Nothing that looks like tests was found: name the command that runs them.");
        let _ = writeln!(out, "    job \"test\" {{");
        let _ = writeln!(out, "        container {}", quoted(&format!("{registry}/base/shell:1")));
        let _ = writeln!(out, "        step \"echo 'no tests yet'\"");
        let _ = writeln!(out, "    }}");
    }
    let _ = writeln!(out, "}}");
    let Some(recipe) = repository.recipe() else { return out };
    let _ = writeln!(out, "\nstage \"package\" {{");
    let _ = writeln!(out, "    // {} is a container recipe, by what is in it.", quoted(&recipe.path));
    let _ = writeln!(out, "    image {} {{", quoted(&app));
    let context = recipe.path.rsplit_once('/').map_or(".", |(folder, _)| folder);
    let _ = writeln!(out, "        recipe {} context={}", quoted(&recipe.path), quoted(context));
    let _ = writeln!(out, "        push {} {{", quoted(&format!("{registry}/{app}")));
    let _ = writeln!(out, "            // A `tag` is pushed once and never moves; `moving` names the newest.");
    let _ = writeln!(out, "            tag \"{{commit.short}}\"\n            moving \"edge\"\n        }}\n    }}\n}}");
    let Some(manifests) = repository.manifests() else { return out };
    let _ = writeln!(out, "\nstage \"staging\" {{");
    let _ = writeln!(out, "    // These manifests run something: the image just built is put into them by digest.");
    let _ = writeln!(out, "    // Make the environment known: pondrix environment set staging --kubeconfig FILE");
    let _ = writeln!(out, "    rollout {} {{", quoted(&app));
    let _ = writeln!(out, "        to \"staging\"\n        image {}", quoted(&app));
    let _ = writeln!(out, "        manifests {}\n    }}\n}}", quoted(&manifests));
    out
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::pipeline;

    fn repository(files: &[(&str, &str)]) -> Repository {
        Repository {
            name: "Visitor Desk".into(),
            branch: "main".into(),
            registry: "registry.fernhollow.test".into(),
            files: files.iter().map(|(path, text)| Found { path: (*path).into(), text: (*text).into() }).collect(),
        }
    }

    #[test]
    fn a_recipe_is_known_by_its_content_whatever_its_name() {
        assert!(is_recipe("# syntax=x\n\nARG BASE=a\nFROM $BASE\n"));
        assert!(is_recipe("from scratch as one\nCOPY . /\n"));
        assert!(!is_recipe("from os import path\nprint(path)\n"));
        assert!(!is_recipe("FROM\n"));
        assert!(!is_recipe("SELECT * FROM beds\n"));
        assert!(!is_recipe(""));
    }

    #[test]
    fn what_is_found_becomes_stages_in_their_order() {
        let manifest = "apiVersion: apps/v1\nkind: Deployment\n";
        let text = draft(&repository(&[
            ("test.sh", "#!/bin/sh\n"),
            ("package.json", r#"{"scripts": {"test": "x"}}"#),
            ("build/container", "FROM scratch\n"),
            ("deploy/desk.yaml", manifest),
        ]));
        let pipeline = pipeline::read(&text).unwrap();
        let jobs: Vec<_> =
            pipeline.jobs().map(|(stage, job)| format!("{}/{}", stage.name.value, job.name.value)).collect();
        assert_eq!(jobs, ["verify/test", "verify/node", "package/visitor-desk", "staging/visitor-desk"]);
        for wanted in [
            "recipe \"build/container\" context=\"build\"",
            "manifests \"deploy/*.yaml\"",
            "step \"npm install\"",
            "step \"npm run test\"",
        ] {
            assert!(text.contains(wanted), "{text}");
        }
        assert!(!text.contains("npm run lint"), "{text}");
    }

    #[test]
    fn an_empty_repository_gets_a_file_that_works() {
        let text = draft(&repository(&[]));
        assert_eq!(pipeline::read(&text).unwrap().jobs().count(), 1);
    }

    proptest! {
        #[test]
        fn a_draft_passes_the_check_whatever_is_in_the_repository(
            name in "\\PC{0,70}", branch in "[a-zA-Z0-9/_.\"-]{1,20}",
            paths in prop::collection::vec("[a-z\"\\\\ \n\u{2028}]{1,6}(/[a-z]{1,4})?", 0..4),
        ) {
            let text = "apiVersion: v1\nkind: Deployment\n";
            let mut files: Vec<_> = paths.iter().map(|path| Found { path: path.clone(), text: "FROM scratch\n".into() }).collect();
            files.extend(paths.iter().map(|path| Found { path: format!("{path}.yaml"), text: text.into() }));
            for path in ["Cargo.toml", "package.json", "pyproject.toml", "go.mod", "test.sh"] {
                files.push(Found { path: path.into(), text: String::new() });
            }
            let repository = Repository { name, branch, registry: "registry.test".into(), files };
            let text = draft(&repository);
            let faults = pipeline::read(&text).err();
            prop_assert!(faults.is_none(), "{:#?}\n{}", faults, text);
        }
    }
}
