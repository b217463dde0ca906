//! Asking a person.

use std::io::{BufRead, IsTerminal, Read};

use rustix::termios::{LocalModes, OptionalActions, tcgetattr, tcsetattr};

use crate::failure::Failure;

/// Reads a line that the terminal does not show; from what is not a terminal, simply a line.
pub(crate) fn hidden(prompt: &str) -> std::io::Result<String> {
    let stdin = std::io::stdin();
    let mut text = String::new();
    if !stdin.is_terminal() {
        stdin.lock().read_line(&mut text)?;
        return Ok(text.trim().to_owned());
    }
    eprint!("{prompt}");
    let before = tcgetattr(&stdin)?;
    let mut hidden = before.clone();
    hidden.local_modes.remove(LocalModes::ECHO);
    tcsetattr(&stdin, OptionalActions::Now, &hidden)?;
    let read = stdin.lock().read_line(&mut text);
    tcsetattr(&stdin, OptionalActions::Now, &before)?;
    eprintln!();
    read.map(|_| text.trim().to_owned())
}

/// Asks for a line on the terminal.
pub(crate) fn line(question: &str) -> Result<String, Failure> {
    eprint!("{question}");
    let mut text = String::new();
    std::io::stdin().lock().read_line(&mut text)?;
    Ok(text.trim().to_owned())
}

/// Asks whether something that cannot be taken back is to be done, unless `yes` was said already.
pub(crate) fn confirm(what: &str, yes: bool) -> Result<(), Failure> {
    if yes {
        return Ok(());
    }
    if !std::io::stdin().is_terminal() {
        return Err(Failure::usage(what.to_owned()).advise("say --yes to have it done"));
    }
    match line(&format!("{what} Do it? [y/N] "))?.to_ascii_lowercase().as_str() {
        "y" | "yes" => Ok(()),
        _ => Err(Failure::new("nothing was changed")),
    }
}

/// Asks for the name of what is to be removed once more, unless `yes` was said already.
pub(crate) fn confirm_name(what: &str, name: &str, yes: bool) -> Result<(), Failure> {
    if yes {
        return Ok(());
    }
    if !std::io::stdin().is_terminal() {
        return Err(Failure::usage(what.to_owned()).advise("say --yes to have it done"));
    }
    let typed = line(&format!("{what} Type its name to do it: "))?;
    if typed == name {
        return Ok(());
    }
    Err(Failure::new(format!("`{}` is not `{name}`; nothing was removed", crate::output::plain(&typed))))
}

/// A hidden text: from the terminal, or from standard input where that is none.
pub(crate) fn hidden_or_input(question: &str) -> Result<String, Failure> {
    let bytes = hidden_or_bytes(question)?;
    String::from_utf8(bytes).map_err(|_| Failure::usage("standard input is no text"))
}

/// A new hidden text: on a terminal it is asked for twice, since nobody sees what they typed.
pub(crate) fn twice(question: &str) -> Result<String, Failure> {
    let first = hidden_or_input(question)?;
    if std::io::stdin().is_terminal() && hidden("The same once more: ")? != first {
        return Err(Failure::usage("these are two different ones; nothing was changed"));
    }
    Ok(first)
}

/// A hidden text, or any bytes from what is no terminal.
pub(crate) fn hidden_or_bytes(question: &str) -> Result<Vec<u8>, Failure> {
    if std::io::stdin().is_terminal() {
        return Ok(hidden(question)?.into_bytes());
    }
    let mut bytes = Vec::new();
    std::io::stdin().read_to_end(&mut bytes).map_err(|error| Failure::usage(format!("standard input: {error}")))?;
    // `echo VALUE | pondrix secret set …` means the value without the line's end; of several lines, as keys
    // have, the last one's end belongs to them, and so it does of what is no text.
    if let Some(line) = bytes.strip_suffix(b"\n")
        && !line.contains(&b'\n')
        && std::str::from_utf8(line).is_ok()
    {
        return Ok(line.strip_suffix(b"\r").unwrap_or(line).to_vec());
    }
    Ok(bytes)
}
