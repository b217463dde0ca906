//! Who may ask for what: one table, and one place that holds every request against it.
//!
//! What is not in the table is refused, whoever asks.

use std::sync::Arc;

use axum::extract::{FromRequestParts, MatchedPath, RawPathParams, Request, State};
use axum::http::request::Parts;
use axum::http::{Method, StatusCode};
use axum::middleware::Next;
use axum::response::Response;
use pondrix_core::access::{Need, Role};

use super::auth::{self, Person, Runner};
use super::caller::{self, Caller};
use super::error::ApiError;
use super::limits::Whom;
use super::{App, noting};
use crate::audit::Note;
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
    /// A role for all projects, or to maintain those that it is for alone, and to add to them.
    OwnOr(Need),
    /// A role: in the project of the address, or for all projects where it has none.
    Role(Need),
    /// A runner's token.
    Runner,
    /// An invitation to be a runner.
    Invitation,
}

impl Asks {
    /// In one word.
    pub(super) const fn word(self) -> &'static str {
        match self {
            Self::Nothing => "nothing",
            Self::HookSecret => "hook-secret",
            Self::SignedIn(_) => "signed-in",
            Self::OwnOr(_) => "own",
            Self::Role(need) => need.smallest().word(),
            Self::Runner => "runner",
            Self::Invitation => "invitation",
        }
    }
}

/// An address, and what it asks for.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Rule {
    pub(crate) method: &'static str,
    pub(crate) path: &'static str,
    pub(crate) asks: Asks,
    /// What the audit calls it, where it changes something or gives much away: a thing, and what is done to it.
    pub(crate) does: Option<&'static str>,
}

const fn rule(method: &'static str, path: &'static str, asks: Asks) -> Rule {
    Rule { method, path, asks, does: None }
}

const fn noted(method: &'static str, path: &'static str, asks: Asks, does: &'static str) -> Rule {
    Rule { method, path, asks, does: Some(does) }
}

const OWN_PASSWORD: Asks = Asks::SignedIn("their own; of others, whoever has `administer` for all projects");
const LOOK: Asks = Asks::Role(Need::Look);
const RUN: Asks = Asks::Role(Need::Run);
const SECRETS: Asks = Asks::Role(Need::Secrets);
const MAINTAIN: Asks = Asks::Role(Need::Maintain);
const ADMINISTER: Asks = Asks::Role(Need::Administer);
const OWN_OR_ADMINISTER: Asks = Asks::OwnOr(Need::Administer);
const OWN_OR_SECRETS: Asks = Asks::OwnOr(Need::Secrets);
const SEEN: Asks = Asks::SignedIn("of the projects that they may see");
const ALL: Asks = Asks::SignedIn("all of it");
const AUDIT: Asks =
    Asks::SignedIn("of the projects that they administer; all of it with `administer` for all projects");
const OWN: Asks = Asks::SignedIn("their own tokens; those of others with `administer` for all projects");
const GIVES: Asks = Asks::SignedIn("roles in projects that they administer");

/// Every address of the API.
pub(crate) const RULES: &[Rule] = &[
    rule("GET", "/health", Asks::Nothing),
    rule("GET", "/.well-known/openid-configuration", Asks::Nothing),
    rule("GET", "/.well-known/jwks.json", Asks::Nothing),
    noted("POST", "/api/v1/session", Asks::Nothing, "sign in"),
    noted("DELETE", "/api/v1/session", ALL, "sign out"),
    rule("GET", "/api/v1/session/ways", Asks::Nothing),
    rule("GET", "/sign-in/openid", Asks::Nothing),
    noted("GET", "/sign-in/openid/callback", Asks::Nothing, "sign in"),
    rule("GET", "/api/v1/openid", ADMINISTER),
    noted("PUT", "/api/v1/openid", ADMINISTER, "openid set"),
    noted("DELETE", "/api/v1/openid", ADMINISTER, "openid remove"),
    noted("PUT", "/api/v1/users/{name}/openid", ADMINISTER, "user link"),
    rule("GET", "/api/v1/whoami", ALL),
    rule("GET", "/api/v1/users", ALL),
    noted("POST", "/api/v1/users", ADMINISTER, "user add"),
    noted("PATCH", "/api/v1/users/{name}", ADMINISTER, "user set"),
    noted("DELETE", "/api/v1/users/{name}", ADMINISTER, "user remove"),
    noted("PUT", "/api/v1/users/{name}/password", OWN_PASSWORD, "password set"),
    noted("DELETE", "/api/v1/users/{name}/password", OWN_PASSWORD, "password remove"),
    rule("GET", "/api/v1/roles", SEEN),
    noted("PUT", "/api/v1/roles", GIVES, "role give"),
    noted("POST", "/api/v1/roles/take", GIVES, "role take"),
    rule("GET", "/api/v1/tokens", OWN),
    noted("POST", "/api/v1/tokens", OWN, "token add"),
    noted("DELETE", "/api/v1/tokens/{id}", OWN, "token remove"),
    noted("POST", "/api/v1/tokens/{id}/rotate", OWN, "token rotate"),
    rule("GET", "/api/v1/projects", SEEN),
    noted(
        "POST",
        "/api/v1/projects",
        Asks::SignedIn("with `add` or `administer` for a project of that name"),
        "project add",
    ),
    noted("PATCH", "/api/v1/projects/{project}", MAINTAIN, "project set"),
    noted("DELETE", "/api/v1/projects/{project}", ADMINISTER, "project remove"),
    rule("POST", "/api/v1/projects/{project}/plan", LOOK),
    rule("GET", "/api/v1/projects/{project}/flaky/{job}", LOOK),
    rule("GET", "/api/v1/projects/{project}/secrets", LOOK),
    noted("PUT", "/api/v1/projects/{project}/secrets/{name}", SECRETS, "secret set"),
    noted("DELETE", "/api/v1/projects/{project}/secrets/{name}", SECRETS, "secret remove"),
    rule("GET", "/api/v1/secrets", OWN_OR_SECRETS),
    noted("PUT", "/api/v1/secrets", OWN_OR_SECRETS, "secret set"),
    noted("POST", "/api/v1/secrets/remove", OWN_OR_SECRETS, "secret remove"),
    rule("GET", "/api/v1/templates", Asks::SignedIn("of projects that they may see, or that give templates away")),
    rule("GET", "/api/v1/runs", SEEN),
    rule("GET", "/api/v1/runs/stream", SEEN),
    rule("GET", "/api/v1/stream", SEEN),
    noted("POST", "/api/v1/projects/{project}/runs", RUN, "run start"),
    noted("POST", "/api/v1/projects/{project}/tries", RUN, "run try"),
    rule("GET", "/api/v1/projects/{project}/runs/{number}", LOOK),
    rule("GET", "/api/v1/projects/{project}/runs/{number}/stream", LOOK),
    noted("POST", "/api/v1/projects/{project}/runs/{number}/answer", Asks::Role(Need::Approve), "run answer"),
    noted("POST", "/api/v1/projects/{project}/runs/{number}/rerun", RUN, "run rerun"),
    noted("POST", "/api/v1/projects/{project}/runs/{number}/stop", RUN, "run stop"),
    rule("GET", "/api/v1/projects/{project}/runs/{number}/jobs/{job}/log", LOOK),
    rule("GET", "/api/v1/projects/{project}/runs/{number}/jobs/{job}/log/stream", LOOK),
    rule("GET", "/api/v1/projects/{project}/runs/{number}/jobs/{job}/artifacts/{name}", LOOK),
    rule("GET", "/api/v1/projects/{project}/runs/{number}/jobs/{job}/artifacts/{name}/archive", LOOK),
    rule("GET", "/api/v1/images", SEEN),
    rule("GET", "/api/v1/images/one", SEEN),
    rule("GET", "/api/v1/images/difference", SEEN),
    rule("GET", "/api/v1/images/chain", SEEN),
    rule("GET", "/api/v1/environments", SEEN),
    noted("PUT", "/api/v1/environments", OWN_OR_ADMINISTER, "environment set"),
    noted("DELETE", "/api/v1/environments/{name}", OWN_OR_ADMINISTER, "environment remove"),
    noted("PUT", "/api/v1/environments/{name}/freeze", OWN_OR_ADMINISTER, "environment freeze"),
    noted("DELETE", "/api/v1/environments/{name}/freeze", OWN_OR_ADMINISTER, "environment thaw"),
    rule("GET", "/api/v1/keys", ADMINISTER),
    noted("POST", "/api/v1/keys/rotate", ADMINISTER, "key rotate"),
    noted("POST", "/api/v1/keys/identity/rotate", ADMINISTER, "identity key rotate"),
    rule("GET", "/api/v1/registries", ALL),
    noted("PUT", "/api/v1/registries", OWN_OR_ADMINISTER, "registry set"),
    noted("DELETE", "/api/v1/registries/{host}", OWN_OR_ADMINISTER, "registry remove"),
    noted("POST", "/api/v1/registries/test", ADMINISTER, "registry test"),
    rule("GET", "/api/v1/runners", ALL),
    noted("POST", "/api/v1/runners", OWN_OR_ADMINISTER, "runner add"),
    noted("POST", "/api/v1/runners/invitations", ADMINISTER, "runner invite"),
    noted("DELETE", "/api/v1/runners/invitations/{id}", ADMINISTER, "runner withdraw"),
    noted("POST", "/api/v1/runners/{name}/rotate", OWN_OR_ADMINISTER, "runner rotate"),
    noted("DELETE", "/api/v1/runners/{name}", OWN_OR_ADMINISTER, "runner remove"),
    noted("PUT", "/api/v1/runners/{name}/pause", OWN_OR_ADMINISTER, "runner pause"),
    noted("DELETE", "/api/v1/runners/{name}/pause", OWN_OR_ADMINISTER, "runner resume"),
    noted("PUT", "/api/v1/pools", ADMINISTER, "pool set"),
    rule("GET", "/api/v1/quotas", SEEN),
    noted("PUT", "/api/v1/quotas", ADMINISTER, "quota set"),
    rule("GET", "/api/v1/retention", SEEN),
    noted(
        "PUT",
        "/api/v1/retention",
        Asks::SignedIn("`maintain` in the rule's project, `administer` for all"),
        "retention set",
    ),
    rule("POST", "/api/v1/retention/preview", Asks::SignedIn("`maintain` in the project, `administer` for all")),
    noted("GET", "/api/v1/backup", ADMINISTER, "backup make"),
    rule("GET", "/api/v1/audit", AUDIT),
    noted("GET", "/api/v1/audit/export", AUDIT, "audit export"),
    rule("GET", "/api/v1/audit/proof", ADMINISTER),
    noted("PUT", "/api/v1/audit/keep", ADMINISTER, "audit keep"),
    noted("POST", "/hooks/{project}", Asks::HookSecret, "hook call"),
    noted("POST", "/hooks/{project}/{secret}", Asks::HookSecret, "hook call"),
    noted("POST", "/api/v1/runner/join", Asks::Invitation, "runner join"),
    rule("POST", "/api/v1/runner/hello", Asks::Runner),
    rule("GET", "/api/v1/runner/projects", Asks::Runner),
    rule("POST", "/api/v1/runner/take", Asks::Runner),
];

/// What every address of a job's lease asks for: a runner's token, and the lease itself, which is as hard to guess.
const LEASES: &str = "/api/v1/runner/leases/{lease}/";

/// The rule of an address; nothing where it is not in the table.
fn rule_of(method: &str, path: &str) -> Option<Rule> {
    if path.starts_with(LEASES) {
        return Some(rule("", LEASES, Asks::Runner));
    }
    // Axum answers HEAD as it answers GET, without the body.
    let method = if method == "HEAD" { "GET" } else { method };
    let fits = |rule: &&Rule| rule.method.eq_ignore_ascii_case(method) && rule.path == path;
    RULES.iter().find(fits).copied()
}

/// What an address asks for; nothing where it is not in the table.
pub(super) fn asks(method: &str, path: &str) -> Option<Asks> {
    rule_of(method, path).map(|rule| rule.asks)
}

/// What the audit calls it to ask for an address, where it says something of that.
pub(super) fn does(method: &str, path: &str) -> Option<&'static str> {
    rule_of(method, path)?.does
}

/// The table for people, in Markdown.
#[must_use]
pub fn rights_table() -> String {
    let mut text = "| asked for | of whom | in the audit |\n|---|---|---|\n".to_owned();
    for Rule { method, path, asks, does } in RULES {
        let of_project = path.contains("{project}");
        let whom = match asks {
            Asks::Nothing => "nobody in particular".to_owned(),
            Asks::HookSecret => "whoever has the secret of the project's hook".to_owned(),
            Asks::SignedIn(words) => format!("whoever is signed in: {words}"),
            Asks::OwnOr(need) => {
                let enough = Role::ALL.into_iter().filter(|role| role.allows(*need)).map(|role| format!("`{role}`"));
                let enough = enough.collect::<Vec<_>>().join(", ");
                format!("{enough} for all projects; `maintain` and `add` for those that it is for alone")
            }
            Asks::Role(need) => {
                let enough = Role::ALL.into_iter().filter(|role| role.allows(*need)).map(|role| format!("`{role}`"));
                let place = if of_project { "in the project" } else { "for all projects" };
                match need {
                    Need::Look => format!("any role {place}"),
                    _ => format!("{} {place}", enough.collect::<Vec<_>>().join(", ")),
                }
            }
            Asks::Runner => "a runner's token".to_owned(),
            Asks::Invitation => "an invitation to be a runner".to_owned(),
        };
        let noted = does.unwrap_or_default();
        text.push_str(&format!("| `{method} {path}` | {whom} | {noted} |\n"));
    }
    text.push_str(&format!("| all below `{LEASES}` | a runner's token, and the secret of the job's lease | |\n"));
    text
}

/// Lets a request through that the table allows, and tells its handler who asks. Whoever is refused is noted, and so is
/// what was asked for where the table says so.
pub(crate) async fn guard(State(app): State<Arc<App>>, request: Request, next: Next) -> Response {
    let (mut parts, body) = request.into_parts();
    let mut person = None;
    let admitted = admit(&app, &mut parts, &mut person).await;
    let from = caller::address(&parts, &app.tuning.borrow().trusted_proxies);
    parts.extensions.insert(Caller(from));
    let whom = match &person {
        Some(person) if person.shown.kind == TokenKind::Runner => Some(Whom::Runner(person.shown.id)),
        Some(person) => Some(Whom::Token(person.shown.id)),
        None => from.map(Whom::Address),
    };
    if let Some(Err(too_much)) = whom.map(|whom| app.limits.request(whom)) {
        return too_much.into();
    }
    if let (Some(person), Some(from)) = (&person, from) {
        app.engine.token_used_from(person.shown.id, &person.shown.name, from).await;
    }
    let rule = match admitted {
        // What somebody read is in nobody's way.
        Ok(None | Some(Rule { does: None, .. })) => return next.run(Request::from_parts(parts, body)).await,
        Ok(Some(rule)) => rule,
        Err(refused) => {
            // Whoever showed nothing and asked to read has only come to sign in.
            if person.is_some() || auth::shows_something(&parts.headers) || parts.method != Method::GET {
                let mut deed = noting::deed(&mut parts, person.as_ref(), from).await;
                deed.words = refused.words().to_owned();
                app.engine.note_refusal(deed).await;
            }
            return refused.into();
        }
    };
    let deed = noting::deed(&mut parts, person.as_ref(), from).await;
    let note = Note::new(deed);
    // Whoever breaks the connection off does not keep it from being done, nor from being noted.
    let answered = tokio::spawn(async move {
        let response = note.on(next.run(Request::from_parts(parts, body))).await;
        let told = response.extensions().get::<ApiError>().cloned();
        // Whoever is sent back to where one signs in was refused all the same.
        let status = told.as_ref().map_or(response.status(), ApiError::status);
        noting::finish(&app, rule, &note, status, told).await;
        response
    });
    match answered.await {
        Ok(response) => response,
        Err(broken) if broken.is_panic() => std::panic::resume_unwind(broken.into_panic()),
        Err(_) => ApiError::internal("an answer was given up").into(),
    }
}

/// The rule that lets a request through; none where there is no such address. Who asks is told also where they are
/// refused.
async fn admit(app: &Arc<App>, parts: &mut Parts, who: &mut Option<Person>) -> Result<Option<Rule>, ApiError> {
    // What has no route is the console's, or nothing.
    let Some(path) = parts.extensions.get::<MatchedPath>().map(|path| path.as_str().to_owned()) else {
        return Ok(None);
    };
    if path == super::NO_SUCH_ADDRESS {
        return Ok(None);
    }
    let Some(rule) = rule_of(parts.method.as_str(), &path) else {
        let words = format!("{} is not answered here", parts.method);
        return Err(ApiError::new(StatusCode::METHOD_NOT_ALLOWED, words));
    };
    let need = match rule.asks {
        Asks::Nothing | Asks::HookSecret | Asks::Invitation => return Ok(Some(rule)),
        Asks::Runner | Asks::SignedIn(_) | Asks::OwnOr(_) => None,
        Asks::Role(need) => Some(need),
    };
    let person = who.insert(auth::identify(parts, app).await?);
    match (rule.asks == Asks::Runner, person.shown.kind == TokenKind::Runner) {
        (true, true) => {
            parts.extensions.insert(Runner { name: person.shown.name.clone() });
            return Ok(Some(rule));
        }
        (true, false) => return Err(ApiError::new(StatusCode::FORBIDDEN, "only a runner's token may do this")),
        (false, true) => return Err(ApiError::new(StatusCode::FORBIDDEN, "a runner's token may not do this")),
        (false, false) => {}
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
    if let Asks::OwnOr(need) = rule.asks {
        // For which it is, the handler knows.
        let rights = &person.shown.rights;
        if ![Need::Add, Need::Maintain].into_iter().all(|need| rights.allow_somewhere(need)) {
            Asker::from(person.clone()).must(need, None)?;
        }
    }
    parts.extensions.insert(person.clone());
    Ok(Some(rule))
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
            .filter(|rule| !matches!(rule.asks, Asks::Runner | Asks::Invitation))
            .map(|rule| (rule.method.to_owned(), rule.path.to_owned()))
            .collect();
        known.sort();
        ruled.sort();
        assert_eq!(known, ruled);
    }

    #[test]
    fn whatever_changes_something_is_noted() {
        // They compute what would be, and change nothing.
        let only_ask = ["/api/v1/projects/{project}/plan", "/api/v1/retention/preview"];
        for Rule { method, path, does, asks } in RULES {
            let changes = *method != "GET" && *asks != Asks::Runner && !only_ask.contains(path);
            // Whoever comes back from where they signed in is signed in.
            let also = ["/api/v1/backup", "/api/v1/audit/export", "/sign-in/openid/callback"].contains(path);
            assert_eq!(does.is_some(), changes || also, "{method} {path}");
        }
    }

    #[test]
    fn what_is_not_in_the_table_is_asked_of_nobody() {
        assert_eq!(asks("PATCH", "/api/v1/users"), None);
        assert_eq!(asks("GET", "/api/v1/users/"), None);
        assert_eq!(asks("HEAD", "/api/v1/backup"), Some(ADMINISTER), "HEAD is answered as GET is");
        assert_eq!(asks("GET", "/api/v1/runner/leases/{lease}/source"), Some(Asks::Runner));
    }
}
