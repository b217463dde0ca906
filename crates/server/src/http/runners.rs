//! Runners and pools, for people.

use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use pondrix_api::{PauseRequest, PauseView, PoolView, Problem, RunnerList, RunnerView};

use super::auth::Person;
use super::error::ApiError;
use super::{App, Shared};

/// All runners that were seen since the server began, and the pools that have a limit.
#[utoipa::path(get, path = "/api/v1/runners", tag = "runners",
    responses((status = 200, body = RunnerList), (status = 401, body = Problem)))]
pub(super) async fn list(State(app): Shared, _person: Person) -> Result<Json<RunnerList>, ApiError> {
    let pools = app.queries.pools().await?;
    Ok(Json(RunnerList { runners: app.engine.runner_views().await, pools }))
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

/// A runner that was seen since the server began.
async fn find(app: &App, name: &str) -> Result<RunnerView, ApiError> {
    let found = app.engine.runner_views().await.into_iter().find(|runner| runner.name == name);
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
    let pause = PauseView { by: person.shown.name, at: app.engine.clock.now(), reason };
    app.engine.pause_runner(name.clone(), pause).await?;
    Ok(Json(find(&app, &name).await?))
}

/// Gives a runner jobs again.
#[utoipa::path(delete, path = "/api/v1/runners/{name}/pause", tag = "runners", params(("name" = String, Path)),
    responses((status = 204), (status = 401, body = Problem), (status = 404, body = Problem)))]
pub(super) async fn resume(
    State(app): Shared,
    _person: Person,
    Path(name): Path<String>,
) -> Result<StatusCode, ApiError> {
    if app.engine.resume_runner(&name).await? {
        return Ok(StatusCode::NO_CONTENT);
    }
    Err(ApiError::not_found(format!("runner `{name}` that is paused; see `pondrix runner list`")))
}

/// Forgets a runner that is gone. One that is here is to be ended on its own machine first.
#[utoipa::path(delete, path = "/api/v1/runners/{name}", tag = "runners", params(("name" = String, Path)),
    responses((status = 204), (status = 401, body = Problem), (status = 404, body = Problem),
              (status = 409, body = Problem)))]
pub(super) async fn remove(
    State(app): Shared,
    _person: Person,
    Path(name): Path<String>,
) -> Result<StatusCode, ApiError> {
    match app.engine.forget_runner(&name).await? {
        Some(true) => Ok(StatusCode::NO_CONTENT),
        Some(false) => {
            let words =
                format!("runner `{name}` is here; end it on its machine, or pause it: pondrix runner pause {name}");
            Err(ApiError::new(StatusCode::CONFLICT, words))
        }
        None => Err(ApiError::not_found(format!("runner `{name}`; see `pondrix runner list`"))),
    }
}
