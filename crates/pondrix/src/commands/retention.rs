//! `pondrix retention`

use std::process::ExitCode;

use clap::{Args, Subcommand};
use pondrix_api::{Client, GoingWhat, RetentionPreview, RetentionQuestion, RetentionRule};
use pondrix_core::ProjectName;
use pondrix_core::pipeline::Pattern;
use pondrix_core::retention::{Age, Keep, Rule};

use crate::cli::Global;
use crate::failure::{Failure, Outcome};
use crate::{output, prompt, settings};

/// Retention: how long runs are kept, and what hangs on them.
#[derive(Debug, Subcommand)]
pub(crate) enum Retention {
    Show(Show),
    Set(Box<Set>),
    Reset(Reset),
    Preview(Preview),
}

/// Show how long runs, logs and caches are kept. Of the rules that are for a branch the most special one that says
/// something holds: one of a project, then one of a pattern.
#[derive(Debug, Args)]
pub(crate) struct Show {}

/// What a rule is for.
#[derive(Clone, Debug, Args)]
struct Whom {
    /// The project; all where none is named.
    #[arg(long, value_name = "NAME")]
    project: Option<ProjectName>,
    /// A pattern for branches, as in `release/*`; all branches, and tags and tries, where none is named.
    #[arg(long, value_name = "PATTERN", value_parser = Pattern::new)]
    branch: Option<Pattern>,
}

/// What a rule says.
#[derive(Clone, Debug, Args)]
struct What {
    /// Keep runs for so long after their end, with the records of their images, their tests and artifacts: as in
    /// 90d, or forever.
    #[arg(long, value_name = "AGE")]
    runs: Option<Age>,
    /// Keep logs for so long after their run's end.
    #[arg(long, value_name = "AGE")]
    logs: Option<Age>,
    /// Keep caches for so long after they were last used.
    #[arg(long, value_name = "AGE")]
    caches: Option<Age>,
    /// Keep so many of the newest runs of each branch that is still there, however old they are.
    #[arg(long, value_name = "COUNT")]
    at_least: Option<u32>,
    /// Keep no more than so many runs of each branch, however new they are; 0 for any number.
    #[arg(long, value_name = "COUNT")]
    at_most: Option<u32>,
}

/// Set how long runs are kept, and what hangs on them. What is not named stays as it is. What an environment runs, or
/// could return to, is never removed.
#[derive(Debug, Args)]
pub(crate) struct Set {
    #[command(flatten)]
    whom: Whom,
    #[command(flatten)]
    what: What,
    /// Do not ask, also where something is to be removed at once.
    #[arg(long)]
    yes: bool,
}

/// Take back what was set for a project or a branch: what is more general holds again.
#[derive(Debug, Args)]
pub(crate) struct Reset {
    #[command(flatten)]
    whom: Whom,
    /// Do not ask, also where something is to be removed at once.
    #[arg(long)]
    yes: bool,
}

/// Show what would be removed now, also if something were set. Nothing is.
#[derive(Debug, Args)]
pub(crate) struct Preview {
    #[command(flatten)]
    whom: Whom,
    #[command(flatten)]
    what: What,
}

impl What {
    const fn keep(&self) -> Keep {
        let Self { runs, logs, caches, at_least, at_most } = self;
        Keep { runs: *runs, logs: *logs, caches: *caches, at_least: *at_least, at_most: *at_most }
    }
}

/// The rule for the same, with what is said now.
async fn changed(client: &Client, whom: &Whom, keep: Keep) -> Result<RetentionRule, Failure> {
    let now = client.retention().await?;
    let rule = Rule { project: whom.project.clone(), branch: whom.branch.clone(), keep };
    let before = now.rules.into_iter().map(Rule::from).find(|one| one.is_for_the_same(&rule));
    let keep = keep.or(before.map_or_else(Keep::default, |before| before.keep));
    Ok(Rule { keep, ..rule }.into())
}

/// Sets a rule, after a question where it has something removed.
async fn set(global: &Global, client: &Client, rule: RetentionRule, yes: bool) -> Result<(), Failure> {
    let asked = RetentionQuestion { project: None, rule: Some(rule.clone()) };
    let preview = client.retention_preview(&asked).await?;
    if let Some(words) = words(&preview) {
        prompt::confirm(&format!("This removes {words}, for good."), yes)?;
    }
    let view = client.set_retention(&rule).await?;
    if global.json {
        output::json(&view)?;
    } else {
        print(&view.rules, &view.usual);
    }
    Ok(())
}

impl Retention {
    pub(crate) async fn run(self, global: &Global) -> Outcome {
        let client = settings::client(global)?;
        match self {
            Self::Show(_) => {
                let view = client.retention().await?;
                if global.json {
                    output::json(&view)?;
                } else {
                    print(&view.rules, &view.usual);
                }
            }
            Self::Set(command) => {
                if command.what.keep().is_empty() {
                    let advice = "give --runs, --logs, --caches, --at-least or --at-most";
                    return Err(Failure::usage("nothing to set").advise(advice));
                }
                let rule = changed(&client, &command.whom, command.what.keep()).await?;
                set(global, &client, rule, command.yes).await?;
            }
            Self::Reset(command) => {
                let Whom { project, branch } = command.whom;
                let rule = RetentionRule { project, branch, ..RetentionRule::default() };
                set(global, &client, rule, command.yes).await?;
            }
            Self::Preview(command) => {
                let keep = command.what.keep();
                if keep.is_empty() && command.whom.branch.is_some() {
                    let advice = "give --runs, --logs, --caches, --at-least or --at-most with --branch";
                    return Err(Failure::usage("nothing that would be set for that branch").advise(advice));
                }
                let rule = match keep.is_empty() {
                    true => None,
                    false => Some(changed(&client, &command.whom, keep).await?),
                };
                let asked = RetentionQuestion { project: command.whom.project, rule };
                let preview = client.retention_preview(&asked).await?;
                if global.json {
                    output::json(&preview)?;
                } else {
                    print_preview(&preview);
                }
            }
        }
        Ok(ExitCode::SUCCESS)
    }
}

fn many(count: u64, one: &str) -> String {
    if count == 1 { format!("1 {one}") } else { format!("{count} {one}s") }
}

/// What goes, in words; nothing where nothing does.
fn words(preview: &RetentionPreview) -> Option<String> {
    let mut parts = Vec::new();
    if preview.runs > 0 {
        let images = match preview.images {
            0 => String::new(),
            count => format!(" with the records of {}", many(count, "image")),
        };
        parts.push(format!("{}{images}", many(preview.runs, "run")));
    }
    if preview.logs > 0 {
        parts.push(format!("the logs of {}", many(preview.logs, "run")));
    }
    if preview.caches > 0 {
        parts.push(format!("{} ({})", many(preview.caches, "cache"), output::bytes(preview.cache_bytes)));
    }
    let last = parts.pop()?;
    Some(if parts.is_empty() { last } else { format!("{} and {last}", parts.join(", ")) })
}

fn print(rules: &[RetentionRule], usual: &RetentionRule) {
    let age = |age: Option<Age>| age.map_or_else(String::new, |age| age.to_string());
    let count = |count: Option<u32>| match count {
        Some(0) => "any number".to_owned(),
        Some(count) => count.to_string(),
        None => String::new(),
    };
    let row = |rule: &RetentionRule, project: String| {
        let branch = rule.branch.as_ref().map_or_else(|| "all".to_owned(), |branch| output::plain(branch.as_str()));
        let (runs, logs, caches) = (age(rule.runs), age(rule.logs), age(rule.caches));
        vec![project, branch, runs, logs, caches, count(rule.at_least), count(rule.at_most)]
    };
    let usual = RetentionRule { at_most: Some(0), ..usual.clone() };
    let mut rows = vec![row(&usual, "where nothing is set".to_owned())];
    let name = |rule: &RetentionRule| rule.project.as_ref().map_or_else(|| "all".to_owned(), ToString::to_string);
    rows.extend(rules.iter().map(|rule| row(rule, name(rule))));
    output::table(&["PROJECT", "BRANCHES", "RUNS", "LOGS", "CACHES", "AT LEAST", "AT MOST"], &rows);
}

fn print_preview(preview: &RetentionPreview) {
    let Some(words) = words(preview) else {
        output::line("Nothing would be removed.");
        return;
    };
    output::line(&format!("Would be removed: {}", output::strong(&words)));
    if preview.going.is_empty() {
        return;
    }
    let rows: Vec<_> = preview
        .going
        .iter()
        .map(|going| {
            let run = &going.run;
            let what = if going.what == GoingWhat::Run { "all of it" } else { "its logs" };
            vec![
                run.run.clone(),
                what.to_owned(),
                output::place(run),
                run.ended.map_or_else(String::new, output::ago),
                going.why.clone(),
            ]
        })
        .collect();
    output::table(&["RUN", "GOES", "BRANCH", "ENDED", "WHY"], &rows);
    let more = (preview.runs + preview.logs).saturating_sub(preview.going.len() as u64);
    if more > 0 {
        output::line(&output::faint(&format!("and {more} older ones")));
    }
}
