//! `pondrix setup`

mod configuration_file;
mod services;

use std::io::IsTerminal as _;
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::time::Duration;

use clap::Args;
use pondrix_api::{Client, ClientError, NewProject, NewRunner, NewUser, RegistryChange, RunnerBounds};
use pondrix_core::access::{Grant, Role};

use self::configuration_file::ConfigurationFile;
use super::token;
use crate::cli::Global;
use crate::failure::{Failure, Outcome};
use crate::settings::{self, Saved};
use crate::shared::token_file::TokenFile;
use crate::{output, prompt};

/// Set up the server that the package pondrix-server installed: address, TLS, first person, registry and repository.
///
/// On a terminal, the command asks for what no option has; an empty answer skips it. Elsewhere it does what the options
/// say. It can be repeated. If the package pondrix-runner is installed, its runner is registered and started.
#[derive(Debug, Args)]
pub(crate) struct Setup {
    /// Address and port to listen on. The default of the package is 127.0.0.1:7733.
    #[arg(long, value_name = "HOST:PORT")]
    listen: Option<SocketAddr>,
    /// Address that people and webhooks use.
    #[arg(long, value_name = "URL")]
    public_url: Option<String>,
    /// Serve TLS with this certificate chain (PEM). The user `pondrix` has to be able to read it.
    #[arg(long, value_name = "FILE", requires = "tls_key")]
    tls_certificate: Option<PathBuf>,
    /// The certificate's private key (PEM).
    #[arg(long, value_name = "FILE", requires = "tls_certificate")]
    tls_key: Option<PathBuf>,
    /// First person, who may do everything. The person's token is printed.
    #[arg(long, value_name = "NAME")]
    person: Option<String>,
    /// Registry: the host that image names begin with.
    #[arg(long, value_name = "HOST")]
    registry: Option<String>,
    /// The registry's address, if it is not https://HOST.
    #[arg(long, value_name = "URL", requires = "registry")]
    registry_at: Option<String>,
    /// User that signs in at the registry. The password is asked for, or read from standard input.
    #[arg(long, value_name = "NAME", requires = "registry")]
    registry_user: Option<String>,
    /// Name of the first project: a-z, 0-9 and `-`.
    #[arg(long, value_name = "NAME", requires = "repository")]
    project: Option<String>,
    /// The project's repository, as git reaches it from the server: an address or a path.
    #[arg(long, value_name = "REPOSITORY", requires = "project")]
    repository: Option<String>,
}

/// Files of the packages.
const SERVER_FILE: &str = "/etc/pondrix/server.kdl";
const RUNNER_FILE: &str = "/etc/pondrix/runner.kdl";
const RUNNER_TOKEN: &str = "/etc/pondrix/runner.token";

/// How long the server and the runner may take to start.
const START_TIME: Duration = Duration::from_secs(300);
const PAUSE: Duration = Duration::from_millis(300);

impl Setup {
    pub(crate) async fn run(mut self, global: &Global) -> Outcome {
        if !rustix::process::geteuid().is_root() {
            return Err(Failure::usage("`pondrix setup` changes files in /etc/pondrix and starts services, as root")
                .advise("run it with sudo"));
        }
        let mut file = ConfigurationFile::read(Path::new(SERVER_FILE))?;
        let data = PathBuf::from(file.value("data").unwrap_or_default());
        let before = [file.value("public-url").map(str::to_owned), address(&data)];
        if std::io::stdin().is_terminal() {
            self.ask()?;
        }
        self.change(&mut file)?;
        let is_changed = file.write()?;
        if let Some(address) = self.listen {
            services::listen(address)?;
        }
        services::start_server(is_changed || self.listen.is_some())?;
        let place = Place {
            first_token: file.value("first-token-file").map(PathBuf::from),
            public_url: file.value("public-url").map(str::to_owned),
            before: before.into_iter().flatten().collect(),
            data,
        };
        let (client, first_token) = place.connect(global).await?;
        let address = self.public_url.as_deref().or(file.value("public-url")).unwrap_or(client.address()).to_owned();
        done("the server runs", &address);
        self.add_person(&client, first_token.as_deref()).await?;
        self.add_registry(&client).await?;
        self.add_project(&client).await?;
        add_runner(&client).await?;
        if !global.json {
            output::line(&format!("\nOpen {address} in a browser, or sign in: pondrix login {address}"));
        }
        Ok(ExitCode::SUCCESS)
    }

    /// Asks for what no option has.
    fn ask(&mut self) -> Result<(), Failure> {
        let ask = |value: &mut Option<String>, question: &str| -> Result<(), Failure> {
            if value.is_none() {
                *value = Some(prompt::line(question)?).filter(|answer| !answer.is_empty());
            }
            Ok(())
        };
        output::line("An empty answer skips a question.");
        ask(&mut self.public_url, "Address that people and webhooks use, for example https://pondrix.example.org: ")?;
        if self.tls_certificate.is_none() {
            let mut files = [None, None];
            ask(&mut files[0], "Certificate chain (PEM file), if the server itself serves TLS: ")?;
            if files[0].is_some() {
                ask(&mut files[1], "Private key (PEM file): ")?;
            }
            [self.tls_certificate, self.tls_key] = files.map(|file| file.map(PathBuf::from));
        }
        ask(&mut self.person, "Name of the first person (a-z, 0-9 and `-`): ")?;
        ask(&mut self.registry, "Registry (the host that image names begin with): ")?;
        if self.registry.is_some() {
            ask(&mut self.registry_at, "Its address, if it is not https://HOST: ")?;
            ask(&mut self.registry_user, "User that signs in there: ")?;
        }
        ask(&mut self.project, "Name of the first project (a-z, 0-9 and `-`): ")?;
        if self.project.is_some() {
            ask(&mut self.repository, "Its repository (an address or a path): ")?;
        }
        Ok(())
    }

    /// Enters the options of the server into its configuration file.
    fn change(&self, file: &mut ConfigurationFile) -> Result<(), Failure> {
        let absolute = |path: &PathBuf| std::path::absolute(path).map(|path| path.display().to_string());
        if let Some(url) = &self.public_url {
            file.set("public-url", url);
        }
        if let (Some(certificate), Some(key)) = (&self.tls_certificate, &self.tls_key) {
            file.set("tls-certificate", &absolute(certificate)?);
            file.set("tls-key", &absolute(key)?);
        }
        Ok(())
    }

    /// Adds the first person, who replaces the first token.
    async fn add_person(&self, client: &Client, first_token: Option<&Path>) -> Result<(), Failure> {
        let Some(name) = &self.person else { return Ok(()) };
        if client.users().await?.users.iter().any(|user| user.name == *name) {
            done("the person exists", name);
            return Ok(());
        }
        let roles = vec![Grant::everywhere(Role::Administer)];
        let made = client.add_user(&NewUser { name: name.clone(), teams: Vec::new(), roles }).await?;
        done("the person may do everything", name);
        token::told(&made.first);
        if let Some(file) = first_token {
            std::fs::remove_file(file)?;
        }
        Ok(())
    }

    async fn add_registry(&self, client: &Client) -> Result<(), Failure> {
        let Some(host) = &self.registry else { return Ok(()) };
        let ask = |user: &String| prompt::hidden_or_input(&format!("Password of {user} at {host}: "));
        let change = RegistryChange {
            host: host.clone(),
            address: self.registry_at.clone(),
            user: self.registry_user.clone(),
            password: self.registry_user.as_ref().map(ask).transpose()?,
            ..RegistryChange::default()
        };
        let registry = client.set_registry(&change).await?;
        done("the registry is known", &format!("{} at {}", registry.host, registry.address));
        Ok(())
    }

    async fn add_project(&self, client: &Client) -> Result<(), Failure> {
        let (Some(name), Some(repository)) = (&self.project, &self.repository) else { return Ok(()) };
        if client.projects().await?.projects.iter().any(|project| project.name == *name) {
            done("the project exists", name);
            return Ok(());
        }
        let new = NewProject { name: name.clone(), repository: repository.clone(), credential: None };
        client.add_project(&new).await?;
        done("the project is watched", &format!("{name}, from {repository}"));
        Ok(())
    }
}

fn done(what: &str, which: &str) {
    output::line(&format!("ok  {what}: {}", output::strong(which)));
}

/// The address in the file that the server writes when it listens.
fn address(data: &Path) -> Option<String> {
    Some(std::fs::read_to_string(data.join("address")).ok()?.trim().to_owned())
}

/// The server that `setup` configures.
struct Place {
    data: PathBuf,
    first_token: Option<PathBuf>,
    public_url: Option<String>,
    /// Its addresses before this command changed them.
    before: Vec<String>,
}

impl Place {
    /// A client of the server, as the first administrator, or as the person who is signed in here. Waits until the server
    /// answers. With it comes the file of the first token, if it is still there.
    async fn connect(self, global: &Global) -> Result<(Client, Option<PathBuf>), Failure> {
        let begun = std::time::Instant::now();
        loop {
            let address = address(&self.data).unwrap_or_default();
            let url = self.public_url.as_ref().unwrap_or(&address).clone();
            let file = self.first_token.clone().filter(|file| file.exists());
            // A saved token is shown to no other server.
            let is_same = |saved: &Saved| saved.url == url || self.before.contains(&saved.url);
            let saved = || settings::saved().filter(is_same).map(|saved| saved.token);
            let token = match &file {
                Some(file) => Some(std::fs::read_to_string(file)?.trim().to_owned()),
                None => global.token.clone().or_else(saved),
            };
            let client = Client::new(&address, token.as_deref().unwrap_or_default());
            match client.whoami().await {
                Ok(_) => {
                    settings::save(&Saved { url, token: token.unwrap_or_default() })?;
                    return Ok((client, file));
                }
                Err(ClientError::Problem(problem)) if problem.status == 401 && file.is_none() => {
                    return Err(Failure::usage("this server is set up already, and nobody is signed in here").advise(
                        format!("sign in as an administrator, and repeat the command: sudo pondrix login {url}"),
                    ));
                }
                Err(error) if begun.elapsed() > START_TIME => {
                    return Err(Failure::from(error).advise("journalctl -u pondrix-server shows the server's log"));
                }
                Err(_) => tokio::time::sleep(PAUSE).await,
            }
        }
    }
}

/// Registers and starts the runner of this machine, if its package is installed and it has no token.
async fn add_runner(client: &Client) -> Result<(), Failure> {
    if !Path::new(RUNNER_FILE).exists() {
        return Ok(());
    }
    let name = services::machine_name();
    if !Path::new(RUNNER_TOKEN).exists() {
        let mut file = TokenFile::new(Path::new(RUNNER_TOKEN))?;
        let new = NewRunner {
            name: name.clone(),
            bounds: RunnerBounds { pool: "pond".to_owned(), ..RunnerBounds::default() },
        };
        file.write(&client.add_runner(&new).await?.token)?;
    }
    services::start_runner()?;
    let begun = std::time::Instant::now();
    while !client.runners().await?.runners.iter().any(|runner| runner.name == name && runner.here) {
        if begun.elapsed() > START_TIME {
            return Err(Failure::new(format!("the runner {name} does not connect"))
                .advise("journalctl -u pondrix-runner, and `pondrix runner check` as root, show why"));
        }
        tokio::time::sleep(PAUSE).await;
    }
    done("the runner is ready for jobs", &name);
    Ok(())
}
