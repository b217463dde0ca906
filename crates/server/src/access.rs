//! Tokens: random, long, and stored as hashes only.

use base64::Engine as _;
use base64::engine::general_purpose::{STANDARD, URL_SAFE_NO_PAD};
use hmac::{Hmac, KeyInit, Mac};
use sha2::{Digest, Sha256};

/// A new secret of 32 random bytes, as text that fits into addresses.
pub(crate) fn new_secret() -> anyhow::Result<String> {
    let mut bytes = [0; 32];
    getrandom::fill(&mut bytes)?;
    Ok(URL_SAFE_NO_PAD.encode(bytes))
}

/// What is stored of a secret that only has to be recognised.
pub(crate) fn hash(secret: &str) -> [u8; 32] {
    Sha256::digest(secret.as_bytes()).into()
}

/// How old or how new a signed hook may be, in seconds.
const SIGNATURE_WINDOW: i64 = 300;

/// Whether a hook is signed with this secret (Standard Webhooks 1.0, "Signature scheme": `v1,` and the
/// base64 of HMAC-SHA256 over `ID.TIMESTAMP.BODY`; several signatures are parted by spaces).
pub(crate) fn hook_is_signed(secret: &str, id: &str, timestamp: &str, signatures: &str, body: &[u8], now: i64) -> bool {
    let fresh = timestamp.parse::<i64>().is_ok_and(|at| (now - at).abs() <= SIGNATURE_WINDOW);
    let Ok(mut mac) = Hmac::<Sha256>::new_from_slice(secret.as_bytes()) else { return false };
    mac.update(format!("{id}.{timestamp}.").as_bytes());
    mac.update(body);
    let given =
        signatures.split(' ').filter_map(|one| one.strip_prefix("v1,")).filter_map(|one| STANDARD.decode(one).ok());
    fresh && given.into_iter().any(|given| mac.clone().verify_slice(&given).is_ok())
}

/// Whether two secrets are the same, in a time that does not tell how much of them is.
pub(crate) fn same(one: &str, other: &str) -> bool {
    hash(one) == hash(other)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_hook_is_believed_only_with_a_fresh_signature_over_its_own_body() {
        let mut mac = Hmac::<Sha256>::new_from_slice(b"s3cret").unwrap();
        mac.update(b"id1.1000.{}");
        let signature = format!("v1,AAAA v1,{}", STANDARD.encode(mac.finalize().into_bytes()));
        let signed = |secret, body: &[u8], now| hook_is_signed(secret, "id1", "1000", &signature, body, now);
        assert!(signed("s3cret", b"{}", 1100));
        assert!(!signed("s3cret", b"{}", 1301), "too old");
        assert!(!signed("s3cret", b"{ }", 1100), "another body");
        assert!(!signed("other", b"{}", 1100), "another secret");
    }
}
