//! `artifact`, `fetch`, `output`, `cache`, `test-report`.

use super::values::{is_name, name, parsed, path};
use crate::pipeline::model::{Artifact, Cache, DEFAULT_KEEP, Fetch, Output, Spanned};
use crate::pipeline::nodes::Line;

/// The words about files that a job may have.
pub(super) const FILE_WORDS: [&str; 5] = ["artifact", "fetch", "output", "cache", "test-report"];
/// The words inside a cache.
pub(super) const CACHE_WORDS: [&str; 1] = ["newest"];

/// What the words about files say.
#[derive(Default)]
pub(super) struct Files {
    pub(super) artifacts: Vec<Artifact>,
    pub(super) fetches: Vec<Fetch>,
    pub(super) outputs: Vec<Output>,
    pub(super) caches: Vec<Cache>,
    pub(super) test_reports: Vec<String>,
}

impl Files {
    /// Reads a line when its word is one of [`FILE_WORDS`]; gives it back when not.
    pub(super) fn take<'s, 't>(&mut self, line: Line<'s, 't>) -> Result<(), Line<'s, 't>> {
        match line.word() {
            "artifact" => self.artifact(line),
            "fetch" => self.fetch(line),
            "output" => self.output(line),
            "cache" => self.cache(line),
            "test-report" => self.test_report(line),
            _ => return Err(line),
        }
        Ok(())
    }

    fn artifact(&mut self, mut line: Line<'_, '_>) {
        let keep = line.named("keep").and_then(|text| parsed(&line, &text)).unwrap_or(DEFAULT_KEEP);
        let holds_secrets = line.named_flag("holds-secrets");
        let name = name(&mut line);
        let texts = line.texts("a path");
        let patterns = texts.into_iter().filter_map(|text| pattern(&line, text)).collect();
        if let Some(name) = name {
            twice(&line, &name, self.artifacts.iter().map(|artifact| &artifact.name));
            self.artifacts.push(Artifact { name, patterns, keep, holds_secrets });
        }
        line.end_without_block(false);
    }

    fn fetch(&mut self, mut line: Line<'_, '_>) {
        let (from, to) = (line.named("from"), line.named("to"));
        let to = to.and_then(|to| path(&line, to)).filter(|to| to != ".");
        if let Some(name) = name(&mut line) {
            self.fetches.push(Fetch { name, from, to });
        }
        line.end_without_block(false);
    }

    fn output(&mut self, mut line: Line<'_, '_>) {
        let file = line.named("file");
        if file.is_none() {
            line.fault(line.span(), "this output has no file", "write output \"NAME\" file=\"PATH\"");
        }
        let file = file.and_then(|file| path(&line, file));
        if let Some(name) = name(&mut line) {
            twice(&line, &name, self.outputs.iter().map(|output| &output.name));
            self.outputs.push(Output { name, file: file.unwrap_or_default() });
        }
        line.end_without_block(false);
    }

    fn cache(&mut self, mut line: Line<'_, '_>) {
        let key = line.named("key");
        if key.is_none() {
            line.fault(line.span(), "this cache has no key", "write cache \"PATH\" key=\"{hash FILE}\"");
        }
        let at = line.text("a path").and_then(|text| {
            let span = text.span;
            let path = path(&line, text)?;
            if path == "." || path == ".git" {
                line.fault(span, format!("`{path}` cannot be a cache"), "name a file or folder below the root");
            }
            Some(path)
        });
        let mut newest = Vec::new();
        line.inside(&CACHE_WORDS, |mut line| {
            let known = line.word() == "newest";
            if known {
                newest.extend(line.texts("the beginning of a key"));
                line.end_without_block(false);
            }
            known
        });
        if let Some(path) = at {
            self.caches.push(Cache { path, key: key.unwrap_or_default(), newest });
        }
        line.end(false);
    }

    fn test_report(&mut self, mut line: Line<'_, '_>) {
        match line.named("junit") {
            Some(text) => self.test_reports.extend(pattern(&line, text)),
            None => line.fault(line.span(), "`test-report` names no report", "write test-report junit=\"out/*.xml\""),
        }
        line.end_without_block(false);
    }
}

fn twice<'a>(line: &Line<'_, '_>, name: &Spanned<String>, mut others: impl Iterator<Item = &'a Spanned<String>>) {
    if is_name(line, name) && others.any(|other| other == name) {
        line.fault(name.span, format!("`{}` stands twice", name.value), "rename one of them");
    }
}

/// A pattern of paths in the workspace.
fn pattern(line: &Line<'_, '_>, text: Spanned<String>) -> Option<String> {
    let span = text.span;
    let pattern = path(line, text)?;
    match crate::pipeline::Pattern::new(&pattern) {
        Ok(_) => Some(pattern),
        Err(message) => {
            line.fault(span, message.to_string(), "write paths, as in `out/**` or `out/*.xml`");
            None
        }
    }
}
