//! Runners and pools, for people.

use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::StatusCode;
use pondrix_api::{
    InvitationMade, NewInvitation, NewRunner, PauseRequest, PauseView, PoolView, Problem, RunnerList, RunnerMade,
    RunnerView,
};
use pondrix_core::access::Need;
use serde::Deserialize;

use super::auth::Person;
use super::error::ApiError;
use super::{App, Shared};

/// All runners but those that work for projects alone that may not be seen, and the pools that have a limit.
#[utoipa::path(get, path = "/api/v1/runners", tag = "runners",
    responses((status = 200, body = RunnerList), (status = 401, body = Problem)))]
pub(super) async fn list(State(app): Shared, person: Person) -> Result<Json<RunnerList>, ApiError> {
    let pools = app.queries.pools().await?;
    let administers = person.shown.rights.allow(Need::Administer, None);
    let mut runners = app.engine.runner_views().await?;
    // Of what somebody may not see, its name is not told either.
    let rights = &person.shown.rights;
    runners.retain(|one| one.projects.is_empty() || one.projects.iter().any(|projects| rights.see_some_of(projects)));
    for one in &mut runners {
        one.projects.retain(|projects| rights.see_some_of(projects));
    }
    let invitations = if administers { app.engine.invitations().await? } else { Vec::new() };
    Ok(Json(RunnerList { runners, pools, invitations }))
}

/// Sets how many jobs may run at once in a pool, or takes that limit away.
#[utoipa::path(put, path = "/api/v1/pools", tag = "runners", request_body = PoolView,
    responses((status = 200, body = PoolView), (status = 401, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn set_pool(
    State(app): Shared,
    _person: Person,
    Json(pool): Json<PoolView>,
) -> Result<Json<PoolView>, ApiError> {
    app.engine.set_pool(pool.clone()).await?;
    Ok(Json(pool))
}

/// A runner.
async fn find(app: &App, name: &str) -> Result<RunnerView, ApiError> {
    let found = app.engine.runner_views().await?.into_iter().find(|runner| runner.name == name);
    found.ok_or_else(|| ApiError::not_found(format!("runner `{name}`; see `pondrix runner list`")))
}

/// Gives a runner no more jobs. Those that it has it does to their end.
#[utoipa::path(put, path = "/api/v1/runners/{name}/pause", tag = "runners", params(("name" = String, Path)),
    request_body = PauseRequest,
    responses((status = 200, body = RunnerView), (status = 401, body = Problem), (status = 404, body = Problem)))]
pub(super) async fn pause(
    State(app): Shared,
    person: Person,
    Path(name): Path<String>,
    Json(PauseRequest { reason }): Json<PauseRequest>,
) -> Result<Json<RunnerView>, ApiError> {
    find(&app, &name).await?;
    app.engine.runner_of(&name, &person.clone().into()).await?;
    let pause = PauseView { by: person.shown.name, at: app.engine.clock.now(), reason };
    app.engine.pause_runner(name.clone(), pause).await?;
    Ok(Json(find(&app, &name).await?))
}

/// Gives a runner jobs again.
#[utoipa::path(delete, path = "/api/v1/runners/{name}/pause", tag = "runners", params(("name" = String, Path)),
    responses((status = 204), (status = 401, body = Problem), (status = 404, body = Problem)))]
pub(super) async fn resume(
    State(app): Shared,
    person: Person,
    Path(name): Path<String>,
) -> Result<StatusCode, ApiError> {
    app.engine.runner_of(&name, &person.into()).await?;
    if app.engine.resume_runner(&name).await? {
        return Ok(StatusCode::NO_CONTENT);
    }
    Err(ApiError::not_found(format!("runner `{name}` that is paused; see `pondrix runner list`")))
}

#[derive(Debug, Deserialize)]
pub(super) struct When {
    now: Option<bool>,
}

/// Forgets a runner: its token is good no more, and jobs that it has are lost. One that is here is forgotten only where
/// that is said.
#[utoipa::path(delete, path = "/api/v1/runners/{name}", tag = "runners",
    params(("name" = String, Path), ("now" = Option<bool>, Query, description = "Also where it is here")),
    responses((status = 204), (status = 401, body = Problem), (status = 403, body = Problem),
              (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn remove(
    State(app): Shared,
    person: Person,
    Path(name): Path<String>,
    Query(When { now }): Query<When>,
) -> Result<StatusCode, ApiError> {
    app.engine.remove_runner(&name, now.unwrap_or(false), &person.into()).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Makes a runner known, with its token, which is told this once.
#[utoipa::path(post, path = "/api/v1/runners", tag = "runners", request_body = NewRunner,
    responses((status = 201, body = RunnerMade), (status = 401, body = Problem), (status = 403, body = Problem),
              (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn add(
    State(app): Shared,
    person: Person,
    Json(new): Json<NewRunner>,
) -> Result<(StatusCode, Json<RunnerMade>), ApiError> {
    Ok((StatusCode::CREATED, Json(app.engine.add_runner(new, &person.into()).await?)))
}

/// Gives a runner another token; that of before is good for an hour more.
#[utoipa::path(post, path = "/api/v1/runners/{name}/rotate", tag = "runners", params(("name" = String, Path)),
    responses((status = 201, body = RunnerMade), (status = 401, body = Problem), (status = 403, body = Problem),
              (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn rotate(
    State(app): Shared,
    person: Person,
    Path(name): Path<String>,
) -> Result<(StatusCode, Json<RunnerMade>), ApiError> {
    Ok((StatusCode::CREATED, Json(app.engine.rotate_runner(&name, &person.into()).await?)))
}

/// Makes an invitation: a token with which machines make themselves runners, told this once.
#[utoipa::path(post, path = "/api/v1/runners/invitations", tag = "runners", request_body = NewInvitation,
    responses((status = 201, body = InvitationMade), (status = 401, body = Problem), (status = 403, body = Problem),
              (status = 422, body = Problem)))]
pub(super) async fn invite(
    State(app): Shared,
    person: Person,
    Json(new): Json<NewInvitation>,
) -> Result<(StatusCode, Json<InvitationMade>), ApiError> {
    Ok((StatusCode::CREATED, Json(app.engine.invite_runners(new, &person.into()).await?)))
}

/// Takes an invitation back. Who is a runner by it stays one.
#[utoipa::path(delete, path = "/api/v1/runners/invitations/{id}", tag = "runners", params(("id" = i64, Path)),
    responses((status = 204), (status = 401, body = Problem), (status = 403, body = Problem),
              (status = 404, body = Problem)))]
pub(super) async fn withdraw(State(app): Shared, _person: Person, Path(id): Path<i64>) -> Result<StatusCode, ApiError> {
    match app.engine.withdraw_invitation(id).await? {
        true => Ok(StatusCode::NO_CONTENT),
        false => Err(ApiError::not_found(format!("invitation {id} that is good; see `pondrix runner list`"))),
    }
}
