//! What tells how a cluster is reached, and who signs in there: kubeconfig files, of which the server keeps one context.
//!
//! Such a file may name other files, and programs that give a token. Both would be read and run as the server, wherever
//! whoever wrote it wants: here it holds all that it says itself.

use serde_json::{Map, Value, json};

/// A context that says all itself.
#[derive(Clone, Debug)]
pub(crate) struct OneContext {
    /// Where the cluster is reached.
    pub(crate) server: String,
    /// The whole, as JSON, which is YAML too.
    pub(crate) text: String,
}

/// Why it cannot be used.
#[derive(Debug, PartialEq, Eq, thiserror::Error)]
pub(crate) enum KubeconfigError {
    #[error("it is neither YAML nor JSON: {0}")]
    Unreadable(String),
    #[error("it has no `{0}`")]
    Lacks(String),
    #[error(
        "{what} names the file {file}, which would be read as the server; write `{instead}` with what is in it, in base64 (`pondrix environment set` does so by itself)"
    )]
    NamesFile { what: String, file: String, instead: &'static str },
    #[error(
        "{what} runs a program (`{word}`), which would run as the server; give a token of an account of the cluster instead: kubectl create token ACCOUNT --duration 8760h"
    )]
    RunsProgram { what: String, word: &'static str },
    #[error("{what} has `{word}`, which is not known here; these are: {known}")]
    Unknown { what: String, word: String, known: String },
    #[error("`{0}` is no address of a cluster: it begins with https:// or http://")]
    Address(String),
}

/// What a cluster may say of itself.
const CLUSTER: [&str; 6] = [
    "server",
    "certificate-authority-data",
    "insecure-skip-tls-verify",
    "tls-server-name",
    "proxy-url",
    "disable-compression",
];
/// How somebody may sign in.
const USER: [&str; 7] =
    ["token", "username", "password", "client-certificate-data", "client-key-data", "as", "as-groups"];
/// Words that name files, and those that hold what is in them.
const FILES: [(&str, &str); 4] = [
    ("certificate-authority", "certificate-authority-data"),
    ("client-certificate", "client-certificate-data"),
    ("client-key", "client-key-data"),
    ("tokenFile", "token"),
];
/// Words that run programs.
const PROGRAMS: [&str; 2] = ["exec", "auth-provider"];

/// Reads one, and keeps its current context.
///
/// # Errors
/// When something is missing, or it names files or runs programs.
pub(crate) fn read(text: &str) -> Result<OneContext, KubeconfigError> {
    let whole: Value = serde_saphyr::from_str(text).map_err(|error| KubeconfigError::Unreadable(error.to_string()))?;
    let lacks = |what: String| KubeconfigError::Lacks(what);
    let current = whole["current-context"].as_str().filter(|name| !name.is_empty());
    let current = current.ok_or_else(|| lacks("current-context".to_owned()))?;
    let named = |list: &str, name: &str, inner: &str| -> Result<Map<String, Value>, KubeconfigError> {
        let all = whole[list].as_array().into_iter().flatten();
        let found = all.into_iter().find(|one| one["name"].as_str() == Some(name));
        let found = found.ok_or_else(|| lacks(format!("{list}: {name}")))?;
        Ok(found[inner].as_object().cloned().unwrap_or_default())
    };
    let context = named("contexts", current, "context")?;
    let name_of = |key: &str| context.get(key).and_then(Value::as_str).map(str::to_owned);
    let cluster_name = name_of("cluster").ok_or_else(|| lacks(format!("cluster of the context {current}")))?;
    let cluster =
        allowed(named("clusters", &cluster_name, "cluster")?, &CLUSTER, &format!("the cluster {cluster_name}"))?;
    let user = match name_of("user") {
        Some(name) => allowed(named("users", &name, "user")?, &USER, &format!("the user {name}"))?,
        None => Map::new(),
    };
    let server = cluster.get("server").and_then(Value::as_str).unwrap_or_default().to_owned();
    if !(server.starts_with("https://") || server.starts_with("http://")) {
        return Err(KubeconfigError::Address(server));
    }
    let text = json!({
        "apiVersion": "v1", "kind": "Config", "current-context": "it",
        "contexts": [{ "name": "it", "context": { "cluster": "it", "user": "it" } }],
        "clusters": [{ "name": "it", "cluster": cluster }],
        "users": [{ "name": "it", "user": user }],
    });
    Ok(OneContext { server, text: text.to_string() })
}

/// What is said, where all of it may be.
fn allowed(said: Map<String, Value>, known: &[&str], what: &str) -> Result<Map<String, Value>, KubeconfigError> {
    let mut kept = Map::new();
    for (word, value) in said {
        // What says nothing, and what others noted for themselves.
        if value.is_null() || value.as_str() == Some("") || word == "extensions" {
            continue;
        }
        if let Some(word) = PROGRAMS.into_iter().find(|program| *program == word) {
            return Err(KubeconfigError::RunsProgram { what: what.to_owned(), word });
        }
        if let Some((_, instead)) = FILES.into_iter().find(|(file, _)| *file == word) {
            let file = value.as_str().unwrap_or("?").to_owned();
            return Err(KubeconfigError::NamesFile { what: what.to_owned(), file, instead });
        }
        if !known.contains(&word.as_str()) {
            let known = known.join(", ");
            return Err(KubeconfigError::Unknown { what: what.to_owned(), word, known });
        }
        kept.insert(word, value);
    }
    Ok(kept)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn with(cluster: &str, user: &str) -> String {
        format!(
            "apiVersion: v1\nkind: Config\ncurrent-context: here\ncontexts:\n- name: here\n  context: {{cluster: one, user: me, namespace: x}}\n\
             - name: there\n  context: {{cluster: two, user: other}}\nclusters:\n- name: one\n  cluster: {{server: 'https://one.test:6443'{cluster}}}\n\
             - name: two\n  cluster: {{server: 'https://two.test'}}\nusers:\n- name: me\n  user: {{token: s3cret{user}}}\n\
             - name: other\n  user: {{token: of-another}}\n"
        )
    }

    #[test]
    fn the_current_context_is_kept_and_nothing_of_the_others() {
        let kept = read(&with(", insecure-skip-tls-verify: true, extensions: []", ", client-key-data: eA==")).unwrap();
        assert_eq!(kept.server, "https://one.test:6443");
        assert!(!kept.text.contains("two.test") && !kept.text.contains("of-another"), "{}", kept.text);
        let again = read(&kept.text).unwrap();
        assert_eq!(again.text, kept.text, "what is kept is itself one");
        for word in ["s3cret", "insecure-skip-tls-verify", "client-key-data"] {
            assert!(kept.text.contains(word), "{word}");
        }
    }

    #[test]
    fn what_names_files_or_runs_programs_is_refused_and_so_is_what_nobody_knows() {
        let file = read(&with("", ", client-key: /etc/shadow")).unwrap_err().to_string();
        assert!(
            file.starts_with("the user me names the file /etc/shadow") && file.contains("client-key-data"),
            "{file}"
        );
        let authority = read(&with(", certificate-authority: ca.crt", "")).unwrap_err().to_string();
        assert!(authority.contains("the cluster one names the file ca.crt"), "{authority}");
        assert!(read(&with("", ", tokenFile: /run/token")).unwrap_err().to_string().contains("/run/token"));
        for program in [", exec: {command: sh}", ", auth-provider: {name: x}"] {
            let fault = read(&with("", program)).unwrap_err();
            assert!(matches!(fault, KubeconfigError::RunsProgram { .. }), "{fault}");
        }
        assert!(matches!(read(&with(", new-thing: 1", "")).unwrap_err(), KubeconfigError::Unknown { .. }));
        for (text, fault) in [
            ("[", "neither YAML nor JSON"),
            ("kind: Config", "no `current-context`"),
            ("current-context: x", "no `contexts: x`"),
            ("{current-context: x, contexts: [{name: x, context: {cluster: c}}]}", "no `clusters: c`"),
            (
                "{current-context: x, contexts: [{name: x, context: {cluster: c}}], clusters: [{name: c, cluster: {server: 'file:///x'}}]}",
                "no address of a cluster",
            ),
        ] {
            let told = read(text).unwrap_err().to_string();
            assert!(told.contains(fault), "{text}: {told}");
        }
    }
}
