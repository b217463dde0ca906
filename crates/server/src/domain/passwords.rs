//! Passwords: setting them, signing in with them, and keeping whoever guesses from guessing often.

use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::{Mutex, OnceLock};
use std::time::Duration;

use argon2::Argon2;
use argon2::password_hash::{PasswordHash, PasswordHasher, PasswordVerifier, SaltString};
use pondrix_core::access::Need;
use pondrix_core::{Allowance, ProjectName, Rate};
use tokio::sync::Semaphore;

use super::{Asker, Engine, EngineError, Session, locked};
use crate::audit;
use crate::off_thread::off_thread;
use crate::store;

/// The shortest password, in letters, and the longest, in bytes (NIST SP 800-63B, section 5.1.1.2, asks for 8 and 64).
const SHORTEST: usize = 12;
const LONGEST: usize = 1024;
/// The shortest name that no password may have in it: those of a letter or two are in most.
const TELLING_NAME: usize = 4;
/// How often a password is tried for one person from one address: ten times at once, and once more each minute.
const OF_BOTH: Rate = Rate::once_in(60, 10);
/// For one person from anywhere, and from one address for anybody.
const OF_ONE: Rate = Rate::once_in(12, 50);
/// As many hashes as are computed at once: each takes 19 MiB and a processor for a while.
const HASHING: usize = 2;
/// As many of whom is known how often they tried. Of more, those are forgotten who did nothing for a while.
const KNOWN: usize = 10_000;

/// For whom, and from where, a password was tried.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
enum Tried {
    Both(String, IpAddr),
    Person(String),
    Address(IpAddr),
}

/// What is known of passwords that were tried.
#[derive(Debug)]
pub(crate) struct Passwords {
    tried: Mutex<HashMap<Tried, Allowance>>,
    hashing: Semaphore,
}

impl Default for Passwords {
    fn default() -> Self {
        Self { tried: Mutex::default(), hashing: Semaphore::new(HASHING) }
    }
}

/// Why somebody was not signed in with a password.
#[derive(Debug, thiserror::Error)]
pub(crate) enum NotSignedIn {
    /// Which of the two is not told.
    #[error("there is nobody of this name with this password")]
    Wrong,
    #[error("too many passwords were tried for this name, or from your address; wait before the next one")]
    TooOften(Duration),
    #[error(transparent)]
    Engine(#[from] EngineError),
}

impl Passwords {
    /// Counts that a password is tried, at a moment in milliseconds.
    fn try_one(&self, name: &str, from: Option<IpAddr>, now: i64) -> Result<(), Duration> {
        let now = now.unsigned_abs() * 1000;
        let whom = [
            from.map(|from| (Tried::Both(name.to_owned(), from), OF_BOTH)),
            from.map(|from| (Tried::Address(from), OF_ONE)),
            Some((Tried::Person(name.to_owned()), OF_ONE)),
        ];
        let mut tried = locked(&self.tried);
        if tried.len() >= KNOWN {
            tried.retain(|_, allowance| !allowance.is_rested(now));
        }
        // Whoever waits for one of them has used up nothing of the others.
        let mut taken = Vec::new();
        for (who, rate) in whom.into_iter().flatten() {
            let mut allowance = tried.get(&who).copied().unwrap_or_default();
            allowance.take(now, rate).map_err(Duration::from_micros)?;
            taken.push((who, allowance));
        }
        tried.extend(taken);
        Ok(())
    }

    /// Somebody was who they said: what they tried before counts no more.
    fn was_right(&self, name: &str, from: Option<IpAddr>) {
        if let Some(from) = from {
            locked(&self.tried).remove(&Tried::Both(name.to_owned(), from));
        }
    }
}

fn hashed(password: &str) -> Result<String, EngineError> {
    let mut salt = [0; 16];
    getrandom::fill(&mut salt).map_err(anyhow::Error::from)?;
    let failed = |error: argon2::password_hash::Error| EngineError::Own(anyhow::anyhow!("a password: {error}"));
    let salt = SaltString::encode_b64(&salt).map_err(failed)?;
    Ok(Argon2::default().hash_password(password.as_bytes(), &salt).map_err(failed)?.to_string())
}

fn is_of(hash: &str, password: &str) -> bool {
    PasswordHash::new(hash).is_ok_and(|hash| Argon2::default().verify_password(password.as_bytes(), &hash).is_ok())
}

/// The hash of nobody's password: whether somebody is known must not show in how long it takes to say no.
fn of_nobody() -> Option<&'static str> {
    static HASH: OnceLock<Option<String>> = OnceLock::new();
    HASH.get_or_init(|| hashed("nobody has this one").ok()).as_deref()
}

impl Engine {
    /// Sets a person's password, or removes it: one's own, or that of another, where one administers the server. Browsers
    /// that were signed in with the one before are signed out. Answers whether the person is known.
    pub(crate) async fn set_password(
        &self,
        name: String,
        password: Option<String>,
        by: &Asker,
    ) -> Result<bool, EngineError> {
        audit::words(if password.is_some() { "another one" } else { "none any more" });
        by.may_change_password_of(&name)?;
        let hash = match password {
            None => None,
            Some(password) => {
                if password.chars().count() < SHORTEST || password.len() > LONGEST {
                    let words = format!("a password has at least {SHORTEST} letters, and at most {LONGEST} bytes");
                    return Err(EngineError::Invalid(words));
                }
                if name.len() >= TELLING_NAME && password.to_lowercase().contains(&name) {
                    return Err(EngineError::Invalid("a password does not have the person's name in it".to_owned()));
                }
                let _turn = self.passwords.hashing.acquire().await;
                Some(off_thread(move || hashed(&password)).await?)
            }
        };
        self.change_access(move |c| store::put_password(c, &name, hash.as_deref())).await
    }

    /// Signs a browser in that shows a person's name and password.
    pub(crate) async fn sign_in_with_password(
        &self,
        name: String,
        password: String,
        from: Option<IpAddr>,
    ) -> Result<Session, NotSignedIn> {
        let now = self.clock.now();
        // What cannot be one is nobody's, and not kept, however long it is.
        let name = name.parse::<ProjectName>().map(|name| name.to_string()).unwrap_or_default();
        let password = if password.len() > LONGEST { String::new() } else { password };
        self.passwords.try_one(&name, from, now.millis()).map_err(NotSignedIn::TooOften)?;
        let wanted = name.clone();
        let hash = self.store.read(move |c| store::password(c, &wanted)).await.map_err(EngineError::from)?;
        // What was typed as a name may be a password.
        if hash.is_some() {
            audit::about(&name);
        }
        let is_right = {
            let _turn = self.passwords.hashing.acquire().await;
            off_thread(move || match (hash, of_nobody()) {
                (Some(hash), _) => is_of(&hash, &password),
                (None, nobody) => {
                    let _ = nobody.is_some_and(|hash| is_of(hash, &password));
                    false
                }
            })
            .await
        };
        if !is_right {
            audit::words("a wrong password, or for nobody");
            return Err(NotSignedIn::Wrong);
        }
        self.passwords.was_right(&name, from);
        Ok(self.begin_session(&name, None, None, None, now).await?)
    }
}

impl Asker {
    /// Refuses whoever may not set the password of a person.
    fn may_change_password_of(&self, name: &str) -> Result<(), EngineError> {
        self.may_make_tokens()?;
        if self.rights.limit.is_some() {
            let words =
                "a token that is limited sets no passwords: they would allow more; sign in with one that is not";
            return Err(EngineError::Forbidden(words.to_owned()));
        }
        if name == self.name { Ok(()) } else { self.must(Need::Administer, None) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_password_is_known_by_its_hash_which_tells_nothing_of_it() {
        let hash = hashed("lilies in the pond").unwrap();
        assert!(hash.starts_with("$argon2id$v=19$m=19456,t=2,p=1$"), "{hash}");
        assert!(is_of(&hash, "lilies in the pond") && !is_of(&hash, "lilies in the pon"));
        assert_ne!(hash, hashed("lilies in the pond").unwrap());
        assert!(!is_of("nonsense", "lilies in the pond"));
    }

    #[test]
    fn whoever_guesses_waits_and_others_do_not_for_long() {
        let passwords = Passwords::default();
        let address = |last: u8| Some(IpAddr::from([192, 0, 2, last]));
        let tries = |name: &str, from, now| (0..200).filter(|_| passwords.try_one(name, from, now).is_ok()).count();
        assert_eq!(tries("wren", address(1), 1_000_000), 10);
        let wait = passwords.try_one("wren", address(1), 1_000_000).unwrap_err();
        assert_eq!(wait, Duration::from_secs(60));
        assert_eq!(tries("wren", address(2), 1_000_000), 10, "another address of hers");
        assert_eq!(tries("ines", address(1), 1_000_000), 10, "somebody else from there");
        assert_eq!(tries("wren", address(1), 1_060_000), 1, "a minute later");
        passwords.was_right("wren", address(1));
        assert_eq!(tries("wren", address(1), 1_060_000), 10);
        // From very many addresses, or for very many names.
        let spread: usize = (3..250).map(|last| tries("heron", address(last), 1_060_000)).sum();
        assert_eq!(spread, 50);
        let names: usize = (0..100).map(|number| tries(&format!("guess-{number}"), address(251), 1_060_000)).sum();
        assert_eq!(names, 50);
    }
}
