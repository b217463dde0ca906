//! `RUN --mount=…`.

use std::collections::BTreeMap;
use std::ffi::OsStr;
use std::path::{Component, Path};

/// Something that a command sees besides the image's files, and that leaves nothing in the layer.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Mount {
    /// What it is.
    pub kind: MountKind,
    /// Its options, by name, as they were written. They may name variables.
    pub options: BTreeMap<String, String>,
}

/// What a mount is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum MountKind {
    /// Files of the context, of a stage or of an image.
    Bind,
    /// A folder that the project's builds find again.
    Cache,
    /// A folder in memory.
    Tmpfs,
    /// A secret as a file or a variable.
    Secret,
    /// A way to sign in at other machines with a key that is not seen.
    Ssh,
}

impl MountKind {
    /// The words for them.
    pub const WORDS: [(&'static str, Self); 5] = [
        ("bind", Self::Bind),
        ("cache", Self::Cache),
        ("tmpfs", Self::Tmpfs),
        ("secret", Self::Secret),
        ("ssh", Self::Ssh),
    ];

    /// The names of the options that it takes.
    #[must_use]
    pub const fn options(self) -> &'static [&'static str] {
        match self {
            Self::Bind => &["target", "source", "from", "rw", "ro"],
            Self::Cache => &["id", "target", "ro", "rw", "sharing", "from", "source", "mode", "uid", "gid"],
            Self::Tmpfs => &["target", "size"],
            Self::Secret => &["id", "target", "env", "required", "mode", "uid", "gid"],
            Self::Ssh => &["id", "target", "required", "mode", "uid", "gid"],
        }
    }
}

/// Other names that options have.
const SYNONYMS: [(&str, &str); 5] =
    [("dst", "target"), ("destination", "target"), ("src", "source"), ("readonly", "ro"), ("readwrite", "rw")];

/// Whether a place is the root itself, or in one of the kernel's file systems, in which nothing is mounted.
pub(crate) fn is_kernels(target: &Path) -> bool {
    let mut place: Vec<&OsStr> = Vec::new();
    for part in target.components() {
        match part {
            Component::Normal(name) => place.push(name),
            Component::ParentDir => drop(place.pop()),
            Component::RootDir | Component::CurDir | Component::Prefix(_) => {}
        }
    }
    let first = place.first().and_then(|name| name.to_str());
    target.is_absolute() && (place.is_empty() || matches!(first, Some("proc" | "sys" | "dev")))
}

impl Mount {
    /// Reads `type=cache,target=/x,…`.
    ///
    /// # Errors
    /// What is wrong, which piece of the text, and what is allowed.
    pub(super) fn read(text: &str) -> Result<Self, (String, String, String)> {
        let mut options = BTreeMap::new();
        let mut kind = MountKind::Bind;
        for piece in text.split(',').map(str::trim) {
            let (name, value) = piece.split_once('=').unwrap_or((piece, "true"));
            let name = name.to_ascii_lowercase();
            if name == "type" {
                let known = MountKind::WORDS.map(|(word, _)| word).join(", ");
                kind = MountKind::WORDS.iter().find(|(word, _)| *word == value).map(|(_, kind)| *kind).ok_or_else(
                    || (format!("`{value}` is not a kind of mount"), piece.to_owned(), format!("known are {known}")),
                )?;
                continue;
            }
            let name = SYNONYMS.iter().find(|(other, _)| *other == name).map_or(name, |(_, name)| (*name).to_owned());
            if options.insert(name.clone(), value.trim_matches('"').to_owned()).is_some() {
                return Err((format!("`{name}` is said twice"), piece.to_owned(), "keep one of the two".to_owned()));
            }
        }
        if let Some(name) = options.keys().find(|name| !kind.options().contains(&name.as_str())) {
            let known = kind.options().join(", ");
            return Err((format!("this mount does not know `{name}`"), name.clone(), format!("known are {known}")));
        }
        let needs_target = matches!(kind, MountKind::Bind | MountKind::Cache | MountKind::Tmpfs);
        if needs_target && !options.contains_key("target") {
            let help = "add target=/PATH, where the command shall see it".to_owned();
            return Err(("this mount has no target".to_owned(), text.to_owned(), help));
        }
        // A variable in it is filled in later, and the place is looked at again then.
        if let Some(target) = options.get("target").filter(|target| is_kernels(Path::new(target))) {
            let words = format!("nothing can be mounted at {target}");
            let help = "the root itself and /proc, /sys and /dev are the kernel's: choose another folder".to_owned();
            return Err((words, target.clone(), help));
        }
        if kind == MountKind::Secret && !options.contains_key("id") && !options.contains_key("target") {
            let help = "add id=NAME, a secret that the pipeline file gives to this image".to_owned();
            return Err(("this mount names no secret".to_owned(), text.to_owned(), help));
        }
        let mount = Self { kind, options };
        let sharing = mount.option("sharing").unwrap_or("shared");
        if !sharing.contains('$') && !matches!(sharing, "shared" | "private" | "locked") {
            let help = "known are shared, private and locked".to_owned();
            return Err((format!("`{sharing}` is no way to share a cache"), sharing.to_owned(), help));
        }
        for name in ["uid", "gid", "mode"] {
            let is_number = |text: &str| text.contains('$') || text.chars().all(|c| c.is_ascii_digit());
            if let Some(value) = mount.option(name).filter(|value| !is_number(value)) {
                return Err((format!("{name} `{value}` is not a number"), value.to_owned(), "write digits".to_owned()));
            }
        }
        Ok(mount)
    }

    /// An option as it was written.
    #[must_use]
    pub fn option(&self, name: &str) -> Option<&str> {
        self.options.get(name).map(String::as_str)
    }
}
