//! Words of an instruction.

/// Words between white space that is not quoted; quotes and escapes stay.
pub(super) fn words(text: &str, escape: char) -> Vec<String> {
    let mut words = vec![String::new()];
    let mut quote: Option<char> = None;
    let mut letters = text.chars();
    while let Some(letter) = letters.next() {
        let word = words.last_mut().expect("there is always a last word");
        match letter {
            // Between single quotes it stands for itself.
            _ if letter == escape && quote != Some('\'') => word.extend(std::iter::once(letter).chain(letters.next())),
            _ if letter.is_whitespace() && quote.is_none() => {
                if !word.is_empty() {
                    words.push(String::new());
                }
            }
            _ => {
                if quote == Some(letter) {
                    quote = None;
                } else if quote.is_none() && matches!(letter, '"' | '\'') {
                    quote = Some(letter);
                }
                word.push(letter);
            }
        }
    }
    words.retain(|word| !word.is_empty());
    words
}

/// A word without its quotes and escapes.
pub(super) fn unquoted(word: &str, escape: char) -> String {
    let mut plain = String::new();
    let mut quote: Option<char> = None;
    let mut letters = word.chars();
    while let Some(letter) = letters.next() {
        match letter {
            '"' | '\'' if quote.is_none() => quote = Some(letter),
            _ if quote == Some(letter) => quote = None,
            _ if letter == escape && quote.is_none() => plain.extend(letters.next()),
            _ => plain.push(letter),
        }
    }
    plain
}

/// The flags at the beginning of an instruction's rest, `--name` or `--name=value`, and what is behind.
pub(super) fn flags(mut rest: &str) -> (Vec<(&str, &str)>, &str) {
    let mut flags = Vec::new();
    while let Some(flag) = rest.strip_prefix("--") {
        let end = flag.find(char::is_whitespace).unwrap_or(flag.len());
        let word = &flag[..end];
        if word.is_empty() {
            break;
        }
        flags.push(word.split_once('=').unwrap_or((word, "")));
        rest = flag[end..].trim_start();
    }
    (flags, rest)
}

/// The texts of a JSON array of strings (RFC 8259); nothing when it is none.
pub(super) fn list(text: &str) -> Option<Vec<String>> {
    text.starts_with('[').then(|| serde_json::from_str(text).ok()).flatten()
}
