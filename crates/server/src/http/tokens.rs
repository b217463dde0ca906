//! The tokens of people.

use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use pondrix_api::{NewToken, Problem, TokenList, TokenMade};

use super::Shared;
use super::auth::Person;
use super::error::ApiError;

/// The people who have a token, by name.
#[utoipa::path(get, path = "/api/v1/tokens", tag = "access",
    responses((status = 200, body = TokenList), (status = 401, body = Problem)))]
pub(super) async fn list(State(app): Shared, _person: Person) -> Result<Json<TokenList>, ApiError> {
    Ok(Json(TokenList { tokens: app.queries.people().await? }))
}

/// Makes a token for a person. It is told this once.
#[utoipa::path(post, path = "/api/v1/tokens", tag = "access", request_body = NewToken,
    responses((status = 201, body = TokenMade), (status = 401, body = Problem), (status = 403, body = Problem),
              (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn make(
    State(app): Shared,
    person: Person,
    Json(new): Json<NewToken>,
) -> Result<(StatusCode, Json<TokenMade>), ApiError> {
    let (token, person) = app.engine.add_person(new, &person.into()).await?;
    Ok((StatusCode::CREATED, Json(TokenMade { token, person })))
}

/// Removes a person's token, and signs their browsers out.
#[utoipa::path(delete, path = "/api/v1/tokens/{name}", tag = "access", params(("name" = String, Path)),
    responses((status = 204), (status = 401, body = Problem), (status = 403, body = Problem),
              (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(super) async fn remove(
    State(app): Shared,
    person: Person,
    Path(name): Path<String>,
) -> Result<StatusCode, ApiError> {
    if !app.engine.remove_person(name.clone(), &person.into()).await? {
        return Err(ApiError::not_found(format!("token `{name}`; see `pondrix token list`")));
    }
    Ok(StatusCode::NO_CONTENT)
}
