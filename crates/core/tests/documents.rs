//! What the documents say of the pipeline file is true.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::path::Path;

use pondrix_core::pipeline::{self, VARIABLES};

fn document(name: &str) -> String {
    std::fs::read_to_string(Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").join(name)).unwrap()
}

/// The pipeline files in a document.
fn examples(text: &str) -> Vec<&str> {
    text.split("```kdl\n").skip(1).map(|rest| rest.split("\n```").next().unwrap()).collect()
}

/// The part of the document below the heading that begins so.
fn below<'a>(text: &'a str, heading: &str) -> &'a str {
    let from = text.find(heading).unwrap_or_else(|| panic!("no heading `{heading}`"));
    let rest = &text[from + heading.len()..];
    let depth = heading.chars().take_while(|letter| *letter == '#').count();
    let end = (1..=depth).filter_map(|depth| rest.find(&format!("\n{} ", "#".repeat(depth)))).min();
    &rest[..end.unwrap_or(rest.len())]
}

#[test]
fn every_example_in_the_documents_passes_the_check() {
    for name in ["README.md", "docs/pipeline.md"] {
        let text = document(name);
        let examples = examples(&text);
        assert!(!examples.is_empty(), "{name} has no example");
        for example in examples {
            if let Err(faults) = pipeline::read(example) {
                let shown: String = faults.iter().map(|fault| fault.render(name)).collect();
                panic!("{shown}\n{example}");
            }
        }
    }
}

#[test]
fn every_word_of_the_language_is_in_its_document_where_it_may_stand() {
    let text = document("docs/pipeline.md");
    for (place, word) in pipeline::words() {
        let part = match place {
            None => below(&text, "## The file"),
            Some("input") => below(&text, "### `input`"),
            Some("stage") => below(&text, "## In a stage"),
            Some("template") => below(&text, "## Templates"),
            Some("param") => below(&text, "### `input`"),
            Some("matrix") => below(&text, "### `matrix`"),
            Some("runner") => below(&text, "### In every job"),
            Some("step" | "cache" | "service") => below(&text, "## `job "),
            Some("push") => below(&text, "## `image "),
            Some(kind @ ("job" | "image" | "rollout")) => {
                let own = below(&text, &format!("## `{kind} "));
                if own.contains(&format!("`{word}")) { own } else { below(&text, "### In every job") }
            }
            Some(other) => panic!("the document has no place for what stands in `{other}`"),
        };
        let said =
            [format!("`{word}"), format!("{{ {word} "), format!("    {word} ")].iter().any(|form| part.contains(form));
        assert!(said, "docs/pipeline.md does not tell of `{word}` in `{}`", place.unwrap_or("the file"));
    }
}

#[test]
fn every_variable_of_templates_is_in_the_document() {
    let text = document("docs/pipeline.md");
    for (name, ..) in VARIABLES {
        assert!(text.contains(&format!("`{{{name}}}`")), "docs/pipeline.md does not tell of {{{name}}}");
    }
}
