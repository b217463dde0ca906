//! From text to [`Pipeline`].

mod artifacts;
mod image;
mod job;
mod rollout;
mod stage;
mod start;
mod steps;
mod templates;
mod values;

use super::check;
use super::fault::{Fault, Span};
use super::model::{Pipeline, Templates};
use super::nodes::Sheet;
use super::notation::Slip;
use super::tree::Document;
pub use templates::uses;
use values::{env, flag};

/// The words that may stand outside of all braces.
const FILE_WORDS: [&str; 7] = ["about", "start", "input", "env", "supersede", "use", "stage"];

/// Every word and the word in whose braces it may stand (nothing: outside of all), each pair once.
#[must_use]
pub fn words() -> Vec<(Option<&'static str>, &'static str)> {
    let mut all: Vec<(Option<&str>, &str)> = FILE_WORDS.map(|word| (None, word)).into();
    let inner: [(&str, &[&'static str]); 14] = [
        ("template", &templates::TEMPLATE_WORDS),
        ("param", start::input_words()),
        ("input", start::input_words()),
        ("stage", &stage::STAGE_WORDS),
        ("job", &steps::JOB_WORDS),
        ("job", &artifacts::FILE_WORDS),
        ("cache", &artifacts::CACHE_WORDS),
        ("image", &image::IMAGE_WORDS),
        ("rollout", &rollout::ROLLOUT_WORDS),
        ("step", &steps::STEP_WORDS),
        ("service", &steps::SERVICE_WORDS),
        ("push", &image::PUSH_WORDS),
        ("runner", &job::RUNNER_WORDS),
        ("matrix", &["without"]),
    ];
    for (place, words) in inner {
        all.extend(words.iter().map(|word| (Some(place), *word)));
    }
    for kind in ["job", "image", "rollout"] {
        all.extend(job::COMMON_WORDS.map(|word| (Some(kind), word)));
    }
    all
}

/// Reads a pipeline file without the templates that it may use. What only the whole shows is then not
/// looked at where it uses any.
///
/// # Errors
/// Every fault in the text, in its order.
pub fn read(text: &str) -> Result<Pipeline, Vec<Fault>> {
    read_with(text, &Templates::new())
}

/// Reads a pipeline file with the templates that it uses ([`uses`]); their stages stand where it names them.
///
/// # Errors
/// Every fault in the text and in the templates, in their order.
pub fn read_with(text: &str, templates: &Templates) -> Result<Pipeline, Vec<Fault>> {
    let sheet = Sheet::new(text);
    let document = match Document::read(text) {
        Ok(document) => document,
        Err(slips) => {
            tell(&sheet, slips);
            return Err(sheet.into_faults());
        }
    };
    let mut pipeline = Pipeline::default();
    sheet.each(&document, &FILE_WORDS, |mut line| {
        match line.word() {
            "about" => {
                if pipeline.about.is_some() {
                    line.fault(line.span(), "`about` is said twice", "keep one of the two");
                }
                pipeline.about = line.text("a sentence").map(|text| text.value);
                line.end_without_block(false);
            }
            "start" => pipeline.starts.extend(start::start(line)),
            "input" => pipeline.inputs.extend(start::input(line)),
            "env" => env(&mut pipeline.env, line),
            "supersede" => flag(&mut pipeline.supersede, line),
            "use" => templates::use_template(&mut pipeline, line, templates),
            "stage" => pipeline.stages.extend(stage::stage(line)),
            _ => return false,
        }
        true
    });
    if document.nodes.iter().all(|node| !matches!(node.name.text.as_str(), "stage" | "use")) {
        let end = Span { start: 0, end: 1, file: 0 };
        sheet.fault(end, "the file has no `stage`", "write at least one: stage \"verify\" { job … }");
    }
    if sheet.is_whole() {
        check::whole(&sheet, &pipeline);
    }
    let faults = sheet.into_faults();
    if faults.is_empty() { Ok(pipeline) } else { Err(faults) }
}

/// Whether a text keeps to the part of the notation that is read here and not by a library: reading it cannot end the
/// process.
#[must_use]
pub fn is_plain(text: &str) -> bool {
    Document::is_plain(text)
}

/// A fault that somebody else found at a place of a pipeline file or of a template that it uses.
#[must_use]
pub fn fault_at(text: &str, templates: &Templates, span: Span, message: &str, help: Option<String>) -> Fault {
    let names = uses(text);
    let name = span.file.checked_sub(1).and_then(|at| names.get(at));
    let template = name.and_then(|name| Some((name, templates.get(name)?.as_ref().ok()?)));
    match template {
        Some((name, text)) => Fault { file: Some(name.to_string()), ..Fault::new(text, span, message, help) },
        None => Fault::new(text, span, message, help),
    }
}

/// Tells where the writer slipped in the notation.
fn tell(sheet: &Sheet<'_>, slips: Vec<Slip>) {
    for Slip { at, message, help } in slips {
        sheet.fault(sheet.span(at), message, help);
    }
}

#[cfg(test)]
mod tests;
