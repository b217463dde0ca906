//! `pondrix project`

use std::path::PathBuf;
use std::process::ExitCode;

use clap::builder::BoolishValueParser;
use clap::{Args, Subcommand};
use pondrix_api::{GitCredential, NewProject, ProjectChange, ProjectView};
use pondrix_core::ProjectName;
use pondrix_core::access::RefPattern;

use crate::cli::Global;
use crate::failure::{Failure, Outcome};
use crate::shared::removed;
use crate::{output, prompt, settings};

/// Projects: repositories whose commits start runs.
#[derive(Debug, Subcommand)]
pub(crate) enum Project {
    Add(Add),
    List(List),
    Set(Set),
    Remove(Remove),
}

/// Remove a project with everything of it: runs, logs, artifacts, caches, secrets. Runs that go on are stopped. What is
/// outside stays, and the commands that remove it there are printed.
#[derive(Debug, Args)]
pub(crate) struct Remove {
    /// The project.
    name: ProjectName,
    /// Do not ask for its name once more.
    #[arg(long)]
    yes: bool,
}

/// Change what a project protects, how much of the runners it may use, and whether others may use its templates.
#[derive(Debug, Args)]
pub(crate) struct Set {
    /// The project.
    name: String,
    /// Its weight when projects take turns at the runners: 1 to 100.
    #[arg(long, value_name = "NUMBER")]
    weight: Option<u32>,
    /// How many of its jobs may run at once; 0 for any number.
    #[arg(long, value_name = "COUNT")]
    limit: Option<u32>,
    /// Whether pipelines of other projects may use templates of its repository.
    #[arg(long, value_name = "yes|no", value_parser = BoolishValueParser::new(), hide_possible_values = true)]
    templates: Option<bool>,
    /// A branch (`main`, `release/*`) or tag (`tag:v*`) that the project protects from now on, in place of those of before;
    /// may be given more than once. Environments and secrets trust these.
    #[arg(long, value_name = "REF")]
    protect: Vec<RefPattern>,
    /// Protect the repository's default branch, and nothing else.
    #[arg(long, conflicts_with = "protect")]
    protect_default: bool,
    #[command(flatten)]
    signs_in: SignsIn,
    /// That nothing of the project's signs in at its repository from now on.
    #[arg(long, conflicts_with_all = ["user", "key"])]
    no_credential: bool,
}

/// What signs in at a repository.
#[derive(Debug, Args)]
struct SignsIn {
    /// Who signs in at a repository at https. The password, or a token that stands for one, is asked for, or read from
    /// standard input.
    #[arg(long, value_name = "NAME", conflicts_with = "key")]
    user: Option<String>,
    /// The file of the private key that signs in at a repository that is reached with ssh.
    #[arg(long, value_name = "FILE")]
    key: Option<PathBuf>,
}

impl SignsIn {
    fn credential(self, repository: &str) -> Result<Option<GitCredential>, Failure> {
        if let Some(user) = self.user {
            let password = prompt::hidden_or_input(&format!("Password of {user} at {repository}: "))?;
            return Ok(Some(GitCredential::Password { user, password }));
        }
        let Some(file) = self.key else { return Ok(None) };
        let key = std::fs::read_to_string(&file);
        let key = key.map_err(|error| Failure::usage(format!("{}: {error}", file.display())))?;
        Ok(Some(GitCredential::Key { key }))
    }
}

/// Add a project: a repository that the server watches. The next commit to it starts a run.
///
/// One that whoever administers the server adds may be anywhere, and is reached with what the server's user has for git
/// and ssh; others are at public addresses, over https or ssh, and nothing of the server's goes there.
#[derive(Debug, Args)]
pub(crate) struct Add {
    /// The project's name: a-z, 0-9 and `-`.
    name: String,
    /// The repository, as git reaches it from the server: an address or a path.
    repository: String,
    #[command(flatten)]
    signs_in: SignsIn,
}

/// List the projects, with what was last seen of each.
#[derive(Debug, Args)]
pub(crate) struct List {}

impl Project {
    pub(crate) async fn run(self, global: &Global) -> Outcome {
        let client = settings::client(global)?;
        match self {
            Self::Add(add) => {
                let credential = add.signs_in.credential(&add.repository)?;
                let new = NewProject { name: add.name, repository: add.repository, credential };
                let project = client.add_project(&new).await?;
                if global.json {
                    output::json(&project)?;
                } else {
                    added(&project);
                }
            }
            Self::Set(set) => {
                let protected = (set.protect_default || !set.protect.is_empty()).then_some(set.protect);
                let credential = match set.no_credential {
                    true => Some(GitCredential::None),
                    false => set.signs_in.credential(&format!("the repository of {}", set.name))?,
                };
                let is_nothing = set.weight.is_none() && set.limit.is_none() && set.templates.is_none();
                if is_nothing && protected.is_none() && credential.is_none() {
                    let words = "give --protect, --weight, --limit, --templates, --user, --key or --no-credential";
                    return Err(Failure::usage("nothing to change").advise(words));
                }
                let (weight, limit, templates) = (set.weight, set.limit, set.templates);
                let change = ProjectChange { weight, limit, templates, protected, credential };
                let project = client.change_project(&set.name, &change).await?;
                if global.json {
                    output::json(&project)?;
                } else {
                    let jobs = project.limit.map_or_else(|| "any number of".to_owned(), |limit| limit.to_string());
                    let name = output::strong(&project.name);
                    let templates = if project.templates { ", others may use its templates" } else { "" };
                    let weight = project.weight;
                    let protected = match project.protected.as_slice() {
                        [] => "nothing yet: its repository has no branch".to_owned(),
                        some => some.iter().map(ToString::to_string).collect::<Vec<_>>().join(", "),
                    };
                    let signs_in = if project.has_credential { ", signs in at its repository" } else { "" };
                    output::line(&format!(
                        "Project {name}: protects {protected}; weight {weight}, {jobs} jobs at once{templates}{signs_in}"
                    ));
                }
            }
            Self::Remove(remove) => {
                let name = remove.name;
                let list = client.projects().await?;
                if !list.projects.iter().any(|project| project.name == name.as_str()) {
                    let failure = Failure::new(format!("there is no project `{name}`"));
                    return Err(failure.advise("see `pondrix project list`"));
                }
                let what =
                    format!("This removes {name} with all its runs, logs, artifacts, caches and secrets, for good.");
                prompt::confirm_name(&what, name.as_str(), remove.yes)?;
                let removed = client.remove_project(&name).await?;
                if global.json {
                    output::json(&removed)?;
                } else {
                    let runs = if removed.runs == 1 { "1 run".to_owned() } else { format!("{} runs", removed.runs) };
                    output::line(&format!("Project {} is removed, with {runs}.", output::strong(name.as_str())));
                    removed::images(&removed.images);
                    removed::releases(&removed.releases);
                }
            }
            Self::List(_) => {
                let list = client.projects().await?;
                if global.json {
                    output::json(&list)?;
                } else if list.projects.is_empty() {
                    output::line("No projects yet. Add a repository: pondrix project add NAME REPOSITORY");
                } else {
                    print(&list.projects);
                }
            }
        }
        Ok(ExitCode::SUCCESS)
    }
}

fn added(project: &ProjectView) {
    output::line(&format!("Project {} is added.", output::strong(&project.name)));
    if let Some(note) = &project.note {
        output::line(&format!("  {}", output::plain(note)));
    }
    match &project.hook {
        Some(hook) => {
            output::line("Have the repository's server POST here after each push, and runs start at once:");
            output::line(&format!("  {hook}"));
            output::line("Without it, the server looks by itself now and then.");
        }
        None => output::line("The server looks at it now and then; whoever maintains the project is told its hook."),
    }
}

fn print(projects: &[ProjectView]) {
    let rows: Vec<_> = projects
        .iter()
        .map(|project| {
            let last = project.last_run.zip(project.last_state);
            vec![
                project.name.clone(),
                last.map_or_else(
                    || "no run yet".to_owned(),
                    |(number, state)| format!("#{number} {}", output::state(state)),
                ),
                project.seen.map_or_else(|| "never".to_owned(), output::ago),
                output::plain(&project.repository),
                project.note.as_deref().map(output::plain).unwrap_or_default(),
            ]
        })
        .collect();
    output::table(&["PROJECT", "LAST RUN", "SEEN", "REPOSITORY", "NOTE"], &rows);
}
