//! People, what they may do, and their tokens.

use pondrix_core::Time;
use pondrix_core::access::{Grant, Holder, Projects, Role};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A person to make known.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct NewUser {
    /// The name: 1 to 63 of a-z, 0-9 and `-`, with a letter or digit at both ends.
    pub name: String,
    /// The teams that the person is of.
    #[serde(default)]
    pub teams: Vec<String>,
    /// What they may do themselves, beside what their teams may.
    #[serde(default)]
    pub roles: Vec<Grant>,
}

/// What shall change of a person.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct UserChange {
    /// All teams that the person is of from now on.
    pub teams: Vec<String>,
}

/// A person.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct UserView {
    /// The name.
    pub name: String,
    /// The teams.
    pub teams: Vec<String>,
    /// Since when the person is known.
    #[schema(value_type = String, format = DateTime)]
    pub created: Time,
    /// Whether they can sign in with a password.
    #[serde(default)]
    pub has_password: bool,
}

/// A person's new password.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct NewPassword {
    /// The password: at least 12 letters.
    pub password: String,
}

impl std::fmt::Debug for NewPassword {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("NewPassword(..)")
    }
}

/// A person who was made known.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct UserMade {
    /// The person.
    pub user: UserView,
    /// Their first token.
    pub first: TokenMade,
}

/// All people.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct UserList {
    /// By name.
    pub users: Vec<UserView>,
}

/// A role to give or to take.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct RoleChange {
    /// A person (`wren`), or everybody of a team (`team:keepers`).
    #[schema(value_type = String)]
    pub to: Holder,
    /// What may be done.
    pub role: Role,
    /// Where: a project, those whose names begin so (`garden-*`), or all (`*`).
    #[schema(value_type = String)]
    pub projects: Projects,
}

/// A role that was given.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct RoleView {
    /// A person (`wren`), or everybody of a team (`team:keepers`).
    #[schema(value_type = String)]
    pub to: Holder,
    /// What may be done.
    pub role: Role,
    /// Where: a project, those whose names begin so (`garden-*`), or all (`*`).
    #[schema(value_type = String)]
    pub projects: Projects,
    /// When it was given.
    #[schema(value_type = String, format = DateTime)]
    pub given: Time,
    /// Who gave it; `server` for what is so from the beginning.
    pub by: String,
}

/// All roles that were given.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RoleList {
    /// By projects.
    pub roles: Vec<RoleView>,
}

/// A token to make.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct NewToken {
    /// What it is for: 1 to 63 of a-z, 0-9 and `-`, with a letter or digit at both ends.
    pub label: String,
    /// Whose it is; of whoever asks, where nothing is said.
    #[serde(default)]
    pub owner: Option<String>,
    /// The most that it allows, where it is to be limited.
    #[serde(default)]
    pub limit: Option<Grant>,
    /// For how many days it is good: 1 to 3650; until it is removed, where nothing is said.
    #[serde(default)]
    pub days: Option<u32>,
}

/// A token, without itself.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct TokenView {
    /// Its number.
    pub id: i64,
    /// Whose it is.
    pub owner: String,
    /// What it is for.
    pub label: String,
    /// When it was made.
    #[schema(value_type = String, format = DateTime)]
    pub created: Time,
    /// When it is good no more.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub ends: Option<Time>,
    /// When it was used last, to the minute.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub used: Option<Time>,
    /// The most that it allows, where it is limited.
    pub limit: Option<Grant>,
    /// The number of the token that was put in its place, where it was rotated.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub heir: Option<i64>,
}

/// A token that was made.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct TokenMade {
    /// The token. It is never shown again.
    pub token: String,
    /// What is known of it.
    pub made: TokenView,
}

impl std::fmt::Debug for TokenMade {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("TokenMade").field("made", &self.made).finish_non_exhaustive()
    }
}

/// The tokens of people.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TokenList {
    /// By owner, and in the order in which they were made.
    pub tokens: Vec<TokenView>,
}

/// What a browser is signed in with: a token, or a name and a password; or a program, with a code that it was sent.
#[derive(Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct SignIn {
    /// The token.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub token: Option<String>,
    /// The person's name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// Their password.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub password: Option<String>,
    /// What a program was sent when somebody was signed in for it by the provider of OpenID Connect.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub code: Option<String>,
    /// What the program showed the SHA-256 of before, in base64url.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub verifier: Option<String>,
}

impl std::fmt::Debug for SignIn {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("SignIn").field("name", &self.name).finish_non_exhaustive()
    }
}

/// Who a token stands for.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Identity {
    /// The name.
    pub name: String,
    /// The teams that they are of.
    pub teams: Vec<String>,
    /// What they and their teams were given.
    pub roles: Vec<Grant>,
    /// The most that this token allows, where it is limited.
    pub limit: Option<Grant>,
    /// The server's version.
    pub version: String,
}
