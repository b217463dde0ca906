//! Whose files are: `--chown`, `--chmod`, and `USER` for what is made for a command.

use std::fs;
use std::path::Path;

use pondrix_sandbox::{UserError, look_up_user};

use crate::rootfs::Layers;

/// The highest user, and the highest group, that files of an image are of: sandboxes have so many of each.
pub(super) const HIGHEST: u32 = 65_535;
/// Where an image says which users and groups there are.
pub(super) const FILES: [&str; 2] = ["/etc/passwd", "/etc/group"];
/// The longest file of users that is read.
const LONGEST: u64 = 1 << 20;

/// The ids of `USER[:GROUP]` in an image's files, as a command of it would have them.
pub(super) fn ids_of_command(user: &str, layers: &Layers<'_>) -> Result<(u32, u32), UserError> {
    let read = |path: &str| {
        let file = layers.follow(Path::new(path)).and_then(|real| layers.find(&real));
        let small =
            file.filter(|file| fs::symlink_metadata(file).is_ok_and(|data| data.is_file() && data.len() < LONGEST));
        small
            .and_then(|file| fs::read(file).ok())
            .map_or(String::new(), |text| String::from_utf8_lossy(&text).into_owned())
    };
    let [users, groups] = FILES;
    let (user, group, _) = look_up_user(user, &read(users), &read(groups))?;
    Ok((user, group))
}

/// The ids of `USER[:GROUP]` in an image's files. A group that is not said has the user's number, as where
/// files are copied by the trade.
pub(super) fn ids_of(owner: &str, layers: &Layers<'_>) -> Result<(u32, u32), UserError> {
    let (user, group) = ids_of_command(owner, layers)?;
    let is_number = !owner.is_empty() && owner.bytes().all(|byte| byte.is_ascii_digit());
    Ok((user, if is_number { user } else { group }))
}

/// Whether whose files are is said in numbers alone: no file of users is needed then.
pub(super) fn is_in_numbers(owner: &str) -> bool {
    let is_number = |part: &str| !part.is_empty() && part.bytes().all(|byte| byte.is_ascii_digit());
    owner.split_once(':').map_or_else(|| is_number(owner), |(user, group)| is_number(user) && is_number(group))
}

/// A text that is no mode.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("`{0}` is no mode: write octal digits, as in 755, or clauses, as in u=rwX,go=rX")]
pub(super) struct ModeError(String);

/// A change of permissions: octal digits, or clauses as chmod(1) takes them.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Mode {
    Exactly(u32),
    Clauses(Vec<Clause>),
}

/// `u+rwX`: for whom, whether to add, take or set, and what.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Clause {
    who: u32,
    how: char,
    what: Vec<char>,
}

impl Mode {
    pub(super) fn read(text: &str) -> Result<Self, ModeError> {
        let wrong = || ModeError(text.to_owned());
        if text.bytes().all(|byte| (b'0'..=b'7').contains(&byte)) && (1..=5).contains(&text.len()) {
            let mode = u32::from_str_radix(text, 8).ok().filter(|mode| *mode <= 0o7777);
            return mode.map(Self::Exactly).ok_or_else(wrong);
        }
        let clause = |clause: &str| {
            let at = clause.find(['+', '-', '='])?;
            let mut who = 0;
            for letter in clause[..at].chars() {
                who |= match letter {
                    'u' => 0o4700,
                    'g' => 0o2070,
                    'o' => 0o1007,
                    'a' => 0o7777,
                    _ => return None,
                };
            }
            let how = clause[at..].chars().next()?;
            let what: Vec<char> = clause[at + 1..].chars().collect();
            let known = what.iter().all(|letter| "rwxXst".contains(*letter));
            known.then_some(Clause { who: if who == 0 { 0o7777 } else { who }, how, what })
        };
        text.split(',').map(clause).collect::<Option<_>>().map(Self::Clauses).ok_or_else(wrong)
    }

    /// The permissions of something that had `before`.
    pub(super) fn of(&self, before: u32, is_folder: bool) -> u32 {
        let clauses = match self {
            Self::Exactly(mode) => return *mode,
            Self::Clauses(clauses) => clauses,
        };
        clauses.iter().fold(before, |mode, clause| {
            let bits = clause.what.iter().fold(0, |bits, letter| {
                bits | match letter {
                    'r' => 0o444,
                    'w' => 0o222,
                    'x' => 0o111,
                    'X' if is_folder || mode & 0o111 != 0 => 0o111,
                    's' => 0o6000,
                    't' => 0o1000,
                    _ => 0,
                }
            }) & clause.who;
            match clause.how {
                '+' => mode | bits,
                '-' => mode & !bits,
                _ => (mode & !(clause.who & 0o777)) | bits,
            }
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn modes_are_octal_or_clauses() {
        for (text, before, is_folder, expected) in [
            ("755", 0o600, false, 0o755),
            ("0644", 0o755, false, 0o644),
            ("4755", 0o755, false, 0o4755),
            ("u=rwX,go=rX", 0o600, false, 0o644),
            ("u=rwX,go=rX", 0o600, true, 0o755),
            ("+x", 0o644, false, 0o755),
            ("go-w", 0o666, false, 0o644),
            ("u+s", 0o755, false, 0o4755),
            ("a=r", 0o777, false, 0o444),
        ] {
            assert_eq!(Mode::read(text).unwrap().of(before, is_folder), expected, "{text}");
        }
        for text in ["", "888", "77777", "u", "z+x", "u+q"] {
            assert!(Mode::read(text).is_err(), "{text}");
        }
    }
}
