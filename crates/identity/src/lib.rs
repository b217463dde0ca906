//! Signed tokens that say who somebody is (JSON Web Tokens, RFC 7519): making them, and checking those of others.
//!
//! They are made with ES256 and taken with ES256 or RS256 (RFC 7518, section 3.1), whose keys are listed as RFC 7517
//! says. What a token itself says of its algorithm or key decides nothing: the key that is listed does.

mod check;
mod keys;

use base64::Engine;
use base64::prelude::BASE64_URL_SAFE_NO_PAD;

pub use check::{Expected, TokenError, check};
pub use keys::{NoKey, PublicKey, PublicKeys, SigningKey};

/// How bytes are written in tokens and keys (RFC 7515, section 2).
fn written(bytes: impl AsRef<[u8]>) -> String {
    BASE64_URL_SAFE_NO_PAD.encode(bytes)
}

fn read(text: &str) -> Option<Vec<u8>> {
    BASE64_URL_SAFE_NO_PAD.decode(text).ok()
}
