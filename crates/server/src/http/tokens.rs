//! The tokens of people and their programs.

use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use pondrix_api::{NewToken, Problem, TokenList, TokenMade};

use super::Shared;
use super::auth::Person;
use super::error::ApiError;

fn unknown(id: i64) -> ApiError {
    ApiError::not_found(format!("token {id} that you may see; see `pondrix token list`"))
}

/// The tokens of whoever asks; those of everybody, where they administer the server.
#[utoipa::path(get, path = "/api/v1/tokens", tag = "access",
    responses((status = 200, body = TokenList), (status = 401, body = Problem)))]
pub(super) async fn list(State(app): Shared, person: Person) -> Result<Json<TokenList>, ApiError> {
    Ok(Json(TokenList { tokens: app.engine.tokens(&person.into()).await? }))
}

/// Makes a token. It is told this once.
#[utoipa::path(post, path = "/api/v1/tokens", tag = "access", request_body = NewToken,
    responses((status = 201, body = TokenMade), (status = 401, body = Problem), (status = 403, body = Problem),
              (status = 422, body = Problem)))]
pub(super) async fn make(
    State(app): Shared,
    person: Person,
    Json(new): Json<NewToken>,
) -> Result<(StatusCode, Json<TokenMade>), ApiError> {
    Ok((StatusCode::CREATED, Json(app.engine.add_token(new, &person.into()).await?)))
}

/// Removes a token, and signs browsers out that were signed in with it.
#[utoipa::path(delete, path = "/api/v1/tokens/{id}", tag = "access", params(("id" = i64, Path)),
    responses((status = 204), (status = 401, body = Problem), (status = 403, body = Problem),
              (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(super) async fn remove(State(app): Shared, person: Person, Path(id): Path<i64>) -> Result<StatusCode, ApiError> {
    match app.engine.remove_token(id, &person.into()).await? {
        true => Ok(StatusCode::NO_CONTENT),
        false => Err(unknown(id)),
    }
}

/// Makes a token in the place of another, which stays good for an hour.
#[utoipa::path(post, path = "/api/v1/tokens/{id}/rotate", tag = "access", params(("id" = i64, Path)),
    responses((status = 201, body = TokenMade), (status = 401, body = Problem), (status = 403, body = Problem),
              (status = 404, body = Problem)))]
pub(super) async fn rotate(
    State(app): Shared,
    person: Person,
    Path(id): Path<i64>,
) -> Result<(StatusCode, Json<TokenMade>), ApiError> {
    let made = app.engine.rotate_token(id, &person.into()).await?.ok_or_else(|| unknown(id))?;
    Ok((StatusCode::CREATED, Json(made)))
}
