//! A pipeline file: read, with what it uses, and its faults shown.

use std::io::Read;
use std::path::Path;

use pondrix_api::ClientError;
use pondrix_core::pipeline::{self, Fault, NoTemplate, Templates};

use crate::cli::Global;
use crate::failure::Failure;
use crate::{output, settings};

/// A pipeline file's name and text; `-` is standard input.
pub(crate) fn text(file: &Path) -> Result<(String, String), Failure> {
    let name = file.display().to_string();
    let text = if file == Path::new("-") {
        let mut text = String::new();
        std::io::stdin().read_to_string(&mut text).map(|_| text)
    } else {
        std::fs::read_to_string(file)
    };
    let text = text.map_err(|error| Failure::usage(format!("{name}: {error}")))?;
    Ok((name, text))
}

/// Prints faults as a compiler would, and how many there are.
pub(crate) fn print_faults(name: &str, faults: &[Fault]) {
    let shown: Vec<_> = faults.iter().map(|fault| fault.render(name)).collect();
    output::line(&shown.join("\n"));
    output::line(&format!("{} fault{} in {name}", faults.len(), if faults.len() == 1 { "" } else { "s" }));
}

/// The templates that a file uses, as far as a server can be asked.
pub(crate) async fn templates(global: &Global, text: &str) -> Templates {
    let names = pipeline::uses(text);
    if names.is_empty() {
        return Templates::new();
    }
    let client = match settings::client(global) {
        Ok(client) => client,
        Err(failure) => {
            eprintln!("The templates were not looked at: {}", failure.message());
            return Templates::new();
        }
    };
    let mut templates = Templates::new();
    for name in names {
        match client.template(&name).await {
            Ok(template) => drop(templates.insert(name, Ok(template.text))),
            Err(ClientError::Problem(problem)) => drop(templates.insert(name, Err(NoTemplate(problem.detail)))),
            Err(error) => eprintln!("The template {name} was not looked at: {error}"),
        }
    }
    templates
}
