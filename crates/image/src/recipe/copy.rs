//! COPY and ADD.

/// Whether this can name a file in a folder, and nothing elsewhere.
pub(crate) fn is_plain_name(name: &str) -> bool {
    !name.is_empty() && !matches!(name, "." | "..") && !name.contains(['/', '\0'])
}

/// Which of the two it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum CopyWord {
    /// COPY.
    Copy,
    /// ADD: it also fetches addresses and unpacks local archives.
    Add,
}

/// A COPY or an ADD. Texts may name variables.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Copy {
    /// Which of the two.
    pub word: CopyWord,
    /// What: paths with `*`, `?` and `[…]`; for ADD also addresses.
    pub sources: Vec<String>,
    /// Texts that stand in the recipe itself.
    pub documents: Vec<HereFile>,
    /// Where to. It is a folder when it ends with a slash.
    pub to: String,
    /// The stage or image that the files are of; the context where none is named.
    pub from: Option<String>,
    /// Who they shall belong to: `USER[:GROUP]`.
    pub owner: Option<String>,
    /// Their permissions: octal, or as chmod(1) takes them.
    pub mode: Option<String>,
    /// Whether the files make a layer that depends on none below it.
    pub link: bool,
    /// Patterns of what is left out.
    pub exclude: Vec<String>,
    /// Whether the folders above what is named come along.
    pub parents: bool,
    /// The digest that what comes from an address must have: `sha256:…`.
    pub checksum: Option<String>,
    /// Whether archives are unpacked, where it is said.
    pub unpack: Option<bool>,
}

/// A file whose text stands in the recipe.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct HereFile {
    /// Its name.
    pub name: String,
    /// Its text.
    pub body: String,
    /// Whether variables in it are filled in.
    pub expands: bool,
}
