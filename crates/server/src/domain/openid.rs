//! Signing people in by a provider of OpenID Connect: the authorization code flow with PKCE (OpenID Connect Core 1.0,
//! section 3.1; RFC 7636).
//!
//! What is to be remembered while somebody is away at the provider goes with their browser, sealed: whoever comes back
//! with another's code has not what it was asked for with.

use std::collections::HashMap;
use std::sync::Mutex;

use base64::Engine as _;
use base64::prelude::BASE64_URL_SAFE_NO_PAD;
use pondrix_api::{OpenIdChange, OpenIdSettings, OpenIdView};
use pondrix_core::access::{NotLetIn, OpenIdPerson, openid_person};
use pondrix_core::audit::Deed;
use pondrix_core::{Time, terminal};
use pondrix_identity::{Expected, check};
use reqwest::Url;
use rusqlite::Connection;
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};

use super::settings::{invalid, is_http};
use super::{Engine, EngineError, Session, locked, own_deed};
use crate::access;
use crate::audit;
use crate::ports::openid::{Provider, Shown};
use crate::seal::KeyOwner;
use crate::store::{self, OpenIdRow, StoreError};

/// What the provider is shown is sealed for this.
const PLACE: &str = "openid";
/// What a browser keeps meanwhile is sealed for this.
const AWAY_PLACE: &str = "openid sign-in";
/// How long somebody may be away at the provider.
const AWAY_TIME: i64 = 15 * 60 * 1000;
/// How long a browser stays signed in: the provider is asked again then whether they still may.
const SESSION_TIME: i64 = 24 * 3600 * 1000;
/// How long a code for a program is good.
const CODE_TIME: i64 = 60 * 1000;
/// The longest address of a page that is remembered, in bytes: a cookie has no more than 4096.
const LONGEST_PAGE: usize = 1024;
/// The most codes that are kept.
const MOST_CODES: usize = 1000;

/// What is remembered of somebody who is away at the provider.
#[derive(Serialize, Deserialize)]
struct Away {
    state: String,
    nonce: String,
    verifier: String,
    /// The page that they come back to.
    to: String,
    program: Option<Program>,
    until: i64,
    issuer: String,
}

/// A program on somebody's own machine that waits for them to be signed in.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) struct Program {
    /// The port that it listens at on the loopback interface.
    pub(crate) port: u16,
    /// The SHA-256 of what it shows for its code, in base64url.
    pub(crate) challenge: String,
}

/// Somebody is sent to the provider.
pub(crate) struct Sent {
    /// Where.
    pub(crate) to: String,
    /// What their browser keeps meanwhile.
    pub(crate) kept: String,
}

/// Somebody came back, and is signed in.
pub(crate) enum Back {
    /// In a browser, at this page.
    Browser(Session, String),
    /// For a program, which is told a code at this address.
    Program(String),
}

/// Codes that programs were sent: whose, and until when they are good.
#[derive(Debug, Default)]
pub(crate) struct Codes(Mutex<HashMap<[u8; 32], Code>>);

#[derive(Debug)]
struct Code {
    challenge: String,
    name: String,
    until: Time,
}

/// Why somebody was not signed in.
#[derive(Debug, thiserror::Error)]
pub(crate) enum NotBack {
    #[error("nobody is signed in that way here")]
    NotSet,
    #[error("this did not begin in this browser, or took too long: sign in again")]
    NotBegun,
    #[error("the provider says: {0}")]
    Refused(String),
    #[error("{0}")]
    NotLetIn(#[from] NotLetIn),
    #[error(
        "somebody called {name} is known here already; if that is you, whoever administers the server says so: \
         pondrix user link {name} {subject}"
    )]
    Taken { name: String, subject: String },
    #[error("{0:#}")]
    Provider(anyhow::Error),
    #[error(transparent)]
    Engine(#[from] EngineError),
}

impl From<StoreError> for NotBack {
    fn from(error: StoreError) -> Self {
        Self::Engine(error.into())
    }
}

fn digest(text: &str) -> String {
    BASE64_URL_SAFE_NO_PAD.encode(Sha256::digest(text))
}

/// A page of the console that somebody may be sent to: nothing that leads elsewhere.
fn own_page(path: &str) -> String {
    let leads_elsewhere = path.len() > LONGEST_PAGE
        || path.starts_with("//")
        || path.chars().any(|letter| letter.is_control() || letter == '\\');
    if path.starts_with('/') && !leads_elsewhere { path.to_owned() } else { "/".to_owned() }
}

impl Engine {
    /// Where the provider sends people back to.
    fn comes_back_to(&self) -> String {
        format!("{}/sign-in/openid/callback", self.issuer())
    }

    fn openid_view(&self, row: Option<OpenIdRow>) -> OpenIdView {
        let has_secret = row.as_ref().is_some_and(|row| row.secret.is_some());
        OpenIdView { settings: row.map(|row| row.settings), has_secret, comes_back_to: self.comes_back_to() }
    }

    /// The provider, as it is shown.
    pub(crate) async fn openid(&self) -> Result<OpenIdView, EngineError> {
        Ok(self.openid_view(self.store.read(store::openid).await?))
    }

    /// The host of the provider, where one is set.
    pub(crate) async fn openid_host(&self) -> Result<Option<String>, EngineError> {
        let row = self.store.read(store::openid).await?;
        let url = row.and_then(|row| Url::parse(&row.settings.issuer).ok());
        Ok(url.and_then(|url| url.host_str().map(str::to_owned)))
    }

    /// Sets the provider, which is asked first.
    pub(crate) async fn set_openid(&self, change: OpenIdChange) -> Result<OpenIdView, EngineError> {
        let OpenIdChange { settings, secret } = change;
        audit::about(&settings.issuer);
        audit::words(format!("as {}", settings.client));
        is_http(&settings.issuer)?;
        let host = Url::parse(&settings.issuer).ok().and_then(|url| url.host_str().map(str::to_owned));
        let is_here = host.is_some_and(|host| host == "localhost" || host.starts_with("127."));
        if !settings.issuer.starts_with("https:") && !is_here {
            return invalid(format!(
                "{} is not reached over TLS: anybody on the way could be anybody",
                settings.issuer
            ));
        }
        if settings.client.is_empty() {
            return invalid("the provider has to know this server by some name");
        }
        if let Err(error) = Provider::find(&settings.issuer).await {
            return invalid(format!("{error:#}"));
        }
        let known = self.store.read(store::openid).await?;
        let is_same =
            |row: &OpenIdRow| (&row.settings.issuer, &row.settings.client) == (&settings.issuer, &settings.client);
        let sealed = match secret {
            Some(secret) => Some(self.sealed(KeyOwner::Server, PLACE, secret.as_bytes()).await?),
            None => known.filter(is_same).and_then(|row| row.secret),
        };
        let row = OpenIdRow { settings, secret: sealed };
        let kept = row.clone();
        self.store.write_noted(self.clock.now(), move |c| store::put_openid(c, &kept)).await?;
        Ok(self.openid_view(Some(row)))
    }

    /// Has the provider sign nobody in any more; says whether there was one.
    pub(crate) async fn remove_openid(&self) -> Result<bool, EngineError> {
        Ok(self.store.write_noted(self.clock.now(), store::remove_openid).await?)
    }

    /// Says who a person is at the provider; answers whether they are known.
    pub(crate) async fn link_user(&self, name: String, subject: String) -> Result<bool, EngineError> {
        audit::words(format!("is {} there", terminal::final_line(&subject)));
        let Some(row) = self.store.read(store::openid).await? else {
            return invalid("people are signed in by no provider: pondrix openid set ISSUER --client NAME");
        };
        let issuer = row.settings.issuer;
        let link = move |c: &Connection| {
            let is_known = store::users(c)?.iter().any(|user| user.name == name);
            if is_known {
                store::put_subject(c, &issuer, &subject, &name)?;
            }
            Ok(is_known)
        };
        Ok(self.store.write_noted(self.clock.now(), link).await?)
    }

    /// Sends somebody to the provider.
    pub(crate) async fn go_to_openid(&self, to: &str, program: Option<Program>) -> Result<Sent, NotBack> {
        let row = self.store.read(store::openid).await?.ok_or(NotBack::NotSet)?;
        let OpenIdSettings { issuer, client, scopes, .. } = row.settings;
        let provider = Provider::find(&issuer).await.map_err(NotBack::Provider)?;
        let secret = || access::new_secret().map_err(EngineError::from);
        let away = Away {
            state: secret()?,
            nonce: secret()?,
            verifier: secret()?,
            to: own_page(to),
            until: self.clock.now().plus_millis(AWAY_TIME).millis(),
            program,
            issuer,
        };
        let mut url = Url::parse(&provider.authorization_endpoint).map_err(|error| NotBack::Provider(error.into()))?;
        url.query_pairs_mut().extend_pairs([
            ("response_type", "code"),
            ("client_id", &client),
            ("redirect_uri", &self.comes_back_to()),
            ("scope", &[&["openid".to_owned()], &scopes[..]].concat().join(" ")),
            ("state", &away.state),
            ("nonce", &away.nonce),
            ("code_challenge", &digest(&away.verifier)),
            ("code_challenge_method", "S256"),
        ]);
        // Whoever has somebody click on a link has them sign in for a program of theirs: not unasked.
        if away.program.is_some() {
            url.query_pairs_mut().append_pair("prompt", "login");
        }
        let text = serde_json::to_vec(&away).map_err(|error| NotBack::Provider(error.into()))?;
        let kept = self.sealed(KeyOwner::Server, AWAY_PLACE, &text).await?;
        Ok(Sent { to: url.into(), kept: BASE64_URL_SAFE_NO_PAD.encode(kept) })
    }

    /// Signs somebody in who came back from the provider with a code, or with words of why there is none, and has in their
    /// browser what it kept. Those words are somebody else's where they did not begin there.
    pub(crate) async fn come_from_openid(
        &self,
        kept: &str,
        state: &str,
        told: Result<String, String>,
    ) -> Result<Back, NotBack> {
        let row = self.store.read(store::openid).await?.ok_or(NotBack::NotSet)?;
        let now = self.clock.now();
        let sealed = BASE64_URL_SAFE_NO_PAD.decode(kept).ok();
        let opened = sealed.and_then(|sealed| self.seal.unseal(AWAY_PLACE, &sealed).ok());
        let away: Option<Away> = opened.and_then(|text| serde_json::from_slice(&text).ok());
        let is_own =
            |away: &Away| away.state == state && now.millis() < away.until && away.issuer == row.settings.issuer;
        let away = away.filter(is_own).ok_or(NotBack::NotBegun)?;
        let code = told.map_err(NotBack::Refused)?;
        let person = self.person_of_code(&row, &away, &code).await?;
        audit::about(terminal::final_line(&person.subject));
        let name = self.known_as(&row.settings.issuer, person).await?;
        let Some(Program { port, challenge }) = away.program else {
            let end = Some(now.plus_millis(SESSION_TIME));
            let session = self.begin_session(&name, None, None, end, now).await?;
            return Ok(Back::Browser(session, away.to));
        };
        audit::by(&name);
        let code = access::new_secret().map_err(EngineError::from)?;
        let mut codes = locked(&self.codes.0);
        codes.retain(|_, code| now < code.until);
        if codes.len() < MOST_CODES {
            let until = now.plus_millis(CODE_TIME);
            codes.insert(access::hash(&code), Code { challenge, name, until });
        }
        Ok(Back::Program(format!("http://127.0.0.1:{port}/?code={code}")))
    }

    /// Signs a program in that was sent a code; nothing where that is not known, or no longer good.
    pub(crate) async fn sign_in_with_code(&self, code: &str, verifier: &str) -> Result<Option<Session>, EngineError> {
        let now = self.clock.now();
        let found = locked(&self.codes.0).remove(&access::hash(code));
        let is_good = |code: &Code| now < code.until && code.challenge == digest(verifier);
        match found.filter(is_good) {
            Some(Code { name, .. }) => Ok(Some(self.begin_session(&name, None, None, None, now).await?)),
            None => Ok(None),
        }
    }

    /// Who somebody is, by what the provider gives for their code.
    async fn person_of_code(&self, row: &OpenIdRow, away: &Away, code: &str) -> Result<OpenIdPerson, NotBack> {
        let OpenIdSettings { issuer, client, rules, .. } = &row.settings;
        let secret = row.secret.as_ref().map(|sealed| self.seal.unseal_text(PLACE, sealed));
        let secret = secret.transpose().map_err(|error| NotBack::Provider(error.into()))?;
        let provider = Provider::find(issuer).await.map_err(NotBack::Provider)?;
        let shown = Shown {
            client,
            secret: secret.as_deref(),
            code,
            verifier: &away.verifier,
            comes_back_to: &self.comes_back_to(),
        };
        let token = provider.token(shown).await.map_err(NotBack::Provider)?;
        let keys = provider.keys().await.map_err(NotBack::Provider)?;
        let expected = Expected { issuer, audience: client, now: self.clock.now() };
        let wrong = |words: String| NotBack::Refused(format!("a token that is not believed: {words}"));
        let claims = check(&token, &keys, expected).map_err(|error| wrong(error.to_string()))?;
        // Section 3.1.3.7: it was asked for by this browser.
        if claims.get("nonce").and_then(serde_json::Value::as_str) != Some(&away.nonce) {
            return Err(wrong("it was given for another sign-in".to_owned()));
        }
        Ok(openid_person(&claims, rules)?)
    }

    /// What somebody is called here, of the teams that the provider says; whoever is not known yet is from now on.
    async fn known_as(&self, issuer: &str, person: OpenIdPerson) -> Result<String, NotBack> {
        let OpenIdPerson { subject, name, teams } = person;
        let (issuer, now) = (issuer.to_owned(), self.clock.now());
        let (of, who) = (issuer.clone(), subject.clone());
        let known = self.store.read(move |c| store::person_of_subject(c, &of, &who)).await?;
        audit::by(known.as_ref().unwrap_or(&name));
        let taken = NotBack::Taken { name: name.clone(), subject: subject.clone() };
        let change = move |c: &Connection| {
            let deed = |action: &str, name: &str| {
                let words =
                    if teams.is_empty() { "of no team".to_owned() } else { format!("teams {}", teams.join(", ")) };
                Deed { words, ..own_deed(action, name.to_owned(), None) }
            };
            let known = store::person_of_subject(c, &issuer, &subject)?;
            let users = store::users(c)?;
            let find = |name: &str| users.iter().find(|user| user.name == name);
            match known {
                Some(known) => {
                    if find(&known).is_some_and(|user| user.teams != teams) {
                        store::set_teams(c, &known, &teams)?;
                        store::note(c, now, deed("user set", &known))?;
                    }
                    Ok(Some(known))
                }
                None if find(&name).is_some() => Ok(None),
                None => {
                    store::add_user(c, &name, &teams, now)?;
                    store::put_subject(c, &issuer, &subject, &name)?;
                    store::note(c, now, deed("user add", &name))?;
                    Ok(Some(name.clone()))
                }
            }
        };
        self.change_access(change).await?.ok_or(taken)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn whoever_is_signed_in_is_sent_to_no_other_site() {
        for (path, page) in [
            ("/runs/desk/1?job=a", "/runs/desk/1?job=a"),
            ("//lake.test", "/"),
            ("/\\lake.test", "/"),
            ("https://lake.test", "/"),
            ("/a\r\nSet-Cookie: x", "/"),
            ("", "/"),
        ] {
            assert_eq!(own_page(path), page);
        }
        assert_eq!(own_page(&format!("/{}", "a".repeat(LONGEST_PAGE))), "/");
    }
}
