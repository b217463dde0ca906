//! Names of objects in a cluster, by the rules of Kubernetes ("Object Names and IDs"): an object's address in the API is made
//! of them, and none may lead to another object.

use serde_json::Value;

/// What an object says of where it is in a cluster's API, with every part of it verified.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct ObjectName<'a> {
    /// The group of its kind; empty for the first kinds that there were.
    pub group: &'a str,
    /// The version of the group.
    pub version: &'a str,
    /// Its kind.
    pub kind: &'a str,
    /// Its own name.
    pub name: &'a str,
    /// The namespace that it asks for.
    pub namespace: Option<&'a str>,
}

/// Why an object has no address.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum ObjectNameError {
    /// A part is missing, or is no text.
    #[error("an object has no {0}")]
    Missing(&'static str),
    /// A part is not what such a part is.
    #[error("{field} `{value}` cannot be: it is {rule}")]
    Invalid {
        /// The part of the object.
        field: &'static str,
        /// The value found.
        value: String,
        /// The values allowed.
        rule: &'static str,
    },
}

const LABEL: &str = "1 to 63 of a-z, 0-9 and `-`, with a letter or digit at both ends (RFC 1123)";
const SUBDOMAIN: &str =
    "up to 253 of a-z, 0-9, `-` and `.`, with a letter or digit at both ends of each part (RFC 1123)";
const VERSION: &str = "VERSION or GROUP/VERSION, as in `v1` and `apps/v1`";
const KIND: &str = "letters and digits, as in `ConfigMap`";
const SEGMENT: &str = "up to 253 characters: letters, digits and `-._:@+~`, and not `.` or `..`";

/// The group whose objects may be named by any segment of a path: roles of a cluster itself are called `system:node`.
const RIGHTS: &str = "rbac.authorization.k8s.io";

/// Letters, digits and `-`, with a letter or digit at both ends.
fn is_part(text: &str) -> bool {
    let is_inner = |byte: u8| byte.is_ascii_lowercase() || byte.is_ascii_digit() || byte == b'-';
    !text.is_empty() && text.bytes().all(is_inner) && !text.starts_with('-') && !text.ends_with('-')
}

/// A label of a name in the DNS (RFC 1123, section 2.1).
fn is_label(text: &str) -> bool {
    text.len() <= 63 && is_part(text)
}

/// Parts like labels, which may be longer than one ("DNS Subdomain Names").
fn is_subdomain(text: &str) -> bool {
    text.len() <= 253 && text.split('.').all(is_part)
}

fn is_kind(text: &str) -> bool {
    text.len() <= 63
        && text.starts_with(|first: char| first.is_ascii_alphabetic())
        && text.bytes().all(|byte| byte.is_ascii_alphanumeric())
}

/// A segment of a path that needs no escape in an address (RFC 3986, section 3.3).
fn is_segment(text: &str) -> bool {
    let is_plain = |byte: u8| byte.is_ascii_alphanumeric() || b"-._:@+~".contains(&byte);
    (1..=253).contains(&text.len()) && !matches!(text, "." | "..") && text.bytes().all(is_plain)
}

/// What a cluster calls a kind in addresses: `deployments`.
///
/// # Errors
/// When it is no label.
pub fn verify_plural(plural: &str) -> Result<(), ObjectNameError> {
    fits("the name of a kind", plural, LABEL, is_label)
}

fn fits(
    field: &'static str,
    value: &str,
    rule: &'static str,
    is_fit: impl Fn(&str) -> bool,
) -> Result<(), ObjectNameError> {
    if is_fit(value) { Ok(()) } else { Err(ObjectNameError::Invalid { field, value: value.to_owned(), rule }) }
}

impl<'a> ObjectName<'a> {
    /// Reads and verifies it.
    ///
    /// # Errors
    /// The first part that is missing or invalid.
    pub fn of(object: &'a Value) -> Result<Self, ObjectNameError> {
        let part = |pointer: &str, field: &'static str| {
            object.pointer(pointer).and_then(Value::as_str).ok_or(ObjectNameError::Missing(field))
        };
        let api_version = part("/apiVersion", "apiVersion")?;
        let (group, version) = api_version.split_once('/').unwrap_or(("", api_version));
        let is_version = |_: &str| is_label(version) && (!api_version.contains('/') || is_subdomain(group));
        fits("apiVersion", api_version, VERSION, is_version)?;
        let kind = part("/kind", "kind")?;
        fits("kind", kind, KIND, is_kind)?;
        let name = part("/metadata/name", "metadata.name")?;
        match group {
            RIGHTS => fits("metadata.name", name, SEGMENT, is_segment)?,
            _ => fits("metadata.name", name, SUBDOMAIN, is_subdomain)?,
        }
        let namespace = match object.pointer("/metadata/namespace") {
            None | Some(Value::Null) => None,
            Some(_) => Some(part("/metadata/namespace", "metadata.namespace that is a text")?),
        };
        if let Some(namespace) = namespace {
            fits("metadata.namespace", namespace, LABEL, is_label)?;
        }
        Ok(Self { group, version, kind, name, namespace })
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use serde_json::json;

    use super::*;

    fn object(api_version: &str, kind: &str, name: &str) -> Value {
        json!({ "apiVersion": api_version, "kind": kind, "metadata": { "name": name } })
    }

    #[test]
    fn names_that_clusters_have_are_taken() {
        let long = "a".repeat(253);
        for (api_version, kind, name) in [
            ("v1", "ConfigMap", "visitor-desk"),
            ("apps/v1", "Deployment", "visitor-desk.v2"),
            ("networking.k8s.io/v1beta1", "Ingress", "0"),
            ("rbac.authorization.k8s.io/v1", "ClusterRole", "system:controller:token-cleaner"),
            ("rbac.authorization.k8s.io/v1", "Role", "Read.Only"),
            ("v1", "Service", long.as_str()),
        ] {
            let object = object(api_version, kind, name);
            let found = ObjectName::of(&object).unwrap();
            assert_eq!((found.kind, found.name, found.namespace), (kind, name, None));
        }
        let mut named = object("v1", "Service", "desk");
        named["metadata"]["namespace"] = json!("staging");
        assert_eq!(ObjectName::of(&named).unwrap().namespace, Some("staging"));
        verify_plural("networkpolicies").unwrap();
    }

    #[test]
    fn what_would_be_another_address_is_refused_with_the_rule() {
        let refused = |object: &Value| ObjectName::of(object).unwrap_err().to_string();
        for name in [
            "desk/../../../elsewhere?x=y",
            "..",
            ".",
            "",
            "desk?x",
            "desk#x",
            "desk%2e",
            "a/b",
            "Desk",
            "-a",
            "a.-b",
            "a..b",
            "ü",
        ] {
            let said = refused(&object("v1", "ConfigMap", name));
            assert!(said.starts_with(&format!("metadata.name `{name}` cannot be: it is up to 253")), "{said}");
        }
        for name in ["..", "a/b", "a?b", "a#b", "a%b", "a b", "a\nb", ""] {
            assert!(refused(&object("rbac.authorization.k8s.io/v1", "Role", name)).contains("metadata.name"), "{name}");
        }
        for version in ["", "/v1", "apps/", "apps/v1/x", "../v1", "apps/../v1", "a?b/v1", "apps/v1?x"] {
            let said = refused(&object(version, "ConfigMap", "desk"));
            assert!(said.contains("VERSION or GROUP/VERSION"), "{version}: {said}");
        }
        for kind in ["", "Config Map", "../pods", "Pods/x", "1Pod", "Pod?"] {
            assert!(refused(&object("v1", kind, "desk")).contains("letters and digits"), "{kind}");
        }
        for namespace in [json!("a/b"), json!(".."), json!("a.b"), json!(7)] {
            let mut named = object("v1", "Service", "desk");
            named["metadata"]["namespace"] = namespace.clone();
            assert!(refused(&named).contains("metadata.namespace"), "{namespace}");
        }
        for plural in ["", "a/b", "..", "pods?x"] {
            assert!(verify_plural(plural).is_err(), "{plural}");
        }
        assert_eq!(refused(&json!({ "kind": "Pod" })), "an object has no apiVersion");
    }

    proptest! {
        #[test]
        fn what_is_taken_is_its_own_segment_of_an_address(name in "[a-zA-Z0-9./%?#:@~+ -]{1,12}", rights in any::<bool>()) {
            let group = if rights { "rbac.authorization.k8s.io/v1" } else { "v1" };
            let object = object(group, "Role", &name);
            if ObjectName::of(&object).is_ok() {
                let address = format!("/api/v1/namespaces/staging/roles/{name}");
                let whole = url_of(&address);
                prop_assert_eq!(whole, address);
            }
        }
    }

    /// The path that an address means when dots are taken out of it and what is no path is cut off (RFC 3986, section 5.2.4).
    fn url_of(address: &str) -> String {
        let path = address.split(['?', '#']).next().unwrap_or_default();
        let mut kept: Vec<&str> = Vec::new();
        for part in path.split('/') {
            match part {
                ".." => drop(kept.pop()),
                "." => {}
                other => kept.push(other),
            }
        }
        kept.join("/")
    }
}
