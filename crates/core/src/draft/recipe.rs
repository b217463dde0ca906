//! What a container recipe tells of an application.

/// The instructions that a recipe may begin with, behind its comments.
const FIRST_INSTRUCTIONS: [&str; 2] = ["FROM", "ARG"];
/// Words of commands that fetch something.
const FETCHING: [&str; 20] = [
    "apt-get", "apt", "apk", "dnf", "yum", "zypper", "pip", "pip3", "npm", "yarn", "pnpm", "cargo", "go", "gem",
    "bundle", "composer", "mvn", "curl", "wget", "git",
];

/// Whether a text is a container recipe: its first instruction says so.
#[must_use]
pub fn is_recipe(text: &str) -> bool {
    let mut lines = text.lines().map(str::trim).filter(|line| !line.is_empty() && !line.starts_with('#'));
    let instruction = |line: &str| line.split_whitespace().next().unwrap_or("").to_ascii_uppercase();
    let first = lines.next().map(instruction).unwrap_or_default();
    let has_from = text.lines().any(|line| {
        let mut words = line.split_whitespace();
        words.next().is_some_and(|word| word.eq_ignore_ascii_case("FROM"))
            && words.next().is_some_and(|image| !image.ends_with([';', ',', '"']) && image != "(")
            // `from x import y` is Python, `from x select` no recipe either.
            && words.next().is_none_or(|word| word.eq_ignore_ascii_case("AS"))
    });
    FIRST_INSTRUCTIONS.contains(&first.as_str()) && has_from
}

/// What a recipe tells.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct RecipeFacts {
    /// The images that its stages are built on, in order, with the defaults of arguments filled in.
    pub(super) bases: Vec<String>,
    /// The port that its last stage exposes.
    pub(super) port: Option<u16>,
    /// The command that fetches something, where there is one.
    pub(super) fetches: Option<&'static str>,
}

/// The instructions of a recipe, each with what stands behind it; lines that go on are joined.
fn instructions(text: &str) -> Vec<(String, String)> {
    let mut all = Vec::new();
    let mut open = String::new();
    for line in text.lines().map(str::trim).filter(|line| !line.starts_with('#')) {
        open += line.trim_end_matches('\\');
        if line.ends_with('\\') {
            open.push(' ');
            continue;
        }
        let whole = std::mem::take(&mut open);
        if let Some((word, rest)) = whole.trim().split_once(char::is_whitespace) {
            all.push((word.to_ascii_uppercase(), rest.trim().to_owned()));
        }
    }
    all
}

impl RecipeFacts {
    pub(super) fn of(text: &str) -> Self {
        let mut facts = Self::default();
        let (mut arguments, mut stages): (Vec<(String, String)>, Vec<String>) = (Vec::new(), Vec::new());
        for (word, rest) in instructions(text) {
            match word.as_str() {
                "ARG" => {
                    if let Some((name, value)) = rest.split_once('=') {
                        arguments.push((name.to_owned(), value.trim_matches(['"', '\'']).to_owned()));
                    }
                }
                "FROM" => {
                    facts.port = None;
                    let words: Vec<_> = rest.split_whitespace().filter(|word| !word.starts_with("--")).collect();
                    let mut base = words.first().copied().unwrap_or_default().to_owned();
                    for (name, value) in &arguments {
                        base = base.replace(&format!("${{{name}}}"), value).replace(&format!("${name}"), value);
                    }
                    let is_image = base != "scratch" && !base.contains('$') && !stages.contains(&base);
                    facts.bases.extend(is_image.then_some(base));
                    if let [_, by, name] = words[..]
                        && by.eq_ignore_ascii_case("AS")
                    {
                        stages.push(name.to_owned());
                    }
                }
                "EXPOSE" => {
                    let port = rest.split_whitespace().next().and_then(|port| port.split('/').next()?.parse().ok());
                    facts.port = facts.port.or(port);
                }
                "RUN" => {
                    let mut words =
                        rest.split(|letter: char| letter.is_whitespace() || matches!(letter, ';' | '&' | '|'));
                    let found = words.find_map(|word| FETCHING.iter().find(|known| **known == word));
                    facts.fetches = facts.fetches.or(found.copied());
                }
                _ => {}
            }
        }
        facts
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_recipe_is_known_by_its_content_whatever_its_name() {
        assert!(is_recipe("# syntax=x\n\nARG BASE=a\nFROM $BASE\n"));
        assert!(is_recipe("from scratch as one\nCOPY . /\n"));
        assert!(!is_recipe("from os import path\nprint(path)\n"));
        assert!(!is_recipe("FROM\n"));
        assert!(!is_recipe("SELECT * FROM beds\n"));
        assert!(!is_recipe(""));
    }

    #[test]
    fn bases_ports_and_what_is_fetched_are_read() {
        let text = "ARG V=3\nFROM --platform=x a.test/python:$V AS build\nRUN set -e; \\\n  pip install x\nEXPOSE 1\n\
                    FROM build AS more\nFROM a.test/slim:${V}\nexpose 8080/tcp 9000\nFROM $W\nFROM scratch\nEXPOSE 80\n";
        let facts = RecipeFacts::of(text);
        assert_eq!(facts.bases, ["a.test/python:3", "a.test/slim:3"]);
        assert_eq!((facts.port, facts.fetches), (Some(80), Some("pip")));
        assert_eq!(RecipeFacts::of("FROM a\nRUN echo apt-getting ready\n").fetches, None);
    }
}
