//! A provider of OpenID Connect (Core 1.0): the authorization code flow with PKCE, for whoever is said to sit in front of
//! the browser.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{SystemTime, UNIX_EPOCH};

use axum::extract::{Form, Query, State};
use axum::http::header::{AUTHORIZATION, LOCATION};
use axum::http::{HeaderMap, StatusCode};
use axum::response::{IntoResponse, Response};
use axum::routing::{get, post};
use axum::{Json, Router};
use base64::Engine;
use base64::prelude::{BASE64_STANDARD, BASE64_URL_SAFE_NO_PAD};
use pondrix_identity::{NoKey, PublicKeys, SigningKey};
use serde_json::{Map, Value, json};
use sha2::{Digest, Sha256};
use tokio::net::TcpListener;
use tokio_util::sync::CancellationToken;

/// How long a token is good, in seconds.
const LIFE: u64 = 300;

/// A provider that knows one server.
#[derive(Debug)]
pub struct Provider {
    issuer: String,
    client: String,
    secret: String,
    inner: Mutex<Inner>,
}

#[derive(Debug)]
struct Inner {
    key: SigningKey,
    /// Who sits in front of the browser: what is said of them.
    person: Map<String, Value>,
    /// What is said instead of what was asked for.
    lies: Map<String, Value>,
    /// The codes that were given, with the question of each.
    codes: HashMap<String, HashMap<String, String>>,
    given: u64,
}

impl Provider {
    /// One at this address, which knows a server by this name and secret.
    ///
    /// # Errors
    /// When no key can be made.
    pub fn new(issuer: &str, client: &str, secret: &str) -> Result<Arc<Self>, NoKey> {
        let key = SigningKey::open(&SigningKey::generate()?)?;
        let (person, lies, codes) = (Map::new(), Map::new(), HashMap::new());
        Ok(Arc::new(Self {
            issuer: issuer.to_owned(),
            client: client.to_owned(),
            secret: secret.to_owned(),
            inner: Mutex::new(Inner { key, person, lies, codes, given: 0 }),
        }))
    }

    fn inner(&self) -> MutexGuard<'_, Inner> {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Says who sits in front of the browser from now on, as claims.
    pub fn person(&self, claims: &Value) {
        self.inner().person = claims.as_object().cloned().unwrap_or_default();
    }

    /// Says something else in tokens than is true.
    pub fn lie(&self, claims: &Value) {
        self.inner().lies = claims.as_object().cloned().unwrap_or_default();
    }

    /// Signs with another key from now on.
    ///
    /// # Errors
    /// When no key can be made.
    pub fn renew_key(&self) -> Result<(), NoKey> {
        self.inner().key = SigningKey::open(&SigningKey::generate()?)?;
        Ok(())
    }

    /// Answers on `listener` until `shutdown`.
    ///
    /// # Errors
    /// When the listener breaks.
    pub async fn serve(self: Arc<Self>, listener: TcpListener, shutdown: CancellationToken) -> std::io::Result<()> {
        let router = Router::new()
            .route("/.well-known/openid-configuration", get(discovery))
            .route("/keys", get(keys))
            .route("/authorize", get(authorize))
            .route("/token", post(token))
            .with_state(self);
        axum::serve(listener, router).with_graceful_shutdown(shutdown.cancelled_owned()).await
    }
}

type Asked = State<Arc<Provider>>;

async fn discovery(State(provider): Asked) -> Json<Value> {
    let Provider { issuer, .. } = &*provider;
    Json(json!({
        "issuer": issuer,
        "authorization_endpoint": format!("{issuer}/authorize"),
        "token_endpoint": format!("{issuer}/token"),
        "jwks_uri": format!("{issuer}/keys"),
        "response_types_supported": ["code"],
        "subject_types_supported": ["public"],
        "id_token_signing_alg_values_supported": ["ES256"],
    }))
}

async fn keys(State(provider): Asked) -> Json<PublicKeys> {
    Json(PublicKeys { keys: vec![provider.inner().key.public().clone()] })
}

/// Whoever sits there says yes at once (section 3.1.2).
async fn authorize(State(provider): Asked, Query(asked): Query<HashMap<String, String>>) -> Response {
    let said = |name: &str| asked.get(name).map(String::as_str).unwrap_or_default();
    let scopes: Vec<_> = said("scope").split(' ').collect();
    let is_good = said("client_id") == provider.client
        && said("response_type") == "code"
        && said("code_challenge_method") == "S256"
        && scopes.contains(&"openid");
    if !is_good {
        return (StatusCode::BAD_REQUEST, "this server does not know what it wants").into_response();
    }
    let (back, state) = (said("redirect_uri"), said("state"));
    let mut inner = provider.inner();
    if inner.person.is_empty() {
        let to = format!("{back}?error=access_denied&error_description=nobody+is+here&state={state}");
        return (StatusCode::SEE_OTHER, [(LOCATION, to)]).into_response();
    }
    inner.given += 1;
    let code = format!("code-{}", inner.given);
    let to = format!("{back}?code={code}&state={state}");
    inner.codes.insert(code, asked.clone());
    (StatusCode::SEE_OTHER, [(LOCATION, to)]).into_response()
}

/// Gives a token for a code, once (section 3.1.3).
async fn token(State(provider): Asked, headers: HeaderMap, Form(shown): Form<HashMap<String, String>>) -> Response {
    let refuse = |error: &str| (StatusCode::BAD_REQUEST, Json(json!({ "error": error }))).into_response();
    let expected = format!("Basic {}", BASE64_STANDARD.encode(format!("{}:{}", provider.client, provider.secret)));
    if headers.get(AUTHORIZATION).and_then(|value| value.to_str().ok()) != Some(expected.as_str()) {
        return refuse("invalid_client");
    }
    let said = |name: &str| shown.get(name).map(String::as_str).unwrap_or_default();
    let mut inner = provider.inner();
    let Some(asked) = inner.codes.remove(said("code")) else { return refuse("invalid_grant") };
    let challenge = BASE64_URL_SAFE_NO_PAD.encode(Sha256::digest(said("code_verifier")));
    let is_same = asked.get("redirect_uri") == shown.get("redirect_uri")
        && asked.get("code_challenge") == Some(&challenge)
        && said("grant_type") == "authorization_code";
    if !is_same {
        return refuse("invalid_grant");
    }
    let now = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default().as_secs();
    let mut claims = inner.person.clone();
    let own = json!({
        "iss": provider.issuer,
        "aud": provider.client,
        "iat": now,
        "exp": now + LIFE,
        "nonce": asked.get("nonce"),
    });
    claims.extend(own.as_object().cloned().unwrap_or_default());
    claims.extend(inner.lies.clone());
    match inner.key.sign(&claims) {
        Ok(token) => Json(json!({ "access_token": "x", "token_type": "Bearer", "id_token": token })).into_response(),
        Err(error) => (StatusCode::INTERNAL_SERVER_ERROR, error.to_string()).into_response(),
    }
}
