//! The tokens that were shown lately: whoever asks shows his with every question, and the records need not be asked each
//! time.

use std::collections::HashMap;
use std::sync::{Arc, Mutex};
use std::time::Duration;

use pondrix_core::Time;
use tokio::sync::watch;
use tokio::time::Instant;

use super::locked;
use crate::store::Shown;

/// How long a token is believed without asking the records. One that is removed is forgotten at once; this bounds what
/// becomes of one of which nobody knows whether it was.
const BELIEVED: Duration = Duration::from_secs(5);
/// The most tokens that are remembered.
const MOST: usize = 4096;

type Hash = [u8; 32];

/// The tokens. All handles are of the same ones.
#[derive(Clone, Debug)]
pub(super) struct KnownTokens {
    tokens: Arc<Mutex<HashMap<Hash, (Shown, Instant)>>>,
    /// How often all were forgotten. It changes while `tokens` is held.
    forgotten: watch::Sender<u64>,
}

impl Default for KnownTokens {
    fn default() -> Self {
        Self { tokens: Arc::default(), forgotten: watch::Sender::new(0) }
    }
}

/// How often all tokens were forgotten before the records were asked.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Before(u64);

impl KnownTokens {
    /// Who shows a token; else when the records are to be asked, which [`KnownTokens::keep`] wants to be told.
    pub(super) fn find(&self, hash: &Hash, now: Time) -> Result<Shown, Before> {
        let tokens = locked(&self.tokens);
        match tokens.get(hash) {
            Some((shown, since)) if since.elapsed() < BELIEVED && shown.is_good(now) => Ok(shown.clone()),
            _ => Err(Before(self.seen())),
        }
    }

    /// Remembers what the records said, unless all were forgotten since they were asked: they may have said it before
    /// a token was removed.
    pub(super) fn keep(&self, hash: Hash, shown: Shown, before: Before) {
        let mut tokens = locked(&self.tokens);
        if self.seen() != before.0 {
            return;
        }
        if tokens.len() >= MOST {
            tokens.clear();
        }
        tokens.insert(hash, (shown, Instant::now()));
    }

    /// Forgets all: one of them is removed, or what somebody may do has changed.
    pub(super) fn forget(&self) {
        let mut tokens = locked(&self.tokens);
        tokens.clear();
        self.forgotten.send_modify(|forgotten| *forgotten += 1);
    }

    /// How often all were forgotten.
    pub(super) fn seen(&self) -> u64 {
        *self.forgotten.borrow()
    }

    /// Waits until all were forgotten more often than that.
    pub(super) async fn changed(&self, seen: &mut u64) {
        let mut forgotten = self.forgotten.subscribe();
        if let Ok(now) = forgotten.wait_for(|now| now > seen).await {
            *seen = *now;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::store::TokenKind;

    fn wren(expires: Option<i64>) -> Shown {
        let expires = expires.map(Time::from_millis);
        let (kind, name, teams) = (TokenKind::Person, "wren".to_owned(), Vec::new());
        Shown { id: 1, kind, name, teams, rights: Arc::default(), expires, used: None, is_replaced: false }
    }

    #[tokio::test(start_paused = true)]
    async fn a_token_is_believed_for_a_while_and_not_beyond_its_end() {
        let tokens = KnownTokens::default();
        let now = Time::from_millis(1000);
        let before = tokens.find(&[1; 32], now).unwrap_err();
        tokens.keep([1; 32], wren(Some(2000)), before);
        assert_eq!(tokens.find(&[1; 32], now).unwrap().name, "wren");
        assert!(tokens.find(&[2; 32], now).is_err());
        assert!(tokens.find(&[1; 32], Time::from_millis(2000)).is_err(), "it has ended");
        tokio::time::advance(BELIEVED).await;
        assert!(tokens.find(&[1; 32], now).is_err(), "the records are asked again");
    }

    #[tokio::test(start_paused = true)]
    async fn what_the_records_said_before_a_token_was_removed_is_not_kept_after() {
        let tokens = KnownTokens::default();
        let now = Time::from_millis(1000);
        let before = tokens.find(&[1; 32], now).unwrap_err();
        tokens.forget();
        tokens.keep([1; 32], wren(None), before);
        assert!(tokens.find(&[1; 32], now).is_err());
        let before = tokens.find(&[1; 32], now).unwrap_err();
        tokens.keep([1; 32], wren(None), before);
        assert!(tokens.find(&[1; 32], now).is_ok());
        tokens.forget();
        assert!(tokens.find(&[1; 32], now).is_err());
    }

    #[tokio::test]
    async fn whoever_waits_for_a_change_is_told_of_those_that_were_before_they_waited() {
        let tokens = KnownTokens::default();
        let mut seen = tokens.seen();
        tokens.forget();
        tokens.forget();
        tokens.changed(&mut seen).await;
        assert_eq!(seen, 2);
        let other = tokens.clone();
        let (_, ()) = tokio::join!(tokens.changed(&mut seen), async { other.forget() });
        assert_eq!(seen, 3);
    }
}
