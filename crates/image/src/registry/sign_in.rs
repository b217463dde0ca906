//! Signing in: the challenges of RFC 9110, section 11.6.1, with a name and password (RFC 7617), or with a token
//! (RFC 6750) that another address gives for the rights that are asked for.

use std::collections::BTreeMap;
use std::time::{Duration, Instant};

use pondrix_core::image::Account;
use serde::Deserialize;

/// How long a token is good for where its giver does not say.
const DEFAULT_LIFE: Duration = Duration::from_secs(60);
/// How long a token is good for at least and at most, whatever its giver says: it is used at once.
const SHORTEST_LIFE: Duration = Duration::from_secs(2);
const LONGEST_LIFE: Duration = Duration::from_hours(24);
/// How long before its end a token is not used any more.
const MARGIN: Duration = Duration::from_secs(10);

/// What a registry asks for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Challenge {
    /// A name and a password.
    Basic,
    /// A token.
    Bearer {
        /// Where it is given.
        realm: String,
        /// What for.
        service: Option<String>,
        /// The rights that this request needs, in the registry's words.
        scope: Option<String>,
    },
}

/// The first challenge of a header that is understood.
pub(super) fn challenge(header: &str) -> Option<Challenge> {
    let (scheme, rest) = header.trim().split_once(char::is_whitespace).unwrap_or((header.trim(), ""));
    if scheme.eq_ignore_ascii_case("basic") {
        return Some(Challenge::Basic);
    }
    if !scheme.eq_ignore_ascii_case("bearer") {
        return None;
    }
    let mut parameters = parameters(rest);
    let realm = parameters.remove("realm")?;
    Some(Challenge::Bearer { realm, service: parameters.remove("service"), scope: parameters.remove("scope") })
}

/// `name="value", name=value`; a value between quotes may have commas in it.
fn parameters(mut rest: &str) -> BTreeMap<String, String> {
    let mut all = BTreeMap::new();
    while let Some((name, behind)) = rest.split_once('=') {
        let name = name.trim_matches([' ', '\t', ',']).to_ascii_lowercase();
        let behind = behind.trim_start();
        let mut value = String::new();
        let taken = if let Some(quoted) = behind.strip_prefix('"') {
            let mut end = quoted.len();
            let mut letters = quoted.char_indices();
            while let Some((at, letter)) = letters.next() {
                match letter {
                    '\\' => value.extend(letters.next().map(|(_, letter)| letter)),
                    '"' => {
                        end = at + 1;
                        break;
                    }
                    _ => value.push(letter),
                }
            }
            1 + end
        } else {
            let end = behind.find(',').unwrap_or(behind.len());
            value.push_str(behind[..end].trim());
            end
        };
        all.insert(name, value);
        rest = &behind[taken..];
    }
    all
}

/// What a giver of tokens answers.
#[derive(Deserialize)]
struct Given {
    token: Option<String>,
    access_token: Option<String>,
    expires_in: Option<u64>,
}

/// What is shown to a registry, for some rights.
#[derive(Clone, Debug)]
pub(super) enum Pass {
    Basic(Account),
    Token(String, Instant),
}

impl Pass {
    /// A token, from the answer of who gives them.
    pub(super) fn token(answer: &[u8]) -> Option<Self> {
        let given: Given = serde_json::from_slice(answer).ok()?;
        let token = given.token.or(given.access_token).filter(|token| !token.is_empty())?;
        let life = given.expires_in.map_or(DEFAULT_LIFE, Duration::from_secs).clamp(SHORTEST_LIFE, LONGEST_LIFE);
        Some(Self::Token(token, Instant::now() + life.saturating_sub(MARGIN.min(life / 2))))
    }

    /// Whether it can still be shown.
    pub(super) fn is_good(&self) -> bool {
        match self {
            Self::Basic(_) => true,
            Self::Token(_, until) => Instant::now() < *until,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn challenges_are_read_as_they_are_written() {
        let text = r#"Bearer realm="https://sign.test/token",service="registry.test",scope="repository:a/b:pull,push""#;
        let expected = Challenge::Bearer {
            realm: "https://sign.test/token".to_owned(),
            service: Some("registry.test".to_owned()),
            scope: Some("repository:a/b:pull,push".to_owned()),
        };
        assert_eq!(challenge(text), Some(expected));
        assert_eq!(challenge("Basic realm=\"x\""), Some(Challenge::Basic));
        assert_eq!(challenge("Digest realm=\"x\""), None);
        assert_eq!(challenge("Bearer service=x"), None);
        let odd = parameters(r#"a = "x\"y" , b=z"#);
        assert_eq!(odd, BTreeMap::from([("a".to_owned(), "x\"y".to_owned()), ("b".to_owned(), "z".to_owned())]));
    }

    #[test]
    fn a_token_is_good_until_shortly_before_its_end() {
        let life = |said: &str| {
            let begun = Instant::now();
            let pass = Pass::token(format!("{{\"access_token\":\"t\"{said}}}").as_bytes()).unwrap();
            assert!(pass.is_good(), "it is used at once");
            let Pass::Token(_, end) = pass else { panic!("{pass:?}") };
            end.duration_since(begun).as_secs()
        };
        assert!((290..320).contains(&life(",\"expires_in\":300")));
        assert!((50..80).contains(&life("")));
        assert!((1..30).contains(&life(",\"expires_in\":0")));
        assert!((86_390..86_420).contains(&life(&format!(",\"expires_in\":{}", u64::MAX))), "and none for ever");
        assert!(Pass::token(br#"{"token":""}"#).is_none() && Pass::token(b"{}").is_none());
    }

    proptest::proptest! {
        #[test]
        fn any_header_is_read_or_not_understood(text in "(Bearer|Basic|[a-z=\", \\\\])*") {
            let _ = challenge(&text);
        }
    }
}
