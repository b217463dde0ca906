//! The provider of OpenID Connect, as it is asked.

use std::time::Duration;

use anyhow::{Context, bail};
use futures_util::StreamExt;
use pondrix_identity::PublicKeys;
use reqwest::redirect::Policy;
use reqwest::{Client, RequestBuilder, Url};
use serde::Deserialize;
use serde::de::DeserializeOwned;

/// How long it may take to answer.
const PATIENCE: Duration = Duration::from_secs(10);
/// The longest answer, in bytes.
const LONGEST_ANSWER: usize = 1 << 20;

/// What it says of itself (OpenID Connect Discovery 1.0, section 3).
#[derive(Clone, Debug, Deserialize)]
pub(crate) struct Provider {
    issuer: String,
    pub(crate) authorization_endpoint: String,
    token_endpoint: String,
    jwks_uri: String,
}

/// What it gives for a code (RFC 6749, section 5.1).
#[derive(Deserialize)]
struct Given {
    id_token: Option<String>,
}

/// Why it gives nothing (section 5.2).
#[derive(Deserialize)]
struct Refused {
    error: String,
    error_description: Option<String>,
}

/// What is shown for a code.
pub(crate) struct Shown<'a> {
    pub(crate) client: &'a str,
    pub(crate) secret: Option<&'a str>,
    pub(crate) code: &'a str,
    pub(crate) verifier: &'a str,
    pub(crate) comes_back_to: &'a str,
}

fn client() -> anyhow::Result<Client> {
    // What is shown to it is for its address alone.
    Ok(pondrix_http::client(|builder| builder.timeout(PATIENCE).redirect(Policy::none()))?)
}

async fn answer(request: RequestBuilder) -> anyhow::Result<(bool, Vec<u8>)> {
    let response = request.send().await?;
    let (good, status) = (response.status().is_success(), response.status());
    if response.status().is_redirection() {
        bail!("it answers {status}, and leads elsewhere");
    }
    let (mut body, mut pieces) = (Vec::new(), response.bytes_stream());
    while let Some(piece) = pieces.next().await {
        body.extend_from_slice(&piece?);
        if body.len() > LONGEST_ANSWER {
            bail!("its answer is too long");
        }
    }
    Ok((good, body))
}

async fn get<T: DeserializeOwned>(url: &str) -> anyhow::Result<T> {
    let told = || url.to_owned();
    let (good, body) = answer(client()?.get(url)).await.with_context(told)?;
    if !good {
        bail!("{url} refused");
    }
    serde_json::from_slice(&body).with_context(told)
}

/// Pairs, as forms are sent (RFC 6749, appendix B).
fn form(pairs: &[(&str, &str)]) -> anyhow::Result<String> {
    let url = Url::parse_with_params("http://form.invalid", pairs)?;
    Ok(url.query().unwrap_or_default().to_owned())
}

impl Provider {
    /// What the provider at an address says of itself.
    pub(crate) async fn find(issuer: &str) -> anyhow::Result<Self> {
        let url = format!("{}/.well-known/openid-configuration", issuer.trim_end_matches('/'));
        let found: Self = get(&url).await?;
        // Section 4.3: whoever answers for another would sign in whom they like.
        if found.issuer != issuer {
            bail!("{url} says that it is {}; write its address as it does", found.issuer);
        }
        for endpoint in [&found.authorization_endpoint, &found.token_endpoint, &found.jwks_uri] {
            let parsed = Url::parse(endpoint).with_context(|| endpoint.clone())?;
            if parsed.scheme() != "https" && (issuer.starts_with("https:") || parsed.scheme() != "http") {
                bail!("{endpoint} is not reached over TLS");
            }
        }
        Ok(found)
    }

    /// The keys that it signs with.
    pub(crate) async fn keys(&self) -> anyhow::Result<PublicKeys> {
        // A key of a kind that is of no use here stands beside others.
        #[derive(Deserialize)]
        struct Listed {
            keys: Vec<serde_json::Value>,
        }
        let listed: Listed = get(&self.jwks_uri).await?;
        let keys = listed.keys.into_iter().filter_map(|key| serde_json::from_value(key).ok());
        Ok(PublicKeys { keys: keys.collect() })
    }

    /// The signed token that says who somebody is, for the code that they came back with.
    pub(crate) async fn token(&self, shown: Shown<'_>) -> anyhow::Result<String> {
        let Shown { client: id, secret, code, verifier, comes_back_to } = shown;
        let mut pairs = vec![
            ("grant_type", "authorization_code"),
            ("code", code),
            ("redirect_uri", comes_back_to),
            ("code_verifier", verifier),
        ];
        let mut request = client()?.post(&self.token_endpoint);
        match secret {
            // Section 2.3.1: both are encoded as in forms first.
            Some(secret) => {
                let (id, secret) = (form(&[("", id)])?, form(&[("", secret)])?);
                request = request.basic_auth(id.trim_start_matches('='), Some(secret.trim_start_matches('=')));
            }
            None => pairs.push(("client_id", id)),
        }
        let request =
            request.header("content-type", "application/x-www-form-urlencoded").header("accept", "application/json");
        let (good, body) = answer(request.body(form(&pairs)?)).await.with_context(|| self.token_endpoint.clone())?;
        if !good {
            let refused = serde_json::from_slice::<Refused>(&body).ok();
            let words = refused.map(|refused| match refused.error_description {
                Some(words) => format!("{}: {words}", refused.error),
                None => refused.error,
            });
            bail!("the provider refused the code: {}", words.unwrap_or_else(|| "it does not say why".to_owned()));
        }
        let given: Given = serde_json::from_slice(&body).with_context(|| self.token_endpoint.clone())?;
        given.id_token.context("the provider gave no token that says who somebody is")
    }
}
