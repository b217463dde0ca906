//! Reads package databases in a sandbox. The files are untrusted and their parsers are large, so a function of this program
//! parses them in a sandbox that can only read those files. It returns its result in lines of bounded length and number.

use std::fmt;
use std::io::{self, BufRead, Read, Write};
use std::path::{Path, PathBuf};

use pondrix_core::image::{Entry, Package};
use pondrix_sandbox::Functions;
use serde::{Deserialize, Serialize};

use super::tells::{may_tell, packages_of};

/// The functions for [`pondrix_sandbox::enter_if_asked`], which `main` calls.
pub const FUNCTIONS: Functions = &[(NAME, inspect)];
/// The name of the function.
const NAME: &str = "inspect";

/// Maximum number of files per layer.
const MOST_FILES: usize = 200_000;
/// Maximum number of packages per layer.
const MOST_PACKAGES: usize = 200_000;
/// Maximum length of a name, version or license, in bytes.
const LONGEST_TEXT: usize = 1024;
/// Maximum length of a line and of the answer, in bytes.
const LONGEST_LINE: u64 = 16 << 10;
const LONGEST_ANSWER: u64 = 128 << 20;
/// Maximum number of reported invalid files.
const MOST_PROBLEMS: usize = 20;

/// Reads the packages of files.
pub trait Inspector: fmt::Debug + Send + Sync {
    /// Returns the packages, or `None` if they could not be read. The implementation reports the reason.
    fn inspect(&self, request: &Request) -> Option<Told>;
}

/// Files to read.
#[derive(Debug, Serialize, Deserialize)]
pub struct Request {
    /// Folders of this machine that contain the files.
    #[serde(skip)]
    folders: Vec<PathBuf>,
    files: Vec<Asked>,
}

#[derive(Debug, Serialize, Deserialize)]
struct Asked {
    /// A number that the caller chose.
    place: usize,
    /// The path in the layer, which determines the type of the file.
    path: String,
    /// The index of the folder, and the path in that folder.
    folder: usize,
    at: PathBuf,
    size: u64,
}

/// The packages of files.
#[derive(Debug, Default, PartialEq, Eq)]
pub struct Told {
    /// The number and the packages of each file that has any.
    pub packages: Vec<(usize, Vec<Package>)>,
    /// Messages about invalid files; at most [`MOST_PROBLEMS`].
    pub problems: Vec<String>,
}

/// A line of the answer.
#[derive(Debug, Serialize, Deserialize)]
enum Line {
    Package(usize, Package),
    Problem(String),
    /// The last line.
    End,
}

impl Request {
    /// A request for files in these folders.
    pub(super) fn new(folders: &[PathBuf]) -> Self {
        Self { folders: folders.to_vec(), files: Vec::new() }
    }

    /// Adds a file if its type may contain packages and one of the folders contains it.
    pub(super) fn add(&mut self, place: usize, entry: &Entry, on_disk: &Path) {
        if self.files.len() >= MOST_FILES {
            return;
        }
        let find = |(number, folder): (usize, &PathBuf)| Some((number, on_disk.strip_prefix(folder).ok()?));
        let Some((folder, at)) = self.folders.iter().enumerate().find_map(find) else { return };
        if may_tell(&entry.path, entry.mode, entry.size, on_disk) {
            let (path, at) = (entry.path.clone(), at.to_owned());
            self.files.push(Asked { place, path, folder, at, size: entry.size });
        }
    }

    /// Asks the inspector, unless there are no files.
    pub(super) fn told_by(&self, inspector: &dyn Inspector) -> Option<Vec<(usize, Vec<Package>)>> {
        if self.files.is_empty() { Some(Vec::new()) } else { inspector.inspect(self).map(|told| told.packages) }
    }

    /// The folders to mount read-only in the sandbox, with their mount points.
    pub fn folders(&self) -> impl Iterator<Item = (&Path, String)> {
        self.folders.iter().enumerate().map(|(number, folder)| (folder.as_path(), shown_at(number)))
    }

    /// The name and the arguments of the function ([`pondrix_sandbox::Spec::is_function`]).
    #[must_use]
    pub fn words(&self) -> Vec<String> {
        vec![NAME.to_owned(), serde_json::to_string(self).unwrap_or_default()]
    }
}

fn shown_at(folder: usize) -> String {
    format!("/files/{folder}")
}

/// The function that runs in the sandbox.
fn inspect(arguments: &[String]) -> i32 {
    let Some(request) = arguments.first().and_then(|text| serde_json::from_str::<Request>(text).ok()) else { return 2 };
    let out = io::BufWriter::new(io::stdout().lock());
    i32::from(answer(&request, &|folder| PathBuf::from(shown_at(folder)), out).is_err())
}

/// Reads the files and writes the answer.
fn answer(request: &Request, folder: &dyn Fn(usize) -> PathBuf, mut out: impl Write) -> io::Result<()> {
    let (mut packages, mut problems) = (0, 0);
    let mut say = |line: Line| {
        serde_json::to_writer(&mut out, &line)?;
        out.write_all(b"\n")
    };
    for file in &request.files {
        match packages_of(&file.path, file.size, &folder(file.folder).join(&file.at)) {
            Ok(found) => {
                for package in found.into_iter().filter(is_sound) {
                    if packages < MOST_PACKAGES {
                        packages += 1;
                        say(Line::Package(file.place, package))?;
                    }
                }
            }
            Err(error) if problems < MOST_PROBLEMS => {
                problems += 1;
                let (path, why) = (cut(&file.path), cut(&error.to_string()));
                say(Line::Problem(format!("could not read the packages in {path}: {why}")))?;
            }
            Err(_) => {}
        }
    }
    say(Line::End)?;
    out.flush()
}

fn cut(text: &str) -> String {
    text.chars().take(LONGEST_TEXT / 4).collect()
}

/// Returns true if no text of the package is too long.
fn is_sound(package: &Package) -> bool {
    let texts = [Some(&package.name), Some(&package.version), package.license.as_ref()];
    texts.into_iter().flatten().all(|text| text.len() <= LONGEST_TEXT)
}

/// Reads an answer. It is untrusted: a file may have taken over the process that wrote it.
///
/// # Errors
/// If the answer is cut short, invalid, or exceeds a limit.
pub fn read_told(answer: impl Read) -> io::Result<Told> {
    let wrong = |words: &str| io::Error::new(io::ErrorKind::InvalidData, words.to_owned());
    let mut lines = io::BufReader::new(answer.take(LONGEST_ANSWER));
    let (mut told, mut count) = (Told::default(), 0);
    loop {
        let mut line = Vec::new();
        (&mut lines).take(LONGEST_LINE).read_until(b'\n', &mut line)?;
        if line.last() != Some(&b'\n') {
            return Err(wrong("the answer is cut short"));
        }
        match serde_json::from_slice(&line).map_err(|_| wrong("the answer is not valid"))? {
            Line::End => return Ok(told),
            Line::Problem(words) if told.problems.len() < MOST_PROBLEMS => told.problems.push(words),
            Line::Package(place, package) if count < MOST_PACKAGES && is_sound(&package) => {
                count += 1;
                match told.packages.last_mut() {
                    Some((last, packages)) if *last == place => packages.push(package),
                    _ => told.packages.push((place, vec![package])),
                }
            }
            _ => return Err(wrong("the answer is longer than its limits")),
        }
    }
}

/// Reads no files.
#[derive(Debug)]
pub struct NoInspector;

impl Inspector for NoInspector {
    fn inspect(&self, _: &Request) -> Option<Told> {
        None
    }
}

/// Reads files in this process; for trusted files in tests.
#[derive(Debug)]
pub struct InspectorHere;

impl Inspector for InspectorHere {
    fn inspect(&self, request: &Request) -> Option<Told> {
        let mut bytes = Vec::new();
        answer(request, &|folder| request.folders[folder].clone(), &mut bytes).ok()?;
        read_told(&bytes[..]).ok()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn told(answer: &str) -> Result<Told, String> {
        read_told(answer.as_bytes()).map_err(|error| error.to_string())
    }

    #[test]
    fn an_answer_that_is_no_answer_or_too_much_is_refused() {
        let package = r#"{"Package":[7,{"kind":"rpm","name":"moss","version":"1"}]}"#;
        let whole = told(&format!("{package}\n{package}\n{{\"Problem\":\"why\"}}\n\"End\"\n")).unwrap();
        assert_eq!((whole.packages.len(), whole.packages[0].1.len(), whole.problems.len()), (1, 2, 1));
        let short = "the answer is cut short";
        assert_eq!(told(&format!("{package}\n")).unwrap_err(), short);
        assert_eq!(told(&"x".repeat(1 << 20)).unwrap_err(), short);
        assert_eq!(told("lily\n").unwrap_err(), "the answer is not valid");
        let more = "the answer is longer than its limits";
        let long = package.replace("moss", &"m".repeat(LONGEST_TEXT + 1));
        assert_eq!(told(&format!("{long}\n\"End\"\n")).unwrap_err(), more);
        assert_eq!(told(&format!("{package}\n").repeat(MOST_PACKAGES + 1)).unwrap_err(), more);
        assert_eq!(told(&"{\"Problem\":\"why\"}\n".repeat(MOST_PROBLEMS + 1)).unwrap_err(), more);
    }

    #[test]
    fn only_files_that_may_tell_are_asked_about_and_what_is_wrong_with_one_hides_no_other() {
        let folder = tempfile::tempdir().unwrap();
        let (mut request, mut number) = (Request::new(&[folder.path().to_owned()]), 0);
        let mut add = |path: &str, bytes: &[u8], mode| {
            let on_disk = folder.path().join(number.to_string());
            std::fs::write(&on_disk, bytes).unwrap();
            let size = bytes.len() as u64;
            let entry = Entry {
                path: path.to_owned(),
                kind: pondrix_core::image::EntryKind::File,
                mode,
                owner: (0, 0),
                size,
                content: String::new(),
            };
            request.add(number, &entry, &on_disk);
            number += 1;
        };
        add("etc/motd", b"hello", 0o644);
        add("bin/run", b"#!/bin/sh\n", 0o755);
        add("var/lib/rpm/Packages", b"no database", 0o644);
        add("var/lib/dpkg/status", b"Package: moss\nStatus: install ok installed\nVersion: 2\n", 0o644);
        assert_eq!(request.files.iter().map(|file| file.place).collect::<Vec<_>>(), [2, 3]);
        let told = InspectorHere.inspect(&request).unwrap();
        assert_eq!((told.packages.len(), told.packages[0].0), (1, 3));
        assert!(told.problems[0].starts_with("could not read the packages in var/lib/rpm/Packages: "), "{told:?}");
        assert_eq!(NoInspector.inspect(&request), None);
        assert_eq!(Request::new(&[]).told_by(&NoInspector), Some(Vec::new()), "nobody is asked about none");
    }
}
