//! What else people call the words of the language: who writes such a word is told the one that counts here,
//! with his own values behind it.

use super::nodes::{Line, Written};

/// What is written instead.
#[derive(Clone, Copy)]
enum Form {
    /// The same line under this word.
    Word(&'static str),
    /// This word with the line's first value as this property.
    Property(&'static str, &'static str),
    /// This word alone.
    Alone(&'static str),
}

use Form::{Alone, Property, Word};

/// Words, and what is written instead: the first form whose word may stand in that place.
const WORDS: &[(&[&str], &[Form])] = &[
    (&["script", "run", "command", "commands", "cmd", "shell", "exec", "steps"], &[Word("step"), Word("run")]),
    (&["timeout", "time", "time-limit", "deadline", "settle"], &[Property("limit", "time")]),
    (&["memory", "ram"], &[Property("limit", "memory")]),
    (&["cpu", "cpus"], &[Property("limit", "cpu")]),
    (&["disk"], &[Property("limit", "disk")]),
    (&["processes", "pids"], &[Property("limit", "processes")]),
    (&["needs", "depends", "depends-on", "requires", "dependencies", "wait-for"], &[Word("after")]),
    (&["services", "beside", "sidecar", "sidecars", "database"], &[Word("service")]),
    (&["artifacts", "keep", "save", "upload", "store"], &[Word("artifact")]),
    (&["take", "download", "get"], &[Word("fetch")]),
    (&["inside", "image", "base", "from"], &[Word("container")]),
    (&["host", "machine", "bare-metal"], &[Alone("on-host")]),
    (&["parameter", "parameters", "inputs", "ask", "question"], &[Word("param"), Word("input")]),
    (&["cron", "clock", "schedule", "nightly", "timer"], &[Property("start", "schedule")]),
    (&["branch", "branches", "on", "trigger", "push", "when"], &[Property("start", "commit")]),
    (&["only", "if", "condition", "filter", "rules"], &[Word("when")]),
    (&["except", "not", "ignore"], &[Word("unless")]),
    (&["deploy", "deployment", "release", "ship"], &[Word("rollout")]),
    (&["build", "package"], &[Word("image")]),
    (&["target", "where"], &[Word("to")]),
    (&["environment", "variables", "vars", "variable", "envs"], &[Word("to"), Word("env")]),
    (&["secrets", "credential", "credentials", "password"], &[Word("secret")]),
    (&["caches"], &[Word("cache")]),
    (&["fallback", "fallbacks", "prefix", "otherwise"], &[Word("newest"), Word("on-failure")]),
    (&["report", "reports", "test-reports", "junit", "tests"], &[Property("test-report", "junit")]),
    (&["outputs", "export"], &[Word("output")]),
    (&["retries", "attempts", "repeat"], &[Word("retry")]),
    (&["allow-failure", "optional", "ignore-failure", "ignore-errors"], &[Alone("may-fail")]),
    (&["lock", "mutex", "concurrency", "serial"], &[Word("exclusive")]),
    (&["cancel", "cancel-older", "cancel-previous"], &[Alone("supersede")]),
    (&["axes", "axis", "variants", "combinations", "parallel"], &[Alone("matrix")]),
    (&["exclude", "except"], &[Word("without")]),
    (&["agent", "worker", "executor", "pool"], &[Property("runner", "pool")]),
    (&["tools", "program", "requires"], &[Word("tool")]),
    (&["approve", "manual", "gate", "confirm", "confirmation"], &[Word("approval")]),
    (&["description", "name", "title", "summary"], &[Word("about")]),
    (&["template", "include", "extends", "import"], &[Word("use")]),
    (&["task", "tasks", "jobs"], &[Word("job")]),
    (&["stages", "phase", "phases"], &[Word("stage")]),
    (&["file", "containerfile"], &[Word("recipe")]),
    (&["args", "argument", "arguments", "build-arg", "build-args"], &[Word("arg")]),
    (&["repository", "registry", "destination"], &[Word("push")]),
    (&["latest", "floating", "mutable"], &[Word("moving")]),
    (&["tags", "version"], &[Word("tag")]),
    (&["manifest", "yaml", "files"], &[Word("manifests")]),
    (&["on-fail", "rollback"], &[Word("on-failure")]),
    (&["health", "healthcheck", "probe", "wait"], &[Word("ready")]),
    (&["options", "choices", "values", "enum"], &[Word("one-of")]),
    (&["platforms", "arch", "architecture"], &[Word("platform")]),
];

/// Properties, and what they are called here: the first that the line may have.
const PROPERTIES: &[(&[&str], &[&str])] = &[
    (&["timeout", "limit", "deadline"], &["time", "within"]),
    (&["for", "expire", "expires", "expire-in", "retention"], &["keep"]),
    (&["branch", "branches", "push", "on"], &["commit"]),
    (&["cron", "clock", "at"], &["schedule"]),
    (&["timezone", "tz"], &["zone"]),
    (&["touching", "touched", "paths", "files", "path"], &["changed", "file"]),
    (&["earlier", "status", "outcome", "state"], &["result"]),
    (&["cwd", "dir", "directory", "workdir"], &["folder"]),
    (&["folder", "root", "dir"], &["context"]),
    (&["allow-failure", "optional"], &["may-fail"]),
    (&["runner", "on"], &["build"]),
    (&["destination", "into"], &["to"]),
    (&["job"], &["from"]),
    (&["ram", "mem"], &["memory"]),
    (&["cpus", "cores"], &["cpu"]),
    (&["pids"], &["processes"]),
    (&["min", "minimum"], &["least"]),
    (&["max", "maximum"], &["most"]),
    (&["description", "about"], &["help"]),
    (&["type"], &["kind"]),
    (&["value"], &["default"]),
    (&["env", "as"], &["variable"]),
    (&["who", "approvers", "group", "user"], &["by"]),
    (&["stage"], &["target"]),
    (&["port"], &["tcp"]),
    (&["ref"], &["version"]),
];

/// The line in the words that count in this place, where it begins with another word for one of them.
pub(super) fn of_word(line: &Line<'_, '_>, known: &[&str]) -> Option<String> {
    let is_known = |form: &&Form| match form {
        Word(word) | Property(word, _) | Alone(word) => known.contains(word),
    };
    let forms = WORDS.iter().filter(|(others, _)| others.contains(&line.word())).flat_map(|(_, forms)| *forms);
    let form = forms.copied().find(|form| is_known(&form))?;
    let Written { first, all } = line.written();
    // No image: the one place that has a word of its own.
    if matches!(form, Word("container")) && all.trim_matches('"') == "host" {
        return Some("write on-host".to_owned());
    }
    Some(match (form, first) {
        (Property(word, name), Some(value)) => format!("write {word} {name}={value}"),
        (Word(word) | Property(word, _), _) if !all.is_empty() => format!("write {word} {all}"),
        (Word(word) | Alone(word), _) => format!("it is called `{word}` here"),
        (Property(word, name), None) => format!("it is called `{word} {name}=` here"),
    })
}

/// The property in the word that counts on this line, with its value, where it is another word for one of them.
pub(super) fn of_property(name: &str, value: &str, known: &[&str]) -> Option<String> {
    let mut all = PROPERTIES.iter().filter(|(others, _)| others.contains(&name)).flat_map(|(_, names)| *names);
    let found = all.find(|name| known.contains(name))?;
    Some(format!("write {found}={value}"))
}
