//! The keys that sign, and what is listed of them.

use std::fmt;

use ring::rand::SystemRandom;
use ring::signature::{
    ECDSA_P256_SHA256_FIXED, ECDSA_P256_SHA256_FIXED_SIGNING, EcdsaKeyPair, KeyPair, RSA_PKCS1_2048_8192_SHA256,
    RsaPublicKeyComponents, UnparsedPublicKey,
};
use serde::{Deserialize, Serialize};
use serde_json::json;
use sha2::{Digest, Sha256};

use super::{read, written};

/// How long a coordinate of a point of P-256 is, in bytes.
const COORDINATE: usize = 32;

/// What signs: a key of P-256, for ES256.
pub struct SigningKey {
    pair: EcdsaKeyPair,
    public: PublicKey,
}

/// A key could not be made, used or read.
#[derive(Debug, thiserror::Error)]
#[error("{0}")]
pub struct NoKey(&'static str);

impl fmt::Debug for SigningKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("SigningKey").field("id", &self.id()).finish_non_exhaustive()
    }
}

impl SigningKey {
    /// A new key, as PKCS #8 (RFC 5958): whoever has it signs.
    ///
    /// # Errors
    /// When the machine gives no random bytes.
    pub fn generate() -> Result<Vec<u8>, NoKey> {
        let made = EcdsaKeyPair::generate_pkcs8(&ECDSA_P256_SHA256_FIXED_SIGNING, &SystemRandom::new());
        Ok(made.map_err(|_| NoKey("the machine gives no random bytes for a key"))?.as_ref().to_vec())
    }

    /// A key that was made before.
    ///
    /// # Errors
    /// When it is none.
    pub fn open(pkcs8: &[u8]) -> Result<Self, NoKey> {
        let pair = EcdsaKeyPair::from_pkcs8(&ECDSA_P256_SHA256_FIXED_SIGNING, pkcs8, &SystemRandom::new());
        let pair = pair.map_err(|_| NoKey("this is no key that signs with ES256"))?;
        // A point, uncompressed (SEC 1, section 2.3.3): 4, and both coordinates.
        let (x, y) = pair.public_key().as_ref()[1..].split_at(COORDINATE);
        let mut public = PublicKey {
            kty: "EC".to_owned(),
            kid: None,
            alg: Some("ES256".to_owned()),
            usage: Some("sig".to_owned()),
            crv: Some("P-256".to_owned()),
            x: Some(written(x)),
            y: Some(written(y)),
            n: None,
            e: None,
        };
        // RFC 7638, section 3: its required members, in the order of their names.
        let members = json!({ "crv": public.crv, "kty": public.kty, "x": public.x, "y": public.y }).to_string();
        public.kid = Some(written(Sha256::digest(members)));
        Ok(Self { pair, public })
    }

    /// The key's id: its thumbprint (RFC 7638).
    #[must_use]
    pub fn id(&self) -> &str {
        self.public.kid.as_deref().unwrap_or_default()
    }

    /// What others check its signatures with.
    #[must_use]
    pub const fn public(&self) -> &PublicKey {
        &self.public
    }

    /// A token that says this.
    ///
    /// # Errors
    /// When it cannot be written, or the machine gives no random bytes.
    pub fn sign(&self, claims: &impl Serialize) -> Result<String, NoKey> {
        let header = json!({ "alg": "ES256", "typ": "JWT", "kid": self.id() }).to_string();
        let claims = serde_json::to_vec(claims).map_err(|_| NoKey("what is to be signed cannot be written"))?;
        let text = format!("{}.{}", written(header), written(claims));
        let signature = self.pair.sign(&SystemRandom::new(), text.as_bytes());
        let signature = signature.map_err(|_| NoKey("the machine gives no random bytes for a signature"))?;
        Ok(format!("{text}.{}", written(signature)))
    }
}

/// What signatures are checked with, as it is listed (RFC 7517, section 4; RFC 7518, section 6).
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct PublicKey {
    /// `EC` or `RSA`; others are of no use here.
    pub kty: String,
    /// Its id.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub kid: Option<String>,
    /// The only algorithm that it is for, where that is said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub alg: Option<String>,
    /// What it is for: `sig`, where that is said.
    #[serde(rename = "use", default, skip_serializing_if = "Option::is_none")]
    pub usage: Option<String>,
    /// The curve.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub crv: Option<String>,
    /// A point's first coordinate.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub x: Option<String>,
    /// A point's second coordinate.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub y: Option<String>,
    /// The modulus.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub n: Option<String>,
    /// The exponent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub e: Option<String>,
}

/// Keys, as they are listed (RFC 7517, section 5).
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct PublicKeys {
    /// The keys. Which of them a token names, its header says.
    pub keys: Vec<PublicKey>,
}

impl PublicKey {
    /// Whether it is for checking signatures by this algorithm.
    pub(crate) fn is_for(&self, algorithm: &str) -> bool {
        let fits = match algorithm {
            "ES256" => self.kty == "EC" && self.crv.as_deref() == Some("P-256"),
            "RS256" => self.kty == "RSA",
            _ => false,
        };
        fits && self.alg.as_deref().is_none_or(|own| own == algorithm)
            && self.usage.as_deref().is_none_or(|usage| usage == "sig")
    }

    /// Whether this signature is its own, by the only algorithm that its kind is for here.
    pub(crate) fn signed(&self, text: &[u8], signature: &[u8]) -> bool {
        let part = |text: &Option<String>| text.as_deref().and_then(read);
        if self.kty == "EC" {
            let (Some(x), Some(y)) = (part(&self.x), part(&self.y)) else { return false };
            let point = [&[4][..], &x, &y].concat();
            return UnparsedPublicKey::new(&ECDSA_P256_SHA256_FIXED, point).verify(text, signature).is_ok();
        }
        let (Some(n), Some(e)) = (part(&self.n), part(&self.e)) else { return false };
        RsaPublicKeyComponents { n, e }.verify(&RSA_PKCS1_2048_8192_SHA256, text, signature).is_ok()
    }
}
