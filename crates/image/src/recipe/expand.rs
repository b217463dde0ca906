//! Filling variables into a word of a recipe, and taking its quotes away.

use std::collections::BTreeMap;
use std::iter::Peekable;
use std::str::Chars;

/// Why a word cannot be filled in.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum ExpandError {
    /// A quote or a brace without its partner.
    #[error("`{0}` has no partner")]
    Unbalanced(char),
    /// A form of `${…}` that is not known.
    #[error("`${{{0}}}` is not understood: write ${{NAME}}, ${{NAME:-otherwise}}, ${{NAME:+instead}} or ${{NAME#cut}}")]
    Form(String),
    /// A variable that must have a value and has none, with the recipe's own words.
    #[error("`{name}` has no value: {words}")]
    Missing {
        /// The variable.
        name: String,
        /// What the recipe says of it.
        words: String,
    },
}

/// Fills in `$NAME`, `${NAME}` and the forms below, except between single quotes, and takes quotes and
/// escapes away. A name without a value is empty.
///
/// The forms are those of POSIX.1-2017, Shell Command Language, 2.6.2: `${N:-otherwise}`, `${N:+instead}`,
/// `${N:?words}`, each also without the colon, which then asks only whether there is a value, be it empty;
/// `${N#shortest}`, `${N##longest}` beginning and `${N%shortest}`, `${N%%longest}` end that is cut off; and
/// `${N/first/by}` and `${N//all/by}`.
///
/// # Errors
/// When a quote or brace is not closed, a form is not known, or a value must be there and is not.
pub fn expand(word: &str, values: &BTreeMap<String, String>, escape: char) -> Result<String, ExpandError> {
    let mut out = String::new();
    let mut letters = word.chars().peekable();
    let mut quote: Option<char> = None;
    while let Some(letter) = letters.next() {
        match letter {
            '\'' | '"' if quote.is_none() => quote = Some(letter),
            _ if quote == Some(letter) => quote = None,
            _ if letter == escape && quote != Some('\'') => match letters.next() {
                // Between double quotes it stands for itself, but for these.
                Some(next) if quote == Some('"') && next != '"' && next != '$' && next != escape => {
                    out.extend([letter, next]);
                }
                Some(next) => out.push(next),
                None => out.push(letter),
            },
            '$' if quote != Some('\'') => variable(&mut letters, values, escape, &mut out)?,
            _ => out.push(letter),
        }
    }
    quote.map_or(Ok(out), |quote| Err(ExpandError::Unbalanced(quote)))
}

/// Fills variables into a text that keeps its quotes: a here-document.
///
/// # Errors
/// As for [`expand`].
pub(crate) fn expand_text(text: &str, values: &BTreeMap<String, String>, escape: char) -> Result<String, ExpandError> {
    let mut out = String::new();
    let mut letters = text.chars().peekable();
    while let Some(letter) = letters.next() {
        match letter {
            _ if letter == escape => match letters.next() {
                Some(next) if next == '$' || next == escape => out.push(next),
                Some(next) => out.extend([letter, next]),
                None => out.push(letter),
            },
            '$' => variable(&mut letters, values, escape, &mut out)?,
            _ => out.push(letter),
        }
    }
    Ok(out)
}

fn take_name(letters: &mut Peekable<Chars<'_>>) -> String {
    let mut name = String::new();
    while let Some(letter) = letters.next_if(|c| c.is_ascii_alphanumeric() || *c == '_') {
        name.push(letter);
    }
    name
}

fn variable(
    letters: &mut Peekable<Chars<'_>>,
    values: &BTreeMap<String, String>,
    escape: char,
    out: &mut String,
) -> Result<(), ExpandError> {
    if letters.next_if_eq(&'{').is_none() {
        let name = take_name(letters);
        if name.is_empty() {
            out.push('$');
        } else {
            out.push_str(values.get(&name).map_or("", String::as_str));
        }
        return Ok(());
    }
    let name = take_name(letters);
    let rest = up_to_brace(letters, escape)?;
    if name.is_empty() {
        return Err(ExpandError::Form(rest));
    }
    let value = values.get(&name);
    if rest.is_empty() {
        out.push_str(value.map_or("", String::as_str));
        return Ok(());
    }
    let fill = |word: &str| expand(word, values, escape);
    let unknown = || ExpandError::Form(format!("{name}{rest}"));
    let (with_colon, form) = rest.strip_prefix(':').map_or((false, &*rest), |form| (true, form));
    let mut parts = form.chars();
    let kind = parts.next().ok_or_else(unknown)?;
    let behind = parts.as_str();
    let set = value.filter(|value| !with_colon || !value.is_empty());
    match kind {
        '-' => out.push_str(&set.map_or_else(|| fill(behind), |value| Ok(value.clone()))?),
        '+' => out.push_str(&set.map_or_else(|| Ok(String::new()), |_| fill(behind))?),
        '?' => match set {
            Some(value) => out.push_str(value),
            None => {
                let words = fill(behind)?;
                let words = if words.is_empty() { "give it one".to_owned() } else { words };
                return Err(ExpandError::Missing { name, words });
            }
        },
        '#' | '%' | '/' if !with_colon => {
            let (behind, is_double) = behind.strip_prefix(kind).map_or((behind, false), |behind| (behind, true));
            let value = value.map_or("", String::as_str);
            out.push_str(&match kind {
                '#' => cut_beginning(value, &fill(behind)?, is_double),
                '%' => cut_end(value, &fill(behind)?, is_double),
                _ => {
                    let (pattern, by) = behind.split_once('/').unwrap_or((behind, ""));
                    replace(value, &fill(pattern)?, &fill(by)?, is_double)
                }
            });
        }
        _ => return Err(unknown()),
    }
    Ok(())
}

/// The text up to the brace that closes this one; the brace is taken.
fn up_to_brace(letters: &mut Peekable<Chars<'_>>, escape: char) -> Result<String, ExpandError> {
    let mut rest = String::new();
    let mut depth = 1;
    loop {
        match letters.next() {
            None => return Err(ExpandError::Unbalanced('{')),
            Some('}') if depth == 1 => return Ok(rest),
            Some(letter) if letter == escape => rest.extend(std::iter::once(letter).chain(letters.next())),
            Some(letter) => {
                depth += match letter {
                    '{' => 1,
                    '}' => -1,
                    _ => 0,
                };
                rest.push(letter);
            }
        }
    }
}

/// Whether a text fits a pattern with `*` and `?`.
fn fits(text: &str, pattern: &str) -> bool {
    let (text, pattern): (Vec<char>, Vec<char>) = (text.chars().collect(), pattern.chars().collect());
    let (mut at, mut in_pattern) = (0, 0);
    // Where the last star stands, and how much of the text it stands for so far.
    let mut star: Option<(usize, usize)> = None;
    while at < text.len() {
        match pattern.get(in_pattern) {
            Some('*') => {
                star = Some((in_pattern, at));
                in_pattern += 1;
            }
            Some(letter) if *letter == '?' || *letter == text[at] => {
                at += 1;
                in_pattern += 1;
            }
            _ => match star {
                Some((place, taken)) => {
                    star = Some((place, taken + 1));
                    (in_pattern, at) = (place + 1, taken + 1);
                }
                None => return false,
            },
        }
    }
    pattern[in_pattern..].iter().all(|letter| *letter == '*')
}

/// The places between letters, from the beginning.
fn cuts(text: &str) -> Vec<usize> {
    text.char_indices().map(|(at, _)| at).chain([text.len()]).collect()
}

fn cut_beginning(value: &str, pattern: &str, longest: bool) -> String {
    let mut cuts = cuts(value);
    if longest {
        cuts.reverse();
    }
    let cut = cuts.into_iter().find(|cut| fits(&value[..*cut], pattern)).unwrap_or(0);
    value[cut..].to_owned()
}

fn cut_end(value: &str, pattern: &str, longest: bool) -> String {
    let mut cuts = cuts(value);
    if !longest {
        cuts.reverse();
    }
    let cut = cuts.into_iter().find(|cut| fits(&value[*cut..], pattern)).unwrap_or(value.len());
    value[..cut].to_owned()
}

/// Replaces what fits: the longest piece at the first place where any does.
fn replace(value: &str, pattern: &str, by: &str, all: bool) -> String {
    let mut out = String::new();
    let mut rest = value;
    while let Some(letter) = rest.chars().next() {
        let longest = cuts(rest).into_iter().rev().find(|cut| *cut > 0 && fits(&rest[..*cut], pattern));
        match longest {
            Some(cut) => {
                out.push_str(by);
                rest = &rest[cut..];
                if !all {
                    break;
                }
            }
            None => {
                out.push(letter);
                rest = &rest[letter.len_utf8()..];
            }
        }
    }
    out + rest
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn variables_are_filled_in_by_the_rules_of_quotes_and_forms() {
        let pairs = [("A", "x y"), ("E", ""), ("V", "release-1.2.3"), ("P", "a/b/c")];
        let values = pairs.map(|(name, value)| (name.to_owned(), value.to_owned())).into();
        for (word, expected) in [
            ("$A", "x y"),
            ("${A}/b", "x y/b"),
            ("'$A'", "$A"),
            ("\"$A b\"", "x y b"),
            ("\\$A", "$A"),
            ("${N:-other}", "other"),
            ("${E:-${A}}", "x y"),
            ("${E-other}", ""),
            ("${N-other}", "other"),
            ("${A:+set}${N:+not}", "set"),
            ("${E+set}${E:+not}", "set"),
            ("${A:?must}", "x y"),
            ("${V#release-}", "1.2.3"),
            ("${V#*.}", "2.3"),
            ("${V##*.}", "3"),
            ("${V%.*}", "release-1.2"),
            ("${V%%.*}", "release-1"),
            ("${P/b/B}", "a/B/c"),
            ("${V/./_}", "release-1_2.3"),
            ("${V//./_}", "release-1_2_3"),
            ("${V#nothing}", "release-1.2.3"),
            ("$", "$"),
            ("a$N.b", "a.b"),
            ("\"a\\nb\"", "a\\nb"),
            ("it\\'s", "it's"),
            ("${N:-a\\}b}", "a}b"),
        ] {
            assert_eq!(expand(word, &values, '\\').as_deref(), Ok(expected), "{word}");
        }
        assert_eq!(expand("C:\\dir`$A", &values, '`').as_deref(), Ok("C:\\dir$A"));
        assert_eq!(expand("'a", &values, '\\'), Err(ExpandError::Unbalanced('\'')));
        assert_eq!(expand("${A", &values, '\\'), Err(ExpandError::Unbalanced('{')));
        assert!(matches!(expand("${A^^}", &values, '\\'), Err(ExpandError::Form(_))));
        let missing = ExpandError::Missing { name: "N".to_owned(), words: "say which".to_owned() };
        assert_eq!(expand("${N:?say which}", &values, '\\'), Err(missing));
        assert_eq!(expand_text("it's \"$A\" \\$A", &values, '\\').as_deref(), Ok("it's \"x y\" $A"));
    }
}
