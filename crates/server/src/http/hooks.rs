//! Hooks: they only say "look now". Their bodies are signed over, and never read.

use axum::Json;
use axum::body::Bytes;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, StatusCode};
use pondrix_api::{HookAnswer, Problem};

use super::auth::header;
use super::error::ApiError;
use super::{App, Shared};
use crate::access;
use crate::store::Project;

async fn project(app: &App, name: &str) -> Result<Project, ApiError> {
    // A stranger learns nothing of which projects there are.
    app.queries.project(name).await?.ok_or_else(refused)
}

fn refused() -> ApiError {
    ApiError::new(StatusCode::FORBIDDEN, "this hook is not known, or its secret or signature is wrong")
}

fn look(app: &App, project: &Project) -> (StatusCode, Json<HookAnswer>) {
    app.watcher.wake(project.id);
    (StatusCode::ACCEPTED, Json(HookAnswer { looking_at: project.name.to_string() }))
}

/// Has a project looked at; signed by Standard Webhooks.
#[utoipa::path(post, path = "/hooks/{project}", tag = "hooks", params(("project" = String, Path)),
    responses((status = 202, body = HookAnswer), (status = 403, body = Problem)))]
pub(super) async fn hook(
    State(app): Shared,
    Path(name): Path<String>,
    headers: HeaderMap,
    body: Bytes,
) -> Result<(StatusCode, Json<HookAnswer>), ApiError> {
    let project = project(&app, &name).await?;
    let told = |name: &str| header(&headers, name).unwrap_or_default();
    let (id, at, signatures) = (told("webhook-id"), told("webhook-timestamp"), told("webhook-signature"));
    let seconds = app.engine.clock.now().millis() / 1000;
    let secret = app.engine.hook_secret(&project).ok_or_else(refused)?;
    if !access::hook_is_signed(&secret, id, at, signatures, &body, seconds) {
        return Err(refused());
    }
    Ok(look(&app, &project))
}

/// Has a project looked at; the secret is in the address.
#[utoipa::path(post, path = "/hooks/{project}/{secret}", tag = "hooks",
    params(("project" = String, Path), ("secret" = String, Path)),
    responses((status = 202, body = HookAnswer), (status = 403, body = Problem)))]
pub(super) async fn hook_with_secret(
    State(app): Shared,
    Path((name, secret)): Path<(String, String)>,
) -> Result<(StatusCode, Json<HookAnswer>), ApiError> {
    let project = project(&app, &name).await?;
    if !app.engine.hook_secret(&project).is_some_and(|own| access::same(&own, &secret)) {
        return Err(refused());
    }
    Ok(look(&app, &project))
}
