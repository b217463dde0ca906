//! The tokens of people and their programs, and the sessions of browsers.

use pondrix_api::{NewToken, TokenMade, TokenView};
use pondrix_core::access::{Grant, Need};
use pondrix_core::{ProjectName, Time};
use tracing::warn;

use super::{Asker, Engine, EngineError};
use crate::access;
use crate::audit;
use crate::store::{self, Shown, StoreError, TokenKind, TokenRow};

/// How long a browser stays signed in, in days.
const SESSION_DAYS: i64 = 14;
/// How long a token is good after another took its place.
const ROTATION: i64 = 3600 * 1000;
/// How exactly is known when a token was used last.
const USED_TO: u64 = 60 * 1000;
/// For how many days a token may be good.
const DAYS: std::ops::RangeInclusive<u32> = 1..=3650;
const DAY: i64 = 24 * 3600 * 1000;

/// A browser that has signed in.
#[derive(Debug)]
pub(crate) struct Session {
    /// What it shows from now on.
    pub(crate) secret: String,
    /// Whose it is.
    pub(crate) shown: Shown,
    /// For how long, in seconds.
    pub(crate) seconds: i64,
}

/// A token, as it is told once.
pub(super) fn made(
    token: String,
    id: i64,
    owner: &str,
    label: &str,
    created: Time,
    ends: Option<Time>,
    limit: Option<Grant>,
) -> TokenMade {
    let (owner, label) = (owner.to_owned(), label.to_owned());
    TokenMade { token, made: TokenView { id, owner, label, created, ends, used: None, limit, heir: None } }
}

impl Engine {
    /// Who shows the token of this hash, if it is good now.
    pub(crate) async fn shown_by(&self, hash: [u8; 32]) -> Result<Option<Shown>, StoreError> {
        let now = self.clock.now();
        let before = match self.known_tokens.find(&hash, now) {
            Ok(shown) => return Ok(Some(shown)),
            Err(before) => before,
        };
        let shown = self.store.read(move |c| store::token(c, &hash, now)).await?;
        if let Some(shown) = &shown {
            self.known_tokens.keep(hash, shown.clone(), before);
            if shown.used.is_none_or(|used| now.since(used) >= USED_TO) {
                let id = shown.id;
                if let Err(error) = self.store.write(move |c| store::token_used(c, id, now)).await {
                    // Nobody is kept out because that cannot be noted.
                    warn!(%error, "when a token was used could not be noted");
                }
            }
        }
        Ok(shown)
    }

    /// How often what somebody may do has changed.
    pub(crate) fn access_changes(&self) -> u64 {
        self.known_tokens.seen()
    }

    /// Waits until that is more often.
    pub(crate) async fn access_changed(&self, seen: &mut u64) {
        self.known_tokens.changed(seen).await;
    }

    /// Makes a token: for whoever asks, or for another where they administer the server. Nobody can read it again.
    pub(crate) async fn add_token(&self, new: NewToken, by: &Asker) -> Result<TokenMade, EngineError> {
        let owner = new.owner.unwrap_or_else(|| by.name.clone());
        audit::about(format!("`{}` of {owner}", new.label));
        let limit = new.limit.as_ref().map(|Grant { role, projects }| format!("limited to {role} in {projects}"));
        let days = new.days.map(|days| format!("for {days} days"));
        audit::words(limit.into_iter().chain(days).collect::<Vec<_>>().join(", "));
        by.may_have_tokens_of(&owner)?;
        by.may_make_tokens()?;
        if new.label.parse::<ProjectName>().is_err() {
            let rule = "1 to 63 of a-z, 0-9 and `-`, with a letter or digit at both ends";
            return Err(EngineError::Invalid(format!("`{}` cannot be a token's label: {rule}", new.label)));
        }
        if let Some(days) = new.days.filter(|days| !DAYS.contains(days)) {
            return Err(EngineError::Invalid(format!("a token is good for 1 to 3650 days, and not for {days}")));
        }
        let created = self.clock.now();
        let ends = new.days.map(|days| created.plus_millis(i64::from(days) * DAY));
        let (token, row) = Self::new_token(&owner, &new.label, new.limit.clone(), created, ends)?;
        let user = owner.clone();
        let put = move |c: &rusqlite::Connection| {
            let is_known = store::users(c)?.iter().any(|known| known.name == user);
            is_known.then(|| store::put_token(c, &row)).transpose()
        };
        let Some(id) = self.store.write_noted(created, put).await? else {
            let words = format!("there is no person {owner}; make them known with `pondrix user add {owner}`");
            return Err(EngineError::Invalid(words));
        };
        Ok(made(token, id, &owner, &new.label, created, ends, new.limit))
    }

    /// The tokens of whoever asks; of everybody, where they administer the server.
    pub(crate) async fn tokens(&self, by: &Asker) -> Result<Vec<TokenView>, EngineError> {
        let owner = (!by.rights.allow(Need::Administer, None)).then(|| by.name.clone());
        let now = self.clock.now();
        Ok(self.store.read(move |c| store::tokens(c, owner.as_deref(), now)).await?)
    }

    /// Removes a token, and signs browsers out that were signed in with it; says whether there was such a one.
    pub(crate) async fn remove_token(&self, id: i64, by: &Asker) -> Result<bool, EngineError> {
        let Some(token) = self.tokens(by).await?.into_iter().find(|token| token.id == id) else { return Ok(false) };
        audit::about(format!("{id} `{}` of {}", token.label, token.owner));
        by.may_have_tokens_of(&token.owner)?;
        self.forget_token(id).await?;
        Ok(true)
    }

    /// Makes a token in the place of another, which stays good for an hour, so that whatever uses it can be told. It is
    /// like the other, and good for as long as that was from its beginning. It is done once: whoever found the other one
    /// has that hour, and no more.
    pub(crate) async fn rotate_token(&self, id: i64, by: &Asker) -> Result<Option<TokenMade>, EngineError> {
        let Some(old) = self.tokens(by).await?.into_iter().find(|token| token.id == id) else { return Ok(None) };
        audit::about(format!("{id} `{}` of {}", old.label, old.owner));
        // Whoever has a token may put another like it in its place, however limited it is.
        if id != by.token {
            by.may_have_tokens_of(&old.owner)?;
        }
        by.may_make_tokens()?;
        let now = self.clock.now();
        let ends = old.ends.map(|ends| now.plus_millis(i64::try_from(ends.since(old.created)).unwrap_or(i64::MAX)));
        let (token, row) = Self::new_token(&old.owner, &old.label, old.limit.clone(), now, ends)?;
        let rotate = move |c: &rusqlite::Connection| store::replace_token(c, id, now.plus_millis(ROTATION), &row);
        let known = self.known_tokens.clone();
        let Some(heir) = self.store.write_noted_and(now, rotate, move |_| known.forget()).await? else {
            let words = format!("another token was put in the place of {id} already; see `pondrix token list`");
            return Err(EngineError::Conflict(words));
        };
        Ok(Some(made(token, heir, &old.owner, &old.label, now, ends, old.limit)))
    }

    /// Signs a browser in that shows a person's token; nothing where nobody's is.
    pub(crate) async fn sign_in(&self, token: &str) -> Result<Option<Session>, EngineError> {
        let now = self.clock.now();
        let Some(shown) = self.shown_by(access::hash(token)).await?.filter(|shown| shown.kind == TokenKind::Person)
        else {
            return Ok(None);
        };
        let (name, limit) = (shown.name.clone(), shown.rights.limit.clone());
        Ok(Some(self.begin_session(&name, limit, Some(shown.id), shown.expires, now).await?))
    }

    /// Begins a session of a person: of a token of theirs, where one was shown, and no longer than that is good.
    pub(super) async fn begin_session(
        &self,
        name: &str,
        limit: Option<Grant>,
        parent: Option<i64>,
        ends: Option<Time>,
        now: Time,
    ) -> Result<Session, EngineError> {
        audit::by(name);
        let secret = access::new_secret()?;
        let longest = now.plus_millis(SESSION_DAYS * DAY);
        let end = ends.map_or(longest, |ends| ends.min(longest));
        let hash = access::hash(&secret);
        let row = TokenRow {
            hash,
            kind: TokenKind::Session,
            owner: name.to_owned(),
            label: "browser".to_owned(),
            created: now,
            expires: Some(end),
            limit,
            parent,
        };
        self.store.write_noted(now, move |c| store::put_token(c, &row)).await?;
        let seconds = i64::try_from(end.since(now) / 1000).unwrap_or(0);
        // Removed in this moment, it is nobody's.
        let shown = self.shown_by(hash).await?.ok_or(EngineError::Broke)?;
        Ok(Session { secret, shown, seconds })
    }

    /// Signs a browser out.
    pub(crate) async fn sign_out(&self, session: i64) -> Result<(), EngineError> {
        let known = self.known_tokens.clone();
        Ok(self
            .store
            .write_noted_and(self.clock.now(), move |c| store::remove_token(c, session), move |()| known.forget())
            .await?)
    }
}

impl Asker {
    /// Refuses whoever shows a token in whose place another was put: who found it must not have a lasting one of it.
    pub(super) fn may_make_tokens(&self) -> Result<(), EngineError> {
        if self.is_replaced {
            let words =
                "another token was put in the place of this one: it makes no further ones; sign in with that one";
            return Err(EngineError::Forbidden(words.to_owned()));
        }
        Ok(())
    }

    /// Refuses whoever may not make and remove tokens of a person: they are their own, or the server's administrators'.
    /// Who shows a limited token makes none: it could allow more.
    fn may_have_tokens_of(&self, owner: &str) -> Result<(), EngineError> {
        if self.rights.limit.is_some() {
            let words = "a token that is limited makes and removes no tokens, and rotates itself only; sign in with one that is not";
            return Err(EngineError::Forbidden(words.to_owned()));
        }
        if owner == self.name { Ok(()) } else { self.must(Need::Administer, None) }
    }
}
