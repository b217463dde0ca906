//! `use`: what a template says, with its parameters filled in.
//!
//! A template is a pipeline file with `param` lines. Its parameters are filled in wherever a value stands,
//! but never in a command: a command sees them as variables.

use std::collections::BTreeMap;

use super::values::env;
use super::{stage, start, tell};
use crate::pipeline::fault::help_for_unknown;
use crate::pipeline::model::{Input, JobKind, Pipeline, Spanned, Stage, TemplateName, TemplateNameError, Templates};
use crate::pipeline::nodes::{Line, Sheet};
use crate::pipeline::tree::{At, Document, Entry, Value};

/// The words that may stand outside of all braces in a template.
pub(super) const TEMPLATE_WORDS: [&str; 5] = ["about", "param", "input", "env", "stage"];
/// The words whose value is a command.
const COMMAND_WORDS: [&str; 3] = ["step", "run", "ready"];
/// What a parameter's name begins with where it is filled in.
const PARAM: &str = "{param.";

/// A `use` and what it says.
struct Use {
    name: TemplateName,
    values: Vec<(Spanned<String>, Spanned<String>)>,
}

/// The templates that a file uses, each once, in the order of the file; what is no `use` is passed over.
#[must_use]
pub fn uses(text: &str) -> Vec<TemplateName> {
    let mut names = Vec::new();
    // Most files use none, and reading them twice would be a waste.
    let document = text.contains("use").then(|| Document::read(text).ok()).flatten().unwrap_or_default();
    for node in document.nodes.iter().filter(|node| node.name.text == "use") {
        let of = |name: Option<&str>| {
            let is_it = |entry: &&Entry| entry.name.as_ref().map(|name| name.text.as_str()) == name;
            node.entries.iter().find(is_it).and_then(|entry| entry.value.as_text()).unwrap_or_default()
        };
        match TemplateName::new(of(None), of(Some("project")), of(Some("folder")), of(Some("version"))) {
            Ok(name) if !names.contains(&name) => names.push(name),
            _ => {}
        }
    }
    names
}

/// `use "NAME" project="PROJECT" folder="FOLDER" version="VERSION" { PARAMETER "VALUE" … }`.
pub(super) fn use_template<'t>(pipeline: &mut Pipeline, line: Line<'_, 't>, templates: &'t Templates) {
    let sheet = line.sheet();
    let span = line.span();
    let Some(Use { name, values }) = what(line) else {
        sheet.lacks_a_part();
        return;
    };
    match templates.get(&name) {
        Some(Ok(text)) => {
            let file = name.to_string();
            let read = sheet.in_file(&file, text, || Template::read(sheet, text));
            let Some(template) = read else {
                sheet.lacks_a_part();
                return;
            };
            let filled = template.values(sheet, span, &file, &values);
            sheet.in_file(&file, text, || template.add_to(pipeline, sheet, &filled));
        }
        Some(Err(why)) => {
            sheet.fault(span, format!("the template {name} cannot be used: {why}"), "");
            sheet.lacks_a_part();
        }
        // Nobody was there to ask.
        None => sheet.lacks_a_part(),
    }
}

fn what(mut line: Line<'_, '_>) -> Option<Use> {
    let (project, folder, version) = (line.named("project"), line.named("folder"), line.named("version"));
    if project.is_none() || version.is_none() {
        let help = "write project=\"PROJECT\" version=\"VERSION\", and folder=\"FOLDER\" where it is in one";
        line.fault(line.span(), "`use` does not say where the template is", help);
    }
    let name = line.text("a template's name");
    let mut values: Vec<(Spanned<String>, Spanned<String>)> = Vec::new();
    line.inside(&[], |mut line| {
        let name = Spanned { value: line.word().to_owned(), span: line.span() };
        if values.iter().any(|(known, _)| *known == name) {
            line.fault(name.span, format!("`{}` is said twice", name.value), "keep one of the two");
        }
        values.extend(line.scalar("a value").map(|value| (name, value)));
        line.end_without_block(false);
        true
    });
    let name = name.zip(project).zip(version).and_then(|((name, project), version)| {
        let folder = folder.unwrap_or_default();
        match TemplateName::new(&name.value, &project.value, &folder.value, &version.value) {
            Ok(name) => Some(name),
            Err(error) => {
                let at = match &error {
                    TemplateNameError::Name(_) => name,
                    TemplateNameError::Project(_) => project,
                    TemplateNameError::Folder(_) => folder,
                    TemplateNameError::Version(_) => version,
                };
                line.fault(at.span, error.to_string(), "");
                None
            }
        }
    });
    line.end(false);
    Some(Use { name: name?, values })
}

/// A template, read as far as its parameters.
struct Template {
    params: Vec<Input>,
    document: Document,
}

impl Template {
    fn read(sheet: &Sheet<'_>, text: &str) -> Option<Self> {
        let document = match Document::read(text) {
            Ok(document) => document,
            Err(slips) => {
                tell(sheet, slips);
                return None;
            }
        };
        let (declared, rest): (Vec<_>, Vec<_>) = document.nodes.into_iter().partition(|node| node.name.text == "param");
        let (declared, rest) = (Document { nodes: declared }, Document { nodes: rest });
        let mut params: Vec<Input> = Vec::new();
        sheet.each(&declared, &TEMPLATE_WORDS, |line| {
            if let Some(param) = start::input(line) {
                if params.iter().any(|known| known.name == param.name) {
                    let message = format!("two parameters are called `{}`", param.name.value);
                    sheet.fault(param.name.span, message, "rename one of them");
                }
                params.push(param);
            }
            true
        });
        Some(Self { params, document: rest })
    }

    /// The value of every parameter, with a fault for each that is missing, unknown or not accepted.
    fn values(
        &self,
        sheet: &Sheet<'_>,
        span: crate::pipeline::Span,
        file: &str,
        said: &[(Spanned<String>, Spanned<String>)],
    ) -> BTreeMap<String, String> {
        let known: Vec<_> = self.params.iter().map(|param| param.name.value.as_str()).collect();
        for (name, _) in said.iter().filter(|(name, _)| !known.contains(&name.value.as_str())) {
            let message = format!("the template {file} has no parameter `{}`", name.value);
            sheet.fault(name.span, message, help_for_unknown(&name.value, &known));
        }
        let mut values = BTreeMap::new();
        for param in &self.params {
            let name = &param.name.value;
            let value = match said.iter().find(|(said, _)| said.value == *name) {
                Some((_, value)) => param.kind.accept(&value.value).unwrap_or_else(|allowed| {
                    let message = format!("`{}` is not accepted for `{name}`", value.value);
                    sheet.fault(value.span, message, format!("write {allowed}"));
                    value.value.clone()
                }),
                None => param.default.clone().unwrap_or_else(|| {
                    let help = param.help.as_ref().map(|help| format!("{help}: ")).unwrap_or_default();
                    let message = format!("the template {file} needs `{name}`");
                    sheet.fault(span, message, format!("{help}write {name} \"VALUE\" in the braces"));
                    String::new()
                }),
            };
            values.insert(name.clone(), value);
        }
        values
    }

    fn add_to(mut self, pipeline: &mut Pipeline, sheet: &Sheet<'_>, values: &BTreeMap<String, String>) {
        fill(sheet, &mut self.document, values);
        let mut variables = BTreeMap::new();
        let mut stages = Vec::new();
        sheet.each(&self.document, &TEMPLATE_WORDS, |mut line| {
            match line.word() {
                // For whoever reads the template.
                "about" => {
                    line.text("a sentence");
                    line.end_without_block(false);
                }
                "input" => pipeline.inputs.extend(start::input(line)),
                "env" => env(&mut variables, line),
                "stage" => stages.extend(stage::stage(line)),
                _ => return false,
            }
            true
        });
        let param = |(name, value): (&String, &String)| {
            (format!("PONDRIX_PARAM_{}", name.to_ascii_uppercase().replace('-', "_")), value.clone())
        };
        variables.extend(values.iter().map(param));
        for stage in &mut stages {
            give(stage, &variables);
        }
        pipeline.stages.extend(stages);
    }
}

/// Lets the commands of a template's stage see these variables, where they say nothing else.
fn give(stage: &mut Stage, variables: &BTreeMap<String, String>) {
    let services = stage.jobs.iter_mut().filter_map(|job| match &mut job.kind {
        JobKind::Steps(steps) => Some(&mut steps.services),
        JobKind::Image(_) | JobKind::Rollout(_) => None,
    });
    let envs = services.flatten().map(|service| &mut service.env).chain([&mut stage.env]);
    for env in envs {
        for (name, value) in variables {
            env.entry(name.clone()).or_insert_with(|| value.clone());
        }
    }
}

/// Fills parameters in wherever a value stands that is not a command.
fn fill(sheet: &Sheet<'_>, document: &mut Document, values: &BTreeMap<String, String>) {
    for node in &mut document.nodes {
        let is_command = COMMAND_WORDS.contains(&node.name.text.as_str());
        for entry in &mut node.entries {
            let Some(text) = entry.value.as_text().filter(|text| text.contains(PARAM)) else { continue };
            if is_command && entry.name.is_none() {
                let message = "parameters are not filled in inside a command";
                sheet.fault(sheet.span(entry.at), message, "write $PONDRIX_PARAM_NAME there");
                continue;
            }
            entry.value = Value::Text(filled(sheet, entry.at, text, values));
        }
        if let Some(children) = &mut node.children {
            fill(sheet, children, values);
        }
    }
}

fn filled(sheet: &Sheet<'_>, at: At, text: &str, values: &BTreeMap<String, String>) -> String {
    let mut out = String::new();
    let mut rest = text;
    while let Some((before, after)) = rest.split_once(PARAM) {
        out += before;
        let (name, behind) = after.split_once('}').unwrap_or((after, ""));
        match values.get(name) {
            Some(value) => out += value,
            None => {
                let known: Vec<_> = values.keys().map(String::as_str).collect();
                let message = format!("this template has no parameter `{name}`");
                sheet.fault(sheet.span(at), message, help_for_unknown(name, &known));
            }
        }
        rest = behind;
    }
    out + rest
}
