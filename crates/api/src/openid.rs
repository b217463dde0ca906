//! The provider of OpenID Connect that people are signed in by.

use pondrix_core::access::OpenIdRules;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The provider.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct OpenIdSettings {
    /// Its address, as it says itself (`issuer`).
    pub issuer: String,
    /// What the server is called there (`client_id`).
    pub client: String,
    /// What is asked for besides `openid`.
    pub scopes: Vec<String>,
    /// Who somebody is, and of which teams.
    pub rules: OpenIdRules,
}

/// The provider, as it is shown.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct OpenIdView {
    /// What is set; nothing where people are signed in by none.
    pub settings: Option<OpenIdSettings>,
    /// Whether the server shows it a secret.
    pub has_secret: bool,
    /// Where it sends people back to, which it has to be told (`redirect_uri`).
    pub comes_back_to: String,
}

/// What is set of it.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct OpenIdChange {
    /// All of it.
    #[serde(flatten)]
    pub settings: OpenIdSettings,
    /// What the server shows it (`client_secret`). Without it, the one that is known of the same issuer and client stays.
    #[serde(default)]
    pub secret: Option<String>,
}

impl std::fmt::Debug for OpenIdChange {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("OpenIdChange").field("settings", &self.settings).finish_non_exhaustive()
    }
}

/// Who somebody is at the provider.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct OpenIdSubject {
    /// Their `sub` there.
    pub subject: String,
}

/// How one may sign in, besides with a token, or with a name and a password.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SignInWays {
    /// The host of the provider that people are signed in by.
    pub openid: Option<String>,
}
