//! Configuration files of a server or a runner: one option on each line, in KDL 2.
//!
//! ```kdl
//! listen "127.0.0.1:7733"
//! trusted-proxy "10.0.0.1" "10.0.0.2"
//! allow-namespaces
//! ```
//!
//! A line has the option's name as on the command line, without the two hyphens, and then its values. This module
//! knows nothing of the options: the caller checks their names and values, and reports errors with the places given here.

use crate::pipeline::tree::{At, Document, Node, Value};
use crate::pipeline::{Fault, Span, Spanned};

/// One line of a configuration file.
#[derive(Clone, Debug, PartialEq)]
pub struct Setting {
    /// The option's name, without hyphens in front.
    pub option: Spanned<String>,
    /// Its values as text, in their order: `1.5`, `true` and `"1.5"` are all texts here. A flag has none.
    pub values: Vec<Spanned<String>>,
}

impl Setting {
    /// The place of the first value, or of the option where it has none.
    #[must_use]
    pub fn value_span(&self) -> Span {
        self.values.first().map_or(self.option.span, |value| value.span)
    }
}

const HELP: &str = "write the option's name and then its values, for example `listen \"127.0.0.1:7733\"`";

/// Reads a configuration file.
///
/// # Errors
/// All errors of notation, each with its place: text that is not KDL 2, properties, types, blocks, and `#null`.
pub fn read(text: &str) -> Result<Vec<Setting>, Vec<Fault>> {
    let fault = |at: At, message: String, help: &str| {
        Fault::new(text, Span::from(at.0..at.1), message, Some(help.to_owned()).filter(|help| !help.is_empty()))
    };
    let document = Document::read(text)
        .map_err(|slips| slips.into_iter().map(|slip| fault(slip.at, slip.message, &slip.help)).collect::<Vec<_>>())?;
    let mut faults = Vec::new();
    let settings =
        document.nodes.iter().map(|node| setting(node, &mut |at, message| faults.push(fault(at, message, HELP))));
    let settings = settings.collect();
    if faults.is_empty() { Ok(settings) } else { Err(faults) }
}

fn setting(node: &Node, fault: &mut impl FnMut(At, String)) -> Setting {
    let option = &node.name;
    if let Some(ty) = &node.ty {
        fault(ty.at, format!("`({})` has no meaning in a configuration file", ty.text));
    }
    if node.children.is_some() {
        fault(option.at, format!("the option `{}` has no block", option.text));
    }
    let mut values = Vec::new();
    for entry in &node.entries {
        if let Some(name) = &entry.name {
            fault(entry.at, format!("`{}=` has no meaning in a configuration file", name.text));
            continue;
        }
        let value = match &entry.value {
            Value::Text(text) => text.clone(),
            Value::Integer(number) => number.to_string(),
            Value::Float(number) => number.to_string(),
            Value::Bool(flag) => flag.to_string(),
            Value::Null => {
                fault(entry.at, format!("`#null` is no value of the option `{}`", option.text));
                continue;
            }
        };
        values.push(Spanned { value, span: Span::from(entry.at.0..entry.at.1) });
    }
    Setting { option: Spanned { value: option.text.clone(), span: Span::from(option.at.0..option.at.1) }, values }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn options_and_values_are_read_as_text() {
        let settings =
            read("listen \"0.0.0.0:80\" // for all\nreach a \"b\"\njob-cpu 1.5\nslots 4\nlose-secrets\nx #true\n");
        let settings: Vec<_> = settings
            .unwrap()
            .into_iter()
            .map(|setting| {
                (setting.option.value, setting.values.into_iter().map(|value| value.value).collect::<Vec<_>>())
            })
            .collect();
        let expected = [
            ("listen", &["0.0.0.0:80"][..]),
            ("reach", &["a", "b"]),
            ("job-cpu", &["1.5"]),
            ("slots", &["4"]),
            ("lose-secrets", &[]),
            ("x", &["true"]),
        ];
        let expected =
            expected.map(|(option, values)| (option.to_owned(), values.iter().map(|v| (*v).to_owned()).collect()));
        assert_eq!(settings, expected);
    }

    #[test]
    fn each_error_of_notation_has_its_place() {
        let faults = read("listen at=\"x\"\n(u8)slots 4\ndata { folder }\nreach #null\n").unwrap_err();
        let told: Vec<_> =
            faults.iter().map(|fault| (fault.place.line, fault.place.column, fault.message.as_str())).collect();
        assert_eq!(
            told,
            [
                (1, 8, "`at=` has no meaning in a configuration file"),
                (2, 2, "`(u8)` has no meaning in a configuration file"),
                (3, 1, "the option `data` has no block"),
                (4, 7, "`#null` is no value of the option `reach`"),
            ]
        );
        assert_eq!(read("listen \"x").unwrap_err()[0].place.line, 1);
    }
}
