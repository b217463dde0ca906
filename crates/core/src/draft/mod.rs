//! A first pipeline file for a repository, from what is in it.

mod entry_points;
mod manifests;
mod recipe;

use std::fmt::Write as _;

use entry_points::Tests;
use recipe::RecipeFacts;

pub use recipe::is_recipe;

use crate::id::is_plain_name;
use crate::image::Reference;

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
    /// The environment that it is rolled out to first.
    pub environment: String,
    /// What names of images mean that name no registry, where that is known: `HOST` or `HOST/PATH`.
    pub bare_names: Option<String>,
    /// Its files.
    pub files: Vec<Found>,
}

/// The files of a draft.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Draft {
    /// The pipeline file.
    pub pipeline: String,
    /// Manifests, where the repository has none: their path, and their text.
    pub manifests: Option<(String, String)>,
}

/// Where tests run.
enum Place {
    /// In this image.
    Image(String),
    /// In what the image job builds; they come behind it then.
    Built,
    /// With the runner's own tools: no image is known to have them.
    Host,
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

    /// The file that says what a recipe does not see of its context, where it is not the one that is read by itself. Many
    /// programs have a file of patterns whose name begins with a dot; this one leaves out what only a build has no use
    /// for: git's own folder, the recipe, itself.
    fn ignore_file(&self, recipe: &Found, context: &str) -> Option<&Found> {
        if self.file(&format!("{}.ignore", recipe.path)).is_some() {
            return None;
        }
        let name_of = |path: &str| path.rsplit('/').next().unwrap_or_default().to_owned();
        let is_in_context = |path: &str| path.rsplit_once('/').map_or(".", |(folder, _)| folder) == context;
        let telling = |file: &Found| {
            let words = [".git".to_owned(), name_of(&recipe.path), name_of(&file.path)];
            let lines = file.text.lines().map(|line| line.trim().trim_start_matches("**/").trim_matches('/'));
            lines.filter(|line| words.iter().any(|word| word == line)).count()
        };
        let named = self.files.iter().filter(|file| {
            let name = name_of(&file.path);
            // Git's own says what is not committed, and is not in the commit.
            is_in_context(&file.path) && name.starts_with('.') && name.ends_with("ignore") && name != ".gitignore"
        });
        let best = named.map(|file| (telling(file), file)).max_by_key(|(telling, _)| *telling)?;
        (best.0 > 0).then_some(best.1)
    }

    /// A pattern of the Kubernetes manifests that run something.
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

    /// Where the tests run: in what the recipe's own build begins from, or in what it makes.
    fn place(&self, facts: Option<&RecipeFacts>) -> Place {
        let Some(facts) = facts else { return Place::Host };
        let Some(base) = facts.bases.first() else { return Place::Built };
        let names_a_host = base.split('/').next().is_some_and(|host| host.contains(['.', ':'])) && base.contains('/');
        // A name without a registry: only whoever knows which one it means can run anything in it.
        let whole = match &self.bare_names {
            _ if names_a_host => base.clone(),
            Some(named) => format!("{}/{base}", named.trim_end_matches('/')),
            None => return Place::Built,
        };
        let usable = whole.parse::<Reference>().is_ok_and(|image| image.tag.is_some() || image.digest.is_some());
        if usable { Place::Image(whole) } else { Place::Built }
    }
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

/// A first pipeline file, and manifests where there are none. The pipeline file passes the check whatever the repository
/// has in it.
#[must_use]
pub fn draft(repository: &Repository) -> Draft {
    let app = name(&repository.name);
    let recipe = repository.recipe();
    let facts = recipe.map(|recipe| RecipeFacts::of(&recipe.text));
    let place = repository.place(facts.as_ref());
    let mut out = String::new();
    out += "// A first draft, from what is in the repository. Change it as you like; then: pondrix check\n";
    let _ = writeln!(out, "about {}\n", quoted(&format!("Test and release {}", repository.name)));
    out += "// Every commit to this branch starts a run. More branches: start commit=\"release/*\"\n";
    let _ = writeln!(out, "start commit={}\n", quoted(&repository.branch));
    let verify = verify(&entry_points::find(repository), &place, &app);
    let package = recipe.zip(facts.as_ref()).map(|(recipe, facts)| package(repository, recipe, facts, &app));
    let stages = match place {
        // Tests of what was built come behind it.
        Place::Built => [package, Some(verify)],
        Place::Image(_) | Place::Host => [Some(verify), package],
    };
    out += &stages.into_iter().flatten().collect::<Vec<_>>().join("\n");
    let Some(facts) = facts else { return Draft { pipeline: out, manifests: None } };
    let (pattern, manifests) = match repository.manifests() {
        Some(pattern) => (pattern, None),
        None => {
            let path = format!("deploy/{app}.yaml");
            (path.clone(), Some((path, manifests::write(&app, &app, facts.port))))
        }
    };
    out += &rollout(repository, &app, &pattern);
    Draft { pipeline: out, manifests }
}

fn verify(tests: &[Tests], place: &Place, app: &str) -> String {
    let mut out = "stage \"verify\" {\n".to_owned();
    let container = |out: &mut String, tool: &str| match place {
        Place::Image(image) => {
            let _ = writeln!(out, "        container {}", quoted(image));
        }
        Place::Built => {
            out.push_str("        // In the very image that the stage before has built.\n");
            let _ = writeln!(out, "        container image={}", quoted(app));
        }
        Place::Host => {
            out.push_str("        // With the runner's own tools. In an image instead: container \"HOST/IMAGE:TAG\"\n");
            let _ = writeln!(out, "        on-host\n        runner {{ tool {} }}", quoted(tool));
        }
    };
    for test in tests {
        let _ = writeln!(out, "    // {}.\n    job {} {{", plain(&test.why), quoted(test.name));
        container(&mut out, test.tool);
        out += "        limit time=\"15m\"\n";
        if let Some(what) = test.fetches {
            let _ = writeln!(
                out,
                "        // The steps fetch {what} from elsewhere; a job has no network where it asks for none."
            );
            out += "        network \"outbound\"\n";
        }
        for step in &test.steps {
            let _ = writeln!(out, "        step {}", quoted(step));
        }
        out += "    }\n";
    }
    if tests.is_empty() {
        out += "    // Nothing that looks like tests was found: name the command that runs them.\n    job \"test\" {\n";
        container(&mut out, "sh");
        out += "        step \"echo 'no tests yet'\"\n    }\n";
    }
    out + "}\n"
}

fn package(repository: &Repository, recipe: &Found, facts: &RecipeFacts, app: &str) -> String {
    let mut out = "stage \"package\" {\n".to_owned();
    let _ = writeln!(
        out,
        "    // {} is a container recipe, by what is in it.\n    image {} {{",
        quoted(&recipe.path),
        quoted(app)
    );
    let context = recipe.path.rsplit_once('/').map_or(".", |(folder, _)| folder);
    let ignore = repository.ignore_file(recipe, context);
    let said = ignore.map(|file| format!(" ignore={}", quoted(&file.path))).unwrap_or_default();
    if ignore.is_some() {
        out += "        // What the recipe does not see of the context is in the file that `ignore` names.\n";
    }
    let _ = writeln!(out, "        recipe {} context={}{said}", quoted(&recipe.path), quoted(context));
    if let Some(command) = facts.fetches {
        let _ = writeln!(
            out,
            "        // Its `{command}` fetches from elsewhere; a build has no network where it asks for none."
        );
        out += "        network \"outbound\"\n";
    }
    let _ = writeln!(out, "        push {} {{", quoted(&format!("{}/{app}", repository.registry)));
    out += "            // A `tag` is pushed once and never moves; `moving` names the newest.\n";
    out + "            tag \"{commit.short}-{run}\"\n            moving \"edge\"\n        }\n    }\n}\n"
}

fn rollout(repository: &Repository, app: &str, manifests: &str) -> String {
    let environment = &repository.environment;
    let mut out = format!("\nstage {} {{\n", quoted(environment));
    out += "    // The image just built is put into these manifests by its digest.\n";
    let _ = writeln!(
        out,
        "    // An environment is made known with: pondrix environment set {} --kubeconfig FILE",
        plain(environment)
    );
    let _ = writeln!(
        out,
        "    rollout {} {{\n        to {}\n        image {}",
        quoted(app),
        quoted(environment),
        quoted(app)
    );
    let _ = writeln!(out, "        manifests {}\n    }}\n}}", quoted(manifests));
    out
}

/// A text for a comment: on one line.
fn plain(text: &str) -> String {
    text.chars()
        .map(|c| if c.is_control() || matches!(c, '\u{2028}' | '\u{2029}' | '\u{85}') { ' ' } else { c })
        .collect()
}

#[cfg(test)]
mod tests;
