//! Changing options in a configuration file. Comments and other lines stay as they are.

use std::collections::BTreeMap;
use std::io::Write as _;
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _};
use std::path::{Path, PathBuf};
use std::process::Command;

use pondrix_core::configuration;

use crate::failure::Failure;

/// A configuration file.
pub(super) struct ConfigurationFile {
    path: PathBuf,
    before: String,
    text: String,
    values: BTreeMap<String, String>,
}

impl ConfigurationFile {
    /// Reads it.
    ///
    /// # Errors
    /// If it cannot be read or is invalid.
    pub(super) fn read(path: &Path) -> Result<Self, Failure> {
        let text = std::fs::read_to_string(path).map_err(|error| {
            Failure::usage(format!("{}: {error}", path.display())).advise("install the package pondrix-server")
        })?;
        let settings = configuration::read(&text).map_err(|faults| {
            let rendered: Vec<_> = faults.iter().map(|fault| fault.render(&path.display().to_string())).collect();
            Failure::usage(rendered.join("\n"))
        })?;
        let value =
            |setting: configuration::Setting| Some((setting.option.value, setting.values.into_iter().next()?.value));
        let values = settings.into_iter().filter_map(value).collect();
        Ok(Self { path: path.to_owned(), before: text.clone(), text, values })
    }

    /// The first value of an option.
    pub(super) fn value(&self, option: &str) -> Option<&str> {
        self.values.get(option).map(String::as_str)
    }

    /// Sets an option: in its line, in the place of its example in a comment, or at the end.
    pub(super) fn set(&mut self, option: &str, value: &str) {
        let line = format!("{option} {}", quoted(value));
        let is_line = |text: &str, lead: &str| {
            text.strip_prefix(lead).and_then(|rest| rest.strip_prefix(option)).is_some_and(|rest| rest.starts_with(' '))
        };
        let mut lines: Vec<_> = self.text.lines().map(str::to_owned).collect();
        let place = ["", "// "].iter().find_map(|lead| lines.iter().position(|text| is_line(text, lead)));
        match place {
            Some(place) => lines[place] = line,
            None => lines.push(line),
        }
        self.text = lines.join("\n") + "\n";
        self.values.insert(option.to_owned(), value.to_owned());
    }

    /// Writes the file if it has changed, with its owner and mode. Whether it has.
    ///
    /// # Errors
    /// If the server would refuse the file, which then stays as it was.
    pub(super) fn write(&self) -> Result<bool, Failure> {
        if self.text == self.before {
            return Ok(false);
        }
        let told = |error: std::io::Error| Failure::new(format!("{}: {error}", self.path.display()));
        let folder = self.path.parent().unwrap_or(Path::new("/"));
        let mut new = tempfile::NamedTempFile::new_in(folder).map_err(told)?;
        new.write_all(self.text.as_bytes()).map_err(told)?;
        let like = self.path.metadata().map_err(told)?;
        std::os::unix::fs::chown(new.path(), Some(like.uid()), Some(like.gid())).map_err(told)?;
        std::fs::set_permissions(new.path(), std::fs::Permissions::from_mode(like.mode() & 0o7777)).map_err(told)?;
        // As the server's user, who has to be able to read the files that it names.
        let checked = Command::new("setpriv")
            .args(["--reuid=pondrix", "--regid=pondrix", "--init-groups"])
            .arg(std::env::current_exe()?)
            .args(["serve", "--check", "--config"])
            .arg(new.path())
            .output()
            .map_err(told)?;
        if !checked.status.success() {
            let words = String::from_utf8_lossy(&checked.stderr).trim().replace("pondrix: ", "");
            return Err(Failure::usage(format!("the server's configuration was not changed: {words}")));
        }
        new.persist(&self.path).map_err(|error| told(error.error))?;
        Ok(true)
    }
}

/// A text as KDL has it.
fn quoted(text: &str) -> String {
    format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\""))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn file(text: &str) -> ConfigurationFile {
        ConfigurationFile { path: "x".into(), before: text.into(), text: text.into(), values: BTreeMap::new() }
    }

    #[test]
    fn an_option_is_set_in_its_line_or_in_its_example_or_at_the_end() {
        let mut file = file("// Address.\n// public-url \"URL\"\n\ndata \"/a\"\n// data \"/b\"\n");
        file.set("public-url", "https://a.test");
        file.set("data", "/c\\\"d");
        file.set("slots", "2");
        assert_eq!(
            file.text,
            "// Address.\npublic-url \"https://a.test\"\n\ndata \"/c\\\\\\\"d\"\n// data \"/b\"\nslots \"2\"\n"
        );
        let read = configuration::read(&file.text).unwrap();
        assert_eq!(read[1].values[0].value, "/c\\\"d");
        assert_eq!(file.value("data"), Some("/c\\\"d"));
    }
}
