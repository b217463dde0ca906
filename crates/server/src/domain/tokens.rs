//! The tokens of people, and the sessions of their browsers.

use pondrix_api::{NewToken, TokenView};
use pondrix_core::ProjectName;

use super::{Asker, Engine, EngineError};
use crate::access;
use crate::store::{self, Shown, StoreError, TokenKind};

/// The name of the token that the server makes first.
const FIRST: &str = "admin";
/// How long a browser stays signed in, in days.
const SESSION_DAYS: i64 = 14;

/// A browser that has signed in.
#[derive(Debug)]
pub(crate) struct Session {
    /// What it shows from now on.
    pub(crate) secret: String,
    /// Who it is.
    pub(crate) name: String,
    /// For how long, in seconds.
    pub(crate) seconds: i64,
}

impl Asker {
    /// Refuses everybody but who has the token that the server made first.
    pub(super) fn only_first(&self, does: &str) -> Result<(), EngineError> {
        if self.name == FIRST {
            return Ok(());
        }
        let words = format!("only the token that the server printed when it first started {does}");
        Err(EngineError::Forbidden(words))
    }
}

impl Engine {
    /// Who shows a token that is good now.
    pub(crate) async fn shown(&self, token: &str) -> Result<Option<Shown>, StoreError> {
        let (hash, now) = (access::hash(token), self.clock.now());
        let before = match self.known_tokens.find(&hash, now) {
            Ok(shown) => return Ok(Some(shown)),
            Err(before) => before,
        };
        let shown = self.store.read(move |c| store::token(c, &hash, now)).await?;
        if let Some(shown) = &shown {
            self.known_tokens.keep(hash, shown.clone(), before);
        }
        Ok(shown)
    }

    /// Makes a token for a person. Nobody can read it again.
    pub(crate) async fn add_person(&self, new: NewToken, by: &Asker) -> Result<(String, TokenView), EngineError> {
        by.only_first("makes and removes others")?;
        for name in new.groups.iter().chain([&new.name]) {
            if name.parse::<ProjectName>().is_err() {
                return Err(EngineError::Invalid(format!("`{name}` cannot be a person's or group's name")));
            }
        }
        let token = access::new_secret()?;
        let view = TokenView { name: new.name, groups: new.groups, created: self.clock.now() };
        let (hash, made) = (access::hash(&token), view.clone());
        self.store.write(move |c| store::add_person(c, &hash, &made)).await?;
        Ok((token, view))
    }

    /// Removes a person's token, and signs their browsers out; says whether there was one.
    pub(crate) async fn remove_person(&self, name: String, by: &Asker) -> Result<bool, EngineError> {
        by.only_first("makes and removes others")?;
        if name == FIRST {
            let words = "the first token stays: nobody could make others without it";
            return Err(EngineError::Conflict(words.to_owned()));
        }
        let known = self.known_tokens.clone();
        Ok(self.store.write_and(move |c| store::remove_person(c, &name), move |_| known.forget()).await?)
    }

    /// Signs a browser in that shows a person's token; nothing where nobody's is.
    pub(crate) async fn sign_in(&self, token: &str) -> Result<Option<Session>, EngineError> {
        let (hash, now) = (access::hash(token), self.clock.now());
        let known = self.store.read(move |c| store::token(c, &hash, now)).await?;
        let Some(Shown { kind: TokenKind::Admin, name, groups, .. }) = known else { return Ok(None) };
        let secret = access::new_secret()?;
        let seconds = SESSION_DAYS * 24 * 3600;
        let (hash, owner, expires) = (access::hash(&secret), name.clone(), now.plus_millis(seconds * 1000));
        self.store
            .write(move |c| store::put_token(c, &hash, TokenKind::Session, &owner, &groups, now, Some(expires)))
            .await?;
        Ok(Some(Session { secret, name, seconds }))
    }

    /// Signs a browser out.
    pub(crate) async fn sign_out(&self, session: &str) -> Result<(), EngineError> {
        let (hash, known) = (access::hash(session), self.known_tokens.clone());
        Ok(self.store.write_and(move |c| store::remove_token(c, &hash), move |()| known.forget()).await?)
    }
}
