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

/// What tokens begin with, so that whoever finds one in a file or a log knows what it is.
const TOKEN_HEAD: &str = "pdx_";
/// How many letters of a token are random: 62 to the power of 43 is more than 2 to the power of 256.
const TOKEN_RANDOM: usize = 43;
const LETTERS: &[u8; 62] = b"0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz";

/// A new token: `pdx_`, 43 random letters and digits, and six that check them (their CRC-32 in base 62), so that one that
/// leaked is found without asking the server, and one that was cut when it was copied is told from one that is not known.
pub(crate) fn new_token() -> anyhow::Result<String> {
    let mut random = String::with_capacity(TOKEN_RANDOM);
    let mut bytes = [0; 64];
    while random.len() < TOKEN_RANDOM {
        getrandom::fill(&mut bytes)?;
        // What is left out would make the first letters likelier than the others.
        let fair = bytes.iter().filter(|byte| usize::from(**byte) < 4 * LETTERS.len());
        let wanted = TOKEN_RANDOM - random.len();
        random.extend(fair.map(|byte| char::from(LETTERS[usize::from(*byte) % LETTERS.len()])).take(wanted));
    }
    Ok(format!("{TOKEN_HEAD}{random}{}", check_digits(&random)))
}

fn check_digits(random: &str) -> String {
    let mut crc = flate2::Crc::new();
    crc.update(random.as_bytes());
    let mut rest = crc.sum() as usize;
    let mut digits = [b'0'; 6];
    for digit in digits.iter_mut().rev() {
        *digit = LETTERS[rest % LETTERS.len()];
        rest /= LETTERS.len();
    }
    String::from_utf8_lossy(&digits).into_owned()
}

/// Whether a text looks like a token and cannot be one: a part of it is missing or mistyped.
pub(crate) fn is_torn(token: &str) -> bool {
    let Some(body) = token.strip_prefix(TOKEN_HEAD) else { return false };
    let split = body.is_ascii().then(|| body.split_at_checked(TOKEN_RANDOM)).flatten();
    split.is_none_or(|(random, digits)| check_digits(random) != digits)
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
    fn a_token_is_found_by_its_form_and_one_that_is_torn_or_mistyped_is_told() {
        let token = new_token().unwrap();
        assert!(token.starts_with("pdx_") && token.len() == 53 && !is_torn(&token), "{token}");
        assert_ne!(token, new_token().unwrap());
        for place in 4..token.len() {
            let mut other = token.clone().into_bytes();
            other[place] = if other[place] == b'x' { b'y' } else { b'x' };
            assert!(is_torn(std::str::from_utf8(&other).unwrap()), "letter {place}");
            assert!(is_torn(&token[..place]), "cut at {place}");
        }
        assert!(!is_torn("a token of before") && is_torn("pdx_ä"));
        // CRC-32 as RFC 1952, section 8, has it.
        assert_eq!(check_digits("123456789"), "3jZRME");
    }

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
