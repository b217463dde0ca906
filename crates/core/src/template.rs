//! Texts with `{name}` in them, filled in by Pondrix itself and never by a shell.
//!
//! `{{` and `}}` stand for the braces themselves.

use std::collections::BTreeMap;

/// A part of a template and where it stands in the text, in bytes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Part {
    /// Text as it is.
    Text(String),
    /// A name to fill in, and the range of the braces.
    Name(String, std::ops::Range<usize>),
}

/// Why a text is not a template, or cannot be filled in.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum TemplateError {
    /// A brace without its partner, at this byte.
    #[error("a `{{` or `}}` has no partner; write `{{{{` or `}}}}` for the brace itself")]
    Unbalanced(usize),
    /// A name that has no value.
    #[error("`{{{0}}}` has no value here")]
    Unknown(String),
}

/// Splits a text into its parts.
///
/// # Errors
/// When a brace has no partner.
pub fn parse(text: &str) -> Result<Vec<Part>, TemplateError> {
    let mut parts = Vec::new();
    let mut plain = String::new();
    let mut at = 0;
    while let Some(letter) = text[at..].chars().next() {
        let doubled = text[at + letter.len_utf8()..].starts_with(letter);
        match letter {
            '{' | '}' if doubled => {
                plain.push(letter);
                at += 2;
            }
            '{' => {
                let end = text[at..].find('}').ok_or(TemplateError::Unbalanced(at))? + at;
                if !plain.is_empty() {
                    parts.push(Part::Text(std::mem::take(&mut plain)));
                }
                parts.push(Part::Name(text[at + 1..end].trim().to_owned(), at..end + 1));
                at = end + 1;
            }
            '}' => return Err(TemplateError::Unbalanced(at)),
            _ => {
                plain.push(letter);
                at += letter.len_utf8();
            }
        }
    }
    if !plain.is_empty() {
        parts.push(Part::Text(plain));
    }
    Ok(parts)
}

/// Fills a template in.
///
/// # Errors
/// When the text is not a template, or names something without a value.
pub fn fill(text: &str, values: &BTreeMap<String, String>) -> Result<String, TemplateError> {
    let mut filled = String::with_capacity(text.len());
    for part in parse(text)? {
        match part {
            Part::Text(plain) => filled.push_str(&plain),
            Part::Name(name, _) => match values.get(&name) {
                Some(value) => filled.push_str(value),
                None => return Err(TemplateError::Unknown(name)),
            },
        }
    }
    Ok(filled)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn names_are_filled_in_and_doubled_braces_stand_for_themselves() {
        let values = BTreeMap::from([("run".to_owned(), "7".to_owned())]);
        assert_eq!(fill("r{run}-{{run}}", &values).unwrap(), "r7-{run}");
        assert_eq!(fill("{rnu}", &values), Err(TemplateError::Unknown("rnu".into())));
        assert_eq!(fill("a}b", &values), Err(TemplateError::Unbalanced(1)));
        assert_eq!(fill("a{b", &values), Err(TemplateError::Unbalanced(1)));
    }

    proptest! {
        #[test]
        fn a_value_is_never_read_as_a_template(value in ".*") {
            let values = BTreeMap::from([("x".to_owned(), value.clone())]);
            prop_assert_eq!(fill("{x}", &values).unwrap(), value);
        }

        #[test]
        fn any_text_with_doubled_braces_is_itself(text in ".*") {
            let doubled = text.replace('{', "{{").replace('}', "}}");
            prop_assert_eq!(fill(&doubled, &BTreeMap::new()).unwrap(), text);
        }
    }
}
