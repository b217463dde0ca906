//! The master key, and where it comes from: never from the records, nor from a backup of them.

use std::fmt;
use std::io::Write;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::str::FromStr;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use sha2::{Digest, Sha256};

use super::KEY;
use crate::private::create_private;

/// The folder of credentials that systemd gives a service (systemd.exec(5), "Credentials").
const CREDENTIALS: &str = "CREDENTIALS_DIRECTORY";

/// A master key.
#[derive(Clone, PartialEq, Eq)]
pub(crate) struct MasterKey([u8; KEY]);

impl fmt::Debug for MasterKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "MasterKey({})", self.id())
    }
}

impl MasterKey {
    /// A new one.
    pub(crate) fn random() -> anyhow::Result<Self> {
        let mut key = [0; KEY];
        getrandom::fill(&mut key)?;
        Ok(Self(key))
    }

    /// Of 32 bytes, or of a text of them in hexadecimal or base64 (RFC 4648).
    fn read(bytes: &[u8]) -> Option<Self> {
        if let Ok(key) = bytes.try_into() {
            return Some(Self(key));
        }
        let text = std::str::from_utf8(bytes).ok()?.trim();
        let pair = |at: usize| u8::from_str_radix(text.get(at..at + 2)?, 16).ok();
        let hex = || (text.len() == 2 * KEY).then(|| (0..KEY).map(|at| pair(2 * at)).collect::<Option<Vec<u8>>>())?;
        let key = hex().or_else(|| STANDARD.decode(text).ok())?;
        Some(Self(key.try_into().ok()?))
    }

    pub(super) const fn bytes(&self) -> &[u8; KEY] {
        &self.0
    }

    /// What names it and tells nothing of it: the beginning of its hash.
    pub(crate) fn id(&self) -> String {
        let hash = Sha256::new().chain_update("the id of a master key").chain_update(self.0).finalize();
        hash[..4].iter().map(|byte| format!("{byte:02x}")).collect()
    }

    /// Writes it into a file that only its owner can read; it is on the disk then.
    pub(crate) fn write(&self, file: &Path) -> std::io::Result<()> {
        let mut made = create_private(file)?;
        made.write_all(&self.0)?;
        made.sync_all()
    }
}

/// Where the next master key is while it takes the place of the one in a file.
pub(crate) fn next_file(file: &Path) -> PathBuf {
    let mut name = file.as_os_str().to_owned();
    name.push(".next");
    PathBuf::from(name)
}

/// Where the master key comes from: `file:PATH` (or a path), `credential:NAME` of systemd, or `command:LINE`, whose
/// output it is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum MasterSource {
    /// A file that nobody else can read.
    File(PathBuf),
    /// A credential that systemd gives to the service.
    Credential(String),
    /// What a shell is given to run, which writes it to its standard output.
    Command(String),
}

/// A text that names no place of a master key.
#[derive(Clone, Debug, thiserror::Error)]
#[error("`{0}` names no master key: write file:PATH, credential:NAME, or command:LINE")]
pub struct NoMasterSource(String);

impl FromStr for MasterSource {
    type Err = NoMasterSource;

    fn from_str(text: &str) -> Result<Self, NoMasterSource> {
        let (kind, rest) = text.split_once(':').unwrap_or(("file", text));
        match (kind, rest) {
            (_, "") => Err(NoMasterSource(text.to_owned())),
            ("file", path) => Ok(Self::File(path.into())),
            ("command", line) => Ok(Self::Command(line.to_owned())),
            ("credential", name) if !name.contains('/') => Ok(Self::Credential(name.to_owned())),
            _ => Err(NoMasterSource(text.to_owned())),
        }
    }
}

impl fmt::Display for MasterSource {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::File(path) => write!(f, "the file {}", path.display()),
            Self::Credential(name) => write!(f, "the credential {name} of systemd"),
            Self::Command(line) => write!(f, "the command `{line}`"),
        }
    }
}

/// Why there is no master key.
#[derive(Debug, thiserror::Error)]
pub(crate) enum MasterKeyFault {
    /// What it comes from gives nothing.
    #[error("the master key, {from}: {words}")]
    Unread {
        /// Where it comes from.
        from: MasterSource,
        /// Why.
        words: String,
    },
    /// What it gives is no key.
    #[error(
        "the master key, {from}, is not 32 bytes, nor that in hexadecimal or base64; make one: openssl rand -hex 32"
    )]
    NoKey {
        /// Where it comes from.
        from: MasterSource,
    },
    /// Others can read it.
    #[error("the master key, {from}, can be read by others (its mode is {mode:o}): chmod 600 {}", .file.display())]
    Open {
        /// Where it comes from.
        from: MasterSource,
        /// The file.
        file: PathBuf,
        /// Its permissions.
        mode: u32,
    },
}

impl MasterSource {
    /// Reads the key.
    ///
    /// # Errors
    /// When there is none, or others can read it.
    pub(crate) fn read(&self) -> Result<MasterKey, MasterKeyFault> {
        let unread = |words: String| MasterKeyFault::Unread { from: self.clone(), words };
        let bytes = match self {
            Self::File(path) => {
                let data = std::fs::metadata(path).map_err(|error| unread(error.to_string()))?;
                let mode = data.permissions().mode() & 0o7777;
                if mode & 0o077 != 0 {
                    return Err(MasterKeyFault::Open { from: self.clone(), file: path.clone(), mode });
                }
                std::fs::read(path).map_err(|error| unread(error.to_string()))?
            }
            Self::Credential(name) => {
                let folder = std::env::var_os(CREDENTIALS)
                    .ok_or_else(|| unread("systemd has given this service no credentials (LoadCredential=)".into()))?;
                std::fs::read(Path::new(&folder).join(name)).map_err(|error| unread(error.to_string()))?
            }
            Self::Command(line) => {
                let output = Command::new("/bin/sh").args(["-c", line]).stdin(std::process::Stdio::null()).output();
                let output = output.map_err(|error| unread(error.to_string()))?;
                if !output.status.success() {
                    let said = String::from_utf8_lossy(&output.stderr).trim().to_owned();
                    return Err(unread(format!("it ended with {}: {said}", output.status)));
                }
                output.stdout
            }
        };
        MasterKey::read(&bytes).ok_or_else(|| MasterKeyFault::NoKey { from: self.clone() })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_key_is_read_in_each_of_its_forms_and_nothing_else_is_one() {
        let key = MasterKey::random().unwrap();
        let hex: String = key.0.iter().map(|byte| format!("{byte:02x}")).collect();
        let base64 = STANDARD.encode(key.0);
        for form in [key.0.to_vec(), hex.clone().into_bytes(), format!("{hex}\n").into_bytes(), base64.into_bytes()] {
            assert_eq!(MasterKey::read(&form).unwrap(), key);
        }
        for form in [&b""[..], &key.0[1..], b"not a key", &hex.as_bytes()[2..], &[b'g'; 64]] {
            assert!(MasterKey::read(form).is_none(), "{form:?}");
        }
        assert_eq!(key.id().len(), 8);
        assert!(!hex.contains(&key.id()), "it tells nothing");
    }

    #[test]
    fn where_it_comes_from_is_named_and_read() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("key");
        let key = MasterKey::random().unwrap();
        key.write(&file).unwrap();
        let of = |text: &str| text.parse::<MasterSource>().unwrap().read();
        let path = file.display();
        assert_eq!(of(&format!("file:{path}")).unwrap(), key);
        assert_eq!(of(&path.to_string()).unwrap(), key);
        assert_eq!(of(&format!("command:cat {path}")).unwrap(), key);
        let told = |text: &str| of(text).unwrap_err().to_string();
        assert!(told("command:echo no >&2; exit 3").contains("exit status: 3: no"));
        assert!(told("command:echo no").contains("is not 32 bytes"));
        assert!(told("credential:key").contains("LoadCredential"));
        assert!(told("file:/nowhere").contains("No such file"));
        std::fs::set_permissions(&file, PermissionsExt::from_mode(0o640)).unwrap();
        assert!(told(&path.to_string()).ends_with(&format!("(its mode is 640): chmod 600 {path}")));
        for text in ["", "file:", "vault:x", "credential:../key"] {
            assert!(text.parse::<MasterSource>().is_err(), "{text}");
        }
    }
}
