//! The tokens of people.

use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use pondrix_api::{NewToken, Problem, TokenList, TokenMade, TokenView};
use pondrix_core::ProjectName;

use super::Shared;
use super::auth::{FIRST, Person};
use super::error::ApiError;
use crate::access;
use crate::store;

/// The people who have a token, by name.
#[utoipa::path(get, path = "/api/v1/tokens", tag = "access",
    responses((status = 200, body = TokenList), (status = 401, body = Problem)))]
pub(super) async fn list(State(app): Shared, _person: Person) -> Result<Json<TokenList>, ApiError> {
    Ok(Json(TokenList { tokens: app.engine.store.read(store::people).await? }))
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
    person.only_first("makes and removes others")?;
    for name in new.groups.iter().chain([&new.name]) {
        name.parse::<ProjectName>()
            .map_err(|_| ApiError::bad(format!("`{name}` cannot be a person's or group's name")))?;
    }
    let token = access::new_secret().map_err(ApiError::internal)?;
    let hash = access::hash(&token);
    let view = TokenView { name: new.name, groups: new.groups, created: app.engine.clock.now() };
    let made = view.clone();
    app.engine.store.write(move |c| store::add_person(c, &hash, &made)).await?;
    Ok((StatusCode::CREATED, Json(TokenMade { token, person: view })))
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
    person.only_first("makes and removes others")?;
    if name == FIRST {
        return Err(ApiError::new(StatusCode::CONFLICT, "the first token stays: nobody could make others without it"));
    }
    let asked = name.clone();
    if !app.engine.store.write(move |c| store::remove_person(c, &asked)).await? {
        return Err(ApiError::not_found(format!("token `{name}`; see `pondrix token list`")));
    }
    Ok(StatusCode::NO_CONTENT)
}
