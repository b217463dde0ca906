//! People who use the server, each with a token of their own.

use reqwest::Method;
use serde_json::Value;

use crate::support::{PONDRIX, Said, World, said};

/// Somebody with a token.
pub(crate) struct Someone<'w> {
    pub(crate) world: &'w World,
    pub(crate) name: &'static str,
    pub(crate) token: String,
    http: reqwest::Client,
}

impl<'w> Someone<'w> {
    /// Whoever has this token.
    pub(crate) fn with(world: &'w World, name: &'static str, token: &str) -> Self {
        Self { world, name, token: token.to_owned(), http: reqwest::Client::new() }
    }

    /// Makes a person known, and takes what `pondrix user add` says for their token.
    pub(crate) async fn new(world: &'w World, name: &'static str, arguments: &[&str]) -> Self {
        let made = world.pondrix(&[&["user", "add", name, "--json"], arguments].concat()).await;
        assert_eq!(made.status, 0, "{made:?}");
        let made: Value = serde_json::from_str(&made.out).unwrap();
        let token = made["first"]["token"].as_str().unwrap().to_owned();
        Self::with(world, name, &token)
    }

    pub(crate) async fn pondrix(&self, arguments: &[&str]) -> Said {
        let mut command = std::process::Command::new(PONDRIX);
        command.args(arguments).env("PONDRIX_URL", self.world.url()).env("PONDRIX_TOKEN", &self.token);
        said(command).await
    }

    /// A token of theirs with a limit, or whatever else is said of it.
    pub(crate) async fn token(&self, arguments: &[&str]) -> Self {
        let made = self.pondrix(&[&["token", "add", "--json"], arguments].concat()).await;
        assert_eq!(made.status, 0, "{made:?}");
        let token = serde_json::from_str::<Value>(&made.out).unwrap()["token"].as_str().unwrap().to_owned();
        Self { world: self.world, name: self.name, token, http: self.http.clone() }
    }

    pub(crate) async fn ask(&self, method: &Method, path: &str, body: Value) -> reqwest::Response {
        let request = self.http.request(method.clone(), format!("{}{path}", self.world.url()));
        request.bearer_auth(&self.token).json(&body).send().await.unwrap()
    }
}
