//! Runners and pools, for people.

use axum::Json;
use axum::extract::State;
use pondrix_api::{PoolView, Problem, RunnerList};
use pondrix_core::ProjectName;

use super::Shared;
use super::auth::Person;
use super::error::ApiError;
use crate::store;

/// All runners that were seen since the server began, and the pools that have a limit.
#[utoipa::path(get, path = "/api/v1/runners", tag = "runners",
    responses((status = 200, body = RunnerList), (status = 401, body = Problem)))]
pub(super) async fn list(State(app): Shared, _person: Person) -> Result<Json<RunnerList>, ApiError> {
    let pools = app.engine.store.read(store::pools).await?;
    let pools = pools.into_iter().map(|(name, limit)| PoolView { name, limit: Some(limit) }).collect();
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
    // Pools follow the same rule as projects do.
    if pool.name.parse::<ProjectName>().is_err() {
        return Err(ApiError::bad(format!(
            "`{}` cannot be a pool's name: 1 to 63 of a-z, 0-9 and `-`, with a letter or digit at both ends",
            pool.name
        )));
    }
    let kept = pool.clone();
    app.engine.store.write(move |c| store::put_pool(c, &kept.name, kept.limit.filter(|limit| *limit > 0))).await?;
    app.engine.read_limits().await?;
    Ok(Json(pool))
}
