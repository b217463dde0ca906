//! Sealing secrets: XChaCha20-Poly1305 with a data key for each project and one for the server. Data keys are in the
//! records, wrapped with the master key, which is not: a copy of the records alone tells nothing, and another master key
//! means that a few keys are wrapped anew, and no value.
//!
//! A sealed value is the version of its form (1 byte), the number of its data key (4 bytes, big-endian), a nonce (24
//! bytes), and the ciphertext.

mod master;

use std::collections::BTreeMap;
use std::fmt;
use std::path::PathBuf;
use std::str::FromStr;
use std::sync::{Arc, PoisonError, RwLock, RwLockReadGuard};

use chacha20poly1305::aead::{Aead, KeyInit, Payload};
use chacha20poly1305::{XChaCha20Poly1305, XNonce};
use hmac::{Hmac, Mac};
use sha2::Sha256;

pub(crate) use master::{MasterKey, next_file};
pub use master::{MasterSource, NoMasterSource};

/// How long the nonce in front of every ciphertext is, in bytes.
const NONCE: usize = 24;
/// How long a key is, in bytes.
const KEY: usize = 32;
/// The version of the form of sealed values.
const VERSION: u8 = 1;

/// Whose a data key is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum KeyOwner {
    /// What is no project's: registries, environments, shared secrets.
    Server,
    /// A project, by its number in the records.
    Project(i64),
}

impl fmt::Display for KeyOwner {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Server => f.write_str("server"),
            Self::Project(id) => write!(f, "project {id}"),
        }
    }
}

/// A text that names no owner of a key.
#[derive(Debug, thiserror::Error)]
#[error("`{0}` owns no data key")]
pub(crate) struct NoOwner(String);

impl FromStr for KeyOwner {
    type Err = NoOwner;

    fn from_str(text: &str) -> Result<Self, NoOwner> {
        let number = || text.strip_prefix("project ")?.parse().ok().map(Self::Project);
        if text == "server" { Some(Self::Server) } else { number() }.ok_or_else(|| NoOwner(text.to_owned()))
    }
}

/// A data key as the records have it.
#[derive(Clone, Debug)]
pub(crate) struct WrappedKey {
    pub(crate) id: u32,
    pub(crate) owner: KeyOwner,
    pub(crate) wrapped: Vec<u8>,
    /// The id of the master key.
    pub(crate) wrapped_by: String,
}

/// A data key that was made and is not in the records yet.
pub(crate) struct NewKey {
    owner: KeyOwner,
    key: [u8; KEY],
}

impl NewKey {
    /// Seals a value with it; its number is that in the records.
    ///
    /// # Errors
    /// When the machine gives no random bytes.
    pub(crate) fn seal(&self, id: u32, place: &str, value: &[u8]) -> anyhow::Result<Vec<u8>> {
        Ok([&[VERSION][..], &id.to_be_bytes(), &encrypt(&self.key, place, value)?].concat())
    }
}

/// The value was sealed with a key that is lost, for another place, or is damaged.
#[derive(Debug, thiserror::Error)]
#[error("a secret cannot be opened: the key that it was sealed with is lost; set it again")]
pub(crate) struct Unopened;

/// The master key is another one than that which the data keys are wrapped with.
#[derive(Debug, thiserror::Error)]
#[error("the secrets are sealed under the master key {wanted}, and this one is {found}")]
pub(crate) struct OtherMaster {
    /// The id of the one that they are sealed under.
    pub(crate) wanted: String,
    /// The id of the one that was given.
    pub(crate) found: String,
}

/// Seals and opens.
#[derive(Clone)]
pub(crate) struct Seal {
    keys: Arc<RwLock<Keys>>,
    source: MasterSource,
    /// Held while a data key is made, or all are wrapped anew.
    turn: Arc<tokio::sync::Mutex<()>>,
}

struct Keys {
    master: MasterKey,
    data: BTreeMap<u32, (KeyOwner, [u8; KEY])>,
}

impl fmt::Debug for Seal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Seal(..)")
    }
}

fn encrypt(key: &[u8; KEY], place: &str, value: &[u8]) -> anyhow::Result<Vec<u8>> {
    let mut nonce = [0; NONCE];
    getrandom::fill(&mut nonce)?;
    let payload = Payload { msg: value, aad: place.as_bytes() };
    let sealed = XChaCha20Poly1305::new(key.into()).encrypt(&XNonce::from(nonce), payload);
    let sealed = sealed.map_err(|_| anyhow::anyhow!("the value is too long to seal"))?;
    Ok([&nonce[..], &sealed].concat())
}

fn decrypt(key: &[u8; KEY], place: &str, sealed: &[u8]) -> Result<Vec<u8>, Unopened> {
    let (nonce, sealed) = sealed.split_first_chunk::<NONCE>().ok_or(Unopened)?;
    let payload = Payload { msg: sealed, aad: place.as_bytes() };
    XChaCha20Poly1305::new(key.into()).decrypt(&XNonce::from(*nonce), payload).map_err(|_| Unopened)
}

/// The place that a data key is wrapped for: it is good for nobody else.
fn key_place(owner: KeyOwner) -> String {
    format!("data key of {owner}")
}

/// Opens a value as servers sealed it that had no data keys: with the master key itself.
pub(crate) fn unseal_of_before(master: &MasterKey, place: &str, sealed: &[u8]) -> Result<Vec<u8>, Unopened> {
    decrypt(master.bytes(), place, sealed)
}

/// Seals a value as they did.
#[cfg(test)]
pub(crate) fn seal_of_before(master: &MasterKey, place: &str, value: &[u8]) -> Vec<u8> {
    encrypt(master.bytes(), place, value).unwrap()
}

impl Seal {
    /// With a master key, and the data keys of the records.
    ///
    /// # Errors
    /// When the master key is another one than theirs.
    pub(crate) fn open(master: MasterKey, rows: &[WrappedKey]) -> Result<Self, OtherMaster> {
        let mut data = BTreeMap::new();
        for WrappedKey { id, owner, wrapped, wrapped_by } in rows {
            let key = decrypt(master.bytes(), &key_place(*owner), wrapped).ok();
            let key = key.and_then(|key| <[u8; KEY]>::try_from(key).ok());
            let other = || OtherMaster { wanted: wrapped_by.clone(), found: master.id() };
            data.insert(*id, (*owner, key.ok_or_else(other)?));
        }
        let source = MasterSource::File(PathBuf::new());
        Ok(Self { keys: Arc::new(RwLock::new(Keys { master, data })), source, turn: Arc::default() })
    }

    /// The same, with where the master key comes from.
    pub(crate) fn with_source(self, source: &MasterSource) -> Self {
        Self { source: source.clone(), ..self }
    }

    /// Where the master key comes from.
    pub(crate) fn source(&self) -> MasterSource {
        self.source.clone()
    }

    /// Waits for the turn of whoever makes a data key, or wraps all anew.
    pub(crate) async fn turn(&self) -> tokio::sync::OwnedMutexGuard<()> {
        Arc::clone(&self.turn).lock_owned().await
    }

    fn keys(&self) -> RwLockReadGuard<'_, Keys> {
        self.keys.read().unwrap_or_else(PoisonError::into_inner)
    }

    /// The id of the master key.
    pub(crate) fn master_id(&self) -> String {
        self.keys().master.id()
    }

    /// Whether somebody has a data key.
    pub(crate) fn has_key(&self, owner: KeyOwner) -> bool {
        self.keys().data.values().any(|(of, _)| *of == owner)
    }

    /// Makes a data key. It seals nothing before it is in the records, and learnt.
    ///
    /// # Errors
    /// When the machine gives no random bytes.
    pub(crate) fn new_key(&self, owner: KeyOwner) -> anyhow::Result<(NewKey, WrappedKey)> {
        let mut key = [0; KEY];
        getrandom::fill(&mut key)?;
        let master = &self.keys().master;
        let wrapped = encrypt(master.bytes(), &key_place(owner), &key)?;
        Ok((NewKey { owner, key }, WrappedKey { id: 0, owner, wrapped, wrapped_by: master.id() }))
    }

    /// A data key is in the records, under this number.
    pub(crate) fn learn(&self, id: u32, new: NewKey) {
        let mut keys = self.keys.write().unwrap_or_else(PoisonError::into_inner);
        keys.data.insert(id, (new.owner, new.key));
    }

    /// The data keys of a project that is removed are gone.
    pub(crate) fn forget(&self, owner: KeyOwner) {
        self.keys.write().unwrap_or_else(PoisonError::into_inner).data.retain(|_, (of, _)| *of != owner);
    }

    /// Seals a value with its owner's newest data key, for one place, so that it opens nowhere else.
    ///
    /// # Errors
    /// When the owner has no data key, or the machine gives no random bytes.
    pub(crate) fn seal(&self, owner: KeyOwner, place: &str, value: &[u8]) -> anyhow::Result<Vec<u8>> {
        let keys = self.keys();
        let newest = keys.data.iter().rev().find(|(_, (of, _))| *of == owner);
        let (id, (_, key)) = newest.ok_or_else(|| anyhow::anyhow!("there is no data key of {owner}"))?;
        Ok([&[VERSION][..], &id.to_be_bytes(), &encrypt(key, place, value)?].concat())
    }

    /// Opens a value.
    pub(crate) fn unseal(&self, place: &str, sealed: &[u8]) -> Result<Vec<u8>, Unopened> {
        let (version, rest) = sealed.split_first().ok_or(Unopened)?;
        let (id, rest) = rest.split_first_chunk().filter(|_| *version == VERSION).ok_or(Unopened)?;
        let keys = self.keys();
        let (_, key) = keys.data.get(&u32::from_be_bytes(*id)).ok_or(Unopened)?;
        decrypt(key, place, rest)
    }

    /// Opens a value that is a text.
    pub(crate) fn unseal_text(&self, place: &str, sealed: &[u8]) -> Result<String, Unopened> {
        String::from_utf8(self.unseal(place, sealed)?).map_err(|_| Unopened)
    }

    /// A key for another purpose (HMAC-SHA256, RFC 2104), which tells nothing of those that seal.
    pub(crate) fn derived(&self, purpose: &str) -> [u8; 32] {
        let keys = self.keys();
        let server = keys.data.values().find(|(of, _)| *of == KeyOwner::Server);
        let key = server.map_or(keys.master.bytes(), |(_, key)| key);
        let mac = <Hmac<Sha256> as hmac::KeyInit>::new_from_slice(key).expect("HMAC takes keys of any length");
        mac.chain_update(purpose).finalize().into_bytes().into()
    }

    /// All data keys, wrapped with another master key.
    ///
    /// # Errors
    /// When the machine gives no random bytes.
    pub(crate) fn rewrapped(&self, master: &MasterKey) -> anyhow::Result<Vec<WrappedKey>> {
        let wrap = |(id, (owner, key)): (&u32, &(KeyOwner, [u8; KEY]))| {
            let wrapped = encrypt(master.bytes(), &key_place(*owner), key)?;
            Ok(WrappedKey { id: *id, owner: *owner, wrapped, wrapped_by: master.id() })
        };
        self.keys().data.iter().map(wrap).collect()
    }

    /// The data keys of the records are wrapped with this master key from now on.
    pub(crate) fn take_master(&self, master: MasterKey) {
        self.keys.write().unwrap_or_else(PoisonError::into_inner).master = master;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sealing(owners: &[KeyOwner]) -> (Seal, Vec<WrappedKey>) {
        let seal = Seal::open(MasterKey::random().unwrap(), &[]).unwrap();
        let mut rows = Vec::new();
        for (id, owner) in (1..).zip(owners) {
            let (new, row) = seal.new_key(*owner).unwrap();
            seal.learn(id, new);
            rows.push(WrappedKey { id, ..row });
        }
        (seal, rows)
    }

    #[test]
    fn a_sealed_value_opens_with_its_own_key_in_its_own_place_only() {
        let owners = [KeyOwner::Server, KeyOwner::Project(7)];
        let (seal, _) = sealing(&owners);
        let sealed = seal.seal(owners[1], "desk/KEY", b"s3cret").unwrap();
        assert!(!sealed.windows(6).any(|window| window == b"s3cret"));
        assert_eq!(sealed[..5], [1, 0, 0, 0, 2], "the form, and the key");
        assert_ne!(
            sealed,
            seal.seal(owners[1], "desk/KEY", b"s3cret").unwrap(),
            "twice the same would tell that it is"
        );
        assert_eq!(seal.unseal_text("desk/KEY", &sealed).unwrap(), "s3cret");
        assert!(seal.unseal("labels/KEY", &sealed).is_err());
        let mut of_another = sealed.clone();
        of_another[4] = 1;
        assert!(seal.unseal("desk/KEY", &of_another).is_err(), "another data key");
        assert!(sealing(&owners).0.unseal("desk/KEY", &sealed).is_err(), "another server");
        assert!((0..sealed.len()).all(|length| seal.unseal("desk/KEY", &sealed[..length]).is_err()));
        assert!(seal.seal(KeyOwner::Project(8), "x/KEY", b"s3cret").is_err(), "who has no key seals nothing");
        assert!(seal.derived("steps") == seal.derived("steps") && seal.derived("steps") != seal.derived("other"));
    }

    #[test]
    fn another_master_key_opens_what_was_sealed_once_the_data_keys_are_wrapped_with_it() {
        let (seal, rows) = sealing(&[KeyOwner::Server]);
        let sealed = seal.seal(KeyOwner::Server, "registry pond", b"s3cret").unwrap();
        let (before, next) = (seal.master_id(), MasterKey::random().unwrap());
        let refused = Seal::open(next.clone(), &rows).unwrap_err();
        assert_eq!((refused.wanted, refused.found), (before, next.id()));
        let rewrapped = seal.rewrapped(&next).unwrap();
        assert_eq!(rewrapped[0].wrapped_by, next.id());
        let derived = seal.derived("steps");
        let seal = Seal::open(next, &rewrapped).unwrap();
        assert_eq!(seal.unseal_text("registry pond", &sealed).unwrap(), "s3cret");
        assert_eq!(seal.derived("steps"), derived, "what depends on it stays what it is");
    }

    #[test]
    fn owners_of_keys_are_read_as_they_are_written() {
        for owner in [KeyOwner::Server, KeyOwner::Project(4711)] {
            assert_eq!(owner.to_string().parse::<KeyOwner>().unwrap(), owner);
        }
        assert!("project".parse::<KeyOwner>().is_err() && "project x".parse::<KeyOwner>().is_err());
    }
}
