//! The world of the demo: registry, cluster, server, runner and repositories.

use std::collections::BTreeMap;
use std::net::{Ipv4Addr, SocketAddr};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use pondrix_api::{Client, EnvironmentChange, NewProject, NewUser, ProjectChange, RegistryChange};
use pondrix_core::access::{Approvers, EnvironmentRules, Grant, Holder, Projects, Reach, Role};
use pondrix_core::image::Registries;
use pondrix_core::pipeline::Pattern;
use pondrix_image::Image;
use pondrix_runner::limits_are_usable;
use pondrix_sandbox::Launcher;
use pondrix_server::{KeySources, MasterSource, Server, ServerConfig, Tuning};
use pondrix_standin::cluster::Cluster;
use pondrix_standin::garden::{GLASSHOUSE_BASE, PLANT_LABELS, REGISTRY, Repository, VISITOR_DESK, base_images};
use pondrix_standin::registry::{Registry, Trust};
use tokio::net::TcpListener;
use tokio::sync::watch;
use tokio::task::JoinHandle;
use tokio_util::sync::CancellationToken;

use crate::failure::Failure;
use crate::own_runners::OwnRunner;
use crate::shared::machine::Allows;

/// Everything, running.
pub(super) struct World {
    pub(super) folder: PathBuf,
    pub(super) server_address: String,
    pub(super) admin_token: String,
    /// The tokens of the people of the garden, by name.
    pub(super) people: BTreeMap<String, String>,
    pub(super) client: Client,
    pub(super) application: SocketAddr,
    pub(super) cluster_address: SocketAddr,
    pub(super) registry: Arc<Registry>,
    pub(super) base: Image,
    addresses: Registries,
    repositories: Vec<Repository>,
    runner: (CancellationToken, JoinHandle<()>),
    others: (CancellationToken, Vec<JoinHandle<()>>),
}

/// Makes the people of the garden known: who keeps the platform, who develops what, and who says yes to production.
async fn people(client: &Client) -> Result<BTreeMap<String, String>, Failure> {
    let mut tokens = BTreeMap::new();
    for (name, team, role, projects) in [
        ("ines", "platform", Role::Administer, "*"),
        ("tomas", "visitors", Role::Maintain, "visitor-desk"),
        ("wren", "growers", Role::Run, "plant-labels"),
        ("odile", "keepers", Role::Approve, "*"),
    ] {
        let projects: Projects = projects.parse().map_err(|error| Failure::new(format!("{error}")))?;
        let user =
            NewUser { name: name.to_owned(), teams: vec![team.to_owned()], roles: vec![Grant { role, projects }] };
        tokens.insert(name.to_owned(), client.add_user(&user).await?.first.token);
    }
    Ok(tokens)
}

async fn listen() -> std::io::Result<(TcpListener, SocketAddr)> {
    let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).await?;
    let address = listener.local_addr()?;
    Ok((listener, address))
}

impl World {
    /// Starts everything. When the story is to be played, repositories are looked at more often.
    pub(super) async fn start(folder: &Path, story: bool) -> Result<Self, Failure> {
        let launcher = Launcher::new();
        let stop = CancellationToken::new();
        let mut tasks = Vec::new();

        let registry = Registry::new(&folder.join("registry"))?;
        let (listener, registry_address) = listen().await?;
        let serving = Arc::clone(&registry).serve(listener, stop.clone());
        tasks.push(tokio::spawn(async move { drop(serving.await) }));
        let registry_url = format!("http://{registry_address}");
        let addresses = Registries::at([(REGISTRY, registry_url.clone())]);
        let base = base_images(folder, &addresses, &launcher).await?.shell;

        let cluster = Cluster::new(&folder.join("cluster"), addresses.clone(), launcher, &["staging", "production"])?;
        let (listener, cluster_address) = listen().await?;
        let application = cluster.reserve("staging", "visitor-desk").await?;
        let kubeconfig = cluster.write_kubeconfig(cluster_address, "staging")?;
        let cluster_config = cluster.write_kubeconfig(cluster_address, "production")?;
        let serving = cluster.serve(listener, stop.clone());
        tasks.push(tokio::spawn(async move { drop(serving.await) }));

        let data = folder.join("server");
        let look_every = if story { Duration::from_millis(500) } else { Duration::from_secs(30) };
        let tuning = Tuning {
            look_every,
            try_limit: 64 << 20,
            repository_limit: 16 << 30,
            artifact_limit: 16 << 30,
            request_limit: None,
            trusted_proxies: Vec::new(),
        };
        let config = ServerConfig {
            data: data.clone(),
            public_url: None,
            log_limit: 64 << 20,
            tls: None,
            keys: KeySources {
                master: MasterSource::File(data.join("secrets.key")),
                former: None,
                lose_secrets: false,
            },
            providers: Vec::new(),
            reach: Reach::default(),
            tuning: watch::channel(tuning).1,
        };
        let (server, tokens) = Server::open(config).await?;
        let token_file = server.own_runner("pond-1").await?;
        let (listener, address) = listen().await?;
        let server_address = format!("http://{address}");
        let serving = server.serve(listener, stop.clone());
        tasks.push(tokio::spawn(async move { drop(serving.await) }));
        let admin_token = tokens.admin.ok_or_else(|| Failure::new("the server made no token"))?;
        let client = Client::new(&server_address, &admin_token);

        let runner_stop = CancellationToken::new();
        let runner = OwnRunner {
            allows: Allows { without_limits: limits_are_usable().is_err(), ..Allows::default() },
            name: "pond-1".to_owned(),
            data: folder.join("runner"),
            address_file: Server::address_file(&data),
            token_file,
            slots: 2,
            alone_for: Duration::from_secs(10),
            log: Some(folder.join("runner.log")),
        };
        let runner_task = tokio::spawn(runner.keep(runner_stop.clone()));

        client
            .set_registry(&RegistryChange {
                host: REGISTRY.to_owned(),
                address: Some(registry_url),
                ..RegistryChange::default()
            })
            .await?;
        // Nobody's password is anywhere: the jobs of one project push there with their identity.
        registry.trust([Trust {
            issuer: server_address.clone(),
            audience: REGISTRY.to_owned(),
            user: "garden".to_owned(),
            project: "plant-labels".to_owned(),
            below: "garden/".to_owned(),
        }]);
        client
            .set_registry(&RegistryChange {
                host: REGISTRY.to_owned(),
                user: Some("garden".to_owned()),
                audience: Some(REGISTRY.to_owned()),
                repositories: Some(vec![Pattern::new("garden/*").map_err(|error| Failure::new(error.to_string()))?]),
                projects: Some(vec!["plant-labels".parse().map_err(|error| Failure::new(format!("{error}")))?]),
                ..RegistryChange::default()
            })
            .await?;
        let environment = EnvironmentChange {
            name: "staging".to_owned(),
            kubeconfig: Some(std::fs::read_to_string(&kubeconfig)?),
            address: Some(format!("http://{application}")),
            ..EnvironmentChange::default()
        };
        client.set_environment(&environment).await?;
        let guarded = EnvironmentRules {
            approvers: Some(Approvers { of: vec![Holder::Team("keepers".to_owned())], count: 1, own: false }),
            ..EnvironmentRules::default()
        };
        let production = EnvironmentChange {
            name: "production".to_owned(),
            kubeconfig: Some(std::fs::read_to_string(cluster_config)?),
            rules: Some(guarded),
            ..EnvironmentChange::default()
        };
        client.set_environment(&production).await?;
        let people = people(&client).await?;
        let mut repositories = Vec::new();
        let gardens =
            [("glasshouse-base", GLASSHOUSE_BASE), ("visitor-desk", VISITOR_DESK), ("plant-labels", PLANT_LABELS)];
        for (name, files) in gardens {
            let repository = Repository::new(folder, name, files)?;
            if name == "glasshouse-base" {
                // Others use its template from the start.
                let commit = repository.push("The base images, and a template")?;
                repository.push_tag("1", &commit)?;
            }
            let address = repository.bare.display().to_string();
            let project = client
                .add_project(&NewProject { name: name.to_owned(), repository: address, credential: None })
                .await?;
            repository.set_hook(project.hook.as_deref())?;
            repositories.push(repository);
        }
        let gives_templates = ProjectChange { templates: Some(true), ..ProjectChange::default() };
        client.change_project("glasshouse-base", &gives_templates).await?;
        Ok(Self {
            folder: folder.to_owned(),
            server_address,
            admin_token,
            people,
            client,
            application,
            cluster_address,
            registry,
            base,
            addresses,
            repositories,
            runner: (runner_stop, runner_task),
            others: (stop, tasks),
        })
    }

    pub(super) fn repository(&self, name: &str) -> &Repository {
        let found = self.repositories.iter().find(|repository| repository.name == name);
        found.expect("the demo only names repositories that it made")
    }

    pub(super) fn addresses(&self) -> &Registries {
        &self.addresses
    }

    /// Shows the end of the servers' own log.
    pub(super) fn show_log(&self) {
        let log = std::fs::read_to_string(self.folder.join("demo.log")).unwrap_or_default();
        let lines: Vec<_> = log.lines().collect();
        crate::output::line("the last lines of demo.log:");
        lines[lines.len().saturating_sub(15)..].iter().for_each(|line| crate::output::line(&format!("  | {line}")));
    }

    /// Ends everything: the runner first, while the server still hears it.
    pub(super) async fn end(self) {
        self.runner.0.cancel();
        let _ = self.runner.1.await;
        self.others.0.cancel();
        for task in self.others.1 {
            let _ = tokio::time::timeout(Duration::from_secs(10), task).await;
        }
    }
}
