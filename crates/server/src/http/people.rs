//! People, and the roles that they and their teams are given.

use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use pondrix_api::{NewPassword, NewUser, Problem, RoleChange, RoleList, UserChange, UserList, UserMade, UserView};

use super::Shared;
use super::auth::Person;
use super::error::ApiError;

pub(super) fn unknown(name: &str) -> ApiError {
    ApiError::not_found(format!("person `{name}`; see `pondrix user list`"))
}

/// All people, by name.
#[utoipa::path(get, path = "/api/v1/users", tag = "people",
    responses((status = 200, body = UserList), (status = 401, body = Problem)))]
pub(super) async fn list(State(app): Shared, _person: Person) -> Result<Json<UserList>, ApiError> {
    Ok(Json(UserList { users: app.queries.users().await? }))
}

/// Makes a person known, with a first token, which is told this once.
#[utoipa::path(post, path = "/api/v1/users", tag = "people", request_body = NewUser,
    responses((status = 201, body = UserMade), (status = 401, body = Problem), (status = 403, body = Problem),
              (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn add(
    State(app): Shared,
    person: Person,
    Json(new): Json<NewUser>,
) -> Result<(StatusCode, Json<UserMade>), ApiError> {
    Ok((StatusCode::CREATED, Json(app.engine.add_user(new, &person.into()).await?)))
}

/// Says which teams a person is of.
#[utoipa::path(patch, path = "/api/v1/users/{name}", tag = "people", params(("name" = String, Path)),
    request_body = UserChange,
    responses((status = 200, body = UserView), (status = 401, body = Problem), (status = 403, body = Problem),
              (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn change(
    State(app): Shared,
    _person: Person,
    Path(name): Path<String>,
    Json(change): Json<UserChange>,
) -> Result<Json<UserView>, ApiError> {
    let changed = app.engine.change_user(name.clone(), &change.teams).await?;
    changed.map(Json).ok_or_else(|| unknown(&name))
}

/// Forgets a person, with their roles and tokens, and signs their browsers out.
#[utoipa::path(delete, path = "/api/v1/users/{name}", tag = "people", params(("name" = String, Path)),
    responses((status = 204), (status = 401, body = Problem), (status = 403, body = Problem),
              (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(super) async fn remove(
    State(app): Shared,
    _person: Person,
    Path(name): Path<String>,
) -> Result<StatusCode, ApiError> {
    match app.engine.remove_user(name.clone()).await? {
        true => Ok(StatusCode::NO_CONTENT),
        false => Err(unknown(&name)),
    }
}

/// Sets a person's password: one's own, or, where one administers the server, another's. Whoever was signed in with the
/// one before is signed out.
#[utoipa::path(put, path = "/api/v1/users/{name}/password", tag = "people", params(("name" = String, Path)),
    request_body = NewPassword,
    responses((status = 204), (status = 401, body = Problem), (status = 403, body = Problem),
              (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn set_password(
    State(app): Shared,
    person: Person,
    Path(name): Path<String>,
    Json(NewPassword { password }): Json<NewPassword>,
) -> Result<StatusCode, ApiError> {
    match app.engine.set_password(name.clone(), Some(password), &person.into()).await? {
        true => Ok(StatusCode::NO_CONTENT),
        false => Err(unknown(&name)),
    }
}

/// Removes a person's password; they sign in with tokens then.
#[utoipa::path(delete, path = "/api/v1/users/{name}/password", tag = "people", params(("name" = String, Path)),
    responses((status = 204), (status = 401, body = Problem), (status = 403, body = Problem),
              (status = 404, body = Problem)))]
pub(super) async fn remove_password(
    State(app): Shared,
    person: Person,
    Path(name): Path<String>,
) -> Result<StatusCode, ApiError> {
    match app.engine.set_password(name.clone(), None, &person.into()).await? {
        true => Ok(StatusCode::NO_CONTENT),
        false => Err(unknown(&name)),
    }
}

/// The roles that were given in projects that may be seen: who may do what there, and whom to ask.
#[utoipa::path(get, path = "/api/v1/roles", tag = "people",
    responses((status = 200, body = RoleList), (status = 401, body = Problem)))]
pub(super) async fn roles(State(app): Shared, person: Person) -> Result<Json<RoleList>, ApiError> {
    let mut roles = app.queries.roles().await?;
    roles.retain(|role| person.shown.rights.see_some_of(&role.projects));
    Ok(Json(RoleList { roles }))
}

/// Gives a role to a person or a team.
#[utoipa::path(put, path = "/api/v1/roles", tag = "people", request_body = RoleChange,
    responses((status = 204), (status = 401, body = Problem), (status = 403, body = Problem),
              (status = 422, body = Problem)))]
pub(super) async fn give(
    State(app): Shared,
    person: Person,
    Json(change): Json<RoleChange>,
) -> Result<StatusCode, ApiError> {
    app.engine.give_role(change, &person.into()).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Takes a role.
#[utoipa::path(post, path = "/api/v1/roles/take", tag = "people", request_body = RoleChange,
    responses((status = 204), (status = 401, body = Problem), (status = 403, body = Problem),
              (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn take(
    State(app): Shared,
    person: Person,
    Json(change): Json<RoleChange>,
) -> Result<StatusCode, ApiError> {
    let words = format!("role `{}` in {} of {}; see `pondrix role list`", change.role, change.projects, change.to);
    match app.engine.take_role(change, &person.into()).await? {
        true => Ok(StatusCode::NO_CONTENT),
        false => Err(ApiError::not_found(words)),
    }
}
