//! Who may ask for what: one table, and one place that holds every request against it.
//!
//! What is not in the table is refused, whoever asks.

use std::sync::Arc;

use axum::extract::{FromRequestParts, MatchedPath, RawPathParams, Request, State};
use axum::http::StatusCode;
use axum::http::request::Parts;
use axum::middleware::Next;
use axum::response::Response;
use pondrix_core::access::{Need, Role};

use super::App;
use super::auth::{self, Runner};
use super::error::ApiError;
use crate::domain::Asker;
use crate::store::TokenKind;

/// What an address asks of whoever asks for it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Asks {
    /// Nothing.
    Nothing,
    /// The secret of a project's hook.
    HookSecret,
    /// That somebody signed in; what they are shown and may do there, the words say.
    SignedIn(&'static str),
    /// A role: in the project of the address, or for all projects where it has none.
    Role(Need),
    /// A runner's token.
    Runner,
}

impl Asks {
    /// In one word.
    pub(super) const fn word(self) -> &'static str {
        match self {
            Self::Nothing => "nothing",
            Self::HookSecret => "hook-secret",
            Self::SignedIn(_) => "signed-in",
            Self::Role(need) => need.smallest().word(),
            Self::Runner => "runner",
        }
    }
}

/// An address, and what it asks for.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Rule {
    pub(crate) method: &'static str,
    pub(crate) path: &'static str,
    pub(crate) asks: Asks,
}

const fn rule(method: &'static str, path: &'static str, asks: Asks) -> Rule {
    Rule { method, path, asks }
}

const LOOK: Asks = Asks::Role(Need::Look);
const RUN: Asks = Asks::Role(Need::Run);
const SECRETS: Asks = Asks::Role(Need::Secrets);
const MAINTAIN: Asks = Asks::Role(Need::Maintain);
const ADMINISTER: Asks = Asks::Role(Need::Administer);
const SEEN: Asks = Asks::SignedIn("of the projects that they may see");
const ALL: Asks = Asks::SignedIn("all of it");
const OWN: Asks = Asks::SignedIn("their own tokens; those of others with `administer` for all projects");
const GIVES: Asks = Asks::SignedIn("roles in projects that they administer");

/// Every address of the API.
pub(crate) const RULES: &[Rule] = &[
    rule("GET", "/health", Asks::Nothing),
    rule("POST", "/api/v1/session", Asks::Nothing),
    rule("DELETE", "/api/v1/session", ALL),
    rule("GET", "/api/v1/whoami", ALL),
    rule("GET", "/api/v1/users", ALL),
    rule("POST", "/api/v1/users", ADMINISTER),
    rule("PATCH", "/api/v1/users/{name}", ADMINISTER),
    rule("DELETE", "/api/v1/users/{name}", ADMINISTER),
    rule("GET", "/api/v1/roles", SEEN),
    rule("PUT", "/api/v1/roles", GIVES),
    rule("POST", "/api/v1/roles/take", GIVES),
    rule("GET", "/api/v1/tokens", OWN),
    rule("POST", "/api/v1/tokens", OWN),
    rule("DELETE", "/api/v1/tokens/{id}", OWN),
    rule("POST", "/api/v1/tokens/{id}/rotate", OWN),
    rule("GET", "/api/v1/projects", SEEN),
    rule("POST", "/api/v1/projects", Asks::SignedIn("with `add` or `administer` for a project of that name")),
    rule("PATCH", "/api/v1/projects/{project}", MAINTAIN),
    rule("DELETE", "/api/v1/projects/{project}", ADMINISTER),
    rule("POST", "/api/v1/projects/{project}/plan", LOOK),
    rule("GET", "/api/v1/projects/{project}/flaky/{job}", LOOK),
    rule("GET", "/api/v1/projects/{project}/secrets", LOOK),
    rule("PUT", "/api/v1/projects/{project}/secrets/{name}", SECRETS),
    rule("DELETE", "/api/v1/projects/{project}/secrets/{name}", SECRETS),
    rule("GET", "/api/v1/templates", Asks::SignedIn("of projects that they may see, or that give templates away")),
    rule("GET", "/api/v1/runs", SEEN),
    rule("GET", "/api/v1/runs/stream", SEEN),
    rule("GET", "/api/v1/stream", SEEN),
    rule("POST", "/api/v1/projects/{project}/runs", RUN),
    rule("POST", "/api/v1/projects/{project}/tries", RUN),
    rule("GET", "/api/v1/projects/{project}/runs/{number}", LOOK),
    rule("GET", "/api/v1/projects/{project}/runs/{number}/stream", LOOK),
    rule("POST", "/api/v1/projects/{project}/runs/{number}/answer", Asks::Role(Need::Approve)),
    rule("POST", "/api/v1/projects/{project}/runs/{number}/rerun", RUN),
    rule("POST", "/api/v1/projects/{project}/runs/{number}/stop", RUN),
    rule("GET", "/api/v1/projects/{project}/runs/{number}/jobs/{job}/log", LOOK),
    rule("GET", "/api/v1/projects/{project}/runs/{number}/jobs/{job}/log/stream", LOOK),
    rule("GET", "/api/v1/projects/{project}/runs/{number}/jobs/{job}/artifacts/{name}", LOOK),
    rule("GET", "/api/v1/projects/{project}/runs/{number}/jobs/{job}/artifacts/{name}/archive", LOOK),
    rule("GET", "/api/v1/images", SEEN),
    rule("GET", "/api/v1/images/one", SEEN),
    rule("GET", "/api/v1/images/difference", SEEN),
    rule("GET", "/api/v1/images/chain", SEEN),
    rule("GET", "/api/v1/environments", SEEN),
    rule("PUT", "/api/v1/environments", ADMINISTER),
    rule("DELETE", "/api/v1/environments/{name}", ADMINISTER),
    rule("PUT", "/api/v1/environments/{name}/freeze", ADMINISTER),
    rule("DELETE", "/api/v1/environments/{name}/freeze", ADMINISTER),
    rule("GET", "/api/v1/registries", ALL),
    rule("PUT", "/api/v1/registries", ADMINISTER),
    rule("DELETE", "/api/v1/registries/{host}", ADMINISTER),
    rule("POST", "/api/v1/registries/test", ADMINISTER),
    rule("GET", "/api/v1/runners", ALL),
    rule("DELETE", "/api/v1/runners/{name}", ADMINISTER),
    rule("PUT", "/api/v1/runners/{name}/pause", ADMINISTER),
    rule("DELETE", "/api/v1/runners/{name}/pause", ADMINISTER),
    rule("PUT", "/api/v1/pools", ADMINISTER),
    rule("GET", "/api/v1/retention", SEEN),
    rule("PUT", "/api/v1/retention", Asks::SignedIn("`maintain` in the rule's project, `administer` for all")),
    rule("POST", "/api/v1/retention/preview", Asks::SignedIn("`maintain` in the project, `administer` for all")),
    rule("GET", "/api/v1/backup", ADMINISTER),
    rule("POST", "/hooks/{project}", Asks::HookSecret),
    rule("POST", "/hooks/{project}/{secret}", Asks::HookSecret),
    rule("POST", "/api/v1/runner/hello", Asks::Runner),
    rule("GET", "/api/v1/runner/projects", Asks::Runner),
    rule("POST", "/api/v1/runner/take", Asks::Runner),
];

/// What every address of a job's lease asks for: a runner's token, and the lease itself, which is as hard to guess.
const LEASES: &str = "/api/v1/runner/leases/{lease}/";

/// What an address asks for; nothing where it is not in the table.
pub(super) fn asks(method: &str, path: &str) -> Option<Asks> {
    if path.starts_with(LEASES) {
        return Some(Asks::Runner);
    }
    // Axum answers HEAD as it answers GET, without the body.
    let method = if method == "HEAD" { "GET" } else { method };
    let fits = |rule: &&Rule| rule.method.eq_ignore_ascii_case(method) && rule.path == path;
    RULES.iter().find(fits).map(|rule| rule.asks)
}

/// The table for people, in Markdown.
#[must_use]
pub fn rights_table() -> String {
    let mut text = "| asked for | of whom |\n|---|---|\n".to_owned();
    for Rule { method, path, asks } in RULES {
        let of_project = path.contains("{project}");
        let whom = match asks {
            Asks::Nothing => "nobody in particular".to_owned(),
            Asks::HookSecret => "whoever has the secret of the project's hook".to_owned(),
            Asks::SignedIn(words) => format!("whoever is signed in: {words}"),
            Asks::Role(need) => {
                let enough = Role::ALL.into_iter().filter(|role| role.allows(*need)).map(|role| format!("`{role}`"));
                let place = if of_project { "in the project" } else { "for all projects" };
                match need {
                    Need::Look => format!("any role {place}"),
                    _ => format!("{} {place}", enough.collect::<Vec<_>>().join(", ")),
                }
            }
            Asks::Runner => "a runner's token".to_owned(),
        };
        text.push_str(&format!("| `{method} {path}` | {whom} |\n"));
    }
    text.push_str(&format!("| all below `{LEASES}` | a runner's token, and the secret of the job's lease |\n"));
    text
}

/// Lets a request through that the table allows, and tells its handler who asks.
pub(crate) async fn guard(State(app): State<Arc<App>>, request: Request, next: Next) -> Response {
    let (mut parts, body) = request.into_parts();
    match admit(&app, &mut parts).await {
        Ok(()) => next.run(Request::from_parts(parts, body)).await,
        Err(refused) => refused.into(),
    }
}

async fn admit(app: &Arc<App>, parts: &mut Parts) -> Result<(), ApiError> {
    // What has no route is the console's, or nothing.
    let Some(path) = parts.extensions.get::<MatchedPath>().map(|path| path.as_str().to_owned()) else { return Ok(()) };
    if path == super::NO_SUCH_ADDRESS {
        return Ok(());
    }
    let Some(asks) = asks(parts.method.as_str(), &path) else {
        let words = format!("{} is not answered here", parts.method);
        return Err(ApiError::new(StatusCode::METHOD_NOT_ALLOWED, words));
    };
    let need = match asks {
        Asks::Nothing | Asks::HookSecret => return Ok(()),
        Asks::Runner => {
            if auth::identify(parts, app).await?.shown.kind != TokenKind::Runner {
                return Err(ApiError::new(StatusCode::FORBIDDEN, "only a runner's token may do this"));
            }
            parts.extensions.insert(Runner);
            return Ok(());
        }
        Asks::SignedIn(_) => None,
        Asks::Role(need) => Some(need),
    };
    let person = auth::identify(parts, app).await?;
    if person.shown.kind == TokenKind::Runner {
        return Err(ApiError::new(StatusCode::FORBIDDEN, "a runner's token may not do this"));
    }
    if let Some(need) = need {
        let project = project_of(parts).await?;
        let asker: Asker = person.clone().into();
        if let Some(project) = &project
            && !asker.may_see(project)
        {
            return Err(super::projects::unknown(project));
        }
        asker.must(need, project.as_deref())?;
    }
    parts.extensions.insert(person);
    Ok(())
}

/// The project of an address, where it has one.
async fn project_of(parts: &mut Parts) -> Result<Option<String>, ApiError> {
    let named = RawPathParams::from_request_parts(parts, &()).await;
    let named = named.map_err(|error| ApiError::bad(error.to_string()))?;
    Ok(named.iter().find(|(name, _)| *name == "project").map(|(_, project)| project.to_owned()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_table_has_every_address_of_the_document_once_and_no_other() {
        let document: serde_json::Value = serde_json::from_str(&super::super::openapi_document().unwrap()).unwrap();
        let mut known = Vec::new();
        for (path, methods) in document["paths"].as_object().unwrap() {
            for method in methods.as_object().unwrap().keys() {
                known.push((method.to_uppercase(), path.clone()));
            }
        }
        let mut ruled: Vec<_> = RULES
            .iter()
            .filter(|rule| rule.asks != Asks::Runner)
            .map(|rule| (rule.method.to_owned(), rule.path.to_owned()))
            .collect();
        known.sort();
        ruled.sort();
        assert_eq!(known, ruled);
    }

    #[test]
    fn what_is_not_in_the_table_is_asked_of_nobody() {
        assert_eq!(asks("PATCH", "/api/v1/users"), None);
        assert_eq!(asks("GET", "/api/v1/users/"), None);
        assert_eq!(asks("HEAD", "/api/v1/backup"), Some(ADMINISTER), "HEAD is answered as GET is");
        assert_eq!(asks("GET", "/api/v1/runner/leases/{lease}/source"), Some(Asks::Runner));
    }
}
