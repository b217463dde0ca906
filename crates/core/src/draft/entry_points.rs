//! How a repository is tested: the usual entry points.

use super::Repository;

/// Commands that test a repository.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Tests {
    /// The job's name.
    pub(super) name: &'static str,
    /// What they were known by.
    pub(super) why: String,
    /// The program that they need.
    pub(super) tool: &'static str,
    pub(super) steps: Vec<String>,
    /// What they fetch from elsewhere, where they do.
    pub(super) fetches: Option<&'static str>,
}

/// Names that test scripts have.
const SCRIPTS: [&str; 8] =
    ["test.sh", "tests.sh", "run-tests.sh", "run_tests.sh", "test", "scripts/test", "scripts/test.sh", "check.sh"];

fn tests(name: &'static str, why: &str, tool: &'static str, steps: &[&str], fetches: Option<&'static str>) -> Tests {
    let steps = steps.iter().map(|step| (*step).to_owned()).collect();
    Tests { name, why: why.to_owned(), tool, steps, fetches }
}

/// Everything that looks like tests. Where one command runs them all, it is that alone.
pub(super) fn find(repository: &Repository) -> Vec<Tests> {
    let has = |path: &str| repository.file(path).is_some();
    if let Some(makefile) = repository.file("Makefile").filter(|file| has_target(&file.text, "test")) {
        return vec![tests("test", &format!("{} has a target `test`", makefile.path), "make", &["make test"], None)];
    }
    let mut all = Vec::new();
    if let Some(path) =
        SCRIPTS.iter().find(|path| repository.file(path).is_some_and(|file| file.text.starts_with("#!")))
    {
        all.push(tests("test", &format!("{path} is there"), "sh", &[&format!("./{path}")], None));
    }
    if has("Cargo.toml") {
        let test = if has("Cargo.lock") { "cargo test --locked" } else { "cargo test" };
        all.push(tests("rust", "Cargo.toml is there", "cargo", &["cargo fmt --check", test], Some("crates")));
    }
    all.extend(node(repository));
    all.extend(python(repository));
    if has("go.mod") {
        all.push(tests("go", "go.mod is there", "go", &["go vet ./...", "go test ./..."], Some("modules")));
    }
    if has("mvnw") {
        all.push(tests("maven", "mvnw is there", "java", &["./mvnw --batch-mode verify"], Some("packages")));
    } else if has("pom.xml") {
        all.push(tests("maven", "pom.xml is there", "mvn", &["mvn --batch-mode verify"], Some("packages")));
    }
    if has("gradlew") {
        all.push(tests("gradle", "gradlew is there", "java", &["./gradlew check"], Some("packages")));
    }
    all
}

/// Whether a makefile has a target of this name.
fn has_target(makefile: &str, target: &str) -> bool {
    let names = |line: &str| {
        let (targets, rest) = line.split_once(':')?;
        (!rest.starts_with('=')).then(|| targets.split_whitespace().any(|one| one == target))
    };
    makefile.lines().filter(|line| !line.starts_with(['\t', ' ', '#', '.'])).filter_map(names).any(|found| found)
}

fn node(repository: &Repository) -> Option<Tests> {
    let package = repository.file("package.json")?;
    let document = serde_json::from_str::<serde_json::Value>(&package.text).unwrap_or_default();
    let script = |name: &str| document["scripts"][name].as_str().filter(|script| !script.contains("no test specified"));
    script("test")?;
    let install = if repository.file("package-lock.json").is_some() { "npm ci" } else { "npm install" };
    let lint = script("lint").map(|_| "npm run lint");
    let steps: Vec<_> = [Some(install), lint, Some("npm test")].into_iter().flatten().collect();
    Some(tests("node", "package.json has a script `test`", "npm", &steps, Some("packages")))
}

fn python(repository: &Repository) -> Option<Tests> {
    let is_test = |path: &str| {
        let name = path.rsplit('/').next().unwrap_or(path);
        name.ends_with(".py") && (name.starts_with("test_") || name.ends_with("_test.py"))
    };
    let first = repository.files.iter().map(|file| file.path.as_str()).filter(|path| is_test(path)).min()?;
    let settings = ["pyproject.toml", "setup.cfg", "setup.py"].into_iter().find(|path| repository.file(path).is_some());
    let requirements = repository.file("requirements.txt");
    // Without either it may be a script or two beside something else; their tests are tests all the same.
    let known_by = requirements.map(|file| file.path.as_str()).or(settings).unwrap_or(first);
    let uses_pytest = repository.files.iter().any(|file| {
        let says = ["pyproject.toml", "setup.cfg", "tox.ini", "pytest.ini", "conftest.py"];
        let may_say = says.contains(&file.path.as_str()) || file.path.contains("requirements") || is_test(&file.path);
        // Functions that stand alone are tests to pytest only: unittest would find none, and pass.
        let stands_alone = |line: &str| line.starts_with("def test") || line.starts_with("async def test");
        file.path.ends_with("conftest.py")
            || may_say && file.text.contains("pytest")
            || is_test(&file.path) && file.text.lines().any(stands_alone)
    });
    let mut steps = Vec::new();
    if requirements.is_some() {
        steps.push("python3 -m pip install -r requirements.txt".to_owned());
    } else if settings.is_some() {
        steps.push("python3 -m pip install .".to_owned());
    }
    if uses_pytest {
        if !requirements.is_some_and(|file| file.text.contains("pytest")) {
            steps.push("python3 -m pip install pytest".to_owned());
        }
        steps.push("python3 -m pytest".to_owned());
    } else {
        let folder = first.rsplit_once('/').map(|(folder, _)| folder);
        let pattern = if first.ends_with("_test.py") { " -p '*_test.py'" } else { "" };
        let from = folder.map(|folder| format!(" -s {folder} -t .")).unwrap_or_default();
        // Folders that are no packages cannot be named from the top.
        let is_package = folder.is_none_or(|folder| repository.file(&format!("{folder}/__init__.py")).is_some());
        let from = if is_package { from } else { from.trim_end_matches(" -t .").to_owned() };
        steps.push(format!("python3 -m unittest discover{from}{pattern}"));
    }
    let fetches = (steps.len() > 1).then_some("packages");
    let steps: Vec<_> = steps.iter().map(String::as_str).collect();
    Some(tests("python", &format!("{known_by} and {first} are there"), "python3", &steps, fetches))
}
