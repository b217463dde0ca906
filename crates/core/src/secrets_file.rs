//! Files of secrets: lines of `NAME=VALUE`.

use std::collections::BTreeMap;

use crate::pipeline::SecretName;

/// What is wrong in a line.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("line {line}: {words}")]
pub struct LineFault {
    /// Its number, from 1.
    pub line: usize,
    /// What it is. Nothing of a value is in it.
    pub words: String,
}

/// The secrets of a file. Empty lines, and those that begin with `#`, say nothing; `export` in front of a name is passed
/// over. A value is all behind the first `=`; where it stands in quotes, what is between them.
///
/// # Errors
/// Every line that is none of these, or names what another has named.
pub fn read(text: &str) -> Result<Vec<(SecretName, String)>, Vec<LineFault>> {
    let (mut secrets, mut faults) = (Vec::new(), Vec::new());
    let mut lines: BTreeMap<String, usize> = BTreeMap::new();
    for (line, text) in (1..).zip(text.strip_prefix('\u{feff}').unwrap_or(text).lines()) {
        let text = text.trim();
        if text.is_empty() || text.starts_with('#') {
            continue;
        }
        let mut fault = |words: String| faults.push(LineFault { line, words });
        let text = text.strip_prefix("export ").unwrap_or(text);
        let Some((name, value)) = text.split_once('=') else {
            fault("it is no NAME=VALUE".to_owned());
            continue;
        };
        let name: SecretName = match name.trim().parse() {
            Ok(name) => name,
            Err(error) => {
                fault(error.to_string());
                continue;
            }
        };
        if let Some(before) = lines.insert(name.to_string(), line) {
            fault(format!("{name} is in line {before} already"));
            continue;
        }
        secrets.push((name, unquoted(value.trim()).to_owned()));
    }
    if faults.is_empty() { Ok(secrets) } else { Err(faults) }
}

fn unquoted(value: &str) -> &str {
    let between = |quote: char| value.strip_prefix(quote)?.strip_suffix(quote);
    between('"').or_else(|| between('\'')).unwrap_or(value)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_name_secrets_and_all_that_do_not_are_told_at_once() {
        let text = "\u{feff}# of the desk\n\nTICKET_KEY=opens=every gate \nexport PIN='4711 # no comment'\r\nQUOTED=\"a 'b'\"\nODD=\"a\nEMPTY=\n";
        let read_so = read(text).unwrap();
        let seen: Vec<_> = read_so.iter().map(|(name, value)| (name.as_str(), value.as_str())).collect();
        let expected = [
            ("TICKET_KEY", "opens=every gate"),
            ("PIN", "4711 # no comment"),
            ("QUOTED", "a 'b'"),
            ("ODD", "\"a"),
            ("EMPTY", ""),
        ];
        assert_eq!(seen, expected);
        let faults = read("A=one-value\nno-value\n2 words=x\nA=two\n").unwrap_err();
        let told: Vec<_> = faults.iter().map(ToString::to_string).collect();
        assert_eq!(told[0], "line 2: it is no NAME=VALUE");
        assert!(told[1].starts_with("line 3: ") && !told[1].contains("=x"), "{told:?}");
        assert_eq!(told[2], "line 4: A is in line 1 already");
        assert_eq!(told.len(), 3);
    }

    proptest::proptest! {
        #[test]
        fn whatever_is_in_a_file_a_value_is_in_no_fault(value in "[a-z]{12}", text in "[ -~\\n]{0,60}") {
            let text = format!("{text}\n=v{value}\nBAD NAME=v{value}\n");
            let faults = read(&text).unwrap_err();
            proptest::prop_assert!(faults.iter().all(|fault| !fault.to_string().contains(&value)));
        }
    }
}
