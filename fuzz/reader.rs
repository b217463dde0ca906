//! Whatever stands in a pipeline file, or in a template that it uses: reading it tells faults or a pipeline,
//! and what is made of the pipeline breaks nothing either.

use std::collections::BTreeMap;

use pondrix_core::pipeline::{self, StartKind, TemplateName, Templates};
use pondrix_core::plan::{Plan, Start};

/// Reads a text: a pipeline file, and behind a line of `---` what each template says that it uses.
pub(crate) fn read(text: &str) {
    // What follows this line is what the template says.
    let (text, template) = text.split_once("\n---\n").unwrap_or((text, ""));
    let templates: Templates =
        pipeline::uses(text).into_iter().map(|name: TemplateName| (name, Ok(template.to_owned()))).collect();
    match pipeline::read_with(text, &templates) {
        Err(faults) => {
            assert!(!faults.is_empty(), "a file is refused, and nobody says why");
            for fault in faults {
                let of = if fault.file.is_some() { template } else { text };
                let lines = of.lines().count().max(1);
                assert!(fault.place.line <= lines + 1, "a fault behind the end: {fault:?}");
                assert!(fault.place.column <= fault.source.chars().count() + 1, "a fault beside its line: {fault:?}");
                drop(fault.render(pipeline::FILE_NAME));
            }
        }
        Ok(pipeline) => {
            let start = Start {
                kind: StartKind::Manual,
                branch: "main".to_owned(),
                tag: None,
                changed: None,
                inputs: BTreeMap::new(),
            };
            let plan = Plan::new(&pipeline, &start);
            drop(pondrix_core::run::Run::new(&plan));
        }
    }
}
