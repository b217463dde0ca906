//! The server's address and the token, as given or saved.

use std::fs;
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::PathBuf;

use pondrix_api::Client;
use serde::{Deserialize, Serialize};

use crate::cli::Global;
use crate::failure::Failure;

/// What `pondrix login` saves.
#[derive(Debug, Serialize, Deserialize)]
pub(crate) struct Saved {
    pub(crate) url: String,
    pub(crate) token: String,
}

/// Where it is saved (XDG Base Directory specification).
fn path() -> Result<PathBuf, Failure> {
    let set = |name: &str| std::env::var_os(name).filter(|value| !value.is_empty()).map(PathBuf::from);
    let folder = set("XDG_CONFIG_HOME").or_else(|| Some(set("HOME")?.join(".config")));
    let folder = folder.ok_or_else(|| Failure::usage("neither HOME nor XDG_CONFIG_HOME is set"))?;
    Ok(folder.join("pondrix/login.json"))
}

/// Saves address and token, readable to nobody else.
pub(crate) fn save(saved: &Saved) -> Result<PathBuf, Failure> {
    let path = path()?;
    let told = |error: &dyn std::fmt::Display| Failure::new(format!("{}: {error}", path.display()));
    fs::create_dir_all(path.parent().unwrap_or(&path)).map_err(|error| told(&error))?;
    let file = fs::File::options().create(true).truncate(true).write(true).mode(0o600).open(&path);
    let text = serde_json::to_vec_pretty(saved).map_err(|error| told(&error))?;
    file.and_then(|mut file| file.write_all(&text)).map_err(|error| told(&error))?;
    Ok(path)
}

/// What `pondrix login` saved.
pub(crate) fn saved() -> Option<Saved> {
    serde_json::from_slice(&fs::read(path().ok()?).ok()?).ok()
}

/// A client for the server that the command line, the environment or `pondrix login` names.
pub(crate) fn client(global: &Global) -> Result<Client, Failure> {
    let saved = saved();
    let missing = |what: &str| {
        Failure::usage(format!("no {what} is known"))
            .advise("run `pondrix login URL`, or set PONDRIX_URL and PONDRIX_TOKEN")
    };
    let url = global.url.clone().or_else(|| saved.as_ref().map(|saved| saved.url.clone()));
    let url = url.ok_or_else(|| missing("server"))?;
    // A saved token is for the server that it was saved with, and is shown to no other.
    let saved_token = saved.filter(|saved| saved.url == url).map(|saved| saved.token);
    let token = global.token.clone().or(saved_token).ok_or_else(|| missing("token"))?;
    Ok(Client::new(&url, &token))
}
