//! Sealing secrets: XChaCha20-Poly1305 with a key that is not in the records, so that a copy of them
//! alone tells nothing.

use std::path::Path;

use anyhow::Context;
use chacha20poly1305::aead::{Aead, KeyInit, Payload};
use chacha20poly1305::{XChaCha20Poly1305, XNonce};
use hmac::{Hmac, Mac};
use sha2::Sha256;

/// How long the nonce in front of every sealed value is, in bytes.
const NONCE: usize = 24;

/// Seals and opens.
#[derive(Clone)]
pub(crate) struct Seal {
    cipher: XChaCha20Poly1305,
    /// What keys for other purposes are derived from.
    derive: Hmac<Sha256>,
}

impl std::fmt::Debug for Seal {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Seal(..)")
    }
}

/// The value was sealed with another key, for another place, or is damaged.
#[derive(Debug, thiserror::Error)]
#[error("a secret cannot be opened: `secrets.key` is another one than when it was set; set it again")]
pub(crate) struct Unopened;

impl Seal {
    /// The key of a server's folder, made when there is none.
    ///
    /// # Errors
    /// When it can be neither read nor made.
    pub(crate) fn open(file: &Path) -> anyhow::Result<Self> {
        let told = || format!("the key for secrets, {}", file.display());
        if !file.exists() {
            let mut key = [0; 32];
            getrandom::fill(&mut key).with_context(told)?;
            crate::private::write_private(file, &key).with_context(told)?;
        }
        let key = std::fs::read(file).with_context(told)?;
        let cipher = XChaCha20Poly1305::new_from_slice(&key);
        let cipher = cipher.map_err(|_| anyhow::anyhow!("it is not 32 bytes long")).with_context(told)?;
        Ok(Self { cipher, derive: <Hmac<Sha256> as hmac::KeyInit>::new_from_slice(&key)? })
    }

    /// Seals a value for one place, so that it opens nowhere else.
    ///
    /// # Errors
    /// When the machine gives no random bytes.
    pub(crate) fn seal(&self, place: &str, value: &str) -> anyhow::Result<Vec<u8>> {
        let mut nonce = [0; NONCE];
        getrandom::fill(&mut nonce)?;
        let payload = Payload { msg: value.as_bytes(), aad: place.as_bytes() };
        let sealed = self.cipher.encrypt(&XNonce::from(nonce), payload);
        let sealed = sealed.map_err(|_| anyhow::anyhow!("the value is too long to seal"))?;
        Ok([&nonce[..], &sealed].concat())
    }

    /// A key for another purpose (HMAC-SHA256, RFC 2104), which tells nothing of the one that seals.
    pub(crate) fn derived(&self, purpose: &str) -> [u8; 32] {
        self.derive.clone().chain_update(purpose).finalize().into_bytes().into()
    }

    /// Opens a value.
    pub(crate) fn unseal(&self, place: &str, sealed: &[u8]) -> Result<String, Unopened> {
        let (nonce, sealed) = sealed.split_first_chunk::<NONCE>().ok_or(Unopened)?;
        let payload = Payload { msg: sealed, aad: place.as_bytes() };
        let value = self.cipher.decrypt(&XNonce::from(*nonce), payload).map_err(|_| Unopened)?;
        String::from_utf8(value).map_err(|_| Unopened)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_sealed_value_opens_with_its_own_key_in_its_own_place_only() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("secrets.key");
        let seal = Seal::open(&file).unwrap();
        let sealed = seal.seal("desk/KEY", "s3cret").unwrap();
        assert!(!sealed.windows(6).any(|window| window == b"s3cret"));
        assert_ne!(sealed, seal.seal("desk/KEY", "s3cret").unwrap(), "twice the same would tell that it is");
        assert_eq!(Seal::open(&file).unwrap().unseal("desk/KEY", &sealed).unwrap(), "s3cret");
        assert!(seal.unseal("labels/KEY", &sealed).is_err());
        let other = Seal::open(&folder.path().join("other.key")).unwrap();
        assert!(other.unseal("desk/KEY", &sealed).is_err());
        assert!(seal.unseal("desk/KEY", &sealed[..30]).is_err());
        assert_eq!(seal.derived("steps"), Seal::open(&file).unwrap().derived("steps"));
        assert!(seal.derived("steps") != seal.derived("other") && seal.derived("steps") != other.derived("steps"));
        let mode = std::os::unix::fs::PermissionsExt::mode(&std::fs::metadata(&file).unwrap().permissions());
        assert_eq!(mode & 0o777, 0o600);
    }
}
