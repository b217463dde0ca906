//! The packages in images, by the files in which those who install packages write down what there is.

use std::fmt;

use serde::{Deserialize, Serialize};

/// A package that is installed.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Package {
    /// Who installed it.
    pub kind: PackageKind,
    /// Its name.
    pub name: String,
    /// Its version.
    pub version: String,
    /// Its licence, where that is written down.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub license: Option<String>,
}

/// Who installs packages of this kind.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum PackageKind {
    /// dpkg, of Debian and those that follow it.
    Debian,
    /// apk, of Alpine.
    Alpine,
    /// rpm.
    Rpm,
    /// Python's installers.
    Python,
    /// npm and others for Node.
    Npm,
    /// Cargo.
    Cargo,
}

impl PackageKind {
    /// The type in a package URL (purl, "Known types").
    #[must_use]
    pub const fn purl(self) -> &'static str {
        match self {
            Self::Debian => "deb",
            Self::Alpine => "apk",
            Self::Rpm => "rpm",
            Self::Python => "pypi",
            Self::Npm => "npm",
            Self::Cargo => "cargo",
        }
    }
}

impl fmt::Display for PackageKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Debian => "debian",
            Self::Alpine => "alpine",
            Self::Rpm => "rpm",
            Self::Python => "python",
            Self::Npm => "npm",
            Self::Cargo => "cargo",
        })
    }
}

impl Package {
    /// A package of which no licence is known.
    #[must_use]
    pub fn new(kind: PackageKind, name: impl Into<String>, version: impl Into<String>) -> Self {
        Self { kind, name: name.into(), version: version.into(), license: None }
    }
}

/// Paragraphs of `NAME: VALUE` lines, between empty lines; a line that begins with a space goes on with the
/// value before it.
fn paragraphs(text: &str) -> impl Iterator<Item = Vec<(&str, &str)>> {
    text.split("\n\n").map(|paragraph| {
        let lines = paragraph.lines().filter(|line| !line.starts_with([' ', '\t']));
        lines.filter_map(|line| line.split_once(':')).map(|(name, value)| (name, value.trim())).collect()
    })
}

fn field<'a>(fields: &[(&str, &'a str)], name: &str) -> Option<&'a str> {
    let found = fields.iter().find(|(known, _)| known.eq_ignore_ascii_case(name));
    found.map(|(_, value)| *value).filter(|value| !value.is_empty())
}

/// `/var/lib/dpkg/status`, and the files of `/var/lib/dpkg/status.d` (dpkg-query(1)): what is installed.
#[must_use]
pub fn debian(text: &str) -> Vec<Package> {
    let package = |fields: Vec<(&str, &str)>| {
        let installed = field(&fields, "Status").is_none_or(|status| status.ends_with(" installed"));
        let (name, version) = (field(&fields, "Package")?, field(&fields, "Version")?);
        installed.then(|| Package::new(PackageKind::Debian, name, version))
    };
    paragraphs(text).filter_map(package).collect()
}

/// `/lib/apk/db/installed`: `P:` name, `V:` version, `L:` licence.
#[must_use]
pub fn alpine(text: &str) -> Vec<Package> {
    let package = |fields: Vec<(&str, &str)>| {
        // Letters of both cases mean different things here.
        let exact = |name: &str| fields.iter().find(|(known, _)| *known == name).map(|(_, value)| *value);
        let license = exact("L").filter(|license| !license.is_empty()).map(str::to_owned);
        Some(Package { license, ..Package::new(PackageKind::Alpine, exact("P")?, exact("V")?) })
    };
    paragraphs(text).filter_map(package).collect()
}

/// `METADATA` of a `.dist-info` folder, or `PKG-INFO` of an egg (Python, "Core metadata specifications").
#[must_use]
pub fn python(text: &str) -> Option<Package> {
    let fields = paragraphs(text).next()?;
    let license = field(&fields, "License-Expression").or_else(|| field(&fields, "License")).map(str::to_owned);
    Some(Package { license, ..Package::new(PackageKind::Python, field(&fields, "Name")?, field(&fields, "Version")?) })
}

/// `package.json` of a package in `node_modules`.
#[must_use]
pub fn npm(text: &str) -> Option<Package> {
    let document: serde_json::Value = serde_json::from_str(text).ok()?;
    let license = document["license"].as_str().map(str::to_owned);
    let (name, version) = (document["name"].as_str()?, document["version"].as_str()?);
    Some(Package { license, ..Package::new(PackageKind::Npm, name, version) })
}

/// `Cargo.lock`: the packages that come from somewhere else.
#[must_use]
pub fn cargo_lock(text: &str) -> Vec<Package> {
    let package = |part: &str| {
        let value = |name: &str| {
            let line = part.lines().find_map(|line| line.strip_prefix(name)?.trim_start().strip_prefix('='))?;
            Some(line.trim().trim_matches('"').to_owned())
        };
        value("source")?;
        Some(Package::new(PackageKind::Cargo, value("name")?, value("version")?))
    };
    text.split("[[package]]").skip(1).filter_map(package).collect()
}

/// What a program says of the packages that it was built of, in its section `.dep-v0` (JSON).
#[must_use]
pub fn cargo_program(json: &[u8]) -> Vec<Package> {
    let document: serde_json::Value = serde_json::from_slice(json).unwrap_or_default();
    let package = |one: &serde_json::Value| {
        let at_run_time = one["kind"].as_str().is_none_or(|kind| kind == "runtime");
        let (name, version) = (one["name"].as_str()?, one["version"].as_str()?);
        at_run_time.then(|| Package::new(PackageKind::Cargo, name, version))
    };
    document["packages"].as_array().into_iter().flatten().filter_map(package).collect()
}

/// Tags of a header (rpm, "Header format"): name, version, release, epoch, licence.
const RPM_TAGS: [u32; 5] = [1000, 1001, 1002, 1003, 1014];
/// Types of their values: numbers of 32 bits, texts, and texts in several languages.
const RPM_NUMBER: u32 = 4;
const RPM_TEXTS: [u32; 2] = [6, 9];

/// A header as rpm's database keeps it: the number of entries and of bytes, entries of four numbers (tag, type,
/// offset, count), and the bytes; all big-endian.
#[must_use]
pub fn rpm_header(blob: &[u8]) -> Option<Package> {
    let number = |at: usize| Some(u32::from_be_bytes(blob.get(at..at + 4)?.try_into().ok()?));
    let count = usize::try_from(number(0)?).ok().filter(|count| *count < 1 << 16)?;
    let data = 8 + 16 * count;
    let mut found: [Option<String>; 5] = [const { None }; 5];
    for entry in 0..count {
        let at = 8 + 16 * entry;
        let (tag, kind, offset) = (number(at)?, number(at + 4)?, usize::try_from(number(at + 8)?).ok()?);
        let Some(place) = RPM_TAGS.iter().position(|known| *known == tag) else { continue };
        let start = data.checked_add(offset)?;
        found[place] = match kind {
            RPM_NUMBER => number(start).map(|number| number.to_string()),
            kind if RPM_TEXTS.contains(&kind) => {
                let bytes = blob.get(start..)?;
                let end = bytes.iter().position(|byte| *byte == 0)?;
                Some(String::from_utf8_lossy(&bytes[..end]).into_owned())
            }
            _ => None,
        };
    }
    let [name, version, release, epoch, license] = found;
    let name = name.filter(|name| name != "gpg-pubkey")?;
    let epoch = epoch.map(|epoch| format!("{epoch}:")).unwrap_or_default();
    let version = format!("{epoch}{}-{}", version?, release?);
    Some(Package { license, ..Package::new(PackageKind::Rpm, name, version) })
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn told(packages: &[Package]) -> Vec<String> {
        let one = |package: &Package| {
            let license = package.license.as_ref().map(|license| format!(" ({license})")).unwrap_or_default();
            format!("{} {} {}{license}", package.kind, package.name, package.version)
        };
        packages.iter().map(one).collect()
    }

    #[test]
    fn what_is_written_down_in_text_is_read() {
        let status = "Package: libc6\nStatus: install ok installed\nVersion: 2.36-9\nDescription: x\n Version: of nothing\n\nPackage: gone\nStatus: deinstall ok config-files\nVersion: 1\n\nPackage: bare\nVersion: 2\n";
        assert_eq!(told(&debian(status)), ["debian libc6 2.36-9", "debian bare 2"]);
        let installed = "C:Q1x=\nP:musl\nV:1.2.5-r0\nA:x86_64\nL:MIT\np:so:libc\n\nP:busybox\nV:1.36\n";
        assert_eq!(told(&alpine(installed)), ["alpine musl 1.2.5-r0 (MIT)", "alpine busybox 1.36"]);
        let metadata =
            "Metadata-Version: 2.1\nName: idna\nVersion: 3.7\nLicense-Expression: BSD-3-Clause\n\nName: not this\n";
        assert_eq!(told(python(metadata).as_slice()), ["python idna 3.7 (BSD-3-Clause)"]);
        assert_eq!(
            told(npm(r#"{"name":"lily","version":"1.0.0","license":"MIT"}"#).as_slice()),
            ["npm lily 1.0.0 (MIT)"]
        );
        assert_eq!(npm(r#"{"type":"module"}"#), None);
        let lock = "version = 4\n\n[[package]]\nname = \"own\"\nversion = \"0.1.0\"\n\n[[package]]\nname = \"serde\"\nversion = \"1.0.2\"\nsource = \"registry\"\n";
        assert_eq!(told(&cargo_lock(lock)), ["cargo serde 1.0.2"]);
        let program = br#"{"packages":[{"name":"a","version":"1"},{"name":"b","version":"2","kind":"build"}]}"#;
        assert_eq!(told(&cargo_program(program)), ["cargo a 1"]);
    }

    /// A header with these entries.
    fn header(entries: &[(u32, u32, &[u8])]) -> Vec<u8> {
        let (mut index, mut data) = (Vec::new(), Vec::new());
        for (tag, kind, bytes) in entries {
            for number in [*tag, *kind, data.len() as u32, 1] {
                index.extend(number.to_be_bytes());
            }
            data.extend_from_slice(bytes);
        }
        let lengths = [entries.len() as u32, data.len() as u32];
        [lengths.iter().flat_map(|number| number.to_be_bytes()).collect(), index, data].concat()
    }

    #[test]
    fn a_header_of_rpm_is_read() {
        let mut all: Vec<(u32, u32, &[u8])> =
            vec![(1000, 6, b"bash\0"), (1001, 6, b"5.2\0"), (1002, 6, b"3.el9\0"), (1014, 6, b"GPL\0")];
        assert_eq!(told(rpm_header(&header(&all)).as_slice()), ["rpm bash 5.2-3.el9 (GPL)"]);
        all.push((1003, 4, &[0, 0, 0, 1]));
        assert_eq!(rpm_header(&header(&all)).unwrap().version, "1:5.2-3.el9");
        assert_eq!(rpm_header(&header(&[(1000, 6, b"gpg-pubkey\0"), (1001, 6, b"1\0"), (1002, 6, b"1\0")])), None);
    }

    proptest! {
        #[test]
        fn any_bytes_are_read_or_not_and_never_break(bytes in prop::collection::vec(any::<u8>(), 0..200), text in ".{0,200}") {
            let _ = rpm_header(&bytes);
            let _ = cargo_program(&bytes);
            let _ = (debian(&text), alpine(&text), python(&text), npm(&text), cargo_lock(&text));
        }
    }
}
