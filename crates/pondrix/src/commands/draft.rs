//! `pondrix draft`

use std::io::IsTerminal;
use std::path::{Path, PathBuf};
use std::process::ExitCode;

use clap::Args;
use pondrix_core::draft::{self, Found, Repository};
use pondrix_core::pipeline::{self, FILE_NAME};

use crate::cli::Global;
use crate::failure::{Failure, Outcome};
use crate::shared::pipeline_file;
use crate::{git, output, prompt, settings};

/// Write a first pipeline file for this repository, from what is in it, and manifests where it has none.
///
/// On a terminal it asks for registry, environment and branch; the guesses come from the server that you are signed
/// in at, and from the checkout.
#[derive(Debug, Args)]
pub(crate) struct Draft {
    /// The registry that images are pushed to.
    #[arg(long, value_name = "HOST")]
    registry: Option<String>,
    /// The environment that the application is rolled out to first.
    #[arg(long, value_name = "NAME")]
    environment: Option<String>,
    /// The branch whose commits start runs.
    #[arg(long, value_name = "BRANCH")]
    branch: Option<String>,
    /// Ask nothing: take the guesses.
    #[arg(long)]
    yes: bool,
    /// Print it instead of writing files.
    #[arg(long)]
    print: bool,
}

/// As much of a file as is read to know what it is.
const LONGEST: u64 = 64 * 1024;
/// The registry where nobody knows a better one.
const ANY_REGISTRY: &str = "registry.example.test";

fn beginning(path: &Path) -> String {
    use std::io::Read as _;
    let mut bytes = Vec::new();
    let is_file = path.symlink_metadata().is_ok_and(|data| data.is_file());
    if is_file && let Ok(file) = std::fs::File::open(path) {
        let _ = file.take(LONGEST).read_to_end(&mut bytes);
    }
    String::from_utf8(bytes).unwrap_or_default()
}

/// What the server knows that a draft needs.
#[derive(Default)]
struct Known {
    registry: Option<String>,
    bare_names: Option<String>,
    environment: Option<String>,
}

impl Known {
    /// As far as a server can be asked.
    async fn ask(global: &Global) -> Self {
        let Ok(client) = settings::client(global) else { return Self::default() };
        let registries = client.registries().await.map(|list| list.registries).unwrap_or_default();
        let environments = client.environments().await.map(|list| list.environments).unwrap_or_default();
        let named = |name: &str| environments.iter().find(|one| one.name == name);
        let environment = named("staging").or(environments.first()).map(|one| one.name.clone());
        let bare = registries.iter().find_map(|one| Some((one, one.bare_names.as_ref()?)));
        let bare_names =
            bare.map(|(one, path)| if path.is_empty() { one.host.clone() } else { format!("{}/{path}", one.host) });
        // Where somebody signs in, images are pushed.
        let registry =
            registries.iter().find(|one| !one.accounts.is_empty()).or(registries.first()).map(|one| one.host.clone());
        Self { registry, bare_names, environment }
    }
}

impl Draft {
    pub(crate) async fn run(self, global: &Global) -> Outcome {
        let root = git::root().map_err(|error| Failure::usage(format!("this is no checkout: {error:#}")))?;
        let file = root.join(FILE_NAME);
        if !self.print && file.exists() {
            let message = format!("{} is there already, and is not touched", file.display());
            return Err(Failure::usage(message).advise("look at a draft with: pondrix draft --print"));
        }
        let known = Known::ask(global).await;
        let asks = !self.yes && !self.print && std::io::stdin().is_terminal() && std::io::stderr().is_terminal();
        let answer = |given: Option<String>, what: &str, guess: String| match given {
            Some(given) => Ok(given),
            None if asks => {
                prompt::line(&format!("{what} [{guess}]: ")).map(|said| if said.is_empty() { guess } else { said })
            }
            None => Ok(guess),
        };
        let registry =
            answer(self.registry, "Registry for images", known.registry.unwrap_or_else(|| ANY_REGISTRY.to_owned()))?;
        let environment = answer(
            self.environment,
            "Environment to roll out to",
            known.environment.unwrap_or_else(|| "staging".to_owned()),
        )?;
        let branch = answer(
            self.branch,
            "Branch whose commits run",
            git::current_branch().unwrap_or_else(|| "main".to_owned()),
        )?;
        let paths = git::files()?;
        let found = paths
            .iter()
            .filter_map(|path| Some(Found { path: path.to_str()?.to_owned(), text: beginning(&root.join(path)) }));
        let name = root.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
        let bare_names = known.bare_names;
        let repository = Repository { name, branch, registry, environment, bare_names, files: found.collect() };
        let draft = draft::draft(&repository);
        if let Err(faults) = pipeline::read(&draft.pipeline) {
            // A name that was given is the only thing here that can be wrong.
            pipeline_file::print_faults(FILE_NAME, &faults);
            return Err(Failure::usage("no draft can be made with these"));
        }
        let files: Vec<(PathBuf, &str)> = [(FILE_NAME, draft.pipeline.as_str())]
            .into_iter()
            .chain(draft.manifests.as_ref().map(|(path, text)| (path.as_str(), text.as_str())))
            .map(|(path, text)| (root.join(path), text))
            .collect();
        if self.print {
            print(&root, &files, global)?;
        } else {
            write(&files, global)?;
        }
        Ok(ExitCode::SUCCESS)
    }
}

fn print(root: &Path, files: &[(PathBuf, &str)], global: &Global) -> Result<(), Failure> {
    let relative = |path: &Path| path.strip_prefix(root).unwrap_or(path).display().to_string();
    if global.json {
        let row = |(path, text): &(PathBuf, &str)| serde_json::json!({ "file": relative(path), "text": text });
        return output::json(&files.iter().map(row).collect::<Vec<_>>());
    }
    for (at, (path, text)) in files.iter().enumerate() {
        if files.len() > 1 {
            let gap = if at > 0 { "\n" } else { "" };
            output::line(&format!("{gap}{}", output::strong(&relative(path))));
        }
        output::line(text.trim_end());
    }
    Ok(())
}

fn write(files: &[(PathBuf, &str)], global: &Global) -> Result<(), Failure> {
    for (path, text) in files {
        let told = |error: std::io::Error| Failure::new(format!("{}: {error}", path.display()));
        if let Some(folder) = path.parent() {
            std::fs::create_dir_all(folder).map_err(told)?;
        }
        // Whatever came there meanwhile is somebody's.
        let mut file = std::fs::File::create_new(path).map_err(told)?;
        std::io::Write::write_all(&mut file, text.as_bytes()).map_err(told)?;
    }
    if global.json {
        let row = |(path, text): &(PathBuf, &str)| serde_json::json!({ "file": path, "text": text });
        return output::json(&files.iter().map(row).collect::<Vec<_>>());
    }
    for (path, _) in files {
        output::line(&format!("Wrote {}", path.display()));
    }
    output::line("Read it, change it, then: pondrix check, pondrix try");
    Ok(())
}
