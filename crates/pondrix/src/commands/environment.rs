//! `pondrix environment`

use std::path::{Path, PathBuf};
use std::process::ExitCode;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use clap::{Args, Subcommand};
use pondrix_api::{Client, EnvironmentChange, EnvironmentView, FreezeRequest};
use pondrix_core::access::{Approvers, EnvironmentRules, Holder, Projects, RefPattern, Refs};
use pondrix_core::pipeline::StartKind;
use pondrix_core::{ProjectName, Schedule};
use serde_json::Value;

use crate::cli::Global;
use crate::failure::{Failure, Outcome};
use crate::shared::removed;
use crate::{output, prompt, settings};

/// Environments: where rollouts go, and which runs may.
#[derive(Debug, Subcommand)]
pub(crate) enum Environment {
    Set(Box<Set>),
    List(List),
    Show(Show),
    Freeze(Freeze),
    Thaw(Thaw),
    Remove(Remove),
}

/// Remove an environment. What runs in it goes on running, and the commands that end it are printed.
#[derive(Debug, Args)]
pub(crate) struct Remove {
    /// The environment.
    name: ProjectName,
    /// Do not ask for its name once more.
    #[arg(long)]
    yes: bool,
}

/// Add an environment, or change it. What is not said stays as it is.
///
/// A new environment takes runs of protected refs (see `pondrix project set --protect`), of every project, whatever
/// started them but tries, and asks nobody. The rules are the server's: no pipeline file can widen them.
#[derive(Debug, Args)]
pub(crate) struct Set {
    /// Its name, as pipelines name it.
    name: String,
    /// The file that says how the cluster is reached. Its current context is sent to the server, and kept there sealed;
    /// certificates and tokens that it names as files are sent with it. It may run no programs.
    #[arg(long, value_name = "FILE")]
    kubeconfig: Option<PathBuf>,
    /// The namespace, the only one that rollouts may touch; the environment's name by default.
    #[arg(long)]
    namespace: Option<String>,
    /// Where people reach what runs there.
    #[arg(long, value_name = "URL")]
    address: Option<String>,
    /// A project that may roll out there, or the beginning of names (`garden-*`), or all (`*`); may be given more than once.
    #[arg(long, value_name = "PROJECT")]
    project: Vec<Projects>,
    /// `protected` for the refs that a project protects, `any`, or a branch (`release/*`) or tag (`tag:v*`); branches and
    /// tags may be given more than once.
    #[arg(long = "ref", value_name = "REF")]
    refs: Vec<String>,
    /// A kind of start that may: commit, schedule, base-moved, manual, try, rerun; may be given more than once.
    #[arg(long, value_name = "KIND")]
    start: Vec<StartKind>,
    /// Every kind of start may, but tries.
    #[arg(long, conflicts_with = "start")]
    any_start: bool,
    /// Let runs that try what is not committed roll out there, too.
    #[arg(long, conflicts_with_all = ["start", "any_start"])]
    allow_tries: bool,
    /// Who may start by hand what rolls out there: a person, or a team (`team:keepers`); may be given more than once.
    #[arg(long, value_name = "WHO")]
    starter: Vec<Holder>,
    /// Everybody may who may start runs.
    #[arg(long, conflicts_with = "starter")]
    any_starter: bool,
    /// Whose yes is wanted before each rollout: a person, or a team (`team:keepers`); may be given more than once.
    #[arg(long, value_name = "WHO")]
    approver: Vec<Holder>,
    /// How many different people of these must say yes; 1 by default.
    #[arg(long, value_name = "COUNT", requires = "approver")]
    approvals: Option<u32>,
    /// Let the yes of whoever started a run, or wrote its commit, count too.
    #[arg(long, requires = "approver")]
    own_yes: bool,
    /// Nobody's yes is wanted.
    #[arg(long, conflicts_with = "approver")]
    no_approver: bool,
    /// The minutes in which a rollout may begin: minute, hour, day, month and weekday, as in `* 8-16 * * 1-5`.
    #[arg(long, value_name = "FIELDS", requires = "zone")]
    window: Option<String>,
    /// The time zone of the window, as in `Europe/Lisbon`.
    #[arg(long, requires = "window")]
    zone: Option<String>,
    /// A rollout may begin at any time.
    #[arg(long, conflicts_with = "window")]
    no_window: bool,
    /// A kind of object that may be applied beside workloads, services and configuration (`Role`); may be given more than
    /// once.
    #[arg(long, value_name = "KIND")]
    kind: Vec<String>,
    /// Nothing but workloads, services and configuration may be applied.
    #[arg(long, conflicts_with = "kind")]
    usual_kinds: bool,
}

/// List the environments, and what each takes.
#[derive(Debug, Args)]
pub(crate) struct List {}

/// Show an environment, with all its rules.
#[derive(Debug, Args)]
pub(crate) struct Show {
    /// The environment.
    name: String,
}

/// Have nothing rolled out to an environment for now. What is being rolled out goes on.
#[derive(Debug, Args)]
pub(crate) struct Freeze {
    /// The environment.
    name: String,
    /// Why. Whoever is kept from a rollout is told.
    #[arg(long)]
    reason: String,
}

/// Have rollouts to an environment begin again.
#[derive(Debug, Args)]
pub(crate) struct Thaw {
    /// The environment.
    name: String,
}

fn list<T: ToString>(all: &[T]) -> String {
    all.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
}

/// What is said of refs on the command line.
fn refs(said: &[String]) -> Result<Option<Refs>, Failure> {
    let patterns = || said.iter().map(|text| text.parse::<RefPattern>()).collect::<Result<Vec<_>, _>>();
    match said {
        [] => Ok(None),
        [word] if word == "protected" => Ok(Some(Refs::Protected)),
        [word] if word == "any" => Ok(Some(Refs::Any)),
        _ => Ok(Some(Refs::These(patterns().map_err(|error| Failure::usage(error.to_string()))?))),
    }
}

/// The text of a kubeconfig, with what is in the files that it names in place of their names: the server reads none.
fn whole(file: &Path) -> Result<String, Failure> {
    let unread = |path: &Path, error: std::io::Error| {
        Failure::usage(format!("{}: {error}", path.display())).advise("name a kubeconfig file, and files that it names")
    };
    let text = std::fs::read_to_string(file).map_err(|error| unread(file, error))?;
    let mut all: Value =
        serde_saphyr::from_str(&text).map_err(|error| Failure::usage(format!("{}: {error}", file.display())))?;
    let folder = file.parent().unwrap_or(Path::new("."));
    // Of the other contexts nothing is sent.
    let current = all["current-context"].as_str().unwrap_or_default().to_owned();
    let context = all["contexts"].as_array().into_iter().flatten().find(|one| one["name"] == current.as_str()).cloned();
    let name_of = |key: &str| context.as_ref().map(|context| context["context"][key].clone()).unwrap_or_default();
    let wanted = [("contexts", Value::from(current)), ("clusters", name_of("cluster")), ("users", name_of("user"))];
    for (what, name) in wanted {
        if let Some(named) = all.get_mut(what).and_then(Value::as_array_mut) {
            named.retain(|one| one["name"] == name);
        }
    }
    let words = [
        ("clusters", "cluster", "certificate-authority", "certificate-authority-data"),
        ("users", "user", "client-certificate", "client-certificate-data"),
        ("users", "user", "client-key", "client-key-data"),
        ("users", "user", "tokenFile", "token"),
    ];
    for (what, inner, names_file, instead) in words {
        for one in all.get_mut(what).and_then(Value::as_array_mut).into_iter().flatten() {
            let Some(said) = one.get_mut(inner).and_then(Value::as_object_mut) else { continue };
            let Some(Value::String(named)) = said.remove(names_file) else { continue };
            let path = folder.join(named);
            let bytes = std::fs::read(&path).map_err(|error| unread(&path, error))?;
            let data = match instead {
                "token" => String::from_utf8_lossy(&bytes).trim().to_owned(),
                _ => STANDARD.encode(bytes),
            };
            said.insert(instead.to_owned(), Value::String(data));
        }
    }
    Ok(all.to_string())
}

impl Set {
    /// The rules with what is said of them.
    fn rules(&self, before: EnvironmentRules) -> Result<EnvironmentRules, Failure> {
        let mut rules = before;
        if !self.project.is_empty() {
            rules.projects.clone_from(&self.project);
        }
        if let Some(refs) = refs(&self.refs)? {
            rules.refs = refs;
        }
        match (self.any_start, self.allow_tries, self.start.is_empty()) {
            (true, ..) => rules.starts.clear(),
            (_, true, _) => rules.starts = StartKind::ALL.to_vec(),
            (_, _, false) => rules.starts.clone_from(&self.start),
            _ => {}
        }
        if self.any_starter || !self.starter.is_empty() {
            rules.people.clone_from(&self.starter);
        }
        if self.no_approver {
            rules.approvers = None;
        } else if !self.approver.is_empty() {
            let (of, count) = (self.approver.clone(), self.approvals.unwrap_or(1));
            rules.approvers = Some(Approvers { of, count, own: self.own_yes });
        }
        if self.no_window {
            rules.window = None;
        } else if let Some((fields, zone)) = self.window.as_ref().zip(self.zone.as_ref()) {
            let window = Schedule::new(fields, zone).map_err(|error| Failure::usage(error.to_string()))?;
            rules.window = Some(window);
        }
        if self.usual_kinds || !self.kind.is_empty() {
            rules.kinds.clone_from(&self.kind);
        }
        Ok(rules)
    }
}

/// What an environment takes, in a few words.
fn takes(rules: &EnvironmentRules) -> String {
    let refs = match &rules.refs {
        Refs::Protected => "protected refs".to_owned(),
        Refs::Any => "any ref".to_owned(),
        Refs::These(patterns) => list(patterns),
    };
    let projects = if rules.projects.is_empty() { String::new() } else { format!(" of {}", list(&rules.projects)) };
    let approvers = rules.approvers.as_ref().map(|approvers| {
        let count = if approvers.count > 1 { format!("{} of ", approvers.count) } else { String::new() };
        format!(", with the yes of {count}{}", list(&approvers.of))
    });
    format!("{refs}{projects}{}", approvers.unwrap_or_default())
}

fn print(one: &EnvironmentView) {
    let EnvironmentView { name, cluster, namespace, address, rules, by, set } = one;
    output::line(&format!("Environment {}", output::strong(name)));
    let nothing = || "to be told anew: --kubeconfig FILE".to_owned();
    let mut rows = vec![
        ("cluster", cluster.clone().unwrap_or_else(nothing)),
        ("namespace", namespace.clone()),
        ("takes", takes(rules)),
    ];
    rows.extend(address.clone().map(|address| ("address", address)));
    let starts = if rules.starts.is_empty() { "every kind but try".to_owned() } else { list(&rules.starts) };
    rows.push(("starts", starts));
    if !rules.people.is_empty() {
        rows.push(("by hand", format!("{} may start what rolls out there", list(&rules.people))));
    }
    if let Some(approvers) = &rules.approvers {
        let own = if approvers.own { "counts too" } else { "does not count" };
        rows.push(("own yes", format!("of whoever started the run, or wrote its commit: {own}")));
    }
    rows.extend(rules.window.as_ref().map(|window| ("window", format!("a rollout begins in the minutes {window}"))));
    let kinds = if rules.kinds.is_empty() { String::new() } else { format!(", and {}", list(&rules.kinds)) };
    rows.push(("objects", format!("workloads, services, configuration{kinds}")));
    if let Some(freeze) = &rules.freeze {
        rows.push((
            "frozen",
            format!("{} by {}: {}", output::ago(freeze.since), freeze.by, output::plain(&freeze.reason)),
        ));
    }
    if let (Some(by), Some(set)) = (by, set) {
        rows.push(("set", format!("{} by {by}", output::ago(*set))));
    }
    for (word, text) in rows {
        output::line(&format!("  {word:<10} {text}"));
    }
}

async fn find(client: &Client, name: &str) -> Result<Option<EnvironmentView>, Failure> {
    Ok(client.environments().await?.environments.into_iter().find(|one| one.name == name))
}

impl Environment {
    pub(crate) async fn run(self, global: &Global) -> Outcome {
        let client = settings::client(global)?;
        let told = |environment: &EnvironmentView| -> Result<(), Failure> {
            if global.json {
                output::json(environment)?;
            } else {
                print(environment);
            }
            Ok(())
        };
        match self {
            Self::Set(set) => {
                let before = find(&client, &set.name).await?.map(|known| known.rules).unwrap_or_default();
                let rules = set.rules(before.clone())?;
                let change = EnvironmentChange {
                    kubeconfig: set.kubeconfig.as_deref().map(whole).transpose()?,
                    namespace: set.namespace,
                    name: set.name,
                    address: set.address,
                    rules: (rules != before).then_some(rules),
                };
                told(&client.set_environment(&change).await?)?;
            }
            Self::Show(show) => {
                let missing = || Failure::new(format!("there is no environment `{}`", show.name));
                let found = find(&client, &show.name).await?;
                told(&found.ok_or_else(|| missing().advise("see `pondrix environment list`"))?)?;
            }
            Self::Freeze(Freeze { name, reason }) => told(&client.freeze(&name, &FreezeRequest { reason }).await?)?,
            Self::Thaw(Thaw { name }) => told(&client.thaw(&name).await?)?,
            Self::Remove(remove) => {
                let name = remove.name;
                let what = format!("This removes the environment {name}: nothing can roll out there any more.");
                prompt::confirm_name(&what, name.as_str(), remove.yes)?;
                let removed = client.remove_environment(&name).await?;
                if global.json {
                    output::json(&removed)?;
                } else {
                    output::line(&format!("Environment {} is removed.", output::strong(name.as_str())));
                    removed::releases(&removed.releases);
                }
            }
            Self::List(_) => {
                let list = client.environments().await?;
                if global.json {
                    output::json(&list)?;
                } else if list.environments.is_empty() {
                    output::line("No environments yet: pondrix environment set NAME --kubeconfig FILE");
                } else {
                    let row = |one: EnvironmentView| {
                        let frozen = one.rules.freeze.as_ref().map(|freeze| output::plain(&freeze.reason));
                        let takes = frozen.map_or_else(|| takes(&one.rules), |reason| format!("nothing now: {reason}"));
                        let (cluster, address) = (one.cluster.unwrap_or_default(), one.address.unwrap_or_default());
                        vec![one.name, takes, one.namespace, cluster, address]
                    };
                    let rows: Vec<_> = list.environments.into_iter().map(row).collect();
                    output::table(&["ENVIRONMENT", "TAKES", "NAMESPACE", "CLUSTER", "ADDRESS"], &rows);
                }
            }
        }
        Ok(ExitCode::SUCCESS)
    }
}
